//! The naive evaluator: an answer computed straight from what decisions mean, over names and maps.
//!
//! It shares nothing with the compiled one: not its parser, its tables, its register or its values.
//! It is slow on purpose and is never made faster.

use serde_json::Value as Json;
use std::cell::{Cell, RefCell};
use std::collections::{BTreeMap, BTreeSet};

/// Three values: `None` is undetermined.
pub type Truth = Option<bool>;

#[derive(Clone, Debug, Default)]
pub struct Charter {
    pub kinds: BTreeMap<String, Kind>,
    pub context: BTreeMap<String, Attribute>,
    pub groups: Vec<String>,
    pub roles: BTreeMap<String, Role>,
    pub rules: BTreeMap<String, Rule>,
    pub separations: Vec<Vec<String>>,
    pub tenant_clauses: Vec<(BTreeSet<String>, Option<Expr>)>,
}

#[derive(Clone, Debug, Default)]
pub struct Kind {
    pub within: Vec<String>,
    pub actions: Vec<String>,
    pub attributes: BTreeMap<String, Attribute>,
    pub relations: BTreeMap<String, Relation>,
    pub confers: Vec<Confer>,
}

#[derive(Clone, Debug)]
pub struct Confer {
    pub role: String,
    /// Whoever holds this role at the end of the path; without it, whoever is there.
    pub holds: Option<String>,
    pub path: Vec<String>,
    pub when: Option<Expr>,
    pub through_detached: bool,
}

#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum From {
    Register,
    Request,
    Either,
    Token,
    RegisterOrToken,
}

#[derive(Clone, Debug)]
pub struct Attribute {
    pub of: &'static str,
    pub many: bool,
    pub from: From,
    pub values: Option<Vec<Json>>,
    pub default: Option<Json>,
}

#[derive(Clone, Debug)]
pub struct Relation {
    pub to: Vec<String>,
    pub many: bool,
    pub from: From,
    pub default_empty: bool,
    pub across: bool,
}

#[derive(Clone, Debug, Default)]
pub struct Role {
    pub permissions: BTreeSet<String>,
    pub includes: Vec<String>,
    pub except: BTreeSet<String>,
    pub held_by: BTreeSet<String>,
    pub held_at: Option<BTreeSet<String>>,
    pub grantable: bool,
    pub values: bool,
    pub when: Option<Expr>,
    pub given_to: Option<&'static str>,
    /// On standby, perhaps under a condition.
    pub standby: Option<Option<Expr>>,
    pub clauses: Vec<(BTreeSet<String>, Expr)>,
}

#[derive(Clone, Debug)]
pub struct Rule {
    pub deny: bool,
    pub permissions: BTreeSet<String>,
    pub when: Option<Expr>,
    pub for_anyone: bool,
    pub across: bool,
}

#[derive(Clone, Debug)]
pub enum Expr {
    Const(bool),
    Not(Box<Expr>),
    All(Vec<Expr>),
    Any(Vec<Expr>),
    Truth(Vec<String>),
    Compare(&'static str, Term, Term),
    In(Term, List),
    Overlaps(List, List),
    Holds(String),
    Member(String),
    Among(Vec<String>),
    Known(Vec<String>),
    Fits(Term, String),
    Starts(Term, Term),
    Ends(Term, Term),
    Contains(Term, Term),
}

#[derive(Clone, Debug)]
pub enum Term {
    Path(Vec<String>),
    Int(i64),
    /// In ten-thousandths.
    Decimal(i64),
    Text(String),
    Address(String),
    Time(i64),
    /// In seconds.
    Duration(i64),
    Entity(String),
    Now,
    /// What a clock two hours ahead of UTC says.
    Clock(Box<Term>),
    Hour(Box<Term>),
    Weekday(Box<Term>),
    Plus(Box<Term>, Box<Term>),
    Minus(Box<Term>, Box<Term>),
    Lower(Box<Term>),
    Count(Box<List>),
}

#[derive(Clone, Debug)]
pub enum List {
    Literal(Vec<Term>),
    Path(Vec<String>),
}

#[derive(Clone, Debug, Default)]
pub struct Entity {
    pub state: &'static str,
    pub within: Option<String>,
    pub detached: bool,
    pub tenant: Option<String>,
    pub tenants: BTreeSet<String>,
    pub members: BTreeSet<String>,
    pub attributes: BTreeMap<String, Json>,
    pub relations: BTreeMap<String, Vec<String>>,
}

#[derive(Clone, Debug)]
pub struct Grant {
    pub role: String,
    pub to: String,
    pub at: String,
    pub from: Option<i64>,
    pub until: Option<i64>,
    pub values: Option<Vec<Json>>,
}

#[derive(Clone, Debug)]
pub struct Activation {
    /// By its place among the grants.
    pub grant: usize,
    pub subject: String,
    pub session: Option<String>,
    pub from: i64,
    pub until: i64,
}

#[derive(Clone, Debug, Default)]
pub struct Register {
    pub entities: BTreeMap<String, Entity>,
    pub grants: Vec<Grant>,
    pub activations: Vec<Activation>,
    /// Tenants' own roles: the id of the tenant, the key, the permissions.
    pub made: BTreeMap<String, (String, BTreeSet<String>)>,
}

#[derive(Clone, Debug, Default)]
pub struct Question {
    pub subject: String,
    pub permission: String,
    pub resource: Option<String>,
    pub of_subject: BTreeMap<String, Json>,
    pub of_resource: BTreeMap<String, Json>,
    pub within: Option<String>,
    pub context: BTreeMap<String, Json>,
    pub now: i64,
    pub session: Option<String>,
    /// Memberships that a token vouches for.
    pub vouched: Option<Vouched>,
}

/// Memberships that a token vouches for; `perhaps` are groups of which it cannot be read.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct Vouched {
    pub groups: BTreeSet<String>,
    pub perhaps: BTreeSet<String>,
    pub tenants: BTreeSet<String>,
}

/// What a thing on a path is: an entity of the register, the question's own unregistered
/// resource, or a name in the charter that is not registered.
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord)]
enum Thing {
    Entity(String),
    Own,
    Stranger(String),
}

#[derive(Clone, Debug, PartialEq)]
enum Value {
    Int(i64),
    /// In ten-thousandths.
    Decimal(i128),
    /// In seconds.
    Duration(i64),
    Text(String),
    Bool(bool),
    Address(u32, u32),
    Time(i64),
    Thing(Thing, Option<(Thing, bool)>),
}

/// Why nothing could be read; only `Ill` matters to `known`.
#[derive(Clone, Copy, Debug, PartialEq)]
enum Lack {
    Missing,
    Ill,
}

#[derive(Clone, Debug, PartialEq)]
enum Tenant {
    None,
    Unknown,
    Is(String),
}

pub struct Naive<'a> {
    pub charter: &'a Charter,
    pub register: &'a Register,
    pub question: &'a Question,
    /// Where holding is asked about, if not at the question's own resource.
    here: Option<String>,
    /// A grant on standby that is taken as active.
    assumed: Option<usize>,
    /// What conferral came to, once it has been worked out.
    conferred: &'a RefCell<Conferred>,
    /// What was met on the way, for the report.
    pub met: &'a RefCell<BTreeSet<&'static str>>,
}

