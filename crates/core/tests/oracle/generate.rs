//! Charters that are valid by construction, with registers and questions that hit them.
//!
//! Everything is drawn from a string of bytes, so that proptest shrinks a failure by shortening
//! the string: drawn-out bytes are zeros, and zero is always the plainest choice.

use crate::naive::{
    Activation, Attribute, Charter, Confer, Entity, Expr, From, Grant, Kind, List, Question, Register,
    Relation, Role, Rule, Term, asks,
};
use crate::render;
use serde_json::{Value as Json, json};
use std::collections::{BTreeMap, BTreeSet};

pub const NOW: i64 = 1_795_000_000;

pub struct Dice<'a> {
    bytes: std::slice::Iter<'a, u8>,
}

impl<'a> Dice<'a> {
    pub fn new(bytes: &'a [u8]) -> Self {
        Dice { bytes: bytes.iter() }
    }
    pub fn below(&mut self, bound: usize) -> usize {
        usize::from(self.bytes.next().copied().unwrap_or(0)) % bound.max(1)
    }
    /// True in so many of 10 cases, never once the bytes are drawn out.
    pub fn chance(&mut self, of_ten: usize) -> bool {
        self.below(10) >= 10 - of_ten
    }
    pub fn pick<T: Clone>(&mut self, from: &[T]) -> T {
        from[self.below(from.len())].clone()
    }
    pub fn some<T: Clone>(&mut self, from: &[T], of_ten: usize) -> Vec<T> {
        from.iter().filter(|_| self.chance(of_ten)).cloned().collect()
    }
}

fn names(all: &[&str]) -> Vec<String> {
    all.iter().map(|name| (*name).to_owned()).collect()
}

const RESOURCE_KINDS: [&str; 4] = ["beacon", "crate", "hold", "ship"];

pub fn charter(dice: &mut Dice<'_>) -> Charter {
    let mut charter = Charter { groups: names(&["g1", "g2"]), ..Charter::default() };
    schema(dice, &mut charter);
    for at in 0..dice.below(5) + 2 {
        let role = role(dice, &charter, at);
        charter.roles.insert(format!("r{at}"), role);
    }
    for at in 0..dice.below(5) {
        let rule = rule(dice, &charter);
        charter.rules.insert(format!("rule{at}"), rule);
    }
    for kind in RESOURCE_KINDS {
        for _ in 0..dice.below(4) {
            confer(dice, &mut charter, kind);
        }
    }
    for _ in 0..dice.below(3) {
        separate(dice, &mut charter);
    }
    for _ in 0..dice.below(4) {
        let kind = dice.pick(&RESOURCE_KINDS);
        let roles = charter.roles.len();
        let when = dice.chance(5).then(|| expr(dice, kind, false, roles, 2));
        charter.tenant_clauses.push((permissions(dice, &[kind]), when));
    }
    charter
}

/// A charter by which what may be done comes in one way or two, so that it can be told where these lead.
pub fn few_ways(dice: &mut Dice<'_>) -> Charter {
    let mut charter = charter(dice);
    charter.rules.retain(|_, rule| rule.deny && dice.chance(5));
    charter.kinds.values_mut().for_each(|kind| kind.confers.clear());
    let gifts = dice.chance(3);
    for role in charter.roles.values_mut() {
        role.given_to = role.given_to.filter(|to| gifts && *to == "members");
        // What one role gives another should not.
        let one = role.permissions.iter().nth(dice.below(2)).or(role.permissions.first()).cloned();
        role.permissions.retain(|_| dice.chance(2));
        role.permissions.extend(one);
        role.except.clear();
        role.clauses.truncate(dice.below(2));
        if dice.chance(5) {
            role.includes.clear();
        }
    }
    let roles: Vec<String> = charter.roles.keys().cloned().collect();
    for at in 0..=dice.below(2) {
        let kind = dice.pick(&["crate", "hold", "ship"]);
        let outer = kind != "ship" && dice.chance(4);
        let relation = dice.pick(&["owner", "crew", "lead"]);
        let naming = |root: &[&str]| {
            let within = if outer { &["within"][..] } else { &[] };
            path(&[root, within, &[relation]].concat())
        };
        let extra = dice.chance(3).then(|| expr(dice, kind, false, roles.len(), 1));
        if dice.chance(5) {
            let plain =
                |role: &&String| !charter.roles[*role].values && charter.roles[*role].standby.is_none();
            let Some(role) = roles.iter().filter(plain).nth(dice.below(2)).cloned() else { continue };
            let held = dice.pick(&roles);
            let holds = (kind != "ship" && held != role && dice.chance(5)).then_some(held);
            // It gives something, and what is held for it does not give the same.
            let of_kind = |action: &str| format!("{kind}:{action}");
            let conferred = charter.roles.get_mut(&role).expect("is there");
            conferred.permissions.extend(["look", "take"].map(of_kind));
            conferred.when = conferred.when.take().filter(|_| dice.chance(3));
            if let Some(held) = holds.as_ref().and_then(|held| charter.roles.get_mut(held)) {
                let other: BTreeSet<String> =
                    held.permissions.iter().filter(|one| !one.starts_with(kind)).cloned().collect();
                if !other.is_empty() {
                    held.permissions = other;
                }
            }
            let path = if holds.is_some() { path(&["within"]) } else { naming(&[]) };
            let confer = Confer { role, holds, path, when: extra, through_detached: dice.chance(3) };
            charter.kinds.get_mut(kind).expect("declared").confers.push(confer);
            if !strata_hold(&charter) {
                charter.kinds.get_mut(kind).expect("declared").confers.pop();
            }
            continue;
        }
        let need = match dice.below(4) {
            0 => Expr::Member(dice.pick(&["g1".to_owned(), "g2".to_owned()])),
            1 if relation == "owner" => {
                Expr::Compare("==", Term::Path(naming(&["resource"])), Term::Path(path(&["subject"])))
            }
            _ => Expr::Among(naming(&["resource"])),
        };
        let when = Some(Expr::All(std::iter::once(need).chain(extra).collect()));
        let across = dice.chance(5);
        let rule =
            Rule { deny: false, permissions: permissions(dice, &[kind]), when, for_anyone: false, across };
        charter.rules.insert(format!("way{at}"), rule);
    }
    charter
}

