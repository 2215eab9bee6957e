//! Conditions on three values, as two bits each: every operator, every function, every path.

use super::super::formula::{Bit, Tri};
use super::super::theory::{Number, Theory, UNIT};
use super::{Edge, Encoding, ListKey, Open, Read, ThingId, Value};
use crate::charter::model::{
    Condition, KindId, List, Operand, OperandId, Order, Path, PathId, RoleId, Root, Step, Test, TestId,
};
use crate::charter::print;

/// A condition, seen from where.
#[derive(Clone, Copy, Debug)]
pub struct Seen<'c> {
    pub condition: &'c Condition,
    /// What it calls `resource`.
    pub at: ThingId,
    /// The role whose grant is at hand.
    pub grant: Option<RoleId>,
}

impl<'p> Encoding<'p> {
    /// What a condition comes to.
    pub fn condition(&mut self, condition: &Condition, at: ThingId, grant: Option<RoleId>) -> Tri {
        // One condition at one place comes to one value, also in what of it is left open.
        let key = (std::ptr::from_ref(condition).addr(), at, grant);
        if let Some(known) = self.conditions.get(&key) {
            return *known;
        }
        let value = self.test(Seen { condition, at, grant }, condition.root);
        self.conditions.insert(key, value);
        value
    }

    fn unclear(&mut self) -> Tri {
        Tri { sure: self.formula.no(), may: self.formula.yes() }
    }

    /// True or false where all of it could be read, else undetermined.
    fn where_read(&mut self, read: Bit, value: Bit) -> Tri {
        Tri { sure: self.formula.and(read, value), may: self.formula.or(!read, value) }
    }

    fn test(&mut self, seen: Seen<'_>, id: TestId) -> Tri {
        match &seen.condition.tests[id.index()] {
            Test::Constant(value) => Tri::plain(self.formula.constant(*value)),
            Test::Not(inner) => !self.test(seen, *inner),
            Test::All(parts) => {
                let mut all = Tri::plain(self.formula.yes());
                for part in parts {
                    let part = self.test(seen, *part);
                    all = self.formula.and3(all, part);
                }
                all
            }
            Test::Any(parts) => {
                let mut any = Tri::plain(self.formula.no());
                for part in parts {
                    let part = self.test(seen, *part);
                    any = self.formula.or3(any, part);
                }
                any
            }
            Test::Holds(operand) => match self.operand(seen, *operand) {
                Read { there, value: Value::Boolean(value), .. } => self.where_read(there, value),
                _ => self.unclear(),
            },
            Test::Equal(a, b) => {
                let (a, b) = (self.operand(seen, *a), self.operand(seen, *b));
                self.equal(a, b)
            }
            Test::Order(order, a, b) => self.order(seen, *order, *a, *b),
            Test::In(needle, list) => {
                let needle = self.operand(seen, *needle);
                self.is_in(seen, needle, list)
            }
            Test::InNetwork(needle, list) => {
                if !matches!(list, List::Values(_)) {
                    self.leave(seen.condition, id, Open::Networks);
                }
                self.in_networks(seen, *needle, list)
            }
            Test::Overlaps(a, b) => self.overlaps(seen, id, a, b),
            Test::OverlapNetworks(a, b) => {
                if !matches!((a, b), (List::Values(_), List::Values(_))) {
                    self.leave(seen.condition, id, Open::Networks);
                }
                self.networks_overlap(seen, a, b)
            }
            Test::HoldsRole(role) => self.holds(*role, seen.at),
            Test::Member(group) => {
                let there = self.thing(self.subject).there;
                let bit = match self.members.get(&(*group, seen.at)) {
                    Some(known) => *known,
                    None => {
                        let bit = self.formula.free();
                        self.members.insert((*group, seen.at), bit);
                        bit
                    }
                };
                self.where_read(there, bit)
            }
            Test::Among(path) => self.among_path(seen, *path),
            Test::Known(path) => self.known(seen, *path),
            Test::Starts(a, b) => self.pattern(seen, id, (*a, *b), ("", "*")),
            Test::Ends(a, b) => self.pattern(seen, id, (*a, *b), ("*", "")),
            Test::Contains(a, b) => self.pattern(seen, id, (*a, *b), ("*", "*")),
            Test::Fits(text, pattern) => match self.operand(seen, *text) {
                Read { there, value: Value::Text(text), .. } => {
                    let fits = self.theory.fits(&mut self.formula, text, pattern);
                    self.where_read(there, fits)
                }
                _ => self.unclear(),
            },
        }
    }