#[derive(Debug, Default)]
pub struct Conferred {
    pairs: Option<BTreeMap<(String, Thing), Truth>>,
    too_many: Cell<bool>,
}

/// An entity at the end of a path, with what the last step started from and whether it may lead
/// into another tenant.
type End = (String, (Thing, bool));

/// Which memberships are followed from the subject.
#[derive(Clone, Copy, Debug, PartialEq)]
enum Linked {
    Registered,
    Vouched,
    Perhaps,
}

/// One arrival of a role: its key, the grant it came by, whether it arrives.
type Arrival<'a> = (String, Option<&'a Grant>, Truth);

fn kind_of(name: &str) -> &str {
    name.split(':').next().unwrap_or("")
}

fn and(a: Truth, b: Truth) -> Truth {
    match (a, b) {
        (Some(false), _) | (_, Some(false)) => Some(false),
        (Some(true), Some(true)) => Some(true),
        _ => None,
    }
}

fn or(a: Truth, b: Truth) -> Truth {
    match (a, b) {
        (Some(true), _) | (_, Some(true)) => Some(true),
        (Some(false), Some(false)) => Some(false),
        _ => None,
    }
}

/// Everything that could allow, and why the rest did not.
#[derive(Debug, Default)]
struct Candidates {
    roles: BTreeSet<String>,
    rules: BTreeSet<String>,
    separated: bool,
    undetermined: bool,
    condition: bool,
}