/// A conferral, unless it would close a circle that has no meaning.
fn confer(dice: &mut Dice<'_>, charter: &mut Charter, kind: &str) {
    let roles: Vec<String> = charter.roles.keys().cloned().collect();
    let role = dice.pick(&roles);
    if charter.roles[&role].values || charter.roles[&role].standby.is_some() {
        return;
    }
    let within = matches!(kind, "hold" | "crate");
    let (holds, path) = if dice.chance(6) {
        let paths: &[&[&str]] = match kind {
            "ship" => &[&["twin"], &["within"], &["twin", "within"], &["fleet"]],
            _ if within => &[&["within"], &["within"], &["twin"], &["fleet", "twin"], &["twin", "within"]],
            _ => &[&["twin"], &["fleet"]],
        };
        (Some(dice.pick(&roles)), path(dice.pick(paths)))
    } else {
        let mut paths: Vec<&[&str]> =
            vec![&["owner"], &["crew"], &["lead"], &["twin", "owner"], &["fleet", "owner"]];
        if within {
            paths.extend([&["within", "owner"][..], &["within", "crew"]]);
        }
        (None, path(dice.pick(&paths)))
    };
    let when = dice.chance(4).then(|| expr(dice, kind, false, roles.len(), 1));
    let confer = Confer { role, holds, path, when, through_detached: dice.chance(2) };
    charter.kinds.get_mut(kind).expect("declared").confers.push(confer);
    if !strata_hold(charter) {
        charter.kinds.get_mut(kind).expect("declared").confers.pop();
    }
}

fn strata_hold(charter: &Charter) -> bool {
    charter.kinds.values().flat_map(|kind| &kind.confers).all(|confer| {
        let back = |role: &String| charter.depends(role).contains(&confer.role);
        let strong = confer.when.iter().flat_map(asks).any(|role| back(&role));
        let wide = confer.path.iter().any(|step| step == "fleet" || step == "crew");
        !(strong || wide && confer.holds.as_ref().is_some_and(back))
    })
}

fn separate(dice: &mut Dice<'_>, charter: &mut Charter) {
    let roles: Vec<String> = charter.roles.keys().cloned().collect();
    let pair = vec![dice.pick(&roles), dice.pick(&roles)];
    let one_is_both = roles.iter().any(|outer| pair.iter().all(|role| charter.includes(outer, role)));
    if pair[0] != pair[1] && !one_is_both {
        charter.separations.push(pair);
    }
}

fn attribute(dice: &mut Dice<'_>, of: &'static str, usual: From) -> Attribute {
    let from = if dice.chance(3) { dice.pick(&[From::Register, From::Request, From::Either]) } else { usual };
    let values = (of == "text" && dice.chance(3)).then(|| vec![json!("red"), json!("blue")]);
    let default = dice.chance(2).then(|| match of {
        "integer" => json!(2),
        "boolean" => json!(false),
        "address" => json!("10.0.0.1"),
        "decimal" => json!("1.5"),
        "time" => json!(render::moment(NOW - 3_600)),
        "duration" => json!("45m"),
        _ => json!("red"),
    });
    Attribute { of, many: false, from, values, default }
}