    fn equal(&mut self, a: Read, b: Read) -> Tri {
        let mut read = self.formula.and(a.there, b.there);
        if let (Value::Thing(x), Value::Thing(y)) = (a.value, b.value) {
            // Without an id nobody can tell whether a new resource is what the charter names, unless
            // that is registered: then it is not.
            for (own, other) in [(x, y), (y, x)] {
                if own == self.resource && self.thing(other).named.is_some() {
                    let registered = self.is_named_registered(other);
                    let can_be_told = self.formula.or(self.has_id, registered);
                    read = self.formula.and(read, can_be_told);
                }
            }
        }
        let same = self.same(a.value, b.value);
        self.where_read(read, same)
    }

    fn order(&mut self, seen: Seen<'_>, order: Order, a: OperandId, b: OperandId) -> Tri {
        let (a, b) = (self.operand(seen, a), self.operand(seen, b));
        let (Value::Number(x), Value::Number(y)) = (a.value, b.value) else { return self.unclear() };
        let read = self.formula.and(a.there, b.there);
        let value = match order {
            Order::Less => self.theory.order(&mut self.formula, x, y, true),
            Order::AtMost => self.theory.order(&mut self.formula, x, y, false),
            Order::Greater => self.theory.order(&mut self.formula, y, x, true),
            Order::AtLeast => self.theory.order(&mut self.formula, y, x, false),
        };
        self.where_read(read, value)
    }

    /// Whether the second is at the start, at the end or somewhere in the first.
    fn pattern(
        &mut self,
        seen: Seen<'_>,
        test: TestId,
        (a, b): (OperandId, OperandId),
        (before, after): (&str, &str),
    ) -> Tri {
        let (a, b) = (self.operand(seen, a), self.operand(seen, b));
        let (Value::Text(text), Value::Text(part)) = (a.value, b.value) else { return self.unclear() };
        let read = self.formula.and(a.there, b.there);
        let known = self.theory.known_text(part).filter(|part| !part.contains(['*', '?'])).map(str::to_owned);
        let value = match known {
            Some(part) => self.theory.fits(&mut self.formula, text, &format!("{before}{part}{after}")),
            None => {
                self.leave(seen.condition, test, Open::Text);
                self.formula.free()
            }
        };
        self.where_read(read, value)
    }

    // -- values

