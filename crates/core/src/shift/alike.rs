//! What must get the same answers: subjects, and resources, of which all that a decision can read is
//! the same on both sides.
//!
//! Where a decision looks for the subject itself at the end of a relation, what is alike is so only
//! for whom the relation does not name: resources that name a subject are asked about one by one.

use super::Known;
use super::depends::Depends;
use crate::decide::World;
use crate::register::{EntityId, Register, Sym};
use hashbrown::{HashMap, HashSet};
use std::fmt::Write as _;

/// How many are looked at between two questions whether to go on.
const STRIDE: usize = 4_096;

/// Names that are alike.
#[derive(Clone, Debug)]
pub struct Alike {
    /// In their order.
    pub names: Vec<String>,
    /// Subjects with the same number are alike in all but what was granted to them.
    pub but_for_grants: usize,
}

/// All users and services of either side, and nobody known; none once it is not to go on. Where both sides
/// have one register, one of them is enough.
pub fn subjects(
    sides: &[&World],
    read: &Depends,
    only: Option<&str>,
    go_on: &mut dyn FnMut() -> bool,
) -> Option<Vec<Alike>> {
    // A group's grant is activated for one member at a time.
    let active: HashSet<&str> = sides
        .iter()
        .flat_map(|world| world.register().all_activations().map(|one| world.register().name(one.subject)))
        .collect();
    let kinds = ["user", "service"];
    let mut numbers: HashMap<String, usize> = HashMap::new();
    let mut groups = grouped(sides, &kinds, only, go_on, |name, known, text| {
        let named = read.by_subject_name || active.contains(name) || read.named.contains(name);
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
        let next = numbers.len();
        let number = *numbers.entry(text.clone()).or_insert(next);
        for (world, id) in known.iter().flatten() {
            granted(world.register(), *id, read, text);
            text.push('|');
        }
        number
    })?;
    if only.is_none_or(|only| only == "anonymous") {
        groups.push(Alike { names: vec!["anonymous".to_owned()], but_for_grants: numbers.len() });
    }
    Some(groups)
}

/// All resources of a type of either side, each with a number: those with the same one differ only
/// in who was granted what at them and around them, and in whom they name.
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
pub fn resources<'w>(
    sides: &[&'w World],
    read: &'w Depends,
    kind: &str,
    go_on: &mut dyn FnMut() -> bool,
) -> Option<Resources> {
    let same_register = sides.len() == 1;
    let outers = |world: &&'w World| Outers {
        register: world.register(),
        read,
        known: HashMap::new(),
        classes: HashMap::new(),
    };
    let mut outers: Vec<Outers<'_>> = sides.iter().map(outers).collect();
    let by_name = !same_register || read.by_name;
    let groups = grouped(sides, &[kind], None, go_on, |name, known, text| {
        if by_name || read.named.contains(name) {
            let _ = write!(text, "{name} ");
        }
        for (side, outers) in known.iter().zip(&mut outers) {
            if let Some((_, id)) = side {
                outers.describe(*id, text);
            }
            text.push('|');
        }
        0
    })?;
    let mut made = Resources { same_register, ..Resources::default() };
    for (class, group) in groups.into_iter().enumerate() {
        made.members.push(Vec::new());
        for name in group.names {
            let at = made.names.len();
            let ids = [0, sides.len() - 1].map(|side| sides[side].register().find(&name));
            for (side, id) in ids.iter().enumerate() {
                made.places[side].extend(id.map(|id| (id, at)));
            }
            made.ids.push(ids);
            made.names.push(name);
            made.classes.push(class);
            made.members[class].push(at);
        }
    }
    Some(made)
}

