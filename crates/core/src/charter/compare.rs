//! What differs in meaning between two charters: not what stands where, but what somebody may do
//! under one and not under the other, and what is declared.

use super::model::{Attribute, Issuer, Kind, Model, NameId, PermId, Relation, Role, Stated};
use super::policy::Policy;
use super::print;
use super::syntax::{Effect, Unregistered};
use crate::value::format_duration;
use serde::Serialize;
use std::collections::{BTreeMap, BTreeSet};

/// One difference.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
#[serde(rename_all = "kebab-case")]
pub struct Difference {
    /// What it is about: `application`, `type`, `context`, `group`, `role`, `rule`, `separation`,
    /// `tenant-roles`, `route`, `affordance`, `issuer`, `charter`.
    pub about: &'static str,
    /// Its key.
    pub key: String,
    /// What is different, in words.
    pub words: String,
    /// Whether more may be done than before, less, or it cannot be told from the charter alone.
    pub effect: Direction,
}

/// Which way a difference goes.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Serialize)]
#[serde(rename_all = "kebab-case")]
pub enum Direction {
    /// More may be allowed.
    Wider,
    /// Less may be allowed.
    Narrower,
    /// Either, or neither.
    Other,
}

impl Direction {
    /// The word for it.
    pub fn word(self) -> &'static str {
        match self {
            Direction::Wider => "wider",
            Direction::Narrower => "narrower",
            Direction::Other => "other",
        }
    }
}

/// All differences from one charter to another, by what they are about and key.
pub fn compare(old: &Policy, new: &Policy) -> Vec<Difference> {
    let mut told = Told::default();
    let (a, b) = (old.model(), new.model());
    if a.name != b.name {
        told.other("charter", "", format!("is called {:?}, was {:?}", b.name, a.name));
    }
    let applications = |model: &Model| facts(model.applications.iter().map(|app| (app.key.clone(), ())));
    told.keys("application", &applications(a), &applications(b), Direction::Other);
    types(&mut told, a, b);
    let context = |model: &Model| {
        facts(model.context.iter().map(|of| (model.names.text(of.name.0).to_owned(), attribute(of))))
    };
    told.texts("context", &context(a), &context(b));
    let groups = |model: &Model| facts(model.groups.iter().map(|key| (key.clone(), ())));
    told.keys("group", &groups(a), &groups(b), Direction::Other);
    roles(&mut told, a, b);
    rules(&mut told, a, b);
    separations(&mut told, a, b);
    tenant_clauses(&mut told, a, b);
    told.texts("route", &routes(a), &routes(b));
    told.texts("affordance", &affordances(a), &affordances(b));
    issuers(&mut told, a, b);
    told.0
}

type Facts<T> = BTreeMap<String, T>;

fn facts<T>(pairs: impl Iterator<Item = (String, T)>) -> Facts<T> {
    pairs.collect()
}

#[derive(Default)]
struct Told(Vec<Difference>);

impl Told {
    fn tell(&mut self, about: &'static str, key: &str, words: impl Into<String>, effect: Direction) {
        self.0.push(Difference { about, key: key.to_owned(), words: words.into(), effect });
    }

    fn other(&mut self, about: &'static str, key: &str, words: impl Into<String>) {
        self.tell(about, key, words, Direction::Other);
    }

    /// Keys that came and went; gives those that stayed.
    fn keys<'f, T>(
        &mut self,
        about: &'static str,
        old: &'f Facts<T>,
        new: &'f Facts<T>,
        added: Direction,
    ) -> Vec<(&'f str, &'f T, &'f T)> {
        let gone = match added {
            Direction::Wider => Direction::Narrower,
            Direction::Narrower => Direction::Wider,
            Direction::Other => Direction::Other,
        };
        let mut stayed = Vec::new();
        for (key, before) in old {
            match new.get(key) {
                Some(after) => stayed.push((key.as_str(), before, after)),
                None => self.tell(about, key, "is gone", gone),
            }
        }
        for key in new.keys().filter(|key| !old.contains_key(*key)) {
            self.tell(about, key, "is new", added);
        }
        stayed
    }

    /// Things told by one text each.
    fn texts(&mut self, about: &'static str, old: &Facts<String>, new: &Facts<String>) {
        for (key, before, after) in self.keys(about, old, new, Direction::Other) {
            if before != after {
                self.other(about, key, format!("is {after}, was {before}"));
            }
        }
    }
}