fn relation(dice: &mut Dice<'_>, to: &[&str], many: bool) -> Relation {
    let from = if dice.chance(2) { dice.pick(&[From::Request, From::Either]) } else { From::Register };
    Relation { to: names(to), many, from, default_empty: many && dice.chance(4), across: dice.chance(3) }
}

fn schema(dice: &mut Dice<'_>, charter: &mut Charter) {
    for (key, within) in [
        ("ship", &["tenant"][..]),
        ("hold", &["ship"]),
        ("crate", &["hold", "ship", "beacon"]),
        ("beacon", &[]),
    ] {
        let mut kind = Kind { within: names(within), actions: names(&["look", "take"]), ..Kind::default() };
        kind.attributes.insert("size".into(), attribute(dice, "integer", From::Either));
        kind.attributes.insert("tag".into(), attribute(dice, "text", From::Either));
        kind.attributes.insert("open".into(), attribute(dice, "boolean", From::Either));
        kind.attributes.insert("net".into(), attribute(dice, "address", From::Either));
        kind.attributes.insert("load".into(), attribute(dice, "decimal", From::Either));
        kind.attributes.insert("due".into(), attribute(dice, "time", From::Either));
        kind.attributes.insert("slack".into(), attribute(dice, "duration", From::Either));
        let mut marks = attribute(dice, "text", From::Either);
        marks.many = true;
        marks.default = marks.default.map(|value| json!([value]));
        kind.attributes.insert("marks".into(), marks);
        let mut nets = attribute(dice, "address", From::Either);
        nets.many = true;
        nets.default = nets.default.map(|value| json!([value]));
        kind.attributes.insert("nets".into(), nets);
        kind.relations.insert("owner".into(), relation(dice, &["user"], false));
        kind.relations.insert("crew".into(), relation(dice, &["user", "group"], true));
        kind.relations.insert("twin".into(), relation(dice, &["ship"], false));
        kind.relations.insert("fleet".into(), relation(dice, &["ship"], true));
        // One name, which some types declare with one value and others with many.
        let many = matches!(key, "hold" | "beacon");
        kind.relations
            .insert("lead".into(), relation(dice, if many { &["user", "group"] } else { &["user"] }, many));
        charter.kinds.insert(key.into(), kind);
    }
    for key in ["user", "service"] {
        let mut kind = Kind::default();
        kind.attributes.insert("rank".into(), attribute(dice, "integer", From::Register));
        if key == "user" {
            kind.attributes.insert("tag".into(), attribute(dice, "text", From::Register));
            kind.relations.insert("boss".into(), relation(dice, &["user"], false));
            kind.relations.insert("team".into(), relation(dice, &["group"], true));
        }
        charter.kinds.insert(key.into(), kind);
    }
    for key in ["group", "tenant"] {
        charter.kinds.insert(key.into(), Kind::default());
    }
    for (key, of) in [("level", "integer"), ("zone", "text"), ("ip", "address")] {
        let attribute = attribute(dice, of, From::Request);
        charter.context.insert(key.into(), Attribute { from: From::Request, ..attribute });
    }
}

fn permissions(dice: &mut Dice<'_>, kinds: &[&str]) -> BTreeSet<String> {
    let all: Vec<String> =
        kinds.iter().flat_map(|kind| [format!("{kind}:look"), format!("{kind}:take")]).collect();
    let mut some: BTreeSet<String> = dice.some(&all, 7).into_iter().collect();
    some.insert(dice.pick(&all));
    some
}

/// What a role gives if all conditions are true.
pub fn given(charter: &Charter, role: &Role) -> BTreeSet<String> {
    let mut all = role.permissions.clone();
    all.extend(role.clauses.iter().flat_map(|(permissions, _)| permissions.iter().cloned()));
    for inner in &role.includes {
        all.extend(given(charter, &charter.roles[inner]));
    }
    all.retain(|permission| !role.except.contains(permission));
    all
}

