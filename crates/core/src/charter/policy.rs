//! The compiled form: the model plus dense tables that answer, without looking at a condition,
//! what a role could give and what surely.

use super::model::{Condition, Confer, ConferId, GroupId, KindId, Model, NameId, PermId, RoleId, RuleId};
use super::syntax::Effect;
use crate::source::{Digest, Sources};
use hashbrown::HashMap;

/// Bits in rows, one row a role.
#[derive(Clone, Debug)]
struct Bits {
    words_per_row: usize,
    words: Vec<u64>,
}

impl Bits {
    fn new(rows: usize, columns: usize) -> Self {
        let words_per_row = columns.div_ceil(64);
        Bits { words_per_row, words: vec![0; rows * words_per_row] }
    }
    fn get(&self, row: usize, column: usize) -> bool {
        self.words[row * self.words_per_row + column / 64] >> (column % 64) & 1 == 1
    }
    fn set(&mut self, row: usize, column: usize, value: bool) {
        let word = &mut self.words[row * self.words_per_row + column / 64];
        let bit = 1 << (column % 64);
        if value { *word |= bit } else { *word &= !bit }
    }
    fn merge(&mut self, row: usize, from: usize) {
        for at in 0..self.words_per_row {
            self.words[row * self.words_per_row + at] |= self.words[from * self.words_per_row + at];
        }
    }
}

/// A part of a charter that can be left out alone.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Part {
    /// A rule.
    Rule(RuleId),
    /// A clause of a role, by its place there.
    Clause(RoleId, usize),
    /// A conferral.
    Confer(ConferId),
}

/// A charter decisions can be made on. Immutable; share it behind an `Arc`.
#[derive(Clone, Debug)]
pub struct Policy {
    model: Model,
    sources: Sources,
    digest: Digest,
    /// `inc*`: which roles a role includes, itself among them.
    includes: Bits,
    /// What a role gives if every condition is true.
    may_give: Bits,
    /// What a role gives whatever its conditions are.
    surely_gives: Bits,
    /// The roles given without a grant.
    given: Vec<RoleId>,
    denies: Vec<Box<[RuleId]>>,
    allows: Vec<Box<[RuleId]>>,
    /// The roles that some type confers.
    conferred: Vec<bool>,
    /// For each role, the conferred roles that are it or include it.
    conferred_including: Vec<Box<[RoleId]>>,
    /// For each permission, the conferred roles whose holding its decision may depend on.
    conferred_roots: Vec<Box<[RoleId]>>,
    /// For each permission, the pairs of separated roles that could take it away.
    separated: Vec<Box<[(RoleId, RoleId)]>>,
    /// For each permission, the clauses by which tenants' own roles may give it.
    tenant_clauses: Vec<Box<[u32]>>,
    /// Whether any role is on standby.
    has_standby: bool,
    permissions: HashMap<String, PermId>,
    kinds: HashMap<String, KindId>,
}

impl Policy {
    /// Compiles a checked charter.
    pub(super) fn compile(model: Model, sources: Sources) -> Policy {
        let roles = model.roles.len();
        let mut policy = Policy {
            digest: super::digest(&sources),
            sources,
            includes: Bits::new(roles, roles),
            may_give: Bits::new(roles, model.permissions.len()),
            surely_gives: Bits::new(roles, model.permissions.len()),
            given: Vec::new(),
            denies: rules_of(&model, Effect::Deny),
            allows: rules_of(&model, Effect::Allow),
            conferred: vec![false; roles],
            conferred_including: Vec::new(),
            conferred_roots: Vec::new(),
            separated: Vec::new(),
            tenant_clauses: Vec::new(),
            has_standby: model.roles.iter().any(|role| role.standby.is_some()),
            permissions: index(model.permissions.iter().map(|p| p.text.as_str()), PermId::at),
            kinds: index(model.kinds.iter().map(|kind| kind.key.as_str()), KindId::at),
            model,
        };
        let mut done = vec![false; roles];
        for at in 0..roles {
            policy.compile_role(at, &mut done);
        }
        let given = policy.model.roles.iter().enumerate().filter(|(_, role)| role.given_to.is_some());
        policy.given = given.map(|(at, _)| RoleId::at(at)).collect();
        policy.compile_conferrals();
        policy
    }

    fn compile_conferrals(&mut self) {
        for confer in &self.model.confers {
            self.conferred[confer.role.index()] = true;
        }
        let roles = || (0..self.model.roles.len()).map(RoleId::at);
        let permissions = || (0..self.model.permissions.len()).map(PermId::at);
        self.conferred_including = roles()
            .map(|inner| {
                roles()
                    .filter(|outer| self.conferred[outer.index()] && self.includes(*outer, inner))
                    .collect()
            })
            .collect();
        self.tenant_clauses = permissions()
            .map(|permission| {
                let clauses = self.model.tenant_clauses.iter().enumerate();
                let of = clauses.filter(|(_, clause)| clause.permissions.contains(&permission));
                of.map(|(at, _)| u32::try_from(at).unwrap_or(u32::MAX)).collect()
            })
            .collect();
        self.separated = permissions().map(|permission| self.separating(permission)).collect();
        self.conferred_roots = permissions().map(|permission| self.roots(permission)).collect();
    }