// -- types ---------------------------------------------------------------------------------------

fn types(told: &mut Told, a: &Model, b: &Model) {
    let kinds =
        |model: &Model| facts(model.kinds.iter().enumerate().map(|(at, kind)| (kind.key.clone(), at)));
    let (old, new) = (kinds(a), kinds(b));
    for (key, before, after) in told.keys("type", &old, &new, Direction::Other) {
        let (before, after) = (&a.kinds[*before], &b.kinds[*after]);
        let within = |model: &Model, kind: &Kind| {
            let outer: BTreeSet<&str> =
                kind.within.iter().map(|of| model.kinds[of.index()].key.as_str()).collect();
            outer.into_iter().collect::<Vec<_>>().join(" or ")
        };
        let (was, is) = (within(a, before), within(b, after));
        if was != is {
            let place =
                |text: &str| if text.is_empty() { "nowhere".to_owned() } else { format!("within {text}") };
            told.other("type", key, format!("lies {}, lay {}", place(&is), place(&was)));
        }
        let owner =
            |model: &Model, kind: &Kind| kind.application.map(|at| model.applications[at].key.clone());
        if owner(a, before) != owner(b, after) {
            let owner = owner(b, after).unwrap_or_default();
            told.other("type", key, format!("belongs to {owner} now"));
        }
        let actions = |model: &Model, kind: &Kind| -> BTreeSet<String> {
            kind.permissions.clone().map(|at| model.permissions[at as usize].action.clone()).collect()
        };
        let (was, is) = (actions(a, before), actions(b, after));
        is.difference(&was)
            .for_each(|action| told.other("type", key, format!("has the new action {action}")));
        was.difference(&is).for_each(|action| {
            told.tell("type", key, format!("has the action {action} no longer"), Direction::Narrower);
        });
        let named = |model: &Model, kind: &Kind| {
            let attributes =
                kind.attributes.iter().map(|of| (model.names.text(of.name.0).to_owned(), attribute(of)));
            let relations =
                kind.relations.iter().map(|of| (model.names.text(of.name.0).to_owned(), relation(model, of)));
            facts(attributes.chain(relations))
        };
        let (was, is) = (named(a, before), named(b, after));
        for (name, text) in &is {
            match was.get(name) {
                None => told.other("type", key, format!("declares {name}: {text}")),
                Some(before) if before != text => {
                    told.other("type", key, format!("{name} is {text}, was {before}"));
                }
                Some(_) => {}
            }
        }
        for name in was.keys().filter(|name| !is.contains_key(*name)) {
            told.other("type", key, format!("declares {name} no longer"));
        }
        let (was, is) = (confers(a, before), confers(b, after));
        for words in is.difference(&was) {
            told.tell("type", key, format!("confers {words}"), Direction::Wider);
        }
        for words in was.difference(&is) {
            told.tell("type", key, format!("confers no longer {words}"), Direction::Narrower);
        }
    }
}

fn attribute(of: &Attribute) -> String {
    let mut text = of.kind.to_string();
    if of.many {
        text.push_str(", a list");
    }
    text.push_str(&format!(", from {}", of.from.words()));
    if let Some(values) = &of.values {
        let values: Vec<String> = values.iter().map(ToString::to_string).collect();
        text.push_str(&format!(", one of {}", values.join(", ")));
    }
    match &of.default {
        None | Some(Stated::Unfit) => {}
        Some(Stated::One(scalar)) => text.push_str(&format!(", {} by default", scalar.to_json())),
        Some(Stated::Many(scalars)) => {
            let all: Vec<String> = scalars.iter().map(|scalar| scalar.to_json().to_string()).collect();
            text.push_str(&format!(", [{}] by default", all.join(", ")));
        }
    }
    text
}