    pub fn operand(&mut self, seen: Seen<'_>, id: OperandId) -> Read {
        let (yes, no) = (self.formula.yes(), self.formula.no());
        let plain = |value| Read { there: yes, ill: no, value };
        let condition = seen.condition;
        if let Operand::Clock(..) | Operand::Hour(..) | Operand::Weekday(..) = &condition.operands[id.index()]
        {
            let text = print::operand(self.policy.model(), condition, id);
            self.open.insert(Open::Clock(text));
        }
        match &condition.operands[id.index()] {
            Operand::Value(value) => plain(self.literal(value)),
            Operand::Now => plain(Value::Number(self.now)),
            Operand::Entity(name) => plain(Value::Thing(self.named(name))),
            Operand::Path(path) => self.path(seen, &seen.condition.paths[path.index()]),
            Operand::Test(test) => {
                let value = self.test(seen, *test);
                let read = self.formula.or(value.sure, !value.may);
                Read { there: read, ill: no, value: Value::Boolean(value.sure) }
            }
            Operand::Plus(a, b) => self.sum(seen, *a, *b, false),
            Operand::Minus(a, b) => self.sum(seen, *a, *b, true),
            Operand::Lower(text) => {
                let read = self.operand(seen, *text);
                let lower = match read.value {
                    Value::Text(text) => self.theory.lower(&mut self.formula, text),
                    _ => self.theory.text(None),
                };
                Read { value: Value::Text(lower), ..read }
            }
            Operand::Clock(time, zone) => {
                self.of_time(seen, *time, &format!("clock {zone:?}"), 86_400_000_000_000, 1)
            }
            Operand::Hour(time, zone) => {
                self.of_time(seen, *time, &format!("hour {zone:?}"), 24 * UNIT, UNIT)
            }
            Operand::Weekday(time, zone) => {
                self.reads_clocks = true;
                let read = self.operand(seen, *time);
                let key = format!("weekday {zone:?} of {:?}", read.value);
                let days = ["monday", "tuesday", "wednesday", "thursday", "friday", "saturday", "sunday"];
                let day = match self.opaque_texts.get(&key) {
                    Some(known) => *known,
                    None => {
                        let day = self.theory.text(Some(days.map(str::to_owned).to_vec()));
                        self.opaque_texts.insert(key, day);
                        day
                    }
                };
                Read { value: Value::Text(day), ..read }
            }
            Operand::Count(list) => self.count(seen, list),
        }
    }

    /// What a clock says of a moment: a number from 0 to below `end`, the same for the same moment.
    fn of_time(&mut self, seen: Seen<'_>, time: OperandId, what: &str, end: i128, step: i128) -> Read {
        self.reads_clocks = true;
        let read = self.operand(seen, time);
        let Value::Number(moment) = read.value else { return read };
        let key = format!("{what} of {moment:?}");
        let value = match self.opaque.get(&key) {
            Some(known) => *known,
            None => {
                let number = self.theory.number(step);
                let least = self.theory.order(&mut self.formula, Theory::constant(0, step), number, false);
                let most = self.theory.order(&mut self.formula, number, Theory::constant(end, step), true);
                self.formula.clause(&[least]);
                self.formula.clause(&[most]);
                self.opaque.insert(key, number);
                number
            }
        };
        Read { value: Value::Number(value), ..read }
    }

    fn sum(&mut self, seen: Seen<'_>, a: OperandId, b: OperandId, minus: bool) -> Read {
        let (left, right) = (self.operand(seen, a), self.operand(seen, b));
        let there = self.formula.and(left.there, right.there);
        let (Value::Number(x), Value::Number(y)) = (left.value, right.value) else {
            return Read { there, ill: self.formula.no(), value: Value::Boolean(there) };
        };
        let key = format!("{x:?} {} {y:?}", if minus { "-" } else { "+" });
        let value = match self.theory.sum(x, y, minus) {
            Some(value) => value,
            // Constants too large to be added here: it may be any.
            None => {
                let theory = &mut self.theory;
                *self.opaque.entry(key.clone()).or_insert_with(|| theory.number(x.step.min(y.step)))
            }
        };
        let of_integers = self.is_integer(seen, a) && self.is_integer(seen, b);
        let fits = self.fits(key, value, of_integers);
        Read { there: self.formula.and(there, fits), ill: self.formula.no(), value: Value::Number(value) }
    }

    /// Whether an operand is an integer, not only a whole number: a decimal ends elsewhere.
    fn is_integer(&self, seen: Seen<'_>, id: OperandId) -> bool {
        use crate::value::{Value as Known, ValueType};
        let model = self.policy.model();
        match &seen.condition.operands[id.index()] {
            Operand::Value(value) => matches!(value, Known::Integer(_)),
            Operand::Hour(..) | Operand::Count(_) => true,
            Operand::Plus(a, b) | Operand::Minus(a, b) => {
                self.is_integer(seen, *a) && self.is_integer(seen, *b)
            }
            Operand::Path(path) => {
                let path = &seen.condition.paths[path.index()];
                match (path.root, path.steps.last()) {
                    (Root::Context(index), _) => model.context[index].kind == ValueType::Integer,
                    (_, Some(Step::Attribute(name))) => model.kinds.iter().all(|kind| {
                        kind.attribute(*name).is_none_or(|declared| declared.kind == ValueType::Integer)
                    }),
                    _ => false,
                }
            }
            _ => false,
        }
    }