impl<'a> Naive<'a> {
    pub fn new(
        charter: &'a Charter,
        register: &'a Register,
        question: &'a Question,
        conferred: &'a RefCell<Conferred>,
        met: &'a RefCell<BTreeSet<&'static str>>,
    ) -> Naive<'a> {
        Naive { charter, register, question, here: None, assumed: None, conferred, met }
    }

    /// The same question, with holding asked about elsewhere.
    fn at(&self, thing: &Thing) -> Naive<'a> {
        let here = match thing {
            Thing::Entity(name) if *thing != self.own() => Some(name.clone()),
            _ => None,
        };
        Naive { here, ..*self }
    }

    fn here(&self) -> Thing {
        self.here.clone().map_or_else(|| self.own(), Thing::Entity)
    }

    /// Allowed or denied, with the reason code.
    pub fn decide(&self) -> (bool, String) {
        let deny = |reason: &str| (false, reason.to_owned());
        let kind = kind_of(&self.question.permission);
        let Some(declared) =
            self.charter.kinds.get(kind).filter(|_| !matches!(kind, "user" | "service" | "group" | "tenant"))
        else {
            return deny("unknown-type");
        };
        if !declared.actions.iter().any(|action| format!("{kind}:{action}") == self.question.permission) {
            return deny("unknown-permission");
        }
        match self.register.entities.get(&self.question.subject).map(|entity| entity.state) {
            Some("suspended") => return deny("subject-suspended"),
            Some("deleted") => return deny("subject-deleted"),
            _ => {}
        }
        if self.own_entity().is_some_and(|(_, entity)| entity.state == "deleted") {
            return deny("resource-deleted");
        }
        let rules = || {
            self.charter.rules.iter().filter(|(_, rule)| rule.permissions.contains(&self.question.permission))
        };
        for (key, rule) in rules().filter(|(_, rule)| rule.deny) {
            if rule.when.as_ref().map_or(Some(true), |when| self.test(when, None)) != Some(false) {
                return deny(&format!("rule:{key}"));
            }
        }
        let candidates = self.candidates();
        if let Some(role) = candidates.roles.first() {
            return (true, format!("role:{role}"));
        }
        if let Some(rule) = candidates.rules.first() {
            return (true, format!("rule:{rule}"));
        }
        deny(if candidates.separated {
            "separated"
        } else if candidates.undetermined {
            "undetermined"
        } else if candidates.condition {
            "condition"
        } else if self.standby_would() {
            "standby"
        } else {
            "no-role"
        })
    }

    fn candidates(&self) -> Candidates {
        let mut found = Candidates::default();
        let possibly = |role: &String| self.holds(role) != Some(false);
        let separated = |role: &str| {
            self.charter.separations.iter().any(|apart| {
                apart.iter().any(|taken| {
                    self.includes(role, taken)
                        && possibly(taken)
                        && apart.iter().any(|other| other != taken && possibly(other))
                })
            })
        };
        // A role that gives nothing here even with all conditions true plays no part.
        for (role, grant, arrives) in self.arrivals(&|role| self.gives(role, None, true) == Some(true)) {
            let gives = self.gives(&role, grant, false);
            let candidate = and(arrives, gives);
            if separated(&role) {
                found.separated |= candidate == Some(true);
                continue;
            }
            match candidate {
                Some(true) => {
                    self.meet(if role.contains('/') { "a tenant's own role gives" } else { "a role gives" });
                    found.roles.insert(role);
                }
                None => found.undetermined = true,
                Some(false) => {
                    found.condition |= arrives == Some(true);
                }
            }
        }
        let about = |rule: &Rule| !rule.deny && rule.permissions.contains(&self.question.permission);
        for (key, rule) in self.charter.rules.iter().filter(|(_, rule)| about(rule) && self.reaches(rule)) {
            match rule.when.as_ref().map_or(Some(false), |when| self.test(when, None)) {
                Some(true) => {
                    found.rules.insert(key.clone());
                }
                None => found.undetermined = true,
                Some(false) => found.condition = true,
            }
        }
        found
    }

    /// Whether a standby grant that has begun and not ended would make a candidate if it were
    /// active.
    fn standby_would(&self) -> bool {
        let Some(subject) = self.subject() else { return false };
        let groups = self.linked(subject, &|_| true, Linked::Registered);
        self.register.grants.iter().enumerate().any(|(at, grant)| {
            let on_standby = self.charter.roles.get(&grant.role).is_some_and(|role| role.standby.is_some());
            let begun = grant.from.is_none_or(|from| from <= self.question.now);
            let held = grant.to == subject || groups.contains(&grant.to);
            let open = grant.until.is_none_or(|until| self.question.now < until);
            if !(on_standby && begun && open && held) {
                return false;
            }
            let conferred = RefCell::default();
            let supposed = Naive { assumed: Some(at), conferred: &conferred, here: None, ..*self };
            let found = supposed.candidates();
            !found.roles.is_empty() || !found.rules.is_empty()
        })
    }

    fn meet(&self, what: &'static str) {
        self.met.borrow_mut().insert(what);
    }

    fn subject(&self) -> Option<&str> {
        self.register.entities.get(&self.question.subject).map(|_| self.question.subject.as_str())
    }

    fn own_entity(&self) -> Option<(&str, &Entity)> {
        let name = self.question.resource.as_ref()?;
        self.register.entities.get(name).map(|entity| (name.as_str(), entity))
    }

    fn own(&self) -> Thing {
        self.own_entity().map_or(Thing::Own, |(name, _)| Thing::Entity(name.to_owned()))
    }

    fn own_kind(&self) -> &str {
        kind_of(&self.question.permission)
    }

    /// What the question may say the unregistered resource lies within.
    fn stated_within(&self) -> Option<String> {
        let outer = self.question.within.as_ref()?;
        let registered = self.register.entities.get(outer).is_some_and(|entity| entity.state != "deleted");
        let declared = self.charter.kinds[self.own_kind()].within.iter().any(|kind| kind == kind_of(outer));
        (self.own_entity().is_none() && registered && declared).then(|| outer.clone())
    }

    // -- places and the seal ---------------------------------------------------------------------

    fn tenant(&self, thing: &Thing) -> Tenant {
        let (kind, mut outer) = match thing {
            Thing::Stranger(_) => return Tenant::Unknown,
            Thing::Own => (self.own_kind().to_owned(), self.stated_within()),
            Thing::Entity(name) => match kind_of(name) {
                "user" | "service" => return Tenant::None,
                "tenant" => return Tenant::Is(name.clone()),
                "group" => {
                    return self.register.entities[name].tenant.clone().map_or(Tenant::None, Tenant::Is);
                }
                kind => (kind.to_owned(), self.register.entities[name].within.clone()),
            },
        };
        let mut end = kind;
        while let Some(name) = outer {
            if kind_of(&name) == "tenant" {
                return Tenant::Is(name);
            }
            outer = self.register.entities[&name].within.clone();
            kind_of(&name).clone_into(&mut end);
        }
        if self.charter.kinds.get(&end).is_some_and(|kind| kind.within.is_empty()) {
            self.meet("what lies in something that lies nowhere");
            return Tenant::None;
        }
        Tenant::Unknown
    }

    fn places(&self) -> Vec<String> {
        let mut all = vec!["everywhere".to_owned()];
        let mut next = match self.here() {
            Thing::Entity(name) => Some(name),
            _ => self.stated_within(),
        };
        while let Some(name) = next {
            let entity = &self.register.entities[&name];
            if entity.detached {
                self.meet("detached");
            }
            next = if entity.detached { None } else { entity.within.clone() };
            all.push(name);
        }
        all
    }

    fn step_counts(&self, from: &Thing, to: &str) -> bool {
        if let Thing::Entity(name) = from
            && matches!(kind_of(name), "user" | "service")
        {
            return true;
        }
        match (self.tenant(from), self.tenant(&Thing::Entity(to.to_owned()))) {
            (Tenant::Unknown, _) | (_, Tenant::Unknown) => false,
            (_, Tenant::None) => true,
            (from, to) => {
                self.meet(if from == to { "a step within the tenant" } else { "a step that the seal stops" });
                from == to
            }
        }
    }

    /// Groups that stand for the subject, if all on the chain count.
    fn groups(&self, subject: &str, counts: &dyn Fn(&str) -> bool) -> BTreeSet<String> {
        self.linked(subject, counts, Linked::Vouched)
    }

    /// Whether one of them is, or may be, among those.
    fn among_groups(&self, group: &str, subject: &str, counts: &dyn Fn(&str) -> bool) -> Truth {
        if self.groups(subject, counts).contains(group) {
            return Some(true);
        }
        if self.linked(subject, counts, Linked::Perhaps).contains(group) {
            self.meet("a group of which a token does not tell");
            return None;
        }
        Some(false)
    }

    fn linked(&self, subject: &str, counts: &dyn Fn(&str) -> bool, by: Linked) -> BTreeSet<String> {
        let mut found: BTreeSet<String> = BTreeSet::new();
        let vouched = self.question.vouched.as_ref().filter(|_| subject == self.question.subject);
        loop {
            let before = found.len();
            for (name, entity) in &self.register.entities {
                let by_token = vouched.is_some_and(|vouched| {
                    by != Linked::Registered && vouched.groups.contains(name)
                        || by == Linked::Perhaps && vouched.perhaps.contains(name)
                });
                let reaches = by_token
                    || entity.members.contains(subject)
                    || entity.members.iter().any(|member| found.contains(member));
                if kind_of(name) == "group" && counts(name) && reaches {
                    found.insert(name.clone());
                }
            }
            if found.len() == before {
                return found;
            }
        }
    }

    fn group_counts_here(&self, group: &str) -> bool {
        match &self.register.entities[group].tenant {
            None => true,
            Some(of) => self.tenant(&self.here()) == Tenant::Is(of.clone()),
        }
    }

    fn is_member_of_tenant(&self) -> bool {
        match (self.subject(), self.tenant(&self.here())) {
            (Some(subject), Tenant::Is(tenant)) => {
                let vouched = self.question.vouched.as_ref();
                self.register.entities[subject].tenants.contains(&tenant)
                    || vouched.is_some_and(|vouched| vouched.tenants.contains(&tenant))
            }
            _ => false,
        }
    }

    fn reaches(&self, rule: &Rule) -> bool {
        let fits = rule.for_anyone || self.subject().is_some();
        let sealed = match self.tenant(&self.own()) {
            Tenant::None => true,
            Tenant::Unknown => false,
            Tenant::Is(_) => self.is_member_of_tenant(),
        };
        fits && (rule.across || sealed)
    }

    // -- arriving, holding, giving -----------------------------------------------------------------

    fn may_hold(&self, role: &Role) -> bool {
        self.subject().is_some_and(|subject| role.held_by.contains(kind_of(subject)))
    }

    /// Every way a wanted role arrives here, surely or possibly.
    fn arrivals(&self, wanted: &dyn Fn(&str) -> bool) -> Vec<Arrival<'a>> {
        let mut all = self.arrivals_by_grant();
        all.retain(|(role, ..)| wanted(role));
        for (key, role) in self.charter.roles.iter().filter(|(key, _)| wanted(key)) {
            if self.may_hold(role) {
                match self.conferral(key, &self.here()) {
                    Some(false) => {}
                    arrives => all.push((key.clone(), None, arrives)),
                }
            }
        }
        all
    }

    fn arrivals_by_grant(&self) -> Vec<Arrival<'a>> {
        let mut all = Vec::new();
        let places = self.places();
        for (key, role) in &self.charter.roles {
            let may_hold = self.may_hold(role);
            let given = match role.given_to {
                Some("anyone") => self.subject().is_none() || may_hold,
                Some("signed-in") => may_hold,
                Some("members") => may_hold && self.is_member_of_tenant(),
                _ => false,
            };
            if given {
                all.push((key.clone(), None, Some(true)));
            }
        }
        let Some(subject) = self.subject() else { return all };
        let here = |group: &str| self.group_counts_here(group);
        let registered = self.linked(subject, &here, Linked::Registered);
        for (at, grant) in self.register.grants.iter().enumerate() {
            let stands =
                if grant.to == subject { Some(true) } else { self.among_groups(&grant.to, subject, &here) };
            let holder = stands != Some(false);
            // What a token vouches for cannot be activated.
            let by_register = grant.to == subject || registered.contains(&grant.to);
            let live = grant.from.is_none_or(|from| from <= self.question.now)
                && grant.until.is_none_or(|until| self.question.now < until);
            if !live {
                self.meet("a grant outside its time");
            }
            if !(holder && live && places.contains(&grant.at)) {
                continue;
            }
            let counts = match (self.charter.roles.get(&grant.role), self.register.made.get(&grant.role)) {
                (Some(role), _) => {
                    let kind = if grant.at == "everywhere" { "everywhere" } else { kind_of(&grant.at) };
                    let place = role.held_at.as_ref().is_none_or(|held| held.contains(kind));
                    for (stops, what) in [
                        (!self.may_hold(role), "a grant against held-by"),
                        (!role.grantable, "a grant of what is not grantable"),
                        (!place, "a grant against held-at"),
                    ] {
                        if stops {
                            self.meet(what);
                        }
                    }
                    let active = role.standby.is_none() || by_register && self.is_active(at, role);
                    self.may_hold(role) && role.grantable && place && active
                }
                (None, Some((tenant, _))) => {
                    kind_of(subject) == "user" && self.tenant(&self.here()) == Tenant::Is(tenant.clone())
                }
                (None, None) => false,
            };
            if counts {
                if !by_register {
                    self.meet("a grant to a group that a token vouches for");
                }
                all.push((grant.role.clone(), Some(grant), stands));
            }
        }
        all
    }

    /// On standby a grant counts with an activation of it for the subject, in time, of the
    /// question's session or of none, while the role's condition for it is true.
    fn is_active(&self, grant: usize, role: &Role) -> bool {
        let Some(when) = &role.standby else { return true };
        let activated = self.assumed == Some(grant)
            || self.register.activations.iter().any(|activation| {
                activation.grant == grant
                    && Some(activation.subject.as_str()) == self.subject()
                    && activation.from <= self.question.now
                    && self.question.now < activation.until
                    && activation.session.as_ref().is_none_or(|of| self.question.session.as_ref() == Some(of))
            });
        let counts = activated && when.as_ref().is_none_or(|when| self.test(when, None) == Some(true));
        self.meet(if counts { "an active grant on standby" } else { "a grant on standby" });
        counts
    }

    fn holds(&self, role: &str) -> Truth {
        let arriving = self.arrivals(&|outer| self.includes(outer, role));
        arriving.into_iter().fold(Some(false), |held, (.., arrives)| or(held, arrives))
    }

    // -- conferral ---------------------------------------------------------------------------------

    /// Whether a role arrives at a thing by conferral.
    fn conferral(&self, role: &str, at: &Thing) -> Truth {
        if !self.could_be_conferred(role, at) {
            return Some(false);
        }
        if self.conferred.borrow().pairs.is_none() {
            self.work_out();
        }
        if self.conferred.borrow().too_many.get() {
            self.meet("more pairs than a decision may depend on");
            return None;
        }
        let worked_out = self.conferred.borrow();
        let pairs = worked_out.pairs.as_ref().expect("worked out");
        *pairs.get(&(role.to_owned(), at.clone())).expect("what is asked for was gathered")
    }

    fn outer(&self, thing: &Thing) -> Option<Thing> {
        let outer = match thing {
            Thing::Entity(name) => {
                let entity = &self.register.entities[name];
                if entity.detached { None } else { entity.within.clone() }
            }
            _ => self.stated_within(),
        };
        outer.map(Thing::Entity)
    }

    fn confers(&self, thing: &Thing) -> &'a [Confer] {
        let kind = match thing {
            Thing::Entity(name) => kind_of(name),
            _ => self.own_kind(),
        };
        self.charter.kinds.get(kind).map_or(&[], |kind| &kind.confers)
    }

    /// Whether the thing, or one around it that its roles come from, is of a type that confers
    /// the role, and the subject may hold it.
    fn could_be_conferred(&self, role: &str, at: &Thing) -> bool {
        let mut next = Some(at.clone());
        while let Some(thing) = next {
            if self.confers(&thing).iter().any(|confer| confer.role == role) {
                return self.subject().is_some() && self.may_hold(&self.charter.roles[role]);
            }
            next = self.outer(&thing);
        }
        false
    }

    /// What a decision about the permission may ask the holding of.
    fn asked_for(&self) -> BTreeSet<String> {
        let mut asked = BTreeSet::new();
        let permission = &self.question.permission;
        for rule in self.charter.rules.values().filter(|rule| rule.permissions.contains(permission)) {
            asked.extend(rule.when.iter().flat_map(asks));
        }
        for (permissions, when) in &self.charter.tenant_clauses {
            if permissions.contains(permission) {
                asked.extend(when.iter().flat_map(asks));
            }
        }
        let giving =
            || self.charter.roles.iter().filter(|(key, _)| self.gives(key, None, true) == Some(true));
        for (key, role) in giving() {
            asked.insert(key.clone());
            asked.extend(role.when.iter().flat_map(asks));
            for (_, when) in role.clauses.iter().filter(|(permissions, _)| permissions.contains(permission)) {
                asked.extend(asks(when));
            }
        }
        for roles in &self.charter.separations {
            for pair in roles.iter().flat_map(|a| roles.iter().map(move |b| [a, b])) {
                if pair[0] != pair[1]
                    && pair.iter().any(|role| giving().any(|(key, _)| self.includes(key, role)))
                {
                    asked.extend(pair.map(Clone::clone));
                }
            }
        }
        asked
    }

    fn including(&self, role: &str) -> Vec<String> {
        self.charter.roles.keys().filter(|outer| self.includes(outer, role)).cloned().collect()
    }

    /// Gathers all pairs the decision depends on, and evaluates them component by component.
    fn work_out(&self) {
        let mut pairs: BTreeMap<(String, Thing), Truth> = BTreeMap::new();
        let mut waiting: Vec<(String, Thing)> = Vec::new();
        for role in self.asked_for() {
            waiting.extend(self.including(&role).into_iter().map(|outer| (outer, self.own())));
        }
        while let Some((role, at)) = waiting.pop() {
            if !self.could_be_conferred(&role, &at) || pairs.contains_key(&(role.clone(), at.clone())) {
                continue;
            }
            for confer in self.confers(&at).iter().filter(|confer| confer.role == role) {
                for asked in confer.when.iter().flat_map(asks) {
                    waiting.extend(self.including(&asked).into_iter().map(|outer| (outer, at.clone())));
                }
                if let Some(held) = &confer.holds {
                    for (end, _) in self.ends(&at, confer).0 {
                        let end = Thing::Entity(end);
                        waiting.extend(self.including(held).into_iter().map(|outer| (outer, end.clone())));
                    }
                }
            }
            waiting.extend(self.outer(&at).map(|outer| (role.clone(), outer)));
            pairs.insert((role, at), Some(false));
        }
        let state = Conferred { too_many: Cell::new(pairs.len() > 4_096), pairs: Some(pairs) };
        let too_many = state.too_many.get();
        *self.conferred.borrow_mut() = state;
        if too_many {
            return;
        }
        let reach: BTreeMap<&String, BTreeSet<String>> =
            self.charter.roles.keys().map(|role| (role, self.charter.depends(role))).collect();
        let mut groups: Vec<&BTreeSet<String>> = reach.values().collect();
        // What depends on more comes later; roles that depend on the same depend on each other.
        groups.sort_by_key(|roles| roles.len());
        for group in groups {
            loop {
                let before = self.conferred.borrow().pairs.clone().expect("set above");
                for (role, at) in before.keys().filter(|(role, _)| reach[role] == *group) {
                    let value = self.confer_value(role, at);
                    let key = (role.clone(), at.clone());
                    self.conferred.borrow_mut().pairs.as_mut().expect("set above").insert(key, value);
                }
                if self.conferred.borrow().pairs.as_ref() == Some(&before) {
                    break;
                }
            }
        }
    }

    fn confer_value(&self, role: &str, at: &Thing) -> Truth {
        let mut value = self.outer(at).map_or(Some(false), |outer| self.conferral(role, &outer));
        for confer in self.confers(at).iter().filter(|confer| confer.role == role) {
            let when = confer.when.as_ref().map_or(Some(true), |when| self.at(at).test(when, None));
            let (ends, whole) = self.ends(at, confer);
            let mut to = if whole { Some(false) } else { None };
            for (end, reached) in &ends {
                to = or(
                    to,
                    match &confer.holds {
                        None => match self.subject() {
                            Some(subject) if subject == end => Some(true),
                            Some(subject) => self.stands_for(end, subject, Some(reached)),
                            None => Some(false),
                        },
                        Some(held) => self.at(&Thing::Entity(end.clone())).holds(held),
                    },
                );
            }
            let conferred = and(when, to);
            self.meet(match (conferred, &confer.holds) {
                (Some(true), None) => "conferred by a relation",
                (Some(true), Some(_)) => "conferred by holding",
                (Some(false), _) => "not conferred",
                (None, _) => "a conferral undetermined",
            });
            value = or(value, conferred);
        }
        value
    }

    /// Where a conferral's path leads, each with the step that led there, and whether no step was
    /// missing.
    fn ends(&self, from: &Thing, confer: &Confer) -> (Vec<End>, bool) {
        let mut whole = true;
        let mut items: Vec<(Thing, (Thing, bool))> = vec![(from.clone(), (from.clone(), false))];
        for name in &confer.path {
            let mut next = Vec::new();
            for (thing, _) in items {
                let detached = matches!(&thing, Thing::Entity(name) if self.register.entities[name].detached);
                if name == "within" && detached && !confer.through_detached {
                    self.meet("a path cut by detachment");
                    continue;
                }
                match self.step(&thing, name) {
                    Err(_) => whole = false,
                    Ok(values) => {
                        for value in values {
                            match value {
                                Ok(Value::Thing(to, reached)) => {
                                    next.push((to, reached.unwrap_or((thing.clone(), false))));
                                }
                                _ => whole = false,
                            }
                        }
                    }
                }
            }
            items = next;
        }
        let named = items.into_iter().filter_map(|(thing, reached)| match thing {
            Thing::Entity(name) => Some((name, reached)),
            _ => None,
        });
        (named.collect(), whole)
    }

    fn includes(&self, outer: &str, inner: &str) -> bool {
        self.charter.includes(outer, inner)
    }

    /// Whether a role gives the permission; `blind` takes every condition as true.
    fn gives(&self, key: &str, grant: Option<&Grant>, blind: bool) -> Truth {
        let permission = &self.question.permission;
        if key.contains('/') {
            return self.made_gives(key, blind);
        }
        let role = &self.charter.roles[key];
        if role.except.contains(permission) {
            self.meet("an exception");
            return Some(false);
        }
        let condition = |when: &Expr| if blind { Some(true) } else { self.test(when, grant) };
        let mut given = Some(role.permissions.contains(permission));
        for (permissions, when) in &role.clauses {
            if permissions.contains(permission) {
                given = or(given, condition(when));
            }
        }
        for inner in &role.includes {
            given = or(given, self.gives(inner, grant, blind));
        }
        if given == Some(false) {
            return given;
        }
        and(role.when.as_ref().map_or(Some(true), condition), given)
    }

    fn made_gives(&self, key: &str, blind: bool) -> Truth {
        let permission = &self.question.permission;
        let listed = self.register.made.get(key).is_some_and(|(_, listed)| listed.contains(permission));
        let mut given = Some(false);
        for (permissions, when) in &self.charter.tenant_clauses {
            if listed && permissions.contains(permission) {
                let guard = when.as_ref().filter(|_| !blind);
                given = or(given, guard.map_or(Some(true), |when| self.test(when, None)));
            }
        }
        given
    }

    // -- conditions --------------------------------------------------------------------------------

    fn test(&self, expr: &Expr, grant: Option<&Grant>) -> Truth {
        let value = self.value_of(expr, grant);
        if value.is_some() {
            self.meet(match expr {
                Expr::Const(_) => "a constant",
                Expr::Not(_) => "not",
                Expr::All(_) => "and",
                Expr::Any(_) => "or",
                Expr::Truth(_) => "a boolean attribute",
                Expr::Compare(..) => "a comparison",
                Expr::In(..) => "in",
                Expr::Overlaps(..) => "overlaps",
                Expr::Holds(_) => "holds",
                Expr::Member(_) => "member",
                Expr::Among(_) => "among",
                Expr::Known(_) => "known",
                Expr::Fits(..) => "fits",
                Expr::Starts(..) | Expr::Ends(..) | Expr::Contains(..) => "starts, ends, contains",
            });
        }
        value
    }

    fn value_of(&self, expr: &Expr, grant: Option<&Grant>) -> Truth {
        match expr {
            Expr::Const(value) => Some(*value),
            Expr::Not(inner) => self.test(inner, grant).map(|value| !value),
            Expr::All(parts) => {
                parts.iter().fold(Some(true), |value, part| and(value, self.test(part, grant)))
            }
            Expr::Any(parts) => {
                parts.iter().fold(Some(false), |value, part| or(value, self.test(part, grant)))
            }
            Expr::Truth(path) => match self.one(path, grant) {
                Ok(Value::Bool(value)) => Some(value),
                _ => None,
            },
            Expr::Compare(operator, a, b) => self.compare(operator, a, b, grant),
            Expr::In(needle, list) => {
                let needle = self.term(needle, grant).ok()?;
                self.some(list, grant, |item| match (&needle, item) {
                    (Value::Address(address, bits), Value::Address(network, mask)) => {
                        Some(bits >= mask && (address & prefix(*mask)) == *network)
                    }
                    (needle, item) => self.same(needle, item),
                })
            }
            Expr::Overlaps(a, b) => {
                let (ours, our_whole) = self.list(a, grant);
                let (theirs, their_whole) = self.list(b, grant);
                let found = ours
                    .iter()
                    .flat_map(|x| theirs.iter().map(move |y| (x, y)))
                    .fold(Some(false), |found, (x, y)| or(found, self.meet_each_other(x, y)));
                if found == Some(true) || (our_whole && their_whole) { found } else { None }
            }
            Expr::Holds(role) => self.holds(role),
            Expr::Member(group) => {
                let here = |group: &str| self.group_counts_here(group);
                self.among_groups(&format!("group:{group}"), self.subject()?, &here)
            }
            Expr::Among(path) => self.among(path, grant),
            Expr::Known(path) => self.known(path, grant),
            Expr::Fits(text, pattern) => match self.term(text, grant) {
                Ok(Value::Text(text)) => {
                    Some(fits(&text.chars().collect::<Vec<_>>(), &pattern.chars().collect::<Vec<_>>()))
                }
                _ => None,
            },
            Expr::Starts(a, b) => self.texts(a, b, grant, |a, b| a.starts_with(b)),
            Expr::Ends(a, b) => self.texts(a, b, grant, |a, b| a.ends_with(b)),
            Expr::Contains(a, b) => self.texts(a, b, grant, |a, b| a.contains(b)),
        }
    }

    /// Of networks one lies in the other; anything else is the same.
    fn meet_each_other(&self, x: &Value, y: &Value) -> Truth {
        match (x, y) {
            (Value::Address(a, a_bits), Value::Address(b, b_bits)) => {
                self.meet("networks that overlap");
                let shared = prefix(*a_bits.min(b_bits));
                Some((a & shared) == (b & shared))
            }
            (x, y) => self.same(x, y),
        }
    }

    fn texts(&self, a: &Term, b: &Term, grant: Option<&Grant>, test: fn(&str, &str) -> bool) -> Truth {
        match (self.term(a, grant), self.term(b, grant)) {
            (Ok(Value::Text(a)), Ok(Value::Text(b))) => Some(test(&a, &b)),
            _ => None,
        }
    }

    fn compare(&self, operator: &str, a: &Term, b: &Term, grant: Option<&Grant>) -> Truth {
        let (a, b) = (self.term(a, grant).ok()?, self.term(b, grant).ok()?);
        let order = match (&a, &b) {
            (Value::Int(a), Value::Int(b))
            | (Value::Time(a), Value::Time(b))
            | (Value::Duration(a), Value::Duration(b)) => Some(a.cmp(b)),
            (a, b) => parts_of(a).zip(parts_of(b)).map(|(a, b)| a.cmp(&b)),
        };
        match operator {
            "==" => self.same(&a, &b),
            "!=" => self.same(&a, &b).map(|value| !value),
            "<" => order.map(|order| order.is_lt()),
            "<=" => order.map(|order| order.is_le()),
            ">" => order.map(|order| order.is_gt()),
            _ => order.map(|order| order.is_ge()),
        }
    }

    fn same(&self, a: &Value, b: &Value) -> Truth {
        match (a, b) {
            (Value::Thing(Thing::Own, _), Value::Thing(Thing::Stranger(name), _))
            | (Value::Thing(Thing::Stranger(name), _), Value::Thing(Thing::Own, _)) => {
                self.question.resource.as_ref().map(|own| own == name)
            }
            (Value::Thing(a, _), Value::Thing(b, _)) => Some(a == b),
            (Value::Int(_), Value::Decimal(_)) | (Value::Decimal(_), Value::Int(_)) => {
                Some(parts_of(a) == parts_of(b))
            }
            (a, b) => Some(a == b),
        }
    }

    fn some(&self, list: &List, grant: Option<&Grant>, test: impl Fn(&Value) -> Truth) -> Truth {
        let (items, whole) = self.list(list, grant);
        let found = items.iter().fold(Some(false), |found, item| or(found, test(item)));
        if found == Some(true) || whole { found } else { None }
    }

    /// The members that can be read, and whether those are all.
    fn list(&self, list: &List, grant: Option<&Grant>) -> (Vec<Value>, bool) {
        let items: Vec<Result<Value, Lack>> = match list {
            List::Literal(items) => items.iter().map(|item| self.term(item, grant)).collect(),
            List::Path(path) => match self.path(path, grant) {
                Ok(items) => items,
                Err(_) => return (Vec::new(), false),
            },
        };
        let whole = items.iter().all(Result::is_ok);
        (items.into_iter().flatten().collect(), whole)
    }

    fn among(&self, path: &[String], grant: Option<&Grant>) -> Truth {
        let subject = self.subject()?;
        let items = self.path(path, grant).ok()?;
        let whole = if items.iter().all(Result::is_ok) { Some(false) } else { None };
        items.iter().flatten().fold(whole, |found, item| {
            let Value::Thing(Thing::Entity(name), reached) = item else { return found };
            let is =
                if name == subject { Some(true) } else { self.stands_for(name, subject, reached.as_ref()) };
            or(found, is)
        })
    }

    fn stands_for(&self, group: &str, subject: &str, reached: Option<&(Thing, bool)>) -> Truth {
        let counts = |name: &str| match (reached, &self.register.entities[name].tenant) {
            (None, _) | (_, None) => true,
            (Some((Thing::Entity(from), _)), _) if matches!(kind_of(from), "user" | "service") => true,
            (Some((from, across)), Some(of)) => {
                let own = *across && self.register.entities[group].tenant.as_ref() == Some(of);
                if own && name != group {
                    self.meet("a group inside one across tenants");
                }
                self.tenant(from) == Tenant::Is(of.clone()) || own
            }
        };
        self.meet("through a group");
        if kind_of(group) == "group" { self.among_groups(group, subject, &counts) } else { Some(false) }
    }

    fn known(&self, path: &[String], grant: Option<&Grant>) -> Truth {
        match self.path(path, grant) {
            Err(Lack::Ill) => None,
            Err(Lack::Missing) => Some(false),
            Ok(items) if items.contains(&Err(Lack::Ill)) => None,
            Ok(items) => Some(items.iter().all(Result::is_ok)),
        }
    }

    fn term(&self, term: &Term, grant: Option<&Grant>) -> Result<Value, Lack> {
        let wall = |term: &Term| match self.term(term, grant)? {
            Value::Time(at) => Ok(at + 2 * 3_600),
            _ => Err(Lack::Ill),
        };
        Ok(match term {
            Term::Path(path) => return self.one(path, grant),
            Term::Int(value) => Value::Int(*value),
            Term::Text(text) => Value::Text(text.clone()),
            Term::Address(text) => address(text).ok_or(Lack::Ill)?,
            Term::Time(at) => Value::Time(*at),
            Term::Entity(name) => {
                let registered =
                    self.register.entities.get(name).is_some_and(|entity| entity.state != "deleted");
                let thing =
                    if registered { Thing::Entity(name.clone()) } else { Thing::Stranger(name.clone()) };
                Value::Thing(thing, None)
            }
            Term::Now => Value::Time(self.question.now),
            Term::Plus(a, b) => match (self.term(a, grant)?, self.term(b, grant)?) {
                (Value::Int(a), Value::Int(b)) => Value::Int(a.checked_add(b).ok_or(Lack::Missing)?),
                (Value::Time(a), Value::Duration(b)) | (Value::Duration(b), Value::Time(a)) => {
                    Value::Time(a + b)
                }
                (Value::Duration(a), Value::Duration(b)) => Value::Duration(a + b),
                (a, b) => Value::Decimal(parts_of(&a).ok_or(Lack::Ill)? + parts_of(&b).ok_or(Lack::Ill)?),
            },
            Term::Minus(a, b) => match (self.term(a, grant)?, self.term(b, grant)?) {
                (Value::Int(a), Value::Int(b)) => Value::Int(a.checked_sub(b).ok_or(Lack::Missing)?),
                (Value::Time(a), Value::Duration(b)) => Value::Time(a - b),
                (Value::Time(a), Value::Time(b)) => Value::Duration(a - b),
                (Value::Duration(a), Value::Duration(b)) => Value::Duration(a - b),
                (a, b) => Value::Decimal(parts_of(&a).ok_or(Lack::Ill)? - parts_of(&b).ok_or(Lack::Ill)?),
            },
            Term::Decimal(parts) => Value::Decimal(i128::from(*parts)),
            Term::Duration(seconds) => Value::Duration(*seconds),
            Term::Clock(time) => Value::Duration(wall(time)?.rem_euclid(86_400)),
            Term::Hour(time) => Value::Int(wall(time)?.rem_euclid(86_400) / 3_600),
            // The first of January 1970 was a Thursday.
            Term::Weekday(time) => Value::Text(
                ["thursday", "friday", "saturday", "sunday", "monday", "tuesday", "wednesday"]
                    [usize::try_from(wall(time)?.div_euclid(86_400).rem_euclid(7)).unwrap_or(0)]
                .to_owned(),
            ),
            Term::Lower(inner) => match self.term(inner, grant)? {
                Value::Text(text) => Value::Text(text.to_lowercase()),
                _ => return Err(Lack::Ill),
            },
            Term::Count(list) => match self.list(list, grant) {
                (items, true) => Value::Int(i64::try_from(items.len()).unwrap_or(i64::MAX)),
                _ => return Err(Lack::Missing),
            },
        })
    }

    fn one(&self, path: &[String], grant: Option<&Grant>) -> Result<Value, Lack> {
        self.path(path, grant)?.into_iter().next().unwrap_or(Err(Lack::Missing))
    }

    /// Everything a path gives: one thing, or the members of a list; or why it leads nowhere.
    fn path(&self, path: &[String], grant: Option<&Grant>) -> Result<Vec<Result<Value, Lack>>, Lack> {
        let start = match path[0].as_str() {
            "subject" => Thing::Entity(self.subject().ok_or(Lack::Missing)?.to_owned()),
            "resource" => self.here(),
            "context" => {
                let declared = &self.charter.context[&path[1]];
                let stated = self
                    .question
                    .context
                    .get(&path[1])
                    .filter(|value| !value.is_null())
                    .or(declared.default.as_ref());
                return typed(declared, stated.ok_or(Lack::Missing)?);
            }
            _ => {
                let values = grant.and_then(|grant| grant.values.clone()).ok_or(Lack::Missing)?;
                return Ok(values.iter().map(|value| scalar("text", value)).collect());
            }
        };
        let mut items = vec![Ok(Value::Thing(start, None))];
        for (at, name) in path[1..].iter().enumerate() {
            let mut next = Vec::new();
            for item in &items {
                match item {
                    Err(lack) => next.push(Err(*lack)),
                    Ok(Value::Thing(thing, _)) => match self.step(thing, name) {
                        Ok(more) => next.extend(more),
                        // The lack of a single step, before any list, is the lack of the path.
                        Err(lack) if items.len() == 1 && !self.passed_many(path, at) => return Err(lack),
                        Err(lack) => next.push(Err(lack)),
                    },
                    Ok(_) => return Err(Lack::Ill),
                }
            }
            items = next;
        }
        Ok(items)
    }

    /// Whether a many-valued step stands before step `at`.
    fn passed_many(&self, path: &[String], at: usize) -> bool {
        path[1..=at].iter().any(|name| {
            self.charter
                .kinds
                .values()
                .any(|kind| kind.relations.get(name).is_some_and(|relation| relation.many))
        })
    }

    fn step(&self, thing: &Thing, name: &str) -> Result<Vec<Result<Value, Lack>>, Lack> {
        let full = match thing {
            Thing::Entity(name) | Thing::Stranger(name) => Some(name.clone()),
            Thing::Own => self.question.resource.clone(),
        };
        let entity = match thing {
            Thing::Entity(name) => Some(&self.register.entities[name]),
            _ => None,
        };
        let one = |value: Value| Ok(vec![Ok(value)]);
        match name {
            "id" => {
                return one(Value::Text(
                    full.ok_or(Lack::Missing)?.split_once(':').ok_or(Lack::Missing)?.1.to_owned(),
                ));
            }
            "tenant" => {
                return match self.tenant(thing) {
                    Tenant::Is(name) => one(Value::Thing(Thing::Entity(name), Some((thing.clone(), false)))),
                    _ => Err(Lack::Missing),
                };
            }
            "detached" => return one(Value::Bool(entity.ok_or(Lack::Missing)?.detached)),
            "within" => {
                let outer = match thing {
                    Thing::Own => self.stated_within(),
                    _ => entity.and_then(|entity| entity.within.clone()),
                };
                let outer = outer.ok_or(Lack::Missing)?;
                if self.tenant(thing) == Tenant::Unknown {
                    return Err(Lack::Missing);
                }
                return one(Value::Thing(Thing::Entity(outer), Some((thing.clone(), false))));
            }
            _ => {}
        }
        let kind = full.as_deref().map_or(self.own_kind(), kind_of);
        let declared = self.charter.kinds.get(kind).ok_or(Lack::Missing)?;
        let said = self.said(thing);
        if let Some(attribute) = declared.attributes.get(name) {
            let registered = entity.and_then(|entity| entity.attributes.get(name));
            let requested = said.and_then(|said| said.get(name)).filter(|value| !value.is_null());
            let stated = match attribute.from {
                From::Register => registered,
                From::Request | From::Token => requested,
                From::Either | From::RegisterOrToken => registered.or(requested),
            };
            return typed(attribute, stated.or(attribute.default.as_ref()).ok_or(Lack::Missing)?);
        }
        let relation = declared.relations.get(name).ok_or(Lack::Missing)?;
        let registered =
            entity.and_then(|entity| entity.relations.get(name)).filter(|_| relation.from != From::Request);
        let targets: Vec<String> =
            match (registered, said.and_then(|said| said.get(name)).filter(|value| !value.is_null())) {
                (Some(to), _) => to.clone(),
                (None, Some(value)) if relation.from != From::Register => {
                    let items = value.as_array().cloned().unwrap_or_else(|| vec![value.clone()]);
                    let live = |item: &Json| {
                        let name = item.as_str()?;
                        self.register
                            .entities
                            .get(name)
                            .filter(|entity| entity.state != "deleted")
                            .map(|_| name.to_owned())
                    };
                    let to: Option<Vec<String>> = items.iter().map(live).collect();
                    let to = to.ok_or(Lack::Ill)?;
                    if !relation.many && to.len() != 1 {
                        return Err(Lack::Ill);
                    }
                    to
                }
                _ if relation.default_empty => Vec::new(),
                _ => return Err(Lack::Missing),
            };
        let follow = |to: &String| {
            if !relation.to.iter().any(|kind| kind == kind_of(to)) {
                return Err(Lack::Ill);
            }
            if !relation.across && !self.step_counts(thing, to) {
                return Err(Lack::Missing);
            }
            Ok(Value::Thing(Thing::Entity(to.clone()), Some((thing.clone(), relation.across))))
        };
        if relation.many {
            return Ok(targets.iter().map(follow).collect());
        }
        match targets.as_slice() {
            [only] => Ok(vec![Ok(follow(only)?)]),
            _ => Err(Lack::Ill),
        }
    }

    fn said(&self, thing: &Thing) -> Option<&BTreeMap<String, Json>> {
        if *thing == self.own() {
            return Some(&self.question.of_resource);
        }
        let subject = self.subject()?;
        (*thing == Thing::Entity(subject.to_owned())).then_some(&self.question.of_subject)
    }
}