fn role(dice: &mut Dice<'_>, charter: &Charter, at: usize) -> Role {
    let mut role = Role {
        permissions: permissions(dice, &RESOURCE_KINDS),
        grantable: !dice.chance(1),
        ..Role::default()
    };
    role.held_by =
        names(dice.pick(&[&["user"][..], &["user", "service"], &["user", "service"], &["service"]]))
            .into_iter()
            .collect();
    let places = names(&["everywhere", "tenant", "ship", "hold", "crate", "beacon"]);
    role.held_at =
        dice.chance(3).then(|| dice.some(&places, 6).into_iter().chain(["tenant".to_owned()]).collect());
    role.values = dice.chance(2);
    role.standby = dice.chance(2).then(|| dice.chance(4).then(|| in_reserve(dice)));
    // Only roles before this one, and only those it may include.
    for inner in (0..at).map(|inner| format!("r{inner}")) {
        if !dice.chance(3) {
            continue;
        }
        let other = &charter.roles[&inner];
        let by_fits = role.held_by.is_subset(&other.held_by);
        let at_fits = match (&role.held_at, &other.held_at) {
            (_, None) => true,
            (None, Some(_)) => false,
            (Some(own), Some(theirs)) => own.is_subset(theirs),
        };
        let standby_fits = other.standby.is_none() || role.standby.is_some();
        if by_fits && at_fits && standby_fits && (!other.values || role.values) {
            role.includes.push(inner);
        }
    }
    for _ in 0..dice.below(3) {
        let kind = dice.pick(&RESOURCE_KINDS);
        let permissions = permissions(dice, &[kind]);
        let when = expr(dice, kind, role.values, at, 2);
        role.clauses.push((permissions, when));
    }
    if dice.chance(3) {
        // A role's own guard can meet every type, so it reads what all of them declare.
        role.when = Some(expr(dice, "", role.values, at, 2));
    }
    let takeable: Vec<String> = given(charter, &role).into_iter().collect();
    if dice.chance(3) {
        role.except = [dice.pick(&takeable)].into();
    }
    if !role.values && role.standby.is_none() && dice.chance(2) {
        role.given_to = Some(dice.pick(&["members", "signed-in", "anyone"]));
    }
    role
}

/// What an activation may depend on.
fn in_reserve(dice: &mut Dice<'_>) -> Expr {
    match dice.below(4) {
        0 => Expr::Compare("<", Term::Path(path(&["context", "level"])), Term::Int(3)),
        1 => Expr::Compare(">=", Term::Path(path(&["subject", "rank"])), Term::Int(1)),
        2 => Expr::In(Term::Path(path(&["context", "zone"])), List::Literal(vec![Term::Text("red".into())])),
        _ => Expr::Compare("<", Term::Now, Term::Time(NOW + 50)),
    }
}

fn rule(dice: &mut Dice<'_>, charter: &Charter) -> Rule {
    let deny = dice.chance(4);
    let kind = dice.pick(&RESOURCE_KINDS);
    let when = expr(dice, kind, false, charter.roles.len(), 3);
    let across = dice.chance(4);
    Rule {
        deny,
        permissions: permissions(dice, &[kind]),
        when: Some(when).filter(|_| !deny || !dice.chance(1)),
        for_anyone: !deny && dice.chance(4) && (across || kind == "beacon"),
        across: !deny && across,
    }
}

fn path(parts: &[&str]) -> Vec<String> {
    names(parts)
}

