//! The row filter: a decision about rows of an application's own table, turned into a condition on
//! their columns that selects exactly the rows evaluation would allow.
//!
//! There is no second evaluator. The one there is decides about a row again and again; each test
//! that reads a column is an [`Atom`], whose value it is told. Whenever it meets one it was not
//! told of, the decision branches into true, false and undetermined, until each branch ends in an
//! answer. Trees of equal shape are one tree. What is not a column is known: of every registered
//! resource, and of one that is not registered; resources whose tree is another than that of a row
//! nobody knows are told by their ids.

mod filter;
mod sql;

pub use filter::{Comparand, Predicate, Where};
pub use sql::{Parameter, Sql};

use super::question::{Malformed, Question, Request, Resource};
use super::site::Site;
use super::{Engine, Tenant, decide_rows};
use crate::charter::model::{Kind, KindId, NameId, Order};
use crate::register::EntityId;
use crate::value::{Truth, Value};
use filter::Trees;
use jiff::Timestamp;
use serde::{Deserialize, Serialize};
use std::cell::RefCell;
use std::collections::{BTreeMap, HashMap};

/// Most decisions one row's tree is made of.
const MAX_BRANCHES: usize = 4_096;
/// Most ids that stand in a filter.
const MAX_IDS: usize = 10_000;

/// Which columns an application's table has, by what they hold.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(deny_unknown_fields)]
pub struct Columns {
    /// The table, as it stands behind `from`.
    pub table: String,
    /// The column with the resource's id.
    pub id: String,
    /// Columns of attributes, of single relations to users or services, and of `within`.
    #[serde(default)]
    pub columns: BTreeMap<String, String>,
}

/// Why there is no filter.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
pub enum NoFilter {
    /// The question makes no sense.
    #[error("{0}")]
    Malformed(String),
    /// It cannot be said as a condition on columns.
    #[error("{0}")]
    Refused(String),
}

impl From<Malformed> for NoFilter {
    fn from(malformed: Malformed) -> Self {
        NoFilter::Malformed(malformed.0)
    }
}

/// A column, by what it holds.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub(super) enum Column {
    Id,
    Attribute(NameId),
    Relation(NameId),
}

/// A test of a column against what is known.
#[derive(Clone, Debug, PartialEq)]
pub(super) struct Atom {
    pub column: Column,
    pub test: ColumnTest,
}

