//! Tests that read a column of a row, for the row filter: what they test is told apart from what
//! is known, and what cannot be told apart is refused.

use super::*;
use crate::decide::rows::{Atom, Column, ColumnTest, Sheet, steps_count};

/// That a test cannot be said on columns; why has been noted.
struct Refused;

impl<'e> Walk<'e> {
    /// The value of a test if it reads a column; none if it reads none.
    pub(super) fn row_test(&self, sheet: &Sheet, bound: Bound<'e>, test: &'e Test) -> Option<Truth> {
        if self.at != 0 {
            return None;
        }
        self.row_test_here(sheet, bound, test).unwrap_or(Some(Truth::Undetermined))
    }

    fn row_test_here(
        &self,
        sheet: &Sheet,
        bound: Bound<'e>,
        test: &'e Test,
    ) -> Result<Option<Truth>, Refused> {
        Ok(match test {
            Test::Constant(_)
            | Test::Not(_)
            | Test::All(_)
            | Test::Any(_)
            | Test::HoldsRole(_)
            | Test::Member(_) => None,
            Test::Holds(operand) => self
                .operand_column(sheet, bound, *operand)?
                .map(|column| self.ask(sheet, column, ColumnTest::Equal(Value::Boolean(true)))),
            Test::Equal(a, b) => self.row_equal(sheet, bound, *a, *b)?,
            Test::Order(order, a, b) => self.row_order(sheet, bound, *order, *a, *b)?,
            Test::In(needle, list) => self.row_in(sheet, bound, *needle, list)?,
            Test::InNetwork(needle, list) => {
                let column = self.operand_column(sheet, bound, *needle)?;
                if self.list_column(sheet, bound, list)?.is_some() {
                    return Err(self.refuse(sheet, "an address is looked for in a column of networks"));
                }
                match column {
                    None => None,
                    Some(column) => {
                        let (values, whole) = self.known_list(bound, list);
                        Some(self.ask(sheet, column, ColumnTest::InNetwork(values)).or(whole))
                    }
                }
            }
            Test::Overlaps(a, b) | Test::OverlapNetworks(a, b) => {
                match (self.list_column(sheet, bound, a)?, self.list_column(sheet, bound, b)?) {
                    (None, None) => None,
                    (Some(column), None) => Some(self.row_overlaps(sheet, bound, column, b)),
                    (None, Some(column)) => Some(self.row_overlaps(sheet, bound, column, a)),
                    (Some(_), Some(_)) => {
                        return Err(self.refuse(sheet, "two columns that are lists overlap"));
                    }
                }
            }
            Test::Among(path) => {
                let path = &bound.condition.paths[path.index()];
                match (self.column(sheet, path)?, self.subject) {
                    (None, _) => None,
                    (Some(_), None) => Some(Truth::Undetermined),
                    (Some(column), Some(subject)) => {
                        Some(self.ask_thing(sheet, column, Thing::Registered(subject)))
                    }
                }
            }
            Test::Known(path) => {
                let path = &bound.condition.paths[path.index()];
                self.column(sheet, path)?.map(|column| match column {
                    Column::Id => Truth::True,
                    Column::Relation(_) if !self.relation_counts(column) => Truth::False,
                    column => self.ask(sheet, column, ColumnTest::Known),
                })
            }
            Test::Starts(a, b) => self.row_texts(sheet, bound, *a, *b, ColumnTest::Starts)?,
            Test::Ends(a, b) => self.row_texts(sheet, bound, *a, *b, ColumnTest::Ends)?,
            Test::Contains(a, b) => self.row_texts(sheet, bound, *a, *b, ColumnTest::Contains)?,
            Test::Fits(text, pattern) => self
                .operand_column(sheet, bound, *text)?
                .map(|column| self.ask(sheet, column, ColumnTest::Fits(pattern.to_string()))),
        })
    }

    /// Whether the subject stands at the end of a conferral's path that is a column.
    pub(in crate::decide) fn row_confer(&self, confer: &Confer) -> Option<Truth> {
        let sheet = self.sheet.filter(|_| self.at == 0)?;
        match (&*confer.path.steps, self.subject) {
            ([Step::Relation(name)], Some(subject)) if sheet.is_relation(*name) => {
                Some(self.ask_thing(sheet, Column::Relation(*name), Thing::Registered(subject)))
            }
            ([Step::Relation(name), ..], _) if sheet.is_relation(*name) => {
                Some(sheet.refuse(format!("what {} confers goes on from a column", confer.path_text)))
            }
            _ => None,
        }
    }

