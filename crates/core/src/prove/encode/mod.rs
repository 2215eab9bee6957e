//! A charter's answers to every question at once, as a formula.
//!
//! What holds here:
//! - every request has a counterpart among the values of the free bits: nothing is assumed of a
//!   register but what the write checks see to. Then what the formula excludes no request does;
//! - what is not followed further (things too many steps away, sums of two unknowns, texts changed
//!   or compared with each other by pattern) is a free bit, which can be anything;
//! - where there may be many (grants of one role, ends of a path), one stands for all: if any of
//!   them makes an answer *allowed* it is that one, and if none does it does not either.
//!
//! [`things`] are the entities a question can meet; [`conditions`] read them; [`holding`] says what
//! arrives and is held; [`deciding`] is the answer.

mod conditions;
mod deciding;
mod holding;
mod things;

pub use things::{Edge, Read, Thing, ThingId};

use super::formula::{Bit, Formula, Tri};
use super::theory::{AddressId, Equal, Number, TextId, Theory};
use crate::charter::model::{Condition, GroupId, NameId, PermId, RoleId, Step, TestId};
use crate::charter::policy::Policy;
use crate::charter::print;
use hashbrown::HashMap;
use std::collections::BTreeSet;

/// A value that a path or operand reads.
#[derive(Clone, Copy, Debug, PartialEq)]
pub enum Value {
    Number(Number),
    Text(TextId),
    Boolean(Bit),
    Address(AddressId),
    Thing(ThingId),
}

/// Where a list comes from.
#[derive(Clone, Debug, PartialEq, Eq, Hash)]
pub enum ListKey {
    /// A path from a thing, as far as it is many-valued.
    Path(ThingId, Box<[Step]>),
    /// The ends of a conferral's path of several steps.
    Ends(ThingId, Box<[Step]>),
    /// The context.
    Context(usize),
    /// The values of the grant that stands for all of its role.
    Grant(RoleId, NameId),
}

/// A list: who asks whether something is in it, and what it came to.
#[derive(Clone, Debug)]
pub struct List {
    /// It is read, with every member.
    pub whole: Bit,
    /// Something in it is of the wrong type.
    pub ill: Bit,
    /// What was asked about, and whether it is in it.
    pub members: Vec<(Value, Bit)>,
    /// How many there are.
    pub count: Option<Number>,
}

/// Something that is not followed exactly.
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub enum Open {
    /// What stands too many steps away: which role, or what else, and where.
    Steps(String),
    /// A text that is compared with one that is not written out.
    Text(String),
    /// What a clock or a calendar reads.
    Clock(String),
    /// Networks that are not written out.
    Networks(String),
    /// What types declare differently.
    Declared(String),
    /// Anything else.
    Other(String),
}

/// The encoding of one guarantee's questions.
#[derive(Debug)]
pub struct Encoding<'p> {
    pub policy: &'p Policy,
    pub formula: Formula,
    pub theory: Theory,
    pub things: Vec<Thing>,
    children: HashMap<(ThingId, Edge), ThingId>,
    pub same_thing: Equal,
    pub attributes: HashMap<(ThingId, NameId), Read>,
    ids: HashMap<ThingId, TextId>,
    context: HashMap<usize, Read>,
    pub lists: Vec<(ListKey, List)>,
    pub overlaps: Vec<(usize, usize, Bit)>,
    pub now: Number,
    opaque: HashMap<String, Number>,
    opaque_texts: HashMap<String, TextId>,
    /// Whether a sum is in range.
    in_range: HashMap<String, Bit>,
    /// What a condition, by its address, came to.
    conditions: HashMap<(usize, ThingId, Option<RoleId>), Tri>,
    pub detached: HashMap<ThingId, Bit>,
    /// Grants of a role at a thing.
    pub local: HashMap<(RoleId, ThingId), Bit>,
    /// Grants of a role everywhere.
    pub everywhere: HashMap<RoleId, Bit>,
    chains: HashMap<(RoleId, ThingId), Bit>,
    conferrals: HashMap<(RoleId, ThingId), Tri>,
    standing: HashMap<RoleId, Bit>,
    /// Membership of the declared groups, as it counts at a thing.
    pub members: HashMap<(GroupId, ThingId), Bit>,
    /// Whether the subject is in a group at the end of a path.
    pub in_group: HashMap<ThingId, Bit>,
    /// Whether the subject is among a list, itself or through groups.
    pub among: HashMap<usize, Bit>,
    /// Whether the subject is a member of a tenant.
    pub of_tenant: HashMap<ThingId, Bit>,
    /// A role that the resource's tenant made, with a permission in it.
    pub made: Vec<(PermId, Bit)>,
    /// Grants of a role everywhere to a group of a tenant.
    pub by_group: HashMap<(RoleId, ThingId), Bit>,
    pub subject: ThingId,
    pub resource: ThingId,
    /// What the charter names is registered, where that matters.
    pub named_is_registered: HashMap<ThingId, Bit>,
    /// The question's resource is registered; it has an id.
    pub registered: Bit,
    pub has_id: Bit,
    /// A decision that depends on more pairs of role and resource than are looked at.
    pub too_many: Bit,
    /// What is rather not so, if an example can do without: it makes examples plain.
    pub unlikely: Vec<Bit>,
    /// How many steps from the question things are told apart.
    pub depth: usize,
    /// What was left open, and may be anything.
    open: BTreeSet<Open>,
    /// Whether a condition asks a clock or a calendar.
    pub reads_clocks: bool,
}

impl<'p> Encoding<'p> {
    /// Whether something was left open because it is too many steps away.
    pub fn is_cut(&self) -> bool {
        self.open.iter().any(|open| matches!(open, Open::Steps(_)))
    }

