//! The compiled form: the model plus dense tables that answer, without looking at a condition,
//! what a role could give and what surely.

use super::model::{GroupId, KindId, Model, NameId, PermId, RoleId, RuleId};
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
        policy
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