    /// Whether a sum is in range; where it is not, it is not there. Of integers that is known, and
    /// `followed`.
    fn fits(&mut self, key: String, sum: Number, followed: bool) -> Bit {
        let key = format!("{key} {followed}");
        if let Some(known) = self.in_range.get(&key) {
            return *known;
        }
        let fits = self.formula.free();
        if followed {
            let inside = self.is_in_range(sum);
            let yes = self.formula.yes();
            self.formula.same_if(yes, fits, inside);
        }
        self.unlikely.push(!fits);
        self.in_range.insert(key, fits);
        fits
    }

    /// Whether a number is one that an integer can be.
    fn is_in_range(&mut self, number: Number) -> Bit {
        let limit = |limit: i64| Theory::constant(i128::from(limit) * UNIT, UNIT);
        let least = self.theory.order(&mut self.formula, limit(i64::MIN), number, false);
        let most = self.theory.order(&mut self.formula, number, limit(i64::MAX), false);
        self.formula.and(least, most)
    }

    fn count(&mut self, seen: Seen<'_>, list: &List) -> Read {
        let no = self.formula.no();
        let List::Path(path) = list else {
            let number = self.theory.number(UNIT);
            return Read { there: self.formula.yes(), ill: no, value: Value::Number(number) };
        };
        let Some(list) = self.list_of(seen, &seen.condition.paths[path.index()]) else {
            let number = self.theory.number(UNIT);
            let there = self.formula.free();
            return Read { there, ill: no, value: Value::Number(number) };
        };
        let number = match self.lists[list].1.count {
            Some(known) => known,
            None => {
                let number = self.theory.number(UNIT);
                let least = self.theory.order(&mut self.formula, Theory::constant(0, UNIT), number, false);
                self.formula.clause(&[least]);
                self.lists[list].1.count = Some(number);
                let members = self.lists[list].1.members.clone();
                for at in 0..members.len() {
                    self.count_member(list, &members[..=at]);
                }
                let some: Vec<Bit> = self.among.get(&list).copied().into_iter().collect();
                let shared = self.overlaps.iter().filter(|(a, b, _)| *a == list || *b == list);
                for bit in some.into_iter().chain(shared.map(|(.., bit)| *bit)).collect::<Vec<Bit>>() {
                    self.count_some(list, bit);
                }
                number
            }
        };
        Read { there: self.lists[list].1.whole, ill: no, value: Value::Number(number) }
    }

    // -- paths

    fn root(&self, seen: Seen<'_>, root: Root) -> Option<ThingId> {
        match root {
            Root::Subject => Some(self.subject),
            Root::Resource => Some(seen.at),
            _ => None,
        }
    }

    fn path(&mut self, seen: Seen<'_>, path: &Path) -> Read {
        match path.root {
            Root::Context(index) => self.context(index),
            Root::Subject | Root::Resource => {
                let root = if path.root == Root::Subject { self.subject } else { seen.at };
                self.steps(root, &path.steps)
            }
            // Values of grants are lists; one alone is not read by any condition.
            Root::Grant(..) => {
                let there = self.formula.free();
                Read { there, ill: !there, value: Value::Boolean(there) }
            }
        }
    }