    fn refuse(&self, sheet: &Sheet, why: &str) -> Refused {
        sheet.refuse(format!("{why}, which cannot be said as a condition on columns"));
        Refused
    }

    fn ask(&self, sheet: &Sheet, column: Column, test: ColumnTest) -> Truth {
        if matches!(column, Column::Relation(_)) && !self.relation_counts(column) {
            return Truth::Undetermined;
        }
        sheet.ask(Atom { column, test })
    }

    /// Whether steps along a relation column count at all: the seal lets a step to a user or
    /// service pass unless the tenant it starts from is unknown.
    fn relation_counts(&self, column: Column) -> bool {
        let Column::Relation(name) = column else { return true };
        let kind = &self.engine.policy.model().kinds[self.own_kind().index()];
        kind.relation(name).is_some_and(|relation| relation.across_tenants) || steps_count(self.site)
    }

    /// Whether a relation column names a thing.
    fn ask_thing(&self, sheet: &Sheet, column: Column, thing: Thing<'e>) -> Truth {
        let Column::Relation(name) = column else { return Truth::Undetermined };
        let model = self.engine.policy.model();
        let Some(relation) = model.kinds[self.own_kind().index()].relation(name) else {
            return Truth::Undetermined;
        };
        let full = match thing {
            Thing::Registered(id) => self.engine.register.name(id),
            Thing::Named(name) => name,
            Thing::Own => return Truth::Undetermined,
        };
        let (kind, id) = full.split_once(':').unwrap_or_default();
        let fits = relation.to.iter().any(|to| model.kinds[to.index()].key == kind);
        if !fits {
            // It names something else, if it names anything.
            return match self.ask(sheet, column, ColumnTest::Known) {
                Truth::True => Truth::False,
                _ => Truth::Undetermined,
            };
        }
        let text = if relation.to.len() == 1 { id } else { full };
        self.ask(sheet, column, ColumnTest::Equal(Value::Text(text.to_owned().into())))
    }

    /// The column a path reads, if it reads one.
    fn column(&self, sheet: &Sheet, path: &Path) -> Result<Option<Column>, Refused> {
        if path.root != Root::Resource {
            return Ok(None);
        }
        Ok(match path.steps.first() {
            Some(Step::Attribute(name)) if sheet.is_attribute(*name) => Some(Column::Attribute(*name)),
            Some(Step::Id) if sheet.is_id() => Some(Column::Id),
            Some(Step::Relation(name)) if sheet.is_relation(*name) => {
                if path.steps.len() > 1 {
                    return Err(self.refuse(sheet, "a path goes on from a relation that is a column"));
                }
                Some(Column::Relation(*name))
            }
            _ => None,
        })
    }

    fn operand_column(
        &self,
        sheet: &Sheet,
        bound: Bound<'e>,
        operand: OperandId,
    ) -> Result<Option<Column>, Refused> {
        let inner = |operand: OperandId| -> Result<Option<Column>, Refused> {
            match self.operand_column(sheet, bound, operand)? {
                None => Ok(None),
                Some(_) => Err(self.refuse(sheet, "something is computed from a column")),
            }
        };
        match &bound.condition.operands[operand.index()] {
            Operand::Path(path) => self.column(sheet, &bound.condition.paths[path.index()]),
            Operand::Value(_) | Operand::Entity(_) | Operand::Now => Ok(None),
            Operand::Plus(a, b) | Operand::Minus(a, b) => inner(*a).and(inner(*b)),
            Operand::Lower(a) | Operand::Clock(a, _) | Operand::Hour(a, _) | Operand::Weekday(a, _) => {
                inner(*a)
            }
            Operand::Test(test) => {
                let test = &bound.condition.tests[test.index()];
                match self.row_test_here(sheet, bound, test)? {
                    None => Ok(None),
                    Some(_) => Err(self.refuse(sheet, "a test of a column is compared")),
                }
            }
            Operand::Count(list) => match self.list_column(sheet, bound, list)? {
                None => Ok(None),
                Some(_) => Err(self.refuse(sheet, "the members of a column are counted")),
            },
        }
    }

    fn list_column(
        &self,
        sheet: &Sheet,
        bound: Bound<'e>,
        list: &'e List,
    ) -> Result<Option<Column>, Refused> {
        match list {
            List::Path(path) => self.column(sheet, &bound.condition.paths[path.index()]),
            List::Values(_) | List::Entities(_) => Ok(None),
        }
    }