/// A condition on resources of `kind`; of any type if that is empty.
fn expr(dice: &mut Dice<'_>, kind: &str, grant: bool, roles: usize, depth: usize) -> Expr {
    if depth > 0 && dice.chance(4) {
        let mut inner = || expr(dice, kind, grant, roles, depth - 1);
        let (a, b) = (inner(), inner());
        return match dice.below(3) {
            0 => Expr::All(vec![a, b]),
            1 => Expr::Any(vec![a, b]),
            _ => Expr::Not(Box::new(a)),
        };
    }
    let within = matches!(kind, "hold" | "crate" | "ship");
    match dice.below(24) {
        19 => {
            let load = Term::Path(path(&["resource", "load"]));
            let more = Term::Plus(Box::new(load.clone()), Box::new(Term::Decimal(5_000)));
            let rank = Term::Path(path(&["subject", "rank"]));
            let (a, b) =
                dice.pick(&[(load.clone(), Term::Decimal(15_000)), (more, rank), (load, Term::Int(2))]);
            Expr::Compare(dice.pick(&["<", "<=", ">", ">=", "==", "!="]), a, b)
        }
        20 => Expr::Compare(
            dice.pick(&["<", ">="]),
            Term::Now,
            Term::Plus(
                Box::new(Term::Path(path(&["resource", "due"]))),
                Box::new(Term::Path(path(&["resource", "slack"]))),
            ),
        ),
        21 => Expr::Compare(
            dice.pick(&["<", ">="]),
            Term::Minus(Box::new(Term::Now), Box::new(Term::Path(path(&["resource", "due"])))),
            Term::Duration(1_800),
        ),
        22 => {
            let at = dice.pick(&[Term::Now, Term::Path(path(&["resource", "due"]))]);
            let (a, b) = if dice.chance(5) {
                (Term::Clock(Box::new(at)), Term::Duration(12 * 3_600))
            } else {
                (Term::Hour(Box::new(at)), Term::Int(10))
            };
            Expr::Compare(dice.pick(&["<", ">", "=="]), a, b)
        }
        23 => {
            let at = dice.pick(&[Term::Now, Term::Path(path(&["resource", "due"]))]);
            let days = ["monday", "sunday", "friday"].map(|day| Term::Text(day.to_owned()));
            Expr::In(Term::Weekday(Box::new(at)), List::Literal(days.to_vec()))
        }
        0 => Expr::Truth(path(&["resource", "open"])),
        1 => Expr::Compare(
            dice.pick(&["==", "!="]),
            Term::Path(path(&["subject"])),
            Term::Path(path(&["resource", "owner"])),
        ),
        2 => Expr::Compare(
            dice.pick(&["<", "<=", ">", ">=", "==", "!="]),
            Term::Path(path(&["subject", "rank"])),
            sum(dice, Term::Path(path(&["resource", "size"]))),
        ),
        3 => Expr::Compare(
            dice.pick(&["<", ">=", "=="]),
            Term::Path(path(dice.pick(&[
                &["context", "level"][..],
                &["subject", "boss", "rank"],
                &["resource", "twin", "size"],
            ]))),
            Term::Int(i64::try_from(dice.below(4)).unwrap_or(0)),
        ),
        4 => {
            let texts = [
                &["resource", "tag"][..],
                &["subject", "tag"],
                &["context", "zone"],
                &["resource", "twin", "tag"],
            ];
            Expr::In(
                Term::Path(path(dice.pick(&texts))),
                List::Literal(vec![Term::Text("red".into()), Term::Text("quay".into())]),
            )
        }
        5 => Expr::In(
            Term::Path(path(&["subject"])),
            List::Path(path(dice.pick(&[&["resource", "crew", "boss"][..], &["subject", "team", "tenant"]]))),
        )
        .mended(),
        6 => Expr::Among(path(dice.pick(&[
            &["resource", "crew"][..],
            &["resource", "owner"],
            &["resource", "twin", "crew"],
            &["subject", "team"],
            &["resource", "lead"],
            &["resource", "lead"],
        ]))),
        7 => Expr::Known(path(dice.pick(&[
            &["resource", "owner"][..],
            &["resource", "crew"],
            &["resource", "marks"],
            &["resource", "tag"],
            &["subject", "boss", "rank"],
            &["resource", "crew", "rank"],
            &["resource", "twin", "owner"],
            &["resource", "lead"],
            &["context", "level"],
            &["resource", "id"],
        ]))),
        8 if roles > 0 => Expr::Holds(format!("r{}", dice.below(roles))),
        9 => Expr::Member(dice.pick(&["g1".to_owned(), "g2".to_owned()])),
        10 => {
            Expr::Fits(Term::Path(path(&["resource", "id"])), dice.pick(&["*1", "s?", "*", "x*y"]).to_owned())
        }
        11 => Expr::In(
            Term::Path(path(dice.pick(&[&["context", "ip"][..], &["resource", "net"]]))),
            List::Literal(vec![Term::Address("10.0.0.0/8".into()), Term::Address("192.168.1.7".into())]),
        ),
        12 if dice.chance(4) => Expr::Overlaps(
            List::Path(path(&["resource", "nets"])),
            List::Literal(vec![Term::Address("10.0.0.0/8".into()), Term::Address("192.168.1.7".into())]),
        ),
        12 => Expr::Overlaps(
            List::Path(path(&["resource", "marks"])),
            List::Literal(vec![Term::Text("red".into()), Term::Text("odd".into())]),
        ),
        13 => Expr::Compare(
            dice.pick(&["<", "=="]),
            Term::Count(Box::new(List::Path(path(&["resource", "crew"])))),
            Term::Int(1),
        ),
        14 if within => Expr::Compare(
            dice.pick(&["==", "!="]),
            Term::Path(path(&["resource", "tenant"])),
            Term::Entity("tenant:north".into()),
        ),
        15 if kind == "hold" => Expr::Compare(
            "==",
            Term::Path(path(&["subject"])),
            Term::Path(path(&["resource", "within", "owner"])),
        ),
        15 if kind == "crate" => {
            Expr::Compare(">", Term::Path(path(&["resource", "within", "size"])), Term::Int(1))
        }
        16 => Expr::Compare("<", Term::Now, Term::Time(NOW + 50)),
        17 if grant => Expr::In(Term::Path(path(&["resource", "tag"])), List::Path(path(&["grant", "tag"]))),
        17 => {
            let a = Term::Lower(Box::new(Term::Path(path(&["resource", "tag"]))));
            let b = Term::Text(dice.pick(&["re".to_owned(), "RED".to_owned(), "d".to_owned()]));
            match dice.below(3) {
                0 => Expr::Starts(a, b),
                1 => Expr::Ends(a, b),
                _ => Expr::Contains(a, b),
            }
        }
        18 if kind == "ship" => {
            let entity = dice.pick(&["ship:s1".to_owned(), "ship:s9".to_owned()]);
            Expr::Compare(dice.pick(&["==", "!="]), Term::Path(path(&["resource"])), Term::Entity(entity))
        }
        _ => Expr::Const(dice.chance(7)),
    }
}

