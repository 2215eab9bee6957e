//! All questions have one meaning: what searches and filters say, a decision says of each.

use crate::generate::{self, Dice};
use crate::naive::Charter;
use crate::render;
use crate::worlds::{allowed, row_is_allowed, world};
use ostrog_core::decide::actions::actions;
use ostrog_core::decide::hints::{Judged, hints};
use ostrog_core::decide::holders::{holders, page as holders_page};
use ostrog_core::decide::in_force::Under;
use ostrog_core::decide::reach::{Reaching, reach};
use ostrog_core::decide::rows::{NoFilter, rows};
use ostrog_core::prelude::*;
use proptest::prelude::*;
use proptest::test_runner::{Config, TestCaseError, TestRunner};
use serde_json::{Map, Value as Json};
use std::cell::Cell;
use std::collections::BTreeMap;

fn searches(bytes: &[u8], charter: fn(&mut Dice<'_>) -> Charter) -> Result<(), String> {
    let mut dice = Dice::new(bytes);
    let charter = charter(&mut dice);
    let register = generate::register(&mut dice, &charter);
    let world = world(&charter, &register)?;
    let names: Vec<&str> = register.entities.keys().map(String::as_str).collect();
    let of = |kinds: &[&str]| -> Vec<String> {
        let fits = |name: &&&str| kinds.iter().any(|kind| name.starts_with(&format!("{kind}:")));
        names.iter().filter(fits).map(|name| (*name).to_owned()).collect()
    };
    for _ in 0..6 {
        let question = generate::question(&mut dice, &charter);
        let now = jiff::Timestamp::from_second(question.now).map_err(|error| error.to_string())?;
        let mut request = render::request(&question);
        request.of_subject = Map::new();
        request.of_resource.retain(|key, _| key == "within");
        let kind = request.permission.split(':').next().unwrap_or_default().to_owned();
        let may = |subject: &str, resource: Option<&str>, permission: &str| {
            let mut asked = request.clone();
            asked.subject = subject.into();
            asked.resource = resource.map(str::to_owned);
            asked.permission = permission.into();
            if resource != request.resource.as_deref() {
                asked.of_resource = Map::new();
            }
            allowed(&world, &asked, now)
        };

        let about = Request {
            resource: Some(of(&[kind.as_str()])[0].clone()),
            of_resource: Map::new(),
            ..request.clone()
        };
        for (permission, decision) in actions(world.engine(), &about, now).map_err(|e| e.to_string())? {
            let text = &world.policy().model().permissions[permission.index()].text;
            let expected = may(&about.subject, about.resource.as_deref(), text);
            if decision.allowed != expected {
                return Err(format!("actions: {text} should be {expected}: {about:?}"));
            }
        }

        let expected: Vec<String> = of(&[kind.as_str()])
            .into_iter()
            .filter(|resource| may(&request.subject, Some(resource), &request.permission))
            .collect();
        let found = reach(world.engine(), &request, now, &Reaching::default(), &mut || true)
            .map_err(|error| error.to_string())?;
        let mut found: Vec<String> =
            found.found.iter().map(|(id, _)| world.register().name(*id).to_owned()).collect();
        found.sort();
        if found != expected {
            return Err(format!("reach: {found:?}, expected {expected:?}: {request:?}"));
        }
        let mut paged = Vec::new();
        let mut at = Reaching { limit: Some(1), ..Reaching::default() };
        loop {
            let page = reach(world.engine(), &request, now, &at, &mut || true).map_err(|e| e.to_string())?;
            paged.extend(page.found.iter().map(|(id, _)| world.register().name(*id).to_owned()));
            match page.next {
                Some(next) => at.after = Some(next),
                None => break,
            }
        }
        paged.sort();
        if paged != expected {
            return Err(format!("reach by pages: {paged:?}, expected {expected:?}: {request:?}"));
        }

        let mut paged = Vec::new();
        let mut after = None;
        loop {
            let at = (after, 2);
            let page =
                holders_page(world.engine(), &request, at, now, &mut || true).map_err(|e| e.to_string())?;
            paged.extend(page.subjects.iter().map(|(id, _)| world.register().name(*id).to_owned()));
            match page.next {
                Some(next) => after = Some(next),
                None => break,
            }
        }
        let mut expected: Vec<String> = of(&["user", "service"])
            .into_iter()
            .filter(|subject| may(subject, request.resource.as_deref(), &request.permission))
            .collect();
        paged.sort();
        expected.sort();
        if paged != expected {
            return Err(format!("holders by pages: {paged:?}, expected {expected:?}: {request:?}"));
        }

        let who = holders(world.engine(), &request, now, &mut || true).map_err(|error| error.to_string())?;
        let resource = request.resource.as_deref();
        let individuals: Vec<&str> = who.subjects.iter().map(|(id, _)| world.register().name(*id)).collect();
        let mut classed = 0;
        for subject in of(&["user", "service"]) {
            let expected = may(&subject, resource, &request.permission);
            let listed = individuals.contains(&subject.as_str());
            if listed && !expected {
                return Err(format!("holders: {subject} is listed and may not: {request:?}"));
            }
            classed += usize::from(expected && !listed);
        }
        let covered: usize = who.classes.iter().map(|class| class.count).sum();
        let largest = who.classes.iter().map(|class| class.count).max().unwrap_or(0);
        if classed < largest || classed > covered {
            return Err(format!("holders: {classed} in classes, {:?}: {request:?}", who.classes));
        }
        if who.anonymous != may("anonymous", resource, &request.permission) {
            return Err(format!("holders: anonymous: {request:?}"));
        }

        let somewhere = |permission: &str| {
            let own = permission.split(':').next().unwrap_or_default();
            let here = about.resource.as_deref().filter(|resource| resource.starts_with(&format!("{own}:")));
            match here {
                Some(resource) => may(&about.subject, Some(resource), permission),
                None => of(&[own]).iter().any(|one| may(&about.subject, Some(one), permission)),
            }
        };
        // Whoever may not ask about a type is shown nothing of it.
        let unasked = world.policy().kind("crate");
        let under = |_: &str| Under::one(world.engine(), &about);
        let asks = |kind| Some(kind) != unasked;
        let none = Judged { application: "yard", request: &about, asks: &asks, under: &under };
        let all = Judged { asks: &|_| true, ..none };
        let told =
            |judged| hints(world.engine(), judged, now, &mut || true).map_err(|error| error.to_string());
        for hint in told(none)?.unwrap_or_default() {
            if hint.key.starts_with("crate-") && (hint.visible || hint.enabled) {
                return Err(format!("hints: {hint:?} is not to be asked about: {about:?}"));
            }
        }
        for hint in told(all)?.unwrap_or_default() {
            let own = hint.key.trim_end_matches("-too").replace('-', ":");
            let look = format!("{}:look", own.split(':').next().unwrap_or_default());
            let visible = somewhere(&own) && (!hint.key.ends_with("-too") || somewhere(&look));
            if (hint.visible, hint.enabled) != (visible, visible && somewhere(&own)) {
                return Err(format!("hints: {hint:?}: {about:?}"));
            }
        }
    }
    Ok(())
}

#[test]
fn searches_find_exactly_what_decisions_allow() {
    run(share(150), |bytes| searches(bytes, generate::charter));
}

#[test]
fn searches_find_the_same_where_few_ways_lead() {
    // Small ones, and each says little by itself.
    run(crate::cases().unwrap_or(800), |bytes| searches(bytes, generate::few_ways));
}

/// As many as there are usually, or in proportion to what is asked for.
fn share(cases: u32) -> u32 {
    crate::cases().map_or(cases, |asked| asked / 10 + 1)
}

fn run(cases: u32, check: fn(&[u8]) -> Result<(), String>) {
    let mut runner = TestRunner::new(Config {
        cases,
        failure_persistence: None,
        max_shrink_time: 60_000,
        max_shrink_iters: 2_000,
        ..Config::default()
    });
    let bytes = prop::collection::vec(any::<u8>(), 1_500..6_000);
    match runner.run(&bytes, |bytes| check(&bytes).map_err(TestCaseError::fail)) {
        Ok(()) => {}
        Err(proptest::test_runner::TestError::Fail(why, _)) => panic!("{why}"),
        Err(error) => panic!("{error}"),
    }
}

// -- row filters -----------------------------------------------------------------------------------

/// What a filter says of a row, by the meaning of its operators alone.
pub fn selects(filter: &Json, row: &BTreeMap<String, Json>) -> bool {
    match filter["rows"].as_str() {
        Some("every") => true,
        Some("none") => false,
        _ => holds(&filter["where"], row),
    }
}

fn holds(tree: &Json, row: &BTreeMap<String, Json>) -> bool {
    let parts = |key: &str| tree[key].as_array().cloned();
    if let Some(parts) = parts("all") {
        return parts.iter().all(|part| holds(part, row));
    }
    if let Some(parts) = parts("any") {
        return parts.iter().any(|part| holds(part, row));
    }
    if !tree["not"].is_null() {
        return !holds(&tree["not"], row);
    }
    let is = parts("is").expect("a predicate");
    let (name, operator) = (is[0].as_str().expect("a name"), is[1].as_str().expect("an operator"));
    let Some(value) = row.get(name).filter(|value| !value.is_null()) else { return false };
    let other = is.get(2).map(|other| match other.get("attribute").and_then(Json::as_str) {
        Some(name) => row.get(name).cloned().unwrap_or(Json::Null),
        None => other.clone(),
    });
    let Some(other) = other else {
        // Without anything to compare with, a list is looked at: whether nothing is missing in it.
        return operator == "known" || value.as_array().is_none_or(|items| !items.contains(&Json::Null));
    };
    if other.is_null() {
        return false;
    }
    let text = |value: &Json| value.as_str().unwrap_or_default().to_owned();
    let listed = || other.as_array().cloned().unwrap_or_default();
    let of = match name {
        "load" => "decimal",
        "due" => "time",
        "slack" => "duration",
        _ => "integer",
    };
    let number = |value: &Json| crate::naive::order_of(of, value).unwrap_or_default();
    let same = |a: &Json, b: &Json| if of == "integer" { a == b } else { number(a) == number(b) };
    let one_of = |value: &Json| {
        listed().iter().any(|item| {
            item == value
                || ["net", "nets", "ip"].contains(&name) && crate::naive::is_within(&text(value), &text(item))
        })
    };
    match operator {
        "==" => same(value, &other),
        "!=" => !same(value, &other),
        "<" => number(value) < number(&other),
        "<=" => number(value) <= number(&other),
        ">" => number(value) > number(&other),
        ">=" => number(value) >= number(&other),
        "in" => match value.as_array() {
            Some(items) => items.iter().all(one_of),
            None => one_of(value),
        },
        "not in" => !one_of(value),
        "overlaps" => value.as_array().is_some_and(|items| {
            items.iter().any(|item| {
                one_of(item)
                    || name == "nets"
                        && listed().iter().any(|other| crate::naive::is_within(&text(other), &text(item)))
            })
        }),
        "starts" => text(value).starts_with(&text(&other)),
        "ends" => text(value).ends_with(&text(&other)),
        "contains" => text(value).contains(&text(&other)),
        "fits" => crate::naive::fits_text(&text(value), &text(&other)),
        other => panic!("unknown operator {other}"),
    }
}

thread_local! {
    static FILTERED: Cell<(u32, u32)> = const { Cell::new((0, 0)) };
}

fn filters(bytes: &[u8]) -> Result<(), String> {
    let mut dice = Dice::new(bytes);
    let charter = generate::charter(&mut dice);
    let register = generate::register_for_rows(&mut dice, &charter);
    let world = world(&charter, &register)?;
    for _ in 0..6 {
        let question = generate::question(&mut dice, &charter);
        let now = jiff::Timestamp::from_second(question.now).map_err(|error| error.to_string())?;
        let mut request = render::request(&question);
        request.of_resource = Map::new();
        request.resource = None;
        // A filter of thousands of cases proves no more than one of hundreds.
        let mut left = 1_000_u32;
        let mut go_on = || {
            left = left.saturating_sub(1);
            left > 0
        };
        let filter = match rows(world.engine(), &request, now, None, &mut go_on) {
            Ok(filter) => filter.to_json(),
            Err(NoFilter::Refused(_)) => {
                FILTERED.set((FILTERED.get().0, FILTERED.get().1 + 1));
                continue;
            }
            Err(NoFilter::Malformed(why)) => return Err(why),
        };
        FILTERED.set((FILTERED.get().0 + 1, FILTERED.get().1));
        let kind = request.permission.split(':').next().unwrap_or_default().to_owned();
        for _ in 0..12 {
            let row = generate::row(&mut dice, &charter, &kind);
            let expected = row_is_allowed(&charter, &register, &request, now, &kind, &row)?;
            if selects(&filter, &row) != expected {
                return Err(format!(
                    "the row {row:?} should be {expected}: {filter}\n{request:#?}\n{}\n{}",
                    render::charter(&charter),
                    render::register(&register).iter().map(Json::to_string).collect::<Vec<_>>().join("\n"),
                ));
            }
        }
    }
    Ok(())
}

#[test]
fn row_filters_select_exactly_what_decisions_allow() {
    run(share(40), filters);
    let (made, refused) = FILTERED.get();
    assert!(made > refused, "{made} filters were made and {refused} refused");
}