    /// The pairs of separated roles of which one is included in a role that may give a permission.
    fn separating(&self, permission: PermId) -> Box<[(RoleId, RoleId)]> {
        let gives = |inner: RoleId| {
            let roles = (0..self.model.roles.len()).map(RoleId::at);
            roles.into_iter().any(|outer| self.includes(outer, inner) && self.may_give(outer, permission))
        };
        let mut pairs = Vec::new();
        for separation in &self.model.separations {
            for (at, a) in separation.roles.iter().enumerate() {
                let others = separation.roles[at + 1..].iter();
                pairs.extend(others.filter(|b| gives(*a) || gives(**b)).map(|b| (*a, *b)));
            }
        }
        pairs.into()
    }

    /// What decisions about a permission may ask the holding of: roles that may give it, roles
    /// separated from those, and what conditions on the way ask for.
    fn roots(&self, permission: PermId) -> Box<[RoleId]> {
        let mut asked = vec![false; self.model.roles.len()];
        let rules = self.denies(permission).iter().chain(self.allows(permission));
        let mut conditions: Vec<&Condition> =
            rules.filter_map(|rule| self.model.rules[rule.index()].when.as_ref()).collect();
        for clause in &*self.tenant_clauses[permission.index()] {
            conditions.extend(self.model.tenant_clauses[*clause as usize].when.as_ref());
        }
        for (at, role) in self.model.roles.iter().enumerate() {
            if self.may_give.get(at, permission.index()) {
                asked[at] = true;
                conditions.extend(role.when.as_ref());
                let clauses = role.clauses.iter();
                let about = clauses.filter(|clause| clause.permissions.contains(&permission));
                conditions.extend(about.map(|clause| &clause.when));
            }
        }
        for (a, b) in &*self.separated[permission.index()] {
            (asked[a.index()], asked[b.index()]) = (true, true);
        }
        for role in conditions.iter().flat_map(|condition| condition.roles_asked()) {
            asked[role.index()] = true;
        }
        let mut roots: Vec<RoleId> = (0..asked.len())
            .filter(|at| asked[*at])
            .flat_map(|at| self.conferred_including[at].iter().copied())
            .collect();
        roots.sort_unstable();
        roots.dedup();
        roots.into()
    }

    /// Included roles first; inclusion has no loops and a bounded depth.
    fn compile_role(&mut self, at: usize, done: &mut [bool]) {
        if std::mem::replace(&mut done[at], true) {
            return;
        }
        self.includes.set(at, at, true);
        for inner in self.model.roles[at].includes.clone() {
            self.compile_role(inner.index(), done);
            self.includes.merge(at, inner.index());
            self.may_give.merge(at, inner.index());
            self.surely_gives.merge(at, inner.index());
        }
        let role = &self.model.roles[at];
        for permission in &role.permissions {
            self.may_give.set(at, permission.index(), true);
            self.surely_gives.set(at, permission.index(), true);
        }
        for permission in role.clauses.iter().flat_map(|clause| &clause.permissions) {
            self.may_give.set(at, permission.index(), true);
        }
        for permission in &role.except {
            self.may_give.set(at, permission.index(), false);
            self.surely_gives.set(at, permission.index(), false);
        }
        if role.when.is_some() {
            for permission in 0..self.model.permissions.len() {
                self.surely_gives.set(at, permission, false);
            }
        }
    }

    /// The parts that can be left out one at a time, with words for each and its place.
    pub fn parts(&self) -> Vec<(Part, String)> {
        let place = |span| {
            let place = self.sources.place(span);
            format!("{}:{}", place.path, place.line)
        };
        let model = &self.model;
        let rules = model.rules.iter().enumerate();
        let rules = rules.map(|(at, rule)| {
            (Part::Rule(RuleId::at(at)), format!("the rule {} ({})", rule.key, place(rule.span)))
        });
        let clauses = model.roles.iter().enumerate().flat_map(|(at, role)| {
            let all = role.clauses.iter().enumerate();
            all.map(move |(n, clause)| {
                (
                    Part::Clause(RoleId::at(at), n),
                    format!("a clause of {} ({})", role.key, place(clause.span)),
                )
            })
        });
        let confers = model.confers.iter().enumerate().map(|(at, confer)| {
            let (kind, role) = (&model.kinds[confer.kind.index()].key, &model.roles[confer.role.index()].key);
            (Part::Confer(ConferId::at(at)), format!("what {kind} confers: {role} ({})", place(confer.span)))
        });
        rules.chain(clauses).chain(confers).collect()
    }