fn relation(model: &Model, of: &Relation) -> String {
    let to: Vec<&str> = of.to.iter().map(|kind| model.kinds[kind.index()].key.as_str()).collect();
    let mut text = format!("to {}", to.join(" or "));
    for (is, words) in [
        (of.many, ", several"),
        (of.default_empty, ", none by default"),
        (of.across_tenants, ", across tenants"),
        (!of.from.reads_register(), ", from request"),
        (of.from.reads_register() && of.from.reads_request(), ", from register or request"),
    ] {
        if is {
            text.push_str(words);
        }
    }
    text
}

fn confers(model: &Model, kind: &Kind) -> BTreeSet<String> {
    let range = kind.confers.clone();
    let of = range.map(|at| &model.confers[at as usize]);
    of.map(|confer| {
        let role = &model.roles[confer.role.index()].key;
        let path = print::path(model, &confer.path);
        let mut text = match confer.holds {
            None => format!("{role} on {path}"),
            Some(held) => format!("{role} on who holds {} at {path}", model.roles[held.index()].key),
        };
        if confer.through_detached {
            text.push_str(", through what is detached");
        }
        if let Some(when) = &confer.when {
            text.push_str(&format!(", when {}", print::condition(model, when)));
        }
        text
    })
    .collect()
}

// -- roles ---------------------------------------------------------------------------------------

/// The ways in which a role gives permissions: each a set of conditions, all of which must hold.
type Ways = BTreeMap<String, BTreeSet<BTreeSet<String>>>;

fn ways(model: &Model, at: usize, done: &mut Vec<Option<Ways>>) -> Ways {
    if let Some(known) = &done[at] {
        return known.clone();
    }
    let role = &model.roles[at];
    let mut all = Ways::new();
    let text = |permission: &PermId| model.permissions[permission.index()].text.clone();
    for permission in &role.permissions {
        all.entry(text(permission)).or_default().insert(BTreeSet::new());
    }
    for clause in &role.clauses {
        for permission in &clause.permissions {
            let when = print::condition(model, &clause.when);
            all.entry(text(permission)).or_default().insert(BTreeSet::from([when]));
        }
    }
    for inner in &role.includes {
        for (permission, ways) in self::ways(model, inner.index(), done) {
            all.entry(permission).or_default().extend(ways);
        }
    }
    for permission in &role.except {
        all.remove(&text(permission));
    }
    for ways in all.values_mut() {
        if let Some(when) = &role.when {
            let when = print::condition(model, when);
            *ways = std::mem::take(ways)
                .into_iter()
                .map(|mut way| {
                    way.insert(when.clone());
                    way
                })
                .collect();
        }
        // What is given under fewer conditions is given under more.
        let kept: BTreeSet<_> = ways
            .iter()
            .filter(|way| !ways.iter().any(|other| other != *way && other.is_subset(way)))
            .cloned()
            .collect();
        *ways = kept;
    }
    done[at] = Some(all.clone());
    all
}

fn when_words(ways: &BTreeSet<BTreeSet<String>>) -> String {
    let each: Vec<String> = ways
        .iter()
        .map(|way| match way.len() {
            0 => "always".to_owned(),
            _ => format!("when {}", way.iter().cloned().collect::<Vec<_>>().join(" and ")),
        })
        .collect();
    each.join(", or ")
}

