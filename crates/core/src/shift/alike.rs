//! What must get the same answers: subjects, and resources, of which all that a decision can read is
//! the same on both sides.

use super::Known;
use super::depends::Depends;
use crate::decide::World;
use crate::register::{EntityId, Register};
use hashbrown::{HashMap, HashSet};
use std::fmt::Write as _;

/// Names that are alike; the first speaks for all.
#[derive(Clone, Debug)]
pub struct Alike {
    /// In their order.
    pub names: Vec<String>,
}

/// All users and services of either side, and nobody known.
pub fn subjects(sides: [&World; 2], read: &[&Depends], only: Option<&str>) -> Vec<Alike> {
    let by_name = read.iter().any(|depends| depends.by_subject_name);
    // A group's grant is activated for one member at a time.
    let active: HashSet<&str> = sides
        .iter()
        .flat_map(|world| world.register().all_activations().map(|one| world.register().name(one.subject)))
        .collect();
    let kinds = ["user", "service"];
    let mut groups = grouped(sides, &kinds, only, |name, known, text| {
        let named =
            by_name || active.contains(name) || read.iter().any(|depends| depends.named.contains(name));
        let unique =
            named || known.iter().flatten().any(|(world, id)| stands_somewhere(world.register(), *id, read));
        if unique {
            let _ = write!(text, "{name} ");
        }
        for side in known {
            if let Some((world, id)) = side {
                subject(world.register(), *id, read, text);
            }
            text.push('|');
        }
    });
    if only.is_none_or(|only| only == "anonymous") {
        groups.push(Alike { names: vec!["anonymous".to_owned()] });
    }
    groups
}

/// All resources of a type of either side, each with a number: those with the same one differ only
/// in who was granted what at them and around them.
#[derive(Debug, Default)]
pub struct Resources {
    /// By their place.
    pub names: Vec<String>,
    /// As each side knows them.
    pub ids: Vec<[Option<EntityId>; 2]>,
    /// What they are alike in.
    pub classes: Vec<usize>,
    /// The members of each class.
    pub members: Vec<Vec<usize>>,
    /// Whether both sides have one register.
    pub same_register: bool,
    /// Their places, by what each side knows them as.
    pub places: [HashMap<EntityId, usize>; 2],
}

/// Groups of the resources; where the two registers are not the same each is its own.
pub fn resources(sides: [&World; 2], read: &[&Depends], kind: &str, same_register: bool) -> Resources {
    let mut outers = sides.map(|world| Outers {
        register: world.register(),
        read,
        known: HashMap::new(),
        classes: HashMap::new(),
    });
    let by_name = !same_register || read.iter().any(|depends| depends.by_name);
    let groups = grouped(sides, &[kind], None, |name, known, text| {
        if by_name || read.iter().any(|depends| depends.named.contains(name)) {
            let _ = write!(text, "{name} ");
        }
        for (side, outers) in known.iter().zip(&mut outers) {
            if let Some((_, id)) = side {
                outers.describe(*id, text);
            }
            text.push('|');
        }
    });
    let mut made = Resources { same_register, ..Resources::default() };
    for (class, group) in groups.into_iter().enumerate() {
        made.members.push(Vec::new());
        for name in group.names {
            let at = made.names.len();
            let ids = sides.map(|world| world.register().find(&name));
            for (side, id) in ids.iter().enumerate() {
                made.places[side].extend(id.map(|id| (id, at)));
            }
            made.ids.push(ids);
            made.names.push(name);
            made.classes.push(class);
            made.members[class].push(at);
        }
    }
    made
}