    pub fn steps(&mut self, root: ThingId, steps: &[Step]) -> Read {
        let no = self.formula.no();
        let mut at = root;
        let mut ill = no;
        for (n, step) in steps.iter().enumerate() {
            let next = match step {
                Step::Within => Some(self.child(at, Edge::Within)),
                Step::Tenant => Some(self.child(at, Edge::Tenant)),
                Step::Relation(name) => Some(self.child(at, Edge::Relation(*name))),
                _ => None,
            };
            if let Some(next) = next {
                at = next;
                let of = self.thing(at).ill;
                ill = self.formula.or(ill, of);
                continue;
            }
            let value = match step {
                Step::Id => self.id_of(at),
                Step::Type => self.type_of(at),
                Step::Detached => {
                    let detached = self.is_detached(at);
                    let registered = self.is_registered(at);
                    Read { there: registered, ill: no, value: Value::Boolean(detached) }
                }
                Step::Attribute(name) => self.attribute(at, *name),
                Step::Within | Step::Tenant | Step::Relation(_) => continue,
            };
            // Steps go on from things only.
            let last = n + 1 == steps.len();
            let ill = self.formula.or(ill, if last { value.ill } else { value.there });
            return Read { there: if last { value.there } else { no }, ill, value: value.value };
        }
        Read { there: self.thing(at).there, ill, value: Value::Thing(at) }
    }

    fn type_of(&mut self, thing: ThingId) -> Read {
        let there = self.thing(thing).there;
        let kinds = self.thing(thing).kinds.clone();
        let model = self.policy.model();
        let keys: Vec<String> = kinds.iter().map(|(kind, _)| model.kinds[kind.index()].key.clone()).collect();
        let text = match &keys[..] {
            [only] => self.theory.literal(only),
            _ => {
                let text = self.theory.text(Some(keys.clone()));
                for ((_, is), key) in kinds.iter().zip(&keys) {
                    let literal = self.theory.literal(key);
                    let same = self.theory.same_text(&mut self.formula, text, literal);
                    self.formula.implies(*is, same);
                }
                text
            }
        };
        Read { there, ill: self.formula.no(), value: Value::Text(text) }
    }

    // -- lists

    /// The list a path gives, unless it gives one thing.
    fn list_of(&mut self, seen: Seen<'_>, path: &Path) -> Option<usize> {
        if !path.many {
            return None;
        }
        match path.root {
            Root::Context(index) => Some(self.list(ListKey::Context(index))),
            Root::Grant(name, _) => Some(match seen.grant {
                Some(role) => self.list(ListKey::Grant(role, name)),
                None => {
                    // No grant is at hand: nothing can be read.
                    let list = self.list(ListKey::Path(ThingId(u32::MAX), Box::new([])));
                    let whole = self.lists[list].1.whole;
                    self.formula.clause(&[!whole]);
                    list
                }
            }),
            Root::Subject | Root::Resource => {
                let root = self.root(seen, path.root)?;
                let (before, rest) = self.split(root, &path.steps);
                if rest.is_empty() {
                    return None;
                }
                let read = self.steps(root, before);
                let Value::Thing(thing) = read.value else { return None };
                let list = self.path_list(thing, rest);
                let whole = self.lists[list].1.whole;
                self.formula.implies(whole, read.there);
                self.unlikely.push(!whole);
                Some(list)
            }
        }
    }

    fn is_in(&mut self, seen: Seen<'_>, needle: Read, list: &List) -> Tri {
        match list {
            List::Values(values) => {
                let mut found = Tri::plain(self.formula.no());
                for value in values {
                    let value = self.literal(value);
                    let same = self.same(needle.value, value);
                    found = self.formula.or3(found, Tri::plain(same));
                }
                self.where_read(needle.there, found.sure)
            }
            List::Entities(names) => {
                let mut found = Tri::plain(self.formula.no());
                for name in names {
                    let named = self.named(name);
                    let read = Read {
                        there: self.formula.yes(),
                        ill: self.formula.no(),
                        value: Value::Thing(named),
                    };
                    let equal = self.equal(Read { there: self.formula.yes(), ..needle }, read);
                    found = self.formula.or3(found, equal);
                }
                Tri {
                    sure: self.formula.and(needle.there, found.sure),
                    may: self.formula.or(!needle.there, found.may),
                }
            }
            List::Path(path) => {
                let path = &seen.condition.paths[path.index()];
                match self.list_of(seen, path) {
                    Some(list) => {
                        let member = self.member_read(list, needle.value);
                        let whole = self.lists[list].1.whole;
                        let sure = self.formula.and(needle.there, member);
                        let open = self.formula.or(!needle.there, !whole);
                        Tri { sure, may: self.formula.or(open, member) }
                    }
                    None => {
                        let read = self.path(seen, path);
                        self.equal(needle, read)
                    }
                }
            }
        }
    }