impl Charter {
    pub fn includes(&self, outer: &str, inner: &str) -> bool {
        // A tenant's own role is none of the charter's.
        outer == inner
            || self
                .roles
                .get(outer)
                .is_some_and(|role| role.includes.iter().any(|next| self.includes(next, inner)))
    }

    /// The roles whose holding decides whether a role is held, itself among them.
    pub fn depends(&self, role: &str) -> BTreeSet<String> {
        let mut found = BTreeSet::new();
        let mut waiting = vec![role.to_owned()];
        while let Some(next) = waiting.pop() {
            if !found.insert(next.clone()) {
                continue;
            }
            let outer = self.roles.iter().filter(|(_, role)| role.includes.contains(&next));
            waiting.extend(outer.map(|(key, _)| key.clone()));
            for confer in self.kinds.values().flat_map(|kind| &kind.confers) {
                if confer.role == next {
                    waiting.extend(confer.holds.clone());
                    waiting.extend(confer.when.iter().flat_map(asks));
                }
            }
        }
        found
    }
}

/// The roles a condition asks the holding of.
pub fn asks(expr: &Expr) -> Vec<String> {
    match expr {
        Expr::Holds(role) => vec![role.clone()],
        Expr::Not(inner) => asks(inner),
        Expr::All(parts) | Expr::Any(parts) => parts.iter().flat_map(asks).collect(),
        _ => Vec::new(),
    }
}