    /// What was left open, what makes most go first.
    pub fn left_open(&self) -> impl Iterator<Item = &Open> {
        self.open.iter()
    }

    /// Leaves a test open.
    fn leave(&mut self, condition: &Condition, test: TestId, open: fn(String) -> Open) {
        self.open.insert(open(print::test(self.policy.model(), condition, test)));
    }

    /// Leaves open what stands further away than things are told apart.
    fn leave_beyond(&mut self, what: &str, at: ThingId) {
        let model = self.policy.model();
        let kinds = self.thing(at).kinds.iter().map(|(kind, _)| model.kinds[kind.index()].key.as_str());
        let kinds = kinds.collect::<Vec<_>>().join(" or ");
        self.open.insert(Open::Steps(format!("{what} at a {kinds}")));
    }

    /// Sees to it that what is one thing has one of each, and what is two has two.
    pub fn close(&mut self) {
        self.close_things();
    }

    /// What the charter names differently is not one thing.
    pub fn two_names(&self, classes: &[u32], lemmas: &mut Vec<Vec<Bit>>) {
        let mut named: HashMap<u32, usize> = HashMap::new();
        for (at, _) in self.things.iter().enumerate().filter(|(_, thing)| thing.named.is_some()) {
            if named.insert(classes[at], at).is_some() {
                let members: Vec<u32> =
                    (0..classes.len()).filter(|n| classes[*n] == classes[at]).map(|n| n as u32).collect();
                lemmas.push(self.same_thing.why(&self.formula, &members));
            }
        }
    }

    fn list(&mut self, key: ListKey) -> usize {
        if let Some(at) = self.lists.iter().position(|(known, _)| *known == key) {
            return at;
        }
        let (whole, ill) = (self.formula.free(), self.formula.free());
        self.formula.clause(&[!whole, !ill]);
        self.unlikely.push(ill);
        self.lists.push((key, List { whole, ill, members: Vec::new(), count: None }));
        self.lists.len() - 1
    }

    /// Whether a value is one of a list's members.
    fn member(&mut self, list: usize, value: Value) -> Bit {
        if let Some((_, bit)) = self.lists[list].1.members.iter().find(|(known, _)| *known == value) {
            return *bit;
        }
        let bit = self.formula.free();
        for (other, known) in self.lists[list].1.members.clone() {
            let same = self.same(value, other);
            self.formula.same_if(same, bit, known);
        }
        self.lists[list].1.members.push((value, bit));
        let members = self.lists[list].1.members.clone();
        self.count_member(list, &members);
        bit
    }

    /// A list that is read holds as many as are in it and differ: the last of these and the others.
    fn count_member(&mut self, list: usize, members: &[(Value, Bit)]) {
        let Some((&(last, is_in), others)) = members.split_last() else { return };
        self.count_some(list, is_in);
        for (n, &(other, other_in)) in others.iter().enumerate() {
            let same = self.same(last, other);
            self.count_at_least(list, 2, &[!is_in, !other_in, same]);
            for &(third, third_in) in &others[..n] {
                let (as_last, as_other) = (self.same(last, third), self.same(other, third));
                self.count_at_least(list, 3, &[!is_in, !other_in, !third_in, same, as_last, as_other]);
            }
        }
    }

    /// A list in which something is, is not empty.
    fn count_some(&mut self, list: usize, is_so: Bit) {
        self.count_at_least(list, 1, &[!is_so]);
    }

    /// A list that is read holds so many, unless one of these is so.
    fn count_at_least(&mut self, list: usize, least: i128, unless: &[Bit]) {
        let Some(count) = self.lists[list].1.count else { return };
        let least = Theory::constant(least * super::theory::UNIT, super::theory::UNIT);
        let enough = self.theory.order(&mut self.formula, least, count, false);
        let whole = self.lists[list].1.whole;
        let clause: Vec<Bit> = unless.iter().copied().chain([!whole, enough]).collect();
        self.formula.clause(&clause);
    }

    /// Whether two values of one sort are equal.
    pub fn same(&mut self, a: Value, b: Value) -> Bit {
        match (a, b) {
            (Value::Number(a), Value::Number(b)) => self.theory.same_number(&mut self.formula, a, b),
            (Value::Text(a), Value::Text(b)) => self.theory.same_text(&mut self.formula, a, b),
            (Value::Boolean(a), Value::Boolean(b)) => self.formula.same(a, b),
            (Value::Address(a), Value::Address(b)) => self.theory.same_address(&mut self.formula, a, b),
            (Value::Thing(a), Value::Thing(b)) => self.are_same(a, b),
            // Checked conditions compare like with like; were they not, anything might come of it.
            _ => self.formula.free(),
        }
    }

    fn path_list(&mut self, thing: ThingId, rest: &[Step]) -> usize {
        self.list(ListKey::Path(thing, rest.into()))
    }

    /// The steps of a path up to the one that leads to many from what stands there, and the rest.
    ///
    /// What one type declares with many values another may declare with one: only the types that
    /// can stand at the step are asked.
    fn split<'a>(&self, from: ThingId, steps: &'a [Step]) -> (&'a [Step], &'a [Step]) {
        let model = self.policy.model();
        let leads_to_many = |at: usize| {
            let kinds = self.kinds_after(from, &steps[..at]);
            kinds.iter().map(|kind| &model.kinds[kind.index()]).any(|kind| match &steps[at] {
                Step::Relation(name) => kind.relation(*name).is_some_and(|relation| relation.many),
                Step::Attribute(name) => kind.attribute(*name).is_some_and(|attribute| attribute.many),
                _ => false,
            })
        };
        let at = (0..steps.len()).find(|at| leads_to_many(*at)).unwrap_or(steps.len());
        steps.split_at(at)
    }
}