    /// As [`Encoding::member`]; what the register does not know stands in no list of things.
    fn member_read(&mut self, list: usize, value: Value) -> Bit {
        let member = self.member(list, value);
        if let Value::Thing(thing) = value {
            let registered = self.is_registered(thing);
            self.formula.implies(member, registered);
        }
        if let ListKey::Path(thing, _) = self.lists[list].0.clone()
            && thing.0 != u32::MAX
        {
            let there = self.thing(thing).there;
            self.formula.implies(member, there);
        } else if matches!(self.lists[list].0, ListKey::Path(..)) {
            self.formula.clause(&[!member]);
        }
        member
    }

    fn in_networks(&mut self, seen: Seen<'_>, needle: OperandId, list: &List) -> Tri {
        let needle = self.operand(seen, needle);
        let Value::Address(address) = needle.value else { return self.unclear() };
        match list {
            List::Values(values) => {
                let mut found = self.formula.no();
                for value in values {
                    let Value::Address(network) = self.literal(value) else { continue };
                    let is = self.theory.in_network(&mut self.formula, address, network);
                    found = self.formula.or(found, is);
                }
                self.where_read(needle.there, found)
            }
            // Networks that are not known: any address may lie in them.
            _ => self.formula.free_tri(),
        }
    }

    /// What lies in what is followed where both sides are written out; of others any may.
    fn networks_overlap(&mut self, seen: Seen<'_>, a: &List, b: &List) -> Tri {
        if let (List::Values(a), List::Values(b)) = (a, b) {
            let mut pairs = a.iter().flat_map(|a| b.iter().map(move |b| (a, b)));
            return Tri::plain(self.formula.constant(
                pairs.any(|(a, b)| crate::decide::networks_overlap(a, b) == crate::value::Truth::True),
            ));
        }
        let found = self.formula.free_tri();
        // A list that cannot be read is neither.
        for list in [a, b] {
            if let List::Path(path) = list
                && let Some(list) = self.list_of(seen, &seen.condition.paths[path.index()])
            {
                let whole = self.lists[list].1.whole;
                self.formula.clause(&[whole, found.may]);
            }
        }
        found
    }

    /// What may be anything.
    fn left_free(&mut self, seen: Seen<'_>, test: TestId) -> Tri {
        self.leave(seen.condition, test, Open::Other);
        self.formula.free_tri()
    }

