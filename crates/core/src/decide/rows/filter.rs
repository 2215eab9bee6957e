//! The condition itself: decision trees over column tests, and what they say of rows.

use super::{Atom, Column, ColumnTest, NoFilter};
use crate::charter::model::{Attribute, Kind, Order, Stated};
use crate::decide::Engine;
use crate::decide::evaluate::column_test;
use crate::value::{Truth, Value, ValueType};
use serde_json::{Value as Json, json};
use std::collections::HashMap;

/// Most parts of one filter.
const MAX_PARTS: usize = 20_000;

/// Which rows.
#[derive(Clone, Debug, PartialEq)]
pub enum Where {
    /// Every row.
    Every,
    /// None.
    None,
    /// Those for which all of these hold.
    All(Vec<Where>),
    /// Those for which one of these holds.
    Any(Vec<Where>),
    /// The others.
    Not(Box<Where>),
    /// Those for which a predicate holds.
    Is(Predicate),
}

/// A test of one column, never undetermined: where the column is null it is false.
#[derive(Clone, Debug, PartialEq)]
pub struct Predicate {
    /// `id`, `within`, or the name of an attribute or relation.
    pub column: String,
    /// `== != < <= > >= in "not in" overlaps starts ends contains fits known`
    pub operator: &'static str,
    /// What it is compared with.
    pub with: Comparand,
    /// The column's type.
    pub kind: ValueType,
    /// Whether it is a list.
    pub many: bool,
}