fn grouped(
    sides: &[&World],
    kinds: &[&str],
    only: Option<&str>,
    go_on: &mut dyn FnMut() -> bool,
    mut describe: impl FnMut(&str, &[Known<'_>], &mut String) -> usize,
) -> Option<Vec<Alike>> {
    let mut found: HashMap<String, usize> = HashMap::new();
    let mut groups: Vec<Alike> = Vec::new();
    let (mut text, mut known) = (String::new(), Vec::new());
    let of = |world: &World, id: EntityId| kinds.contains(&world.register().text(world.register().kind(id)));
    for (side, world) in sides.iter().enumerate() {
        for (at, id) in world.register().every_name().filter(|id| of(world, *id)).enumerate() {
            if at % STRIDE == STRIDE - 1 && !go_on() {
                return None;
            }
            let name = world.register().name(id);
            // What both know is described once.
            let seen_before = side == 1 && sides[0].register().find(name).is_some();
            if seen_before || only.is_some_and(|only| only != name) {
                continue;
            }
            known.clear();
            known.extend(sides.iter().map(|world| match sides {
                [_] => Some((*world, id)),
                _ => world.register().find(name).map(|id| (*world, id)),
            }));
            text.clear();
            let but_for_grants = describe(name, &known, &mut text);
            match found.get(&text) {
                Some(at) => groups[*at].names.push(name.to_owned()),
                None => {
                    found.insert(text.clone(), groups.len());
                    groups.push(Alike { names: vec![name.to_owned()], but_for_grants });
                }
            }
        }
    }
    Some(groups)
}

/// Whether something names it by a relation that is followed: then it matters who it is.
fn stands_somewhere(register: &Register, id: EntityId, read: &Depends) -> bool {
    register.named_by(id).iter().any(|namer| {
        register
            .relations(*namer)
            .any(|(relation, to)| read.followed.contains(register.text(relation)) && to.contains(&id))
    })
}

fn subject(register: &Register, id: EntityId, read: &Depends, text: &mut String) {
    let _ = write!(text, "{:?} {:?}", register.kind(id), register.state(id));
    for (what, list) in [("in", register.tenants(id)), ("of", register.groups(id))] {
        let mut list = list.to_vec();
        list.sort_unstable();
        let _ = write!(text, " {what} {list:?}");
    }
    said(register, id, read, text);
}

fn granted(register: &Register, id: EntityId, read: &Depends, text: &mut String) {
    let mut grants: Vec<String> = register
        .grants_to(id)
        .filter(|(_, grant)| matters(register, grant.role, read))
        .map(|(at, grant)| {
            let active: Vec<_> =
                register.activations_of(at).map(|one| (one.from, one.until, &one.session)).collect();
            format!("{:?} {:?} {:?} {active:?}", grant.role, grant.at, grant.terms)
        })
        .collect();
    grants.sort();
    let _ = write!(text, " {grants:?}");
}

/// Whether grants of a role matter: those of tenants' own roles always do.
pub fn matters(register: &Register, role: Sym, read: &Depends) -> bool {
    let role = register.text(role);
    role.contains('/') || read.roles.contains_key(role)
}

/// What lies around resources, as far as it can be told apart: a number for each kind of place.
struct Outers<'a> {
    register: &'a Register,
    read: &'a Depends,
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
            || self.read.by_outer_name
            || self.read.named.contains(register.name(id));
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

/// What is said of it that is read. Of subjects that are only compared with the one who asks it does not
/// matter who they are.
fn said(register: &Register, id: EntityId, read: &Depends, text: &mut String) {
    let is_read = |name: &str| read.read.contains(name);
    for (name, value) in register.attributes(id).filter(|(name, _)| is_read(register.text(*name))) {
        let _ = write!(text, " {name:?} {value:?}");
    }
    for (name, to) in register.relations(id).filter(|(name, _)| is_read(register.text(*name))) {
        let is_compared = read.is_compared(register.text(name));
        let _ = write!(text, " {name:?}");
        for id in to {
            match register.kind(*id) {
                kind @ (Sym::USER | Sym::SERVICE) if is_compared => drop(write!(text, " {kind:?}")),
                _ => drop(write!(text, " {id:?}")),
            }
        }
    }
}