fn roles(told: &mut Told, a: &Model, b: &Model) {
    let keyed =
        |model: &Model| facts(model.roles.iter().enumerate().map(|(at, role)| (role.key.clone(), at)));
    let (old, new) = (keyed(a), keyed(b));
    let (mut done_a, mut done_b) = (vec![None; a.roles.len()], vec![None; b.roles.len()]);
    for (key, before, after) in told.keys("role", &old, &new, Direction::Wider) {
        let (was, is) = (ways(a, *before, &mut done_a), ways(b, *after, &mut done_b));
        for (permission, ways) in &is {
            match was.get(permission) {
                None => {
                    let words = format!("gives {permission} now, {}", when_words(ways));
                    told.tell("role", key, words, Direction::Wider);
                }
                Some(before) if before != ways => {
                    let covers = |outer: &BTreeSet<BTreeSet<String>>, inner: &BTreeSet<BTreeSet<String>>| {
                        inner.iter().all(|way| outer.iter().any(|other| other.is_subset(way)))
                    };
                    let effect = match (covers(ways, before), covers(before, ways)) {
                        (true, false) => Direction::Wider,
                        (false, true) => Direction::Narrower,
                        _ => Direction::Other,
                    };
                    let words =
                        format!("gives {permission} {}, gave it {}", when_words(ways), when_words(before));
                    told.tell("role", key, words, effect);
                }
                Some(_) => {}
            }
        }
        for permission in was.keys().filter(|permission| !is.contains_key(*permission)) {
            told.tell("role", key, format!("gives {permission} no longer"), Direction::Narrower);
        }
        let (was, is) = (&a.roles[*before], &b.roles[*after]);
        terms(told, key, (a, was), (b, is));
    }
}

/// On what terms a role is held.
fn terms(told: &mut Told, key: &str, (a, was): (&Model, &Role), (b, is): (&Model, &Role)) {
    let by = |role: &Role| match (role.held_by_users, role.held_by_services) {
        (true, true) => "users and services",
        (true, false) => "users",
        (false, true) => "services",
        (false, false) => "nobody",
    };
    let at = |model: &Model, role: &Role| match &role.held_at {
        None => "any place".to_owned(),
        Some(held) => {
            let kinds = held.kinds.iter().map(|kind| model.kinds[kind.index()].key.as_str());
            let mut names: Vec<&str> = kinds.chain(held.everywhere.then_some("everywhere")).collect();
            names.sort_unstable();
            names.join(", ")
        }
    };
    let given = |role: &Role| role.given_to.map_or("nobody without a grant", |given| given.text());
    let standby = |model: &Model, role: &Role| match &role.standby {
        None => "not on standby".to_owned(),
        Some(standby) => {
            let when = standby.when.as_ref().map(|when| format!(", when {}", print::condition(model, when)));
            format!(
                "on standby for at most {}{}{}{}",
                format_duration(standby.longest),
                if standby.reason { ", with a reason" } else { "" },
                if standby.by_self { ", by its holder too" } else { "" },
                when.unwrap_or_default()
            )
        }
    };
    let values = |role: &Role| {
        let names: BTreeSet<String> =
            role.values.iter().map(|(name, kind)| format!("{name} ({kind})")).collect();
        if names.is_empty() {
            "no values".to_owned()
        } else {
            names.into_iter().collect::<Vec<_>>().join(", ")
        }
    };
    for (before, after, verb) in [
        (by(was).to_owned(), by(is).to_owned(), "is held by"),
        (at(a, was), at(b, is), "is granted at"),
        (given(was).to_owned(), given(is).to_owned(), "is given to"),
        (standby(a, was), standby(b, is), "is"),
        (values(was), values(is), "has"),
    ] {
        if before != after {
            told.other("role", key, format!("{verb} {after}, before: {before}"));
        }
    }
    match (was.grantable, is.grantable) {
        (true, false) => told.tell("role", key, "can no longer be granted", Direction::Narrower),
        (false, true) => told.tell("role", key, "can be granted now", Direction::Wider),
        _ => {}
    }
}

// -- rules and the rest --------------------------------------------------------------------------