/// What a column is compared with.
#[derive(Clone, Debug, PartialEq)]
pub enum Comparand {
    /// Nothing: whether it is there.
    Nothing,
    /// A value.
    One(Value<'static>),
    /// Several.
    Many(Vec<Value<'static>>),
    /// Another column, by its attribute.
    Column(String),
}

impl Where {
    /// Those for which all hold.
    pub fn all(parts: impl IntoIterator<Item = Where>) -> Where {
        let mut kept: Vec<Where> = Vec::new();
        for part in parts {
            match part {
                Where::Every => {}
                Where::None => return Where::None,
                Where::All(more) => kept.extend(more),
                other => kept.push(other),
            }
        }
        match kept.len() {
            0 => Where::Every,
            1 => kept.swap_remove(0),
            _ => Where::All(kept),
        }
    }

    /// Those for which one holds.
    pub fn any(parts: impl IntoIterator<Item = Where>) -> Where {
        let mut kept: Vec<Where> = Vec::new();
        for part in parts {
            match part {
                Where::None => {}
                Where::Every => return Where::Every,
                Where::Any(more) => kept.extend(more),
                other => kept.push(other),
            }
        }
        match kept.len() {
            0 => Where::None,
            1 => kept.swap_remove(0),
            _ => Where::Any(kept),
        }
    }

    /// The others.
    #[allow(clippy::should_implement_trait, reason = "it stands beside all and any")]
    pub fn not(part: Where) -> Where {
        match part {
            Where::Every => Where::None,
            Where::None => Where::Every,
            Where::Not(inner) => *inner,
            other => Where::Not(Box::new(other)),
        }
    }

    /// Those whose id, or what they lie within, is one of these.
    pub(super) fn names(column: &str, names: Vec<String>) -> Where {
        if names.is_empty() {
            return Where::None;
        }
        let texts = names.into_iter().map(|name| Value::Text(name.into())).collect();
        Where::Is(Predicate {
            column: column.to_owned(),
            operator: "in",
            with: Comparand::Many(texts),
            kind: ValueType::Text,
            many: false,
        })
    }

    fn parts(&self) -> usize {
        match self {
            Where::All(parts) | Where::Any(parts) => 1 + parts.iter().map(Where::parts).sum::<usize>(),
            Where::Not(inner) => 1 + inner.parts(),
            _ => 1,
        }
    }

    /// How many values its longest list has.
    pub fn longest(&self) -> usize {
        match self {
            Where::All(parts) | Where::Any(parts) => parts.iter().map(Where::longest).max().unwrap_or(0),
            Where::Not(inner) => inner.longest(),
            Where::Is(Predicate { with: Comparand::Many(values), .. }) => values.len(),
            Where::Every | Where::None | Where::Is(_) => 0,
        }
    }

    /// As JSON: `{"rows":"every"}`, `{"rows":"none"}` or `{"rows":"where","where":…}`.
    pub fn to_json(&self) -> Json {
        match self {
            Where::Every => json!({ "rows": "every" }),
            Where::None => json!({ "rows": "none" }),
            other => json!({ "rows": "where", "where": other.tree() }),
        }
    }

    fn tree(&self) -> Json {
        let trees = |parts: &[Where]| parts.iter().map(Where::tree).collect::<Vec<_>>();
        match self {
            // Neither stands inside another: they are taken out when it is made.
            Where::Every => json!({ "all": [] }),
            Where::None => json!({ "any": [] }),
            Where::All(parts) => json!({ "all": trees(parts) }),
            Where::Any(parts) => json!({ "any": trees(parts) }),
            Where::Not(inner) => json!({ "not": inner.tree() }),
            Where::Is(predicate) => {
                let mut parts = vec![json!(predicate.column), json!(predicate.operator)];
                match &predicate.with {
                    Comparand::Nothing => {}
                    Comparand::One(value) => parts.push(value.to_json()),
                    Comparand::Many(values) => parts.push(values.iter().map(Value::to_json).collect()),
                    Comparand::Column(name) => parts.push(json!({ "attribute": name })),
                }
                json!({ "is": parts })
            }
        }
    }
}

/// Decision trees over atoms, each kept once.
#[derive(Debug, Default)]
pub(super) struct Trees {
    nodes: Vec<Node>,
    atoms: Vec<Atom>,
    known: HashMap<Node, u32>,
}

#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
enum Node {
    Leaf(bool),
    /// An atom, and where it leads when true, false and undetermined.
    Fork(u32, [u32; 3]),
}

impl Trees {
    fn keep(&mut self, node: Node) -> u32 {
        let next = u32::try_from(self.nodes.len()).unwrap_or(u32::MAX);
        *self.known.entry(node).or_insert_with(|| {
            self.nodes.push(node);
            next
        })
    }

    pub fn leaf(&mut self, allowed: bool) -> u32 {
        self.keep(Node::Leaf(allowed))
    }

    pub fn node(&mut self, atom: Atom, ends: [u32; 3]) -> u32 {
        if ends[0] == ends[1] && ends[1] == ends[2] {
            return ends[0];
        }
        let at = self.atoms.iter().position(|known| *known == atom).unwrap_or_else(|| {
            self.atoms.push(atom);
            self.atoms.len() - 1
        });
        self.keep(Node::Fork(u32::try_from(at).unwrap_or(u32::MAX), ends))
    }

    /// The rows a tree allows.
    pub fn filter(&self, tree: u32, engine: Engine<'_>, kind: &Kind) -> Result<Where, NoFilter> {
        let (atom, [yes, no, open]) = match self.nodes[tree as usize] {
            Node::Leaf(true) => return Ok(Where::Every),
            Node::Leaf(false) => return Ok(Where::None),
            Node::Fork(atom, ends) => (&self.atoms[atom as usize], ends),
        };
        let (is, isnt) = predicates(atom, engine, kind);
        let when = |end: u32, part: Where| -> Result<Where, NoFilter> {
            Ok(Where::all([part, self.filter(end, engine, kind)?]))
        };
        let filter = if no == open {
            Where::any([when(yes, is.clone())?, when(no, Where::not(is))?])
        } else if yes == open {
            Where::any([when(no, isnt.clone())?, when(yes, Where::not(isnt))?])
        } else {
            let neither = Where::all([Where::not(is.clone()), Where::not(isnt.clone())]);
            Where::any([when(yes, is)?, when(no, isnt)?, when(open, neither)?])
        };
        if filter.parts() > MAX_PARTS {
            return Err(NoFilter::Refused(format!("the filter has more than {MAX_PARTS} parts")));
        }
        Ok(filter)
    }
}

/// An atom as two predicates that are never undetermined: that it is true, and that it is false.
fn predicates(atom: &Atom, engine: Engine<'_>, kind: &Kind) -> (Where, Where) {
    let (name, declared) = match atom.column {
        Column::Id => ("id", None),
        Column::Relation(name) => (engine.policy.name(name), None),
        Column::Attribute(name) => (engine.policy.name(name), kind.attribute(name)),
    };
    let is = |operator: &'static str, with: Comparand| {
        Where::Is(Predicate {
            column: name.to_owned(),
            operator,
            with,
            kind: declared.map_or(ValueType::Text, |declared| declared.kind),
            many: declared.is_some_and(|declared| declared.many),
        })
    };
    let known = is("known", Comparand::Nothing);
    let (mut yes, mut no) = stated(&atom.test, &is, engine);
    if atom.column == Column::Id {
        // Every row has one.
        return (yes, no);
    }
    // A value outside those declared is unreadable, and makes the test undetermined.
    let mut readable: Vec<Where> =
        declared.and_then(|declared| readable_values(declared, &is)).into_iter().collect();
    if let ColumnTest::EqualColumn(other) | ColumnTest::OrderColumn(_, other) = &atom.test {
        let other = kind.attribute(*other).map(|other| (engine.policy.name(other.name), other));
        if let Some((other_name, other)) = other {
            let of_other = |operator: &'static str, with: Comparand| {
                Where::Is(Predicate {
                    column: other_name.to_owned(),
                    operator,
                    with,
                    kind: other.kind,
                    many: other.many,
                })
            };
            readable.extend(readable_values(other, &of_other));
        }
    }
    let guard = |part: Where| Where::all(readable.iter().cloned().chain([part]));
    (yes, no) = (guard(yes), if atom.test == ColumnTest::Known { Where::None } else { guard(no) });
    let absent = match declared.and_then(|declared| Some((declared, declared.default.as_ref()?))) {
        Some((_, _)) if atom.test == ColumnTest::Known => Truth::True,
        Some((declared, default)) => of_default(&atom.test, default, declared),
        None if atom.test == ColumnTest::Known => Truth::False,
        None => Truth::Undetermined,
    };
    match absent {
        Truth::True => yes = Where::any([yes, Where::not(known)]),
        Truth::False => no = Where::any([no, Where::not(known)]),
        Truth::Undetermined => {}
    }
    (yes, no)
}