impl Expr {
    /// A path that ends in another type than the needle's would not pass the check.
    fn mended(self) -> Expr {
        match self {
            Expr::In(needle, List::Path(path)) if path[1] == "team" => {
                let _ = needle;
                Expr::Known(path)
            }
            other => other,
        }
    }
}

fn sum(dice: &mut Dice<'_>, term: Term) -> Term {
    match dice.below(6) {
        0 => Term::Plus(Box::new(term), Box::new(Term::Int(1))),
        1 => Term::Minus(Box::new(term), Box::new(Term::Int(i64::MAX))),
        _ => term,
    }
}

// -- registers and questions ---------------------------------------------------------------------

const USERS: [&str; 4] = ["user:u1", "user:u2", "user:u3", "user:u4"];
const GROUPS: [&str; 3] = ["group:g1", "group:g2", "group:g3"];
const TENANTS: [&str; 2] = ["tenant:north", "tenant:south"];
const RESOURCES: [(&str, &[&str]); 8] = [
    ("ship:s1", &["tenant:north", "tenant:south"]),
    ("ship:s2", &["tenant:north", "tenant:south"]),
    ("hold:h1", &["ship:s1", "ship:s2"]),
    ("hold:h2", &["ship:s1", "ship:s2"]),
    ("crate:c1", &["hold:h1", "hold:h2", "ship:s1", "beacon:b2"]),
    ("crate:c2", &["hold:h1", "ship:s2", "beacon:b1"]),
    ("beacon:b1", &[]),
    ("beacon:b2", &[]),
];

pub fn stated(dice: &mut Dice<'_>, attribute: &Attribute) -> Option<Json> {
    // Sometimes something of another type, and sometimes nothing.
    if dice.chance(3) {
        return None;
    }
    let odd = dice.chance(1);
    let mut one = || match (attribute.of, odd) {
        ("integer", false) => json!(dice.below(4)),
        ("boolean", false) => json!(dice.chance(5)),
        ("address", false) => dice.pick(&[json!("10.1.2.3"), json!("192.168.1.7"), json!("10.0.0.0/4")]),
        ("text", false) => dice.pick(&[json!("red"), json!("blue"), json!("odd"), json!("RED")]),
        ("decimal", false) => dice.pick(&[json!("1.5"), json!(2), json!("1.25"), json!("0.5")]),
        ("time", false) => {
            let days = i64::try_from(dice.below(9)).unwrap_or(0);
            json!(render::moment(NOW - 4 * 86_400 + days * 80_000))
        }
        ("duration", false) => dice.pick(&[json!("90m"), json!("1d"), json!("2h30m"), json!("10s")]),
        _ => dice.pick(&[json!(true), json!("odd"), json!(7)]),
    };
    Some(if attribute.many && !odd { json!([one(), one()]) } else { one() })
}

pub fn register(dice: &mut Dice<'_>, charter: &Charter) -> Register {
    let mut register = Register::default();
    let mut add = |name: &str| {
        register.entities.insert(name.to_owned(), Entity { state: "active", ..Entity::default() });
    };
    TENANTS.iter().chain(&USERS).chain(&GROUPS).chain(&["service:f1"]).for_each(|name| add(name));
    RESOURCES.iter().for_each(|(name, _)| add(name));
    let all: Vec<String> = register.entities.keys().cloned().collect();
    for name in &all {
        let kind_key = name.split(':').next().unwrap_or("");
        let mut entity = Entity { state: "active", ..Entity::default() };
        let declared = &charter.kinds[kind_key];
        for (key, attribute) in &declared.attributes {
            entity.attributes.extend(stated(dice, attribute).map(|value| (key.clone(), value)));
        }
        for (key, relation) in &declared.relations {
            if dice.chance(6) {
                let fitting: Vec<String> = all
                    .iter()
                    .filter(|name| relation.to.iter().any(|kind| name.starts_with(&format!("{kind}:"))))
                    .cloned()
                    .collect();
                let mut to = vec![dice.pick(&fitting)];
                if relation.many {
                    to.push(dice.pick(&fitting));
                    to.dedup();
                    if dice.chance(2) {
                        to.clear();
                    }
                }
                entity.relations.insert(key.clone(), to);
            }
        }
        match kind_key {
            "user" | "service" => {
                entity.tenants = dice.some(&names(&TENANTS), 5).into_iter().collect();
                entity.state = if dice.chance(1) { "suspended" } else { "active" };
            }
            "group" => {
                // More often of one tenant, so that groups in groups share it.
                let of = usize::from(dice.chance(3));
                entity.tenant = dice.chance(6).then(|| TENANTS[of].to_owned());
                // Only groups before this one, so that nesting has no loops.
                let inner = GROUPS.iter().filter(|group| **group < name.as_str());
                let candidates: Vec<String> =
                    USERS.iter().chain(&["service:f1"]).chain(inner).map(|name| (*name).to_owned()).collect();
                entity.members = dice.some(&candidates, 4).into_iter().collect();
            }
            _ => {
                if let Some((_, outer)) = RESOURCES.iter().find(|(known, _)| known == name)
                    && !outer.is_empty()
                {
                    entity.within = Some(dice.pick(outer).to_owned());
                    entity.detached = dice.chance(2);
                }
            }
        }
        register.entities.insert(name.clone(), entity);
    }
    for (at, tenant) in [("north/own", "tenant:north"), ("south/own", "tenant:south")] {
        register.made.insert(at.to_owned(), (tenant.to_owned(), permissions(dice, &RESOURCE_KINDS)));
    }
    grants(dice, charter, &mut register);
    activations(dice, charter, &mut register);
    register
}