    fn row_equal(
        &self,
        sheet: &Sheet,
        bound: Bound<'e>,
        a: OperandId,
        b: OperandId,
    ) -> Result<Option<Truth>, Refused> {
        let (column, other) =
            match (self.operand_column(sheet, bound, a)?, self.operand_column(sheet, bound, b)?) {
                (Some(Column::Attribute(one)), Some(Column::Attribute(other))) => {
                    let test = ColumnTest::EqualColumn(other);
                    return self
                        .two_columns(sheet, one, other)
                        .map(|column| Some(self.ask(sheet, column, test)));
                }
                (Some(_), Some(_)) => return Err(self.refuse(sheet, "a relation is compared with a column")),
                (Some(column), None) => (column, b),
                (None, Some(column)) => (column, a),
                (None, None) => return Ok(self.row_named(sheet, bound, a, b)),
            };
        Ok(Some(match self.operand(bound, other) {
            Err(_) => Truth::Undetermined,
            Ok(Read::Value(value)) => self.ask(sheet, column, ColumnTest::Equal(value.into_owned())),
            Ok(Read::Thing(thing, _)) => self.ask_thing(sheet, column, thing),
        }))
    }

    /// Two columns are compared if neither has a default: which of them is absent is not told.
    fn two_columns(&self, sheet: &Sheet, a: NameId, b: NameId) -> Result<Column, Refused> {
        let kind = &self.engine.policy.model().kinds[self.own_kind().index()];
        let plain = |name| kind.attribute(name).is_some_and(|attribute| attribute.default.is_none());
        if plain(a) && plain(b) {
            return Ok(Column::Attribute(a));
        }
        Err(self.refuse(sheet, "two columns are compared, one of which has a default"))
    }

    /// `resource == entity('…')` of a row that stands for no registered resource: its id decides.
    fn row_named(&self, sheet: &Sheet, bound: Bound<'e>, a: OperandId, b: OperandId) -> Option<Truth> {
        if !sheet.is_id() {
            return None;
        }
        match (self.operand(bound, a), self.operand(bound, b)) {
            (Ok(Read::Thing(Thing::Own, _)), Ok(Read::Thing(Thing::Named(name), _)))
            | (Ok(Read::Thing(Thing::Named(name), _)), Ok(Read::Thing(Thing::Own, _))) => {
                let id = name.split_once(':').map_or("", |(_, id)| id).to_owned();
                Some(sheet.ask(Atom { column: Column::Id, test: ColumnTest::Equal(Value::Text(id.into())) }))
            }
            _ => None,
        }
    }

    fn row_order(
        &self,
        sheet: &Sheet,
        bound: Bound<'e>,
        order: Order,
        a: OperandId,
        b: OperandId,
    ) -> Result<Option<Truth>, Refused> {
        let mirrored = match order {
            Order::Less => Order::Greater,
            Order::AtMost => Order::AtLeast,
            Order::Greater => Order::Less,
            Order::AtLeast => Order::AtMost,
        };
        let (column, other, order) =
            match (self.operand_column(sheet, bound, a)?, self.operand_column(sheet, bound, b)?) {
                (Some(Column::Attribute(one)), Some(Column::Attribute(other))) => {
                    let test = ColumnTest::OrderColumn(order, other);
                    return self
                        .two_columns(sheet, one, other)
                        .map(|column| Some(self.ask(sheet, column, test)));
                }
                (Some(column), None) => (column, b, order),
                (None, Some(column)) => (column, a, mirrored),
                _ => return Ok(None),
            };
        Ok(Some(match self.operand(bound, other) {
            Ok(Read::Value(value)) => self.ask(sheet, column, ColumnTest::Order(order, value.into_owned())),
            _ => Truth::Undetermined,
        }))
    }

    fn row_in(
        &self,
        sheet: &Sheet,
        bound: Bound<'e>,
        needle: OperandId,
        list: &'e List,
    ) -> Result<Option<Truth>, Refused> {
        let column = self.operand_column(sheet, bound, needle)?;
        Ok(match (column, self.list_column(sheet, bound, list)?) {
            (None, None) => {
                let own = || matches!(self.operand(bound, needle), Ok(Read::Thing(Thing::Own, _)));
                let stranger = |name: &str| matches!(self.named(name), Thing::Named(_));
                if let List::Entities(names) = list
                    && sheet.is_id()
                    && own()
                    && names.iter().any(|name| stranger(name))
                {
                    return Err(self.refuse(sheet, "resource is looked for among names"));
                }
                None
            }
            (Some(_), Some(_)) => return Err(self.refuse(sheet, "a column is looked for in another")),
            (Some(column @ Column::Relation(_)), None) => {
                let mut found = Truth::False;
                let whole = self.each(bound, list, &mut |item| {
                    if let Read::Thing(thing, _) = item {
                        found = found.or(self.ask_thing(sheet, column, thing));
                    }
                    true
                });
                Some(found.or(if whole == Whole::Yes { Truth::False } else { Truth::Undetermined }))
            }
            (Some(column), None) => {
                let (values, whole) = self.known_list(bound, list);
                Some(self.ask(sheet, column, ColumnTest::In(values)).or(whole))
            }
            (None, Some(column)) => Some(match self.operand(bound, needle) {
                Ok(Read::Value(value)) => {
                    self.ask(sheet, column, ColumnTest::Overlaps(vec![value.into_owned()]))
                }
                _ => Truth::Undetermined,
            }),
        })
    }