/// That a column holds only values that are declared.
fn readable_values(declared: &Attribute, is: &impl Fn(&'static str, Comparand) -> Where) -> Option<Where> {
    let values = declared.values.clone().map(Comparand::Many);
    match (values, declared.many) {
        (Some(values), _) => Some(is("in", values)),
        // A list with something missing in it is unreadable as a whole.
        (None, true) => Some(is("in", Comparand::Nothing)),
        (None, false) => None,
    }
}

/// What an absent column comes to, by its attribute's default.
fn of_default(test: &ColumnTest, default: &Stated, declared: &Attribute) -> Truth {
    column_test(test, default, declared)
}

/// True and false of a column that is readable; neither where it is null.
fn stated(
    test: &ColumnTest,
    is: &impl Fn(&'static str, Comparand) -> Where,
    engine: Engine<'_>,
) -> (Where, Where) {
    let known = || is("known", Comparand::Nothing);
    let both = |part: Where| (part.clone(), Where::all([known(), Where::not(part)]));
    let one = |operator, opposite, value: &Value<'static>| {
        (is(operator, Comparand::One(value.clone())), is(opposite, Comparand::One(value.clone())))
    };
    let order = |order: Order| match order {
        Order::Less => ("<", ">="),
        Order::AtMost => ("<=", ">"),
        Order::Greater => (">", "<="),
        Order::AtLeast => (">=", "<"),
    };
    match test {
        ColumnTest::Known => (is("known", Comparand::Nothing), Where::None),
        ColumnTest::Equal(value) => one("==", "!=", value),
        ColumnTest::Order(of, value) => one(order(*of).0, order(*of).1, value),
        ColumnTest::In(values) if values.is_empty() => (Where::None, known()),
        ColumnTest::In(values) | ColumnTest::InNetwork(values) => {
            let with = Comparand::Many(values.clone());
            (is("in", with.clone()), is("not in", with))
        }
        ColumnTest::Overlaps(values) if values.is_empty() => (Where::None, known()),
        ColumnTest::Overlaps(values) => both(is("overlaps", Comparand::Many(values.clone()))),
        ColumnTest::Starts(text) => both(is("starts", text_of(text))),
        ColumnTest::Ends(text) => both(is("ends", text_of(text))),
        ColumnTest::Contains(text) => both(is("contains", text_of(text))),
        ColumnTest::Fits(pattern) => both(is("fits", text_of(pattern))),
        ColumnTest::EqualColumn(other) => {
            let other = Comparand::Column(engine.policy.name(*other).to_owned());
            (is("==", other.clone()), is("!=", other))
        }
        ColumnTest::OrderColumn(of, other) => {
            let other = Comparand::Column(engine.policy.name(*other).to_owned());
            (is(order(*of).0, other.clone()), is(order(*of).1, other))
        }
    }
}

fn text_of(text: &str) -> Comparand {
    Comparand::One(Value::Text(text.to_owned().into()))
}