fn activations(dice: &mut Dice<'_>, charter: &Charter, register: &mut Register) {
    for (at, grant) in register.grants.iter().enumerate() {
        let on_standby = charter.roles.get(&grant.role).is_some_and(|role| role.standby.is_some());
        if !on_standby || !dice.chance(6) {
            continue;
        }
        let subject =
            if grant.to.starts_with("group:") { dice.pick(&USERS).to_owned() } else { grant.to.clone() };
        let at_times = |dice: &mut Dice<'_>| i64::try_from(dice.below(3)).unwrap_or(0) * 50;
        register.activations.push(Activation {
            grant: at,
            subject,
            session: dice.chance(4).then(|| dice.pick(&["s1", "s2"]).to_owned()),
            from: NOW - 50 + at_times(dice),
            until: NOW + 60 + at_times(dice),
        });
    }
}

fn grants(dice: &mut Dice<'_>, charter: &Charter, register: &mut Register) {
    let roles: Vec<String> = charter.roles.keys().chain(register.made.keys()).cloned().collect();
    let holders = [&USERS[..], &GROUPS[..], &["service:f1"]].concat();
    let places: Vec<&str> =
        ["everywhere"].into_iter().chain(TENANTS).chain(RESOURCES.iter().map(|(name, _)| *name)).collect();
    for _ in 0..dice.below(16) + 14 {
        let role = dice.pick(&roles);
        let values = (charter.roles.get(&role).is_some_and(|role| role.values) && !dice.chance(1))
            .then(|| vec![dice.pick(&[json!("red"), json!("blue")]), json!("odd")]);
        let grant = Grant {
            role,
            to: dice.pick(&holders).to_owned(),
            at: dice.pick(&places).to_owned(),
            from: dice.chance(2).then(|| NOW + i64::try_from(dice.below(3)).unwrap_or(0) * 50 - 50),
            until: dice.chance(2).then(|| NOW + 60 + i64::try_from(dice.below(3)).unwrap_or(0) * 50),
            values,
        };
        let same = |other: &Grant| (&other.role, &other.to, &other.at) == (&grant.role, &grant.to, &grant.at);
        // A tenant's own role is held by users: the register takes no other grant of it.
        let held = !(grant.role.contains('/') && grant.to.starts_with("service:"));
        if held && !register.grants.iter().any(same) {
            register.grants.push(grant);
        }
    }
}

pub fn question(dice: &mut Dice<'_>, charter: &Charter) -> Question {
    let kind = dice.pick(&RESOURCE_KINDS);
    let subjects = ["user:u1", "user:u2", "user:u3", "user:u4", "service:f1", "user:nobody", "anonymous"];
    let own: Vec<&str> = RESOURCES
        .iter()
        .map(|(name, _)| *name)
        .filter(|name| name.starts_with(&format!("{kind}:")))
        .collect();
    let registered = !dice.chance(3);
    let resource = if registered {
        Some(dice.pick(&own).to_owned())
    } else {
        dice.chance(5).then(|| format!("{kind}:{}9", &kind[..1]))
    };
    let subject = dice.pick(&subjects).to_owned();
    let mut question = Question {
        permission: format!("{kind}:{}", dice.pick(&["look", "take"])),
        within: dice
            .chance(6)
            .then(|| dice.pick(&["tenant:north", "ship:s1", "hold:h1", "ship:s9", "beacon:b1"]).to_owned()),
        now: NOW + i64::try_from(dice.below(3)).unwrap_or(0) * 50,
        subject,
        resource,
        ..Question::default()
    };
    let subject_kind = question.subject.split(':').next().unwrap_or("").to_owned();
    for (kind, said) in [(kind, &mut question.of_resource), (subject_kind.as_str(), &mut question.of_subject)]
    {
        let Some(declared) = charter.kinds.get(kind) else { continue };
        for (key, attribute) in &declared.attributes {
            if dice.chance(4) {
                said.extend(stated(dice, attribute).map(|value| (key.clone(), value)));
            }
        }
        for (key, relation) in &declared.relations {
            if dice.chance(3) {
                let name = match relation.to[0].as_str() {
                    "ship" => dice.pick(&["ship:s1", "ship:s2", "ship:s9"]),
                    "group" => dice.pick(&["group:g1", "group:g3"]),
                    _ => dice.pick(&["user:u1", "user:u2", "user:nobody"]),
                };
                said.insert(key.clone(), if relation.many { json!([name]) } else { json!(name) });
            }
        }
    }
    for (key, attribute) in &charter.context {
        question.context.extend(stated(dice, attribute).map(|value| (key.clone(), value)));
    }
    question.session = dice.chance(5).then(|| dice.pick(&["s1", "s2"]).to_owned());
    question
}