fn rules(told: &mut Told, a: &Model, b: &Model) {
    let keyed =
        |model: &Model| facts(model.rules.iter().enumerate().map(|(at, rule)| (rule.key.clone(), at)));
    let (old, new) = (keyed(a), keyed(b));
    for (key, at) in old.iter().filter(|(key, _)| !new.contains_key(*key)) {
        let (words, effect) = match a.rules[*at].effect {
            Effect::Deny => ("denies no longer: it is gone", Direction::Wider),
            Effect::Allow => ("allows no longer: it is gone", Direction::Narrower),
        };
        told.tell("rule", key, words, effect);
    }
    for (key, at) in &new {
        let rule = &b.rules[*at];
        let when = rule
            .when
            .as_ref()
            .map_or("always".to_owned(), |when| format!("when {}", print::condition(b, when)));
        let texts = |model: &Model, permissions: &[PermId]| -> BTreeSet<String> {
            permissions.iter().map(|p| model.permissions[p.index()].text.clone()).collect()
        };
        let of = texts(b, &rule.permissions);
        let (verb, more, less) = match rule.effect {
            Effect::Deny => ("denies", Direction::Narrower, Direction::Wider),
            Effect::Allow => ("allows", Direction::Wider, Direction::Narrower),
        };
        let Some(before) = old.get(key).map(|at| &a.rules[*at]) else {
            let list = of.into_iter().collect::<Vec<_>>().join(", ");
            told.tell("rule", key, format!("is new: {verb} {list}, {when}"), more);
            continue;
        };
        if before.effect != rule.effect {
            told.tell("rule", key, format!("{verb} now"), more);
        }
        let was = texts(a, &before.permissions);
        of.difference(&was).for_each(|p| told.tell("rule", key, format!("{verb} {p} now"), more));
        was.difference(&of).for_each(|p| told.tell("rule", key, format!("{verb} {p} no longer"), less));
        let was = before
            .when
            .as_ref()
            .map_or("always".to_owned(), |when| format!("when {}", print::condition(a, when)));
        if was != when {
            let effect = match (was.as_str(), when.as_str()) {
                ("always", _) => less,
                (_, "always") => more,
                (was, when) if when.starts_with(&format!("{was} and ")) => less,
                (was, when) if was.starts_with(&format!("{when} and ")) => more,
                _ => Direction::Other,
            };
            told.tell("rule", key, format!("{verb} {when}; before, {was}"), effect);
        }
        for (was, is, words) in [
            (before.for_anyone, rule.for_anyone, "reaches anyone"),
            (before.across_tenants, rule.across_tenants, "reaches members of other tenants"),
        ] {
            match (was, is) {
                (false, true) => told.tell("rule", key, format!("{words} now"), more),
                (true, false) => told.tell("rule", key, format!("{words} no longer"), less),
                _ => {}
            }
        }
        if before.message != rule.message || before.advice != rule.advice {
            told.other("rule", key, "tells another message or advice");
        }
    }
}

fn separations(told: &mut Told, a: &Model, b: &Model) {
    let keyed = |model: &Model| {
        facts(model.separations.iter().map(|separation| {
            let roles = separation.roles.iter().map(|role| model.roles[role.index()].key.clone());
            (separation.key.clone(), roles.collect::<Vec<_>>().join(" from "))
        }))
    };
    let (old, new) = (keyed(a), keyed(b));
    for (key, before, after) in told.keys("separation", &old, &new, Direction::Narrower) {
        if before != after {
            told.other("separation", key, format!("separates {after}, separated {before}"));
        }
    }
}

fn tenant_clauses(told: &mut Told, a: &Model, b: &Model) {
    let keyed = |model: &Model| {
        let mut all: BTreeMap<String, BTreeSet<String>> = BTreeMap::new();
        for clause in &model.tenant_clauses {
            let when = clause
                .when
                .as_ref()
                .map_or("always".to_owned(), |when| format!("when {}", print::condition(model, when)));
            for permission in &clause.permissions {
                all.entry(model.permissions[permission.index()].text.clone())
                    .or_default()
                    .insert(when.clone());
            }
        }
        facts(
            all.into_iter().map(|(text, whens)| (text, whens.into_iter().collect::<Vec<_>>().join(", or "))),
        )
    };
    let (old, new) = (keyed(a), keyed(b));
    for (key, before, after) in told.keys("tenant-roles", &old, &new, Direction::Wider) {
        if before != after {
            told.other("tenant-roles", key, format!("may be given {after}; before, {before}"));
        }
    }
}

fn routes(model: &Model) -> Facts<String> {
    facts(model.routes.iter().map(|route| {
        let key = format!("{} {} {}", model.applications[route.application].key, route.method, route.path());
        let (mut permissions, about) = route.needs.told(model);
        permissions.sort_unstable();
        let registered = if route.unregistered { ", registered or not" } else { "" };
        let needs = match permissions.is_empty() {
            true => format!("for {about}"),
            false => format!("{} of {about}{registered}", permissions.join(" and ")),
        };
        (key, needs)
    }))
}