#[derive(Clone, Debug, PartialEq)]
pub(super) enum ColumnTest {
    Known,
    Equal(Value<'static>),
    Order(Order, Value<'static>),
    In(Vec<Value<'static>>),
    InNetwork(Vec<Value<'static>>),
    /// A list that has one of these.
    Overlaps(Vec<Value<'static>>),
    Starts(String),
    Ends(String),
    Contains(String),
    Fits(String),
    EqualColumn(NameId),
    OrderColumn(Order, NameId),
}

/// A row under decision: which of its facts are columns, and what is assumed of them.
#[derive(Debug)]
pub(super) struct Sheet {
    attributes: Vec<NameId>,
    relations: Vec<NameId>,
    /// Whether the id is a column too: of a row that stands for no registered resource.
    id: bool,
    state: RefCell<Asking>,
}

#[derive(Debug, Default)]
struct Asking {
    told: Vec<(Atom, Truth)>,
    asked: Option<Atom>,
    refused: Option<String>,
}

impl Sheet {
    pub fn is_attribute(&self, name: NameId) -> bool {
        self.attributes.contains(&name)
    }

    pub fn is_relation(&self, name: NameId) -> bool {
        self.relations.contains(&name)
    }

    pub fn is_id(&self) -> bool {
        self.id
    }

    /// What an atom is assumed to be; the first that nothing is assumed of is noted.
    pub fn ask(&self, atom: Atom) -> Truth {
        let mut state = self.state.borrow_mut();
        if let Some((_, value)) = state.told.iter().find(|(told, _)| *told == atom) {
            return *value;
        }
        state.asked.get_or_insert(atom);
        Truth::Undetermined
    }

    /// Notes that the decision cannot be said as a condition on columns.
    pub fn refuse(&self, why: String) -> Truth {
        self.state.borrow_mut().refused.get_or_insert(why);
        Truth::Undetermined
    }
}

/// The filter for what a subject may do with rows of a permission's type.
///
/// Without `columns` every attribute of the type is taken as a column of its own name, and `within`
/// and relations as facts of the register. A null column is an attribute that is not stated. The
/// columns of a registered resource's row hold what its attributes are; of a row that stands for
/// none, a column counts where an application could say the same with a question. What a condition
/// reads of a resource by way of a relation is read from the register, even if the way leads back to
/// the row's own. Relation columns name registered subjects, `within` a registered resource or tenant.
///
/// `go_on` is asked before each decision; once it says no, the filter is refused. Costs some decisions for
/// each registered resource of the type, and for each that one may lie within if that is a column.
///
/// # Errors
/// If the request is malformed, or what it comes to cannot be said on these columns, with the reason.
pub fn rows(
    engine: Engine<'_>,
    request: &Request,
    now: Timestamp,
    columns: Option<&Columns>,
    go_on: &mut dyn FnMut() -> bool,
) -> Result<Where, NoFilter> {
    let request = Request { resource: None, of_resource: serde_json::Map::new(), ..request.clone() };
    let asked = request.resolve(engine, now)?;
    let Ok(question) = asked.question else { return Ok(Where::None) };
    let kind_id = engine.policy.model().permissions[question.permission.index()].kind;
    let kind = &engine.policy.model().kinds[kind_id.index()];
    let mut maker = Maker {
        engine,
        question,
        kind,
        kind_id,
        columns: used(engine, kind, columns)?,
        trees: Trees::default(),
        go_on,
    };
    maker.filter()
}

/// The columns that are used, by what they hold.
struct Used {
    attributes: Vec<NameId>,
    relations: Vec<NameId>,
    within: bool,
}

fn used(engine: Engine<'_>, kind: &Kind, columns: Option<&Columns>) -> Result<Used, NoFilter> {
    let Some(columns) = columns else {
        let attributes = kind.attributes.iter().map(|attribute| attribute.name).collect();
        return Ok(Used { attributes, relations: Vec::new(), within: false });
    };
    let mut used = Used { attributes: Vec::new(), relations: Vec::new(), within: false };
    for name in columns.columns.keys() {
        if name == "within" {
            used.within = true;
        } else if let Some(attribute) = kind.attributes.iter().find(|a| engine.policy.name(a.name) == name) {
            used.attributes.push(attribute.name);
        } else if let Some(relation) = kind.relations.iter().find(|r| engine.policy.name(r.name) == name) {
            if relation.many || !relation.to.iter().all(|kind| kind.is_subject()) {
                return Err(NoFilter::Refused(format!(
                    "{name:?} cannot be a column: only a relation to one user or service can"
                )));
            }
            used.relations.push(relation.name);
        } else {
            let names = kind.attributes.iter().map(|a| a.name).chain(kind.relations.iter().map(|r| r.name));
            let known = names.map(|name| engine.policy.name(name)).chain(["within"]);
            let near = crate::names::did_you_mean(name, known);
            return Err(NoFilter::Refused(format!(
                "a {} has no attribute or relation {name:?}{near}",
                kind.key
            )));
        }
    }
    Ok(used)
}

struct Maker<'e, 'g> {
    engine: Engine<'e>,
    question: Question,
    kind: &'e Kind,
    kind_id: KindId,
    columns: Used,
    trees: Trees,
    go_on: &'g mut dyn FnMut() -> bool,
}

impl Maker<'_, '_> {
    fn filter(&mut self) -> Result<Where, NoFilter> {
        let unknown = self.tree(Resource::Stated { name: None, within: None })?;
        // What lies where, if that is a column: the tree of a row that lies there and of which no
        // more is known.
        let mut by_outer: HashMap<EntityId, u32> = HashMap::new();
        let outer_kinds = self.kind.within.clone();
        if self.columns.within {
            for outer in self.registered(|kind| outer_kinds.contains(&kind)) {
                let tree = self.tree(Resource::Stated { name: None, within: Some(outer) })?;
                by_outer.insert(outer, tree);
            }
        }
        let mut apart: BTreeMap<u32, Vec<EntityId>> = BTreeMap::new();
        let own = self.kind_id;
        let of_type: Vec<EntityId> = self.known(|kind| kind == own);
        for id in of_type {
            let usual = self.engine.register.within(id).and_then(|outer| by_outer.get(&outer)).copied();
            let usual = usual.unwrap_or(unknown);
            let tree = self.tree(Resource::Registered(id))?;
            if tree != usual {
                apart.entry(tree).or_default().push(id);
            }
        }
        let ids: usize = apart.values().map(Vec::len).sum();
        if ids > MAX_IDS {
            let hint = if self.columns.within || self.kind.within.is_empty() {
                ""
            } else {
                "; a column for within would say most of it"
            };
            return Err(NoFilter::Refused(format!("{ids} resources would be named by their ids{hint}")));
        }
        let base = self.base(unknown, &by_outer)?;
        let named = |register: &crate::register::Register, ids: &[EntityId]| {
            let mut ids: Vec<String> = ids.iter().map(|id| register.id_text(*id).to_owned()).collect();
            ids.sort_unstable();
            ids
        };
        let all: Vec<EntityId> = apart.values().flatten().copied().collect();
        let mut ways =
            vec![Where::all([Where::not(Where::names("id", named(self.engine.register, &all))), base])];
        for (tree, ids) in &apart {
            let of_these = Where::names("id", named(self.engine.register, ids));
            ways.push(Where::all([of_these, self.trees.filter(*tree, self.engine, self.kind)?]));
        }
        Ok(Where::any(ways))
    }

    /// What holds of rows that no registered resource sets apart.
    fn base(&self, unknown: u32, by_outer: &HashMap<EntityId, u32>) -> Result<Where, NoFilter> {
        let full = self.kind.within.len() > 1;
        let mut groups: BTreeMap<u32, Vec<String>> = BTreeMap::new();
        for (outer, tree) in by_outer.iter().filter(|(_, tree)| **tree != unknown) {
            let register = self.engine.register;
            let name = if full { register.name(*outer) } else { register.id_text(*outer) };
            groups.entry(*tree).or_default().push(name.to_owned());
        }
        let mut all: Vec<String> = groups.values().flatten().cloned().collect();
        all.sort_unstable();
        let mut ways = vec![Where::all([
            Where::not(Where::names("within", all)),
            self.trees.filter(unknown, self.engine, self.kind)?,
        ])];
        for (tree, mut names) in groups {
            names.sort_unstable();
            let there = Where::names("within", names);
            ways.push(Where::all([there, self.trees.filter(tree, self.engine, self.kind)?]));
        }
        Ok(Where::any(ways))
    }

    fn registered(&self, fits: impl Fn(KindId) -> bool) -> Vec<EntityId> {
        let all = self.engine.register.all_entities();
        all.filter(|id| self.engine.kind(*id).is_some_and(&fits)).collect()
    }

    /// Registered ones and deleted ones: a row may be left of either.
    fn known(&self, fits: impl Fn(KindId) -> bool) -> Vec<EntityId> {
        let all = self.engine.register.every_name();
        all.filter(|id| self.engine.kind(*id).is_some_and(&fits)).collect()
    }

    /// The tree of one row's decision.
    fn tree(&mut self, resource: Resource) -> Result<u32, NoFilter> {
        // Of what is not registered, a column counts as what an application could say of it.
        let registered = matches!(resource, Resource::Registered(_));
        let attribute = |name: &NameId| {
            registered || self.kind.attribute(*name).is_some_and(|attribute| attribute.from.reads_request())
        };
        let relation = |name: &NameId| {
            registered || self.kind.relation(*name).is_some_and(|relation| relation.from.reads_request())
        };
        let sheet = Sheet {
            attributes: self.columns.attributes.iter().copied().filter(attribute).collect(),
            relations: self.columns.relations.iter().copied().filter(relation).collect(),
            id: !registered,
            state: RefCell::default(),
        };
        self.question.resource = resource;
        let mut branches = 0;
        self.branch(&sheet, &mut branches)
    }

    fn branch(&mut self, sheet: &Sheet, branches: &mut usize) -> Result<u32, NoFilter> {
        if !(self.go_on)() {
            return Err(NoFilter::Refused("the search was broken off".to_owned()));
        }
        *branches += 1;
        if *branches > MAX_BRANCHES {
            return Err(NoFilter::Refused(format!(
                "what it depends on has more than {MAX_BRANCHES} cases: too many to say as a condition"
            )));
        }
        let allowed = decide_rows(self.engine, &self.question, sheet);
        let (asked, refused) = {
            let mut state = sheet.state.borrow_mut();
            (state.asked.take(), state.refused.take())
        };
        if let Some(why) = refused {
            return Err(NoFilter::Refused(why));
        }
        let Some(atom) = asked else { return Ok(self.trees.leaf(allowed)) };
        let mut ends = [0; 3];
        for (end, value) in ends.iter_mut().zip([Truth::True, Truth::False, Truth::Undetermined]) {
            sheet.state.borrow_mut().told.push((atom.clone(), value));
            *end = self.branch(sheet, branches)?;
            sheet.state.borrow_mut().told.pop();
        }
        Ok(self.trees.node(atom, ends))
    }
}

/// Whether a relation's step leaves the tenant for sure: no step counts from where that is unknown.
pub(super) fn steps_count(site: &Site) -> bool {
    site.tenant != Tenant::Unknown
}