    fn row_overlaps(&self, sheet: &Sheet, bound: Bound<'e>, column: Column, list: &'e List) -> Truth {
        let (values, whole) = self.known_list(bound, list);
        self.ask(sheet, column, ColumnTest::Overlaps(values)).or(whole)
    }

    /// The members of a list that is known, and what its being incomplete adds to a test of it.
    fn known_list(&self, bound: Bound<'e>, list: &'e List) -> (Vec<Value<'static>>, Truth) {
        let mut values = Vec::new();
        let whole = self.each(bound, list, &mut |item| {
            if let Read::Value(value) = item {
                values.push(value.into_owned());
            }
            true
        });
        (values, if whole == Whole::Yes { Truth::False } else { Truth::Undetermined })
    }

    fn row_texts(
        &self,
        sheet: &Sheet,
        bound: Bound<'e>,
        a: OperandId,
        b: OperandId,
        test: fn(String) -> ColumnTest,
    ) -> Result<Option<Truth>, Refused> {
        if self.operand_column(sheet, bound, b)?.is_some() {
            return Err(self.refuse(sheet, "a text is matched against a column"));
        }
        let Some(column) = self.operand_column(sheet, bound, a)? else { return Ok(None) };
        Ok(Some(match self.operand(bound, b) {
            Ok(Read::Value(Value::Text(text))) => self.ask(sheet, column, test(text.into_owned())),
            _ => Truth::Undetermined,
        }))
    }
}

/// What a test of a column comes to where the column holds this.
pub(in crate::decide) fn column_test(test: &ColumnTest, stated: &Stated, declared: &Attribute) -> Truth {
    if let ColumnTest::Overlaps(values) = test {
        let Ok(scalars) = scalars(stated, declared) else { return Truth::Undetermined };
        let members: Vec<Value<'_>> =
            scalars.iter().filter_map(|scalar| typed(scalar, declared).ok()).collect();
        let meet = |a: &Value<'_>, b: &Value<'_>| match declared.kind {
            ValueType::Address => networks_overlap(a, b),
            _ => same_value(a, b),
        };
        return Truth::from(members.iter().any(|a| values.iter().any(|b| meet(a, b) == Truth::True)));
    }
    let Ok(value) = one_scalar(stated, declared) else { return Truth::Undetermined };
    let text = |test: &dyn Fn(&str) -> bool| match &value {
        Value::Text(text) => Truth::from(test(text)),
        _ => Truth::Undetermined,
    };
    match test {
        ColumnTest::Known => Truth::True,
        ColumnTest::Equal(other) => same_value(&value, other),
        ColumnTest::Order(order, other) => compare(&value, other).map_or(Truth::Undetermined, |found| {
            Truth::from(match order {
                Order::Less => found == Ordering::Less,
                Order::AtMost => found != Ordering::Greater,
                Order::Greater => found == Ordering::Greater,
                Order::AtLeast => found != Ordering::Less,
            })
        }),
        ColumnTest::In(values) => {
            values.iter().fold(Truth::False, |found, other| found.or(same_value(&value, other)))
        }
        ColumnTest::InNetwork(networks) => Truth::from(networks.iter().any(
            |network| matches!((&value, network), (Value::Address(a), Value::Address(b)) if b.contains(a)),
        )),
        ColumnTest::Starts(other) => text(&|text| text.starts_with(other.as_str())),
        ColumnTest::Ends(other) => text(&|text| text.ends_with(other.as_str())),
        ColumnTest::Contains(other) => text(&|text| text.contains(other.as_str())),
        ColumnTest::Fits(pattern) => text(&|text| fits(text, pattern)),
        ColumnTest::Overlaps(_) | ColumnTest::EqualColumn(_) | ColumnTest::OrderColumn(..) => {
            Truth::Undetermined
        }
    }
}