fn grouped(
    sides: [&World; 2],
    kinds: &[&str],
    only: Option<&str>,
    mut describe: impl FnMut(&str, &[Known<'_>; 2], &mut String),
) -> Vec<Alike> {
    let mut found: HashMap<String, usize> = HashMap::new();
    let mut groups: Vec<Alike> = Vec::new();
    let mut text = String::new();
    let of = |world: &World, id: EntityId| kinds.contains(&world.register().text(world.register().kind(id)));
    for (side, world) in sides.iter().enumerate() {
        for id in world.register().every_name().filter(|id| of(world, *id)) {
            let name = world.register().name(id);
            // What both know is described once.
            let seen_before = side == 1 && sides[0].register().find(name).is_some();
            if seen_before || only.is_some_and(|only| only != name) {
                continue;
            }
            let known = sides.map(|world| world.register().find(name).map(|id| (world, id)));
            text.clear();
            describe(name, &known, &mut text);
            match found.get(&text) {
                Some(at) => groups[*at].names.push(name.to_owned()),
                None => {
                    found.insert(text.clone(), groups.len());
                    groups.push(Alike { names: vec![name.to_owned()] });
                }
            }
        }
    }
    groups
}

/// Whether something names it by a relation that is read: then it matters who it is.
fn stands_somewhere(register: &Register, id: EntityId, read: &[&Depends]) -> bool {
    register.named_by(id).iter().any(|namer| {
        register.relations(*namer).any(|(relation, to)| {
            let relation = register.text(relation);
            to.contains(&id) && read.iter().any(|depends| depends.read.contains(relation))
        })
    })
}

fn subject(register: &Register, id: EntityId, read: &[&Depends], text: &mut String) {
    let _ = write!(text, "{:?} {:?}", register.kind(id), register.state(id));
    for (what, list) in [("in", register.tenants(id)), ("of", register.groups(id))] {
        let mut list = list.to_vec();
        list.sort_unstable();
        let _ = write!(text, " {what} {list:?}");
    }
    let mut grants: Vec<String> = register
        .grants_to(id)
        .map(|(at, grant)| {
            let active: Vec<_> =
                register.activations_of(at).map(|one| (one.from, one.until, &one.session)).collect();
            format!("{:?} {:?} {:?} {active:?}", grant.role, grant.at, grant.terms)
        })
        .collect();
    grants.sort();
    let _ = write!(text, " {grants:?}");
    said(register, id, read, text);
}

/// What lies around resources, as far as it can be told apart: a number for each kind of place.
struct Outers<'a> {
    register: &'a Register,
    read: &'a [&'a Depends],
    known: HashMap<EntityId, usize>,
    classes: HashMap<String, usize>,
}

impl Outers<'_> {
    fn describe(&mut self, id: EntityId, text: &mut String) {
        let register = self.register;
        let class = register.within(id).map(|outer| self.class(outer));
        let _ = write!(text, "{:?} {class:?} {}", register.state(id), register.is_detached(id));
        said(register, id, self.read, text);
    }

    /// Containment has a bounded depth and no loops.
    fn class(&mut self, id: EntityId) -> usize {
        if let Some(known) = self.known.get(&id) {
            return *known;
        }
        let register = self.register;
        let own = register.within(id).is_none()
            || self
                .read
                .iter()
                .any(|depends| depends.by_outer_name || depends.named.contains(register.name(id)));
        let mut text = format!("{:?} ", register.kind(id));
        if own {
            text.push_str(register.name(id));
        } else {
            self.describe(id, &mut text);
        }
        let next = self.classes.len();
        let class = *self.classes.entry(text).or_insert(next);
        self.known.insert(id, class);
        class
    }
}

/// What is said of it that is read.
fn said(register: &Register, id: EntityId, read: &[&Depends], text: &mut String) {
    let is_read = |name: &str| read.iter().any(|depends| depends.read.contains(name));
    for (name, value) in register.attributes(id).filter(|(name, _)| is_read(register.text(*name))) {
        let _ = write!(text, " {name:?} {value:?}");
    }
    for (name, to) in register.relations(id).filter(|(name, _)| is_read(register.text(*name))) {
        let _ = write!(text, " {name:?} {to:?}");
    }
}