/// A stated value under its declaration: its members, or that it is of another type.
fn typed(attribute: &Attribute, stated: &Json) -> Result<Vec<Result<Value, Lack>>, Lack> {
    let fits = |value: &Json| {
        let ok = attribute.values.as_ref().is_none_or(|values| values.contains(value));
        if ok { scalar(attribute.of, value) } else { Err(Lack::Ill) }
    };
    match (attribute.many, stated) {
        (true, Json::Array(items)) => {
            let all: Result<Vec<Value>, Lack> = items.iter().map(fits).collect();
            Ok(all?.into_iter().map(Ok).collect())
        }
        (false, one) => Ok(vec![Ok(fits(one)?)]),
        (true, _) => Err(Lack::Ill),
    }
}

fn scalar(of: &str, value: &Json) -> Result<Value, Lack> {
    match (of, value) {
        ("integer", Json::Number(number)) => number.as_i64().map(Value::Int),
        ("text", Json::String(text)) => Some(Value::Text(text.clone())),
        ("boolean", Json::Bool(value)) => Some(Value::Bool(*value)),
        ("address", Json::String(text)) => address(text),
        ("decimal", Json::Number(number)) => decimal(&number.to_string()),
        ("decimal", Json::String(text)) => decimal(text),
        ("time", Json::String(text)) => {
            text.parse::<jiff::Timestamp>().ok().map(|at| Value::Time(at.as_second()))
        }
        ("duration", Json::String(text)) => duration(text),
        _ => None,
    }
    .ok_or(Lack::Ill)
}