/// What was met, for the report.
#[derive(Debug, Default)]
pub struct Tally {
    /// How often each answer was given, by its reason.
    pub answers: BTreeMap<String, usize>,
    /// How many charters with a register there were.
    pub cases: usize,
    /// In how many of them something decisive was met on the way.
    pub met: BTreeMap<&'static str, usize>,
}

/// A register in which no ship has a twin, which could be itself: what a path reads of a row's own
/// resource is what the register says of it, which these tests change for the row under trial.
pub fn register_for_rows(dice: &mut Dice<'_>, charter: &Charter) -> Register {
    let mut register = register(dice, charter);
    for ship in ["ship:s1", "ship:s2"] {
        if let Some(entity) = register.entities.get_mut(ship) {
            entity.relations.remove("twin");
        }
    }
    register
}

/// A row of an application's table about resources of a type: columns of the declared types, some
/// of them null, some outside the declared values.
pub fn row(dice: &mut Dice<'_>, charter: &Charter, kind: &str) -> BTreeMap<String, Json> {
    let known: Vec<&str> =
        RESOURCES.iter().map(|(name, _)| *name).filter(|name| name.starts_with(kind)).collect();
    let id = if dice.chance(7) { dice.pick(&known) } else { "x:s9" };
    let id = id.split(':').nth(1).unwrap_or_default();
    let mut row = BTreeMap::from([("id".to_owned(), json!(id))]);
    for (name, attribute) in &charter.kinds[kind].attributes {
        let mut one = || match attribute.of {
            "integer" => json!(dice.below(4)),
            "boolean" => json!(dice.chance(5)),
            "address" => dice.pick(&[json!("10.1.2.3"), json!("192.168.1.7"), json!("10.0.0.0/8")]),
            "decimal" => dice.pick(&[json!("1.5"), json!("2"), json!("0.25")]),
            "time" => json!(render::moment(NOW - 3_600 * i64::try_from(dice.below(60)).unwrap_or(0))),
            "duration" => dice.pick(&[json!("90m"), json!("10s"), json!("1d")]),
            _ => dice.pick(&[json!("red"), json!("blue"), json!("odd"), json!("RED")]),
        };
        let value = if attribute.many { json!([one(), one()]) } else { one() };
        row.insert(name.clone(), if dice.chance(3) { Json::Null } else { value });
    }
    row
}

/// Something registered that a resource may lie within, something that is not, or nothing.
#[allow(dead_code, reason = "asked for by the tests of row filters in PostgreSQL")]
pub fn outer(dice: &mut Dice<'_>, kind: &str) -> Option<String> {
    let outers: &[&str] = match kind {
        "ship" => &["tenant:north", "tenant:south", "tenant:none"],
        "hold" => &["ship:s1", "ship:s2", "ship:s9"],
        _ => &["hold:h1", "ship:s2", "hold:h9", "beacon:b1"],
    };
    dice.chance(8).then(|| dice.pick(outers).to_owned())
}

/// A string of bytes to draw from, the same for a seed wherever it is made.
#[allow(dead_code, reason = "asked for by the tests of row filters in PostgreSQL")]
pub fn bytes(seed: u64, length: usize) -> Vec<u8> {
    let mut state = seed.wrapping_mul(0x9e37_79b9_7f4a_7c15) ^ 0x5851_f42d_4c95_7f2d;
    let mut byte = || {
        state = state.wrapping_mul(6_364_136_223_846_793_005).wrapping_add(1_442_695_040_888_963_407);
        u8::try_from(state >> 56).unwrap_or(0)
    };
    (0..length).map(|_| byte()).collect()
}