    /// The same charter with one part that never applies: for trying what rests on it.
    pub fn without(&self, part: Part) -> Policy {
        let mut model = self.model.clone();
        let never = Condition::never();
        match part {
            Part::Rule(rule) => model.rules[rule.index()].when = Some(never),
            Part::Clause(role, at) => model.roles[role.index()].clauses[at].when = never,
            Part::Confer(confer) => model.confers[confer.index()].when = Some(never),
        }
        Policy::compile(model, self.sources.clone())
    }

    /// The checked charter.
    pub fn model(&self) -> &Model {
        &self.model
    }

    /// The files it was read from.
    pub fn sources(&self) -> &Sources {
        &self.sources
    }

    /// What identifies it.
    pub fn digest(&self) -> Digest {
        self.digest
    }

    /// The permission of a text `type:action`.
    pub fn permission(&self, text: &str) -> Option<PermId> {
        self.permissions.get(text).copied()
    }

    /// The kind of a key.
    pub fn kind(&self, key: &str) -> Option<KindId> {
        self.kinds.get(key).copied()
    }

    /// The role of a key.
    pub fn role(&self, key: &str) -> Option<RoleId> {
        self.model.roles.binary_search_by(|role| role.key.as_str().cmp(key)).ok().map(RoleId::at)
    }

    /// The key of a name.
    pub fn name(&self, name: NameId) -> &str {
        self.model.names.text(name.0)
    }

    /// The key of a declared group.
    pub fn group(&self, group: GroupId) -> &str {
        &self.model.groups[group.index()]
    }

    /// Whether `outer` is `inner` or includes it.
    pub fn includes(&self, outer: RoleId, inner: RoleId) -> bool {
        self.includes.get(outer.index(), inner.index())
    }

    /// Whether a role gives a permission if all its conditions are true.
    pub fn may_give(&self, role: RoleId, permission: PermId) -> bool {
        self.may_give.get(role.index(), permission.index())
    }

    /// Whether a role gives a permission whatever its conditions are.
    pub fn surely_gives(&self, role: RoleId, permission: PermId) -> bool {
        self.surely_gives.get(role.index(), permission.index())
    }

    /// The roles that arrive without a grant, by key.
    pub fn given(&self) -> &[RoleId] {
        &self.given
    }

    /// Whether some type confers a role.
    pub fn is_conferred(&self, role: RoleId) -> bool {
        self.conferred[role.index()]
    }

    /// The conferred roles that are a role or include it.
    pub fn conferred_including(&self, role: RoleId) -> &[RoleId] {
        &self.conferred_including[role.index()]
    }

    /// The conferred roles whose holding a decision about a permission may depend on.
    pub fn conferred_roots(&self, permission: PermId) -> &[RoleId] {
        &self.conferred_roots[permission.index()]
    }

    /// The conferrals of a type.
    pub fn confers_of(&self, kind: KindId) -> impl Iterator<Item = (ConferId, &Confer)> {
        let range = self.model.kinds[kind.index()].confers.clone();
        range.map(|at| (ConferId(at), &self.model.confers[at as usize]))
    }

    /// The pairs of separated roles that could take a permission away.
    pub fn separated(&self, permission: PermId) -> &[(RoleId, RoleId)] {
        &self.separated[permission.index()]
    }

    /// The clauses by which tenants' own roles may give a permission.
    pub fn tenant_clauses(&self, permission: PermId) -> &[u32] {
        &self.tenant_clauses[permission.index()]
    }

    /// Whether any role is on standby.
    pub fn has_standby(&self) -> bool {
        self.has_standby
    }

    /// The permissions a pattern stands for: one, or all of a type (`voyage:*`).
    pub fn expand(&self, pattern: &str) -> Vec<PermId> {
        if let Some(kind) = pattern.strip_suffix(":*") {
            let kind = self.kind(kind).filter(|kind| kind.is_resource());
            return kind.map_or_else(Vec::new, |kind| {
                self.model.kinds[kind.index()].permissions.clone().map(PermId).collect()
            });
        }
        self.permission(pattern).into_iter().collect()
    }

    /// The deny rules for a permission, by key.
    pub fn denies(&self, permission: PermId) -> &[RuleId] {
        &self.denies[permission.index()]
    }

    /// The allow rules for a permission, by key.
    pub fn allows(&self, permission: PermId) -> &[RuleId] {
        &self.allows[permission.index()]
    }
}

fn rules_of(model: &Model, effect: Effect) -> Vec<Box<[RuleId]>> {
    let mut by_permission = vec![Vec::new(); model.permissions.len()];
    for (at, rule) in model.rules.iter().enumerate().filter(|(_, rule)| rule.effect == effect) {
        for permission in &rule.permissions {
            by_permission[permission.index()].push(RuleId::at(at));
        }
    }
    by_permission.into_iter().map(Vec::into_boxed_slice).collect()
}

fn index<'a, T>(keys: impl Iterator<Item = &'a str>, id: fn(usize) -> T) -> HashMap<String, T> {
    keys.enumerate().map(|(at, key)| (key.to_owned(), id(at))).collect()
}