    fn overlaps(&mut self, seen: Seen<'_>, test: TestId, a: &List, b: &List) -> Tri {
        match (a, b) {
            (List::Path(a), List::Path(b)) => {
                let (x, y) = (&seen.condition.paths[a.index()], &seen.condition.paths[b.index()]);
                let (Some(x), Some(y)) = (self.list_of(seen, x), self.list_of(seen, y)) else {
                    return self.left_free(seen, test);
                };
                let known = self.overlaps.iter().find(|(p, q, _)| (*p, *q) == (x, y) || (*p, *q) == (y, x));
                let bit = match known {
                    Some((.., bit)) => *bit,
                    None => {
                        let bit = self.formula.free();
                        self.overlaps.push((x, y, bit));
                        self.count_some(x, bit);
                        self.count_some(y, bit);
                        bit
                    }
                };
                if x == y {
                    return self.left_free(seen, test);
                }
                let values: Vec<Value> = self.lists[x]
                    .1
                    .members
                    .iter()
                    .chain(&self.lists[y].1.members)
                    .map(|(value, _)| *value)
                    .collect();
                for value in values {
                    let (in_x, in_y) = (self.member_read(x, value), self.member_read(y, value));
                    self.formula.clause(&[!in_x, !in_y, bit]);
                }
                let whole = self.formula.and(self.lists[x].1.whole, self.lists[y].1.whole);
                Tri { sure: bit, may: self.formula.or(!whole, bit) }
            }
            (List::Path(path), literals) | (literals, List::Path(path)) => {
                let path = &seen.condition.paths[path.index()];
                let Some(list) = self.list_of(seen, path) else { return self.left_free(seen, test) };
                let values: Vec<Value> = match literals {
                    List::Values(values) => values.iter().map(|value| self.literal(value)).collect(),
                    List::Entities(names) => {
                        names.iter().map(|name| Value::Thing(self.named(name))).collect()
                    }
                    List::Path(_) => Vec::new(),
                };
                let mut found = self.formula.no();
                for value in values {
                    let member = match value {
                        // Whether what the charter names is registered is left open.
                        Value::Thing(_) => self.member(list, value),
                        _ => self.member_read(list, value),
                    };
                    found = self.formula.or(found, member);
                }
                let whole = self.lists[list].1.whole;
                Tri { sure: found, may: self.formula.or(!whole, found) }
            }
            _ => self.left_free(seen, test),
        }
    }

    // -- subjects

    /// Whether the subject is the thing, or in it if it is a group.
    pub fn is_or_in(&mut self, thing: ThingId) -> Bit {
        let itself = self.are_same(self.subject, thing);
        let group = self.is_kind(thing, KindId::GROUP);
        let inside = match self.in_group.get(&thing) {
            Some(known) => *known,
            None => {
                let bit = self.formula.free();
                let there = self.thing(self.subject).there;
                self.formula.implies(bit, there);
                self.in_group.insert(thing, bit);
                bit
            }
        };
        let through = self.formula.and(group, inside);
        self.formula.or(itself, through)
    }

    /// Whether the subject is among a list, itself or through a group in it.
    pub fn among_list(&mut self, list: usize, kinds: &[KindId]) -> Bit {
        let itself = self.member_read(list, Value::Thing(self.subject));
        if !kinds.contains(&KindId::GROUP) {
            return itself;
        }
        let bit = match self.among.get(&list) {
            Some(known) => *known,
            None => {
                let bit = self.formula.free();
                let there = self.thing(self.subject).there;
                self.formula.implies(bit, there);
                self.among.insert(list, bit);
                self.count_some(list, bit);
                bit
            }
        };
        self.formula.implies(itself, bit);
        bit
    }

    fn among_path(&mut self, seen: Seen<'_>, path: PathId) -> Tri {
        let path = &seen.condition.paths[path.index()];
        let somebody = self.thing(self.subject).there;
        if let Some(list) = self.list_of(seen, path) {
            let kinds =
                self.root(seen, path.root).map_or_else(Vec::new, |root| self.kinds_after(root, &path.steps));
            let among = self.among_list(list, &kinds);
            let whole = self.lists[list].1.whole;
            let sure = self.formula.and(somebody, among);
            let open = self.formula.or(!somebody, !whole);
            return Tri { sure, may: self.formula.or(open, among) };
        }
        let read = self.path(seen, path);
        let Value::Thing(thing) = read.value else { return self.unclear() };
        let among = self.is_or_in(thing);
        let whole = self.formula.and(somebody, read.there);
        self.where_read(whole, among)
    }

    fn known(&mut self, seen: Seen<'_>, path: PathId) -> Tri {
        let path = &seen.condition.paths[path.index()];
        if let Some(list) = self.list_of(seen, path) {
            let (whole, ill) = (self.lists[list].1.whole, self.lists[list].1.ill);
            return Tri { sure: whole, may: self.formula.or(whole, ill) };
        }
        let read = self.path(seen, path);
        Tri { sure: read.there, may: self.formula.or(read.there, read.ill) }
    }
}
