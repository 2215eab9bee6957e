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
use crate::charter::model::{GroupId, NameId, Path, PermId, RoleId, Step};
use crate::charter::policy::Policy;
use hashbrown::HashMap;

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
    /// Whether something was left open because it is further away.
    deepest: bool,
    /// Whether a condition asks a clock or a calendar.
    pub reads_clocks: bool,
}

impl<'p> Encoding<'p> {
    /// Whether something was left open because it is too many steps away.
    pub fn is_cut(&self) -> bool {
        self.deepest
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
        if let Some(count) = self.lists[list].1.count {
            let some = self.theory.order(
                &mut self.formula,
                Theory::constant(super::theory::UNIT, super::theory::UNIT),
                count,
                false,
            );
            let whole = self.lists[list].1.whole;
            self.formula.clause(&[!whole, !bit, some]);
        }
        self.lists[list].1.members.push((value, bit));
        bit
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

    /// The steps of a path up to the one with many values, and the rest.
    fn split<'a>(&self, path: &'a Path) -> (&'a [Step], &'a [Step]) {
        let model = self.policy.model();
        let many = |step: &Step| match step {
            Step::Relation(name) => {
                model.kinds.iter().any(|kind| kind.relation(*name).is_some_and(|r| r.many))
            }
            Step::Attribute(name) => {
                model.kinds.iter().any(|kind| kind.attribute(*name).is_some_and(|a| a.many))
            }
            _ => false,
        };
        let at = path.steps.iter().position(many).unwrap_or(path.steps.len());
        path.steps.split_at(at)
    }
}