/// Where a value of an attribute stands among others of its type.
pub fn order_of(of: &str, value: &Json) -> Option<i128> {
    match scalar(of, value).ok()? {
        Value::Time(at) | Value::Duration(at) => Some(i128::from(at)),
        other => parts_of(&other),
    }
}

/// A number in ten-thousandths.
fn parts_of(value: &Value) -> Option<i128> {
    match value {
        Value::Int(value) => Some(i128::from(*value) * 10_000),
        Value::Decimal(parts) => Some(*parts),
        _ => None,
    }
}

/// `12`, `1.25`: at most four places, which is all that is generated.
fn decimal(text: &str) -> Option<Value> {
    let (whole, places) = text.split_once('.').unwrap_or((text, ""));
    let places: i128 = format!("{places:0<4}").parse().ok()?;
    Some(Value::Decimal(whole.parse::<i128>().ok()? * 10_000 + places))
}

/// `90m`, `2h30m`.
fn duration(text: &str) -> Option<Value> {
    let (mut total, mut number) = (0, String::new());
    for c in text.chars() {
        let unit = match c {
            '0'..='9' => {
                number.push(c);
                continue;
            }
            'd' => 86_400,
            'h' => 3_600,
            'm' => 60,
            's' => 1,
            _ => return None,
        };
        total += number.parse::<i64>().ok()? * unit;
        number.clear();
    }
    (number.is_empty() && !text.is_empty()).then_some(Value::Duration(total))
}

