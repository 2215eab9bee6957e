//! What has a value, and the members of lists.

use super::*;

impl<'e> Walk<'e> {
    pub(super) fn operand(&self, bound: Bound<'e>, id: OperandId) -> Result<Read<'e>, Lack> {
        let value = match &bound.condition.operands[id.index()] {
            Operand::Value(value) => borrow(value),
            Operand::Now => Value::Time(self.question.now),
            Operand::Entity(name) => return Ok(Read::Thing(self.named(name), DIRECTLY)),
            Operand::Path(path) => return self.one(bound, &bound.condition.paths[path.index()]),
            Operand::Test(test) => match self.test(bound, *test) {
                Truth::True => Value::Boolean(true),
                Truth::False => Value::Boolean(false),
                Truth::Undetermined => return Err(Lack::Missing),
            },
            Operand::Plus(a, b) => plus(&self.value(bound, *a)?, &self.value(bound, *b)?)?,
            Operand::Minus(a, b) => minus(&self.value(bound, *a)?, &self.value(bound, *b)?)?,
            Operand::Lower(text) => match self.value(bound, *text)? {
                Value::Text(text) if text.chars().any(char::is_uppercase) => {
                    Value::Text(Cow::Owned(text.to_lowercase()))
                }
                text => text,
            },
            Operand::Clock(time, zone) => {
                let at = zone.to_datetime(self.time(bound, *time)?);
                let seconds =
                    i64::from(at.hour()) * 3_600 + i64::from(at.minute()) * 60 + i64::from(at.second());
                Value::Duration(SignedDuration::new(seconds, at.subsec_nanosecond()))
            }
            Operand::Hour(time, zone) => {
                Value::Integer(i64::from(zone.to_datetime(self.time(bound, *time)?).hour()))
            }
            Operand::Weekday(time, zone) => {
                Value::Text(Cow::Borrowed(weekday(zone.to_datetime(self.time(bound, *time)?).weekday())))
            }
            Operand::Count(list) => {
                let mut count = 0;
                match self.each(bound, list, &mut |_| {
                    count += 1;
                    true
                }) {
                    Whole::Yes => Value::Integer(count),
                    Whole::No(lack) => return Err(lack),
                }
            }
        };
        Ok(Read::Value(value))
    }

    pub(in crate::decide) fn value(&self, bound: Bound<'e>, id: OperandId) -> Result<Value<'e>, Lack> {
        match self.operand(bound, id)? {
            Read::Value(value) => Ok(value),
            Read::Thing(..) => Err(Lack::IllTyped),
        }
    }

    pub(super) fn time(&self, bound: Bound<'e>, id: OperandId) -> Result<Timestamp, Lack> {
        match self.value(bound, id)? {
            Value::Time(time) => Ok(time),
            _ => Err(Lack::IllTyped),
        }
    }

    pub(super) fn named(&self, name: &'e str) -> Thing<'e> {
        self.engine.register.registered(name).map_or(Thing::Named(name), Thing::Registered)
    }
    /// Visits the members of a list until told to stop; a member that cannot be read makes the
    /// list incomplete.
    pub(super) fn each(
        &self,
        bound: Bound<'e>,
        list: &'e List,
        visit: &mut dyn FnMut(Read<'e>) -> bool,
    ) -> Whole {
        match list {
            List::Values(values) => {
                let _ = values.iter().all(|value| visit(Read::Value(borrow(value))));
                Whole::Yes
            }
            List::Entities(names) => {
                let _ = names.iter().all(|name| visit(Read::Thing(self.named(name), DIRECTLY)));
                Whole::Yes
            }
            List::Path(path) => self.each_of(bound, &bound.condition.paths[path.index()], visit),
        }
    }

    pub(super) fn each_of(
        &self,
        bound: Bound<'e>,
        path: &'e Path,
        visit: &mut dyn FnMut(Read<'e>) -> bool,
    ) -> Whole {
        let mut lack = None;
        let whole = self.each_or_lack(bound, path, &mut |item| match item {
            Ok(item) => visit(item),
            Err(why) => {
                lack = Some(why);
                true
            }
        });
        match (whole, lack) {
            (Whole::Yes, Some(lack)) => Whole::No(lack),
            (whole, _) => whole,
        }
    }

    /// Visits what a path gives: one thing, or the members of its list, present or not.
    pub(super) fn each_or_lack(
        &self,
        bound: Bound<'e>,
        path: &'e Path,
        visit: &mut dyn FnMut(Result<Read<'e>, Lack>) -> bool,
    ) -> Whole {
        if !path.many {
            visit(self.one(bound, path));
            return Whole::Yes;
        }
        match path.root {
            Root::Context(index) => {
                let declared = &self.engine.policy.model().context[index];
                match self.question.context[index].as_ref().or(declared.default.as_ref()) {
                    None => Whole::No(Lack::Missing),
                    Some(stated) => match scalars(stated, declared) {
                        Ok(scalars) => visit_scalars(scalars, declared, visit),
                        Err(lack) => Whole::No(lack),
                    },
                }
            }
            Root::Grant(name, kind) => self.each_granted(bound, name, kind, visit),
            Root::Subject | Root::Resource => match self.root(path.root) {
                Ok(read) => self.each_along(read, &path.steps, visit),
                Err(lack) => Whole::No(lack),
            },
        }
    }

    pub(super) fn each_granted(
        &self,
        bound: Bound<'e>,
        name: NameId,
        kind: ValueType,
        visit: &mut dyn FnMut(Result<Read<'e>, Lack>) -> bool,
    ) -> Whole {
        let sym = self.engine.link.names[name.index()];
        let values = bound.grant.and_then(|terms| terms.values.iter().find(|(known, _)| Some(*known) == sym));
        let Some((_, values)) = values else { return Whole::No(Lack::Missing) };
        for value in values.iter().take(MAX_MEMBERS) {
            if !visit(value.read(kind).map(Read::Value).ok_or(Lack::IllTyped)) {
                return Whole::Yes;
            }
        }
        if values.len() > MAX_MEMBERS { Whole::No(Lack::Incomplete) } else { Whole::Yes }
    }

    /// Visits what steps lead to, of which one leads to many.
    pub(in crate::decide) fn each_along(
        &self,
        mut read: Read<'e>,
        steps: &[Step],
        visit: &mut dyn FnMut(Result<Read<'e>, Lack>) -> bool,
    ) -> Whole {
        for (at, step) in steps.iter().enumerate() {
            let Read::Thing(thing, _) = read else { return Whole::No(Lack::IllTyped) };
            if !self.is_many(thing, *step) {
                read = match self.step(thing, *step) {
                    Ok(read) => read,
                    Err(lack) => return Whole::No(lack),
                };
                continue;
            }
            let rest = &steps[at + 1..];
            return match self.source(thing, *step) {
                Err(lack) => Whole::No(lack),
                Ok(Source::Scalars(scalars, declared)) => visit_scalars(scalars, declared, visit),
                Ok(Source::Things(things, relation)) => {
                    for target in things.iter().take(MAX_MEMBERS) {
                        let reached = self.follow(thing, *target, relation);
                        if !visit(reached.and_then(|read| self.steps(read, rest))) {
                            return Whole::Yes;
                        }
                    }
                    if things.len() > MAX_MEMBERS { Whole::No(Lack::Incomplete) } else { Whole::Yes }
                }
            };
        }
        // Of some types it leads to one only: that is all of it.
        visit(Ok(read));
        Whole::Yes
    }
}