fn affordances(model: &Model) -> Facts<String> {
    facts(model.affordances.iter().map(|of| {
        let permission = |p: PermId| model.permissions[p.index()].text.as_str();
        let under = of.under.map_or_else(String::new, |at| format!(", under {}", model.affordances[at].key));
        let key = format!("{}/{}", model.applications[of.application].key, of.key);
        (key, format!("shown by {}, enabled by {}{under}", permission(of.visible), permission(of.enabled)))
    }))
}

// -- issuers -------------------------------------------------------------------------------------

fn issuers(told: &mut Told, a: &Model, b: &Model) {
    let all = |model: &Model| {
        facts(model.issuers.iter().map(|issuer| (issuer.key.clone(), vouchers(model, issuer))))
    };
    let (old, new) = (all(a), all(b));
    for (key, before, after) in told.keys("issuer", &old, &new, Direction::Wider) {
        for (what, (is, direction)) in after {
            match before.get(what) {
                None => told.tell("issuer", key, format!("{what} {is}").trim_end(), *direction),
                Some((was, _)) if was != is => told.other("issuer", key, format!("{what} {is}, was {was}")),
                Some(_) => {}
            }
        }
        for (what, (was, direction)) in before.iter().filter(|(what, _)| !after.contains_key(*what)) {
            let back = match direction {
                Direction::Wider => Direction::Narrower,
                Direction::Narrower => Direction::Wider,
                Direction::Other => Direction::Other,
            };
            told.tell("issuer", key, format!("{what} {was} no longer"), back);
        }
    }
}

/// What its tokens count for: what is counted, by what, and whether more of it lets more in.
fn vouchers(model: &Model, issuer: &Issuer) -> Facts<(String, Direction)> {
    use Direction::{Narrower, Other, Wider};
    let mut all = Facts::new();
    let mut add = |what: String, by: String, direction| all.insert(what, (by, direction));
    let name = |name: NameId| model.names.text(name.0);
    for at in &issuer.applications {
        add(format!("counts for {}", model.applications[*at].key), String::new(), Wider);
    }
    add("names users".to_owned(), format!("by {:?}, after {:?}", issuer.subject, issuer.prefix), Other);
    for (is, what) in [(issuer.lower_case, "writes names small"), (issuer.same_people, "shares its people")] {
        if is {
            add(what.to_owned(), String::new(), Other);
        }
    }
    if let Some((claim, values)) = &issuer.services {
        add("tells services".to_owned(), format!("by {claim:?}, one of {}", values.join(", ")), Other);
    }
    if let Some(claim) = &issuer.session {
        add("tells the session".to_owned(), format!("by {claim:?}"), Other);
    }
    if issuer.unregistered == Unregistered::SignedIn {
        add("counts who is not registered".to_owned(), "as signed in".to_owned(), Wider);
    }
    if let Some(tenants) = &issuer.tenants {
        add("vouches for tenants".to_owned(), format!("by {:?}", tenants.claim), Wider);
        for tenant in tenants.only.iter().flatten() {
            add(format!("may vouch for {tenant}"), String::new(), Wider);
        }
        if tenants.only.is_some() {
            add("vouches for no other tenants".to_owned(), String::new(), Narrower);
        }
    }
    for (attribute, claim) in &issuer.attributes {
        add(format!("vouches for {}", name(*attribute)), format!("by {claim:?}"), Other);
    }
    for (at, claim) in &issuer.context {
        add(format!("vouches for context.{}", name(model.context[*at].name)), format!("by {claim:?}"), Other);
    }
    for groups in &issuer.groups {
        for (value, group) in &groups.map {
            add(format!("vouches for {group}"), format!("by {value:?} in {:?}", groups.claim), Wider);
        }
        if groups.by_name {
            add(format!("vouches for groups by name in {:?}", groups.claim), String::new(), Wider);
        }
        if groups.stale_ok {
            add(format!("vouches for groups of a directory in {:?}", groups.claim), String::new(), Wider);
        }
    }
    all
}