fn prefix(bits: u32) -> u32 {
    if bits == 0 { 0 } else { u32::MAX << (32 - bits) }
}

fn address(text: &str) -> Option<Value> {
    let (address, bits) = text.split_once('/').unwrap_or((text, "32"));
    let bits: u32 = bits.parse().ok().filter(|bits| *bits <= 32)?;
    let parts: Vec<u32> = address.split('.').map(str::parse).collect::<Result<_, _>>().ok()?;
    let [a, b, c, d] = parts[..] else { return None };
    let number = a << 24 | b << 16 | c << 8 | d;
    (number & prefix(bits) == number).then_some(Value::Address(number, bits))
}

/// The plainest way to match: try every length a star could have.
fn fits(text: &[char], pattern: &[char]) -> bool {
    match pattern {
        [] => text.is_empty(),
        ['*', rest @ ..] => (0..=text.len()).any(|taken| fits(&text[taken..], rest)),
        ['?', rest @ ..] => !text.is_empty() && fits(&text[1..], rest),
        [wanted, rest @ ..] => text.first() == Some(wanted) && fits(&text[1..], rest),
    }
}

pub fn fits_text(text: &str, pattern: &str) -> bool {
    fits(&text.chars().collect::<Vec<_>>(), &pattern.chars().collect::<Vec<_>>())
}

/// Whether an address lies within a network.
pub fn is_within(inner: &str, outer: &str) -> bool {
    match (address(inner), address(outer)) {
        (Some(Value::Address(inner, bits)), Some(Value::Address(network, mask))) => {
            bits >= mask && (inner & prefix(mask)) == network
        }
        _ => false,
    }
}
