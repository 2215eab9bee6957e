//! Questions with a token. What its claims come to is worked out here from what issuers mean, beside the
//! program; then both evaluators must agree, and so must the plain question on a register into which the
//! memberships are written.

use crate::generate::{self, Dice};
use crate::naive::{Attribute, Charter, Entity, From, Naive, Question, Register, Vouched};
use crate::render;
use ostrog_core::decide::bearer::{Bearer, Token};
use ostrog_core::decide::reach::{Reaching, reach};
use ostrog_core::prelude::{
    Change, Checks, Decision, Request, Sources, World, Wrong, charter, decide, explain, line, with_scratch,
};
use proptest::prelude::*;
use proptest::test_runner::{Config, TestCaseError, TestRunner};
use serde_json::{Map, Value as Json, json};
use std::cell::RefCell;
use std::collections::{BTreeMap, BTreeSet};
use std::fmt::Write as _;
use std::sync::Arc;

/// `[issuer.port]` as it is drawn.
struct Issuer {
    for_the_yard: bool,
    prefix: &'static str,
    lower_case: bool,
    services: bool,
    session: bool,
    signed_in: bool,
    tenants: Option<Option<Vec<&'static str>>>,
    /// Attributes of subjects, fields of the context: each by the claim `of-…`.
    attributes: Vec<String>,
    context: Vec<String>,
    map: Vec<(&'static str, &'static str)>,
    by_name: bool,
}

fn issuer(dice: &mut Dice<'_>, charter: &mut Charter) -> Issuer {
    let mut vouch = |attribute: &mut Attribute, from: &[From]| {
        if dice.chance(4) {
            attribute.from = dice.pick(from);
        }
    };
    for key in ["user", "service"] {
        let declared = charter.kinds.get_mut(key).expect("declared");
        let sources = [From::Token, From::RegisterOrToken, From::Request, From::Either];
        declared.attributes.values_mut().for_each(|attribute| vouch(attribute, &sources));
    }
    charter.context.values_mut().for_each(|attribute| vouch(attribute, &[From::Token, From::Request]));
    let owned = |names: Vec<&str>| names.into_iter().map(str::to_owned).collect::<Vec<_>>();
    Issuer {
        for_the_yard: !dice.chance(1),
        prefix: dice.pick(&["", "", "", "", "u"]),
        lower_case: dice.chance(3),
        services: dice.chance(6),
        session: dice.chance(6),
        signed_in: dice.chance(5),
        tenants: dice.chance(8).then(|| dice.chance(3).then(|| dice.some(&["north", "south"], 6))),
        attributes: owned(dice.some(&["rank", "tag"], 7)),
        context: owned(dice.some(&["level", "zone", "ip"], 5)),
        map: dice.some(&[("Night", "g1"), ("Day", "g2"), ("Day", "g3"), ("Nobody", "g9")], 6),
        by_name: dice.chance(3),
    }
}

fn text(issuer: &Issuer) -> String {
    let mut out = String::from("[application.pier]\n[issuer.port]\n");
    let _ = writeln!(
        out,
        "applications = {:?}",
        if issuer.for_the_yard { "yard" } else { "pier" }.split(' ').collect::<Vec<_>>()
    );
    let _ = writeln!(out, "prefix = {:?}\nlower-case = {}", issuer.prefix, issuer.lower_case);
    if issuer.services {
        out.push_str("services = { claim = \"use.kind\", is = [\"machine\", \"robot\"] }\n");
    }
    if issuer.session {
        out.push_str("session = \"sid\"\n");
    }
    if issuer.signed_in {
        out.push_str("unregistered = \"signed-in\"\n");
    }
    if let Some(only) = &issuer.tenants {
        let only = only.as_ref().map_or_else(String::new, |only| format!(", only = {only:?}"));
        let _ = writeln!(out, "tenants = {{ claim = \"org\"{only} }}");
    }
    for (key, names) in [("attributes", &issuer.attributes), ("context", &issuer.context)] {
        let pairs: Vec<String> = names.iter().map(|name| format!("{name} = \"of-{name}\"")).collect();
        let _ = writeln!(out, "{key} = {{ {} }}", pairs.join(", "));
    }
    // One value stands for one group in a map; what it stands for besides is in a second one.
    let (first, second): (Vec<_>, Vec<_>) = issuer.map.iter().partition(|(_, group)| *group != "g3");
    for (map, by_name) in [(first, issuer.by_name), (second, false)] {
        if map.is_empty() && !by_name {
            continue;
        }
        let pairs: Vec<String> = map.iter().map(|(value, group)| format!("{value} = \"{group}\"")).collect();
        let _ = writeln!(
            out,
            "[[issuer.port.groups]]\nclaim = \"groups\"\nby-name = {by_name}\nmap = {{ {} }}",
            pairs.join(", ")
        );
    }
    out
}

fn claims(dice: &mut Dice<'_>, charter: &Charter, issuer: &Issuer) -> Map<String, Json> {
    let mut all = Map::new();
    let known = dice.pick(&["u1", "u2", "u3", "u4", "u1", "u2", "nobody"]);
    let known = known.strip_prefix(issuer.prefix).unwrap_or(known);
    let mut put = |key: &str, value: Option<Json>| all.extend(value.map(|value| (key.to_owned(), value)));
    let odd = dice.pick(&["U1", "nobody", "user:u1", "u 1", "", "u1"]);
    let sub = if dice.chance(2) { odd } else { known };
    put("sub", (!dice.chance(1)).then(|| if dice.chance(1) { json!(7) } else { json!(sub) }));
    put("client_id", dice.chance(5).then(|| json!(dice.pick(&["f1", "f1", "f1", "F1", "u1", "robot"]))));
    if dice.chance(3) {
        put(
            "use",
            Some(json!({ "kind": dice.pick(&[json!("machine"), json!(["robot"]), json!("person")]) })),
        );
    } else if dice.chance(2) {
        put("use.kind", Some(json!("machine")));
    }
    put("sid", dice.chance(6).then(|| dice.pick(&[json!("s1"), json!("s2"), json!(5)])));
    put(
        "org",
        dice.chance(7).then(|| {
            dice.pick(&[
                json!("north"),
                json!(["north", "south"]),
                json!(["south"]),
                json!(["west", 7]),
                json!({}),
            ])
        }),
    );
    let groups = [
        json!(["Night"]),
        json!(["Day"]),
        json!("Night"),
        json!(["Night", "Day", "Nobody"]),
        json!(["g3", "g1", 7, null]),
        json!({ "Night": true }),
        json!(5),
        json!([]),
    ];
    put("groups", dice.chance(7).then(|| dice.pick(&groups)));
    put("_claim_names", dice.chance(2).then(|| json!({ "groups": "elsewhere" })));
    for (key, declared) in charter.kinds["user"].attributes.iter().chain(&charter.context) {
        put(&format!("of-{key}"), if dice.chance(8) { generate::stated(dice, declared) } else { None });
    }
    all
}

/// What the token's bearer is, by the meaning of issuers alone: the question and the register it stands for.
/// `None` if it is refused.
fn borne(
    issuer: &Issuer,
    claims: &Map<String, Json>,
    charter: &Charter,
    register: &Register,
    question: &Question,
) -> Option<(Question, Register)> {
    if !issuer.for_the_yard {
        return None;
    }
    let text = |name: &str| claims.get(name).and_then(Json::as_str);
    let machine = if issuer.services {
        let kind = claims.get("use.kind").or_else(|| claims.get("use")?.get("kind"));
        let is = |value: &Json| value == "machine" || value == "robot";
        kind.is_some_and(|kind| is(kind) || kind.as_array().is_some_and(|all| all.iter().any(is)))
    } else {
        text("sub").is_some() && text("sub") == text("client_id")
    };
    let name = if machine {
        format!("service:{}", text("client_id")?)
    } else {
        let sub = text("sub")?;
        let sub = if issuer.lower_case { sub.to_lowercase() } else { sub.to_owned() };
        format!("user:{}{sub}", issuer.prefix)
    };
    let id = name.split_once(':')?.1;
    let reserved = ["user:", "service:", "group:", "tenant:", "anonymous:", "everywhere:", "token:"];
    if id.is_empty()
        || text("sub").is_some_and(str::is_empty) && !machine
        || id.contains(' ')
        || reserved.iter().any(|kind| id.starts_with(kind))
    {
        return None;
    }
    let known = register.entities.contains_key(&name);
    if !known && register.entities.keys().any(|other| other.to_lowercase() == name.to_lowercase()) {
        return None;
    }
    let mut question = Question { subject: name.clone(), ..question.clone() };
    let mut register = register.clone();
    if !known && issuer.signed_in {
        register.entities.insert(name.clone(), Entity { state: "active", ..Entity::default() });
    }
    let anonymous = !known && !issuer.signed_in;
    // What is mapped comes from the token alone; what only a token can say, from nobody else.
    let value = |key: &str| claims.get(&format!("of-{key}")).filter(|value| !value.is_null()).cloned();
    let kind = name.split(':').next()?.to_owned();
    let own = &charter.kinds[&kind].attributes;
    question.of_subject.retain(|key, _| {
        !issuer.attributes.contains(key)
            && own.get(key).is_none_or(|of| !matches!(of.from, From::Token | From::RegisterOrToken))
    });
    for key in issuer.attributes.iter().filter(|key| own.contains_key(*key)) {
        question.of_subject.extend(value(key).map(|value| (key.clone(), value)));
    }
    question.context.retain(|key, _| {
        !issuer.context.contains(key) && charter.context.get(key).is_none_or(|of| of.from != From::Token)
    });
    for key in &issuer.context {
        question.context.extend(value(key).map(|value| (key.clone(), value)));
    }
    if issuer.session {
        question.session = text("sid").map(|sid| format!("port/{sid}"));
    }
    if anonymous {
        return Some((question, register));
    }
    let listed = |name: &str| -> Option<Vec<String>> {
        match claims.get(name) {
            Some(Json::Array(items)) => {
                Some(items.iter().filter_map(Json::as_str).map(str::to_owned).collect())
            }
            Some(Json::String(one)) => Some(vec![one.clone()]),
            _ => None,
        }
    };
    let mut vouched = Vouched::default();
    let only = issuer.tenants.as_ref().and_then(Clone::clone);
    let may = |tenant: &str| {
        only.as_ref().is_none_or(|only| only.iter().any(|id| format!("tenant:{id}") == tenant))
    };
    if issuer.tenants.is_some() {
        let named = listed("org").unwrap_or_default().into_iter().map(|id| format!("tenant:{id}"));
        vouched.tenants = named.filter(|name| register.entities.contains_key(name) && may(name)).collect();
    }
    let bounded = |group: &str| {
        register.entities.get(group).is_some_and(|of| of.tenant.as_ref().is_none_or(|tenant| may(tenant)))
    };
    let overflowed = !claims.contains_key("groups") && claims.contains_key("_claim_names");
    let unreadable = claims.get("groups").is_some_and(|value| !value.is_array() && !value.is_string());
    let mapped = issuer.map.iter().map(|(value, group)| ((*value).to_owned(), format!("group:{group}")));
    let all = register.entities.keys().filter(|name| name.starts_with("group:") && issuer.by_name);
    let ways: Vec<(String, String)> =
        mapped.chain(all.map(|name| (name["group:".len()..].to_owned(), name.clone()))).collect();
    let counting = ways.into_iter().filter(|(_, group)| bounded(group));
    if overflowed || unreadable {
        vouched.perhaps = counting.map(|(_, group)| group).collect();
    } else {
        let said = listed("groups").unwrap_or_default();
        vouched.groups = counting.filter(|(value, _)| said.contains(value)).map(|(_, group)| group).collect();
    }
    question.vouched = Some(vouched);
    Some((question, register))
}

/// The same with the memberships written into the register.
fn written(question: &Question, register: &Register) -> (Question, Register) {
    let mut register = register.clone();
    let vouched = question.vouched.clone().unwrap_or_default();
    if let Some(subject) = register.entities.get_mut(&question.subject) {
        subject.tenants.extend(vouched.tenants);
    }
    for group in vouched.groups {
        if let Some(group) = register.entities.get_mut(&group) {
            group.members.insert(question.subject.clone());
        }
    }
    (Question { vouched: None, ..question.clone() }, register)
}

fn compare(bytes: &[u8], met: &mut BTreeMap<&'static str, usize>) -> Result<(), String> {
    let mut dice = Dice::new(bytes);
    let mut charter =
        if dice.chance(3) { generate::few_ways(&mut dice) } else { generate::charter(&mut dice) };
    let issuer = issuer(&mut dice, &mut charter);
    let register = generate::register(&mut dice, &charter);
    let source = format!("{}{}", render::charter(&charter), text(&issuer));
    let sources = Sources::single("random.toml", &source);
    let reading = charter::read(&sources);
    let Some(policy) = reading.policy else {
        let told: Vec<String> = reading.findings.iter().map(|finding| sources.render(finding)).collect();
        return Err(format!("the generated charter is refused:\n{}\n{source}", told.join("\n")));
    };
    let policy = Arc::new(policy);
    let world_of = |register: &Register| -> Result<World, String> {
        let changes: Result<Vec<Change>, Wrong> =
            render::register(register).iter().map(line::from_json).collect();
        let mut world = World::new(Arc::clone(&policy), ostrog_core::prelude::Register::default());
        world.apply_under(&changes?, Checks::of(&[])).map_err(|refusals| format!("{refusals:?}"))?;
        Ok(world)
    };
    let world = world_of(&register)?;
    for _ in 0..12 {
        let asked = generate::question(&mut dice, &charter);
        let claims = claims(&mut dice, &charter, &issuer);
        let token = Token { issuer: "port".to_owned(), claims: claims.clone() };
        let now = jiff::Timestamp::from_second(asked.now).map_err(|error| error.to_string())?;
        let bearer = Bearer::of(&world, &token, None).map(Arc::new);
        let under = bearer.as_ref().map_or(&world, |bearer| bearer.world(&world));
        let request =
            Request { subject: String::new(), bearer: Some(bearer.clone()), ..render::request(&asked) };
        let resolved = request.resolve(under.engine(), now).map_err(|error| error.to_string())?;
        let (decision, why) = with_scratch(|scratch| explain(under.engine(), &resolved, scratch));
        let quick = match &resolved.question {
            Ok(question) => with_scratch(|scratch| decide(under.engine(), question, scratch)),
            Err(reason) => Decision { allowed: false, reason: *reason },
        };
        let found = (decision.allowed, decision.reason.code(under.engine()));
        let fail = |what: &str, expected: &dyn std::fmt::Debug| {
            Err(format!(
                "{what}: expected {expected:?}, found {found:?}: {}\n{asked:#?}\n{}\n{source}\n{}",
                why.sentence,
                Json::Object(claims.clone()),
                render::register(&register).iter().map(Json::to_string).collect::<Vec<_>>().join("\n")
            ))
        };
        if quick != decision {
            return fail("explained", &quick);
        }
        let Some((plain, of)) = borne(&issuer, &claims, &charter, &register, &asked) else {
            *met.entry("refused").or_default() += 1;
            if found != (false, "token-refused".to_owned()) {
                return fail("refused", &"token-refused");
            }
            continue;
        };
        let (conferred, seen) = (RefCell::default(), RefCell::default());
        let expected = Naive::new(&charter, &of, &plain, &conferred, &seen).decide();
        if found != expected {
            return fail("naive", &expected);
        }
        note(met, &plain, &of, &expected, &seen.into_inner());
        let vouched = plain.vouched.clone().unwrap_or_default();
        if vouched.perhaps.is_empty() && charter.roles.values().all(|role| role.standby.is_none()) {
            let (plain, of) = written(&plain, &of);
            let other = world_of(&of)?;
            let request = Request { vouched: true, ..render::request(&plain) };
            let resolved = request.resolve(other.engine(), now).map_err(|error| error.to_string())?;
            let question = resolved.question.map_err(|reason| format!("{reason:?}"))?;
            let same = with_scratch(|scratch| decide(other.engine(), &question, scratch));
            if same.allowed != found.0 {
                return fail("written into the register", &same);
            }
            *met.entry("held against a register").or_default() += 1;
        }
        finds_the_same(under, &request, now).or_else(|why| fail("reach", &why))?;
    }
    Ok(())
}

fn note(
    met: &mut BTreeMap<&'static str, usize>,
    question: &Question,
    register: &Register,
    answer: &(bool, String),
    seen: &BTreeSet<&'static str>,
) {
    let vouched = question.vouched.clone().unwrap_or_default();
    for (is, what) in [
        (answer.0, "allowed"),
        (answer.0 && !vouched.groups.is_empty(), "allowed with groups vouched for"),
        (answer.0 && seen.contains("a grant to a group that a token vouches for"), "allowed by such a group"),
        (answer.0 && !vouched.tenants.is_empty(), "allowed with tenants vouched for"),
        (answer.1 == "undetermined" && !vouched.perhaps.is_empty(), "undetermined groups"),
        (seen.contains("a group of which a token does not tell"), "perhaps in a group"),
        (!register.entities.contains_key(&question.subject), "anonymous"),
        (question.subject.starts_with("service:"), "a service"),
        (question.subject == "user:nobody" && answer.0, "a visitor who may"),
    ] {
        *met.entry(what).or_default() += usize::from(is);
    }
}

/// The search finds what decisions with the same token allow.
fn finds_the_same(world: &World, request: &Request, now: jiff::Timestamp) -> Result<(), String> {
    let request = Request { of_resource: Map::new(), ..request.clone() };
    let kind = request.permission.split(':').next().unwrap_or_default().to_owned();
    let register = world.register();
    let mut expected = Vec::new();
    for id in register.all_entities().filter(|id| register.name(*id).starts_with(&format!("{kind}:"))) {
        let asked = Request { resource: Some(register.name(id).to_owned()), ..request.clone() };
        let asked = asked.resolve(world.engine(), now).map_err(|error| error.to_string())?;
        let allowed = asked
            .question
            .is_ok_and(|question| with_scratch(|scratch| decide(world.engine(), &question, scratch)).allowed);
        expected.extend(allowed.then(|| register.name(id).to_owned()));
    }
    let found = reach(world.engine(), &request, now, &Reaching::default(), &mut || true)
        .map_err(|error| error.to_string())?;
    let mut found: Vec<String> = found.found.iter().map(|(id, _)| register.name(*id).to_owned()).collect();
    found.sort();
    expected.sort();
    if found == expected { Ok(()) } else { Err(format!("{found:?}, expected {expected:?}")) }
}

#[test]
fn a_token_says_what_a_plain_question_on_another_register_would() {
    let cases = crate::cases().unwrap_or(1_500);
    let met = RefCell::new(BTreeMap::new());
    let mut runner = TestRunner::new(Config {
        cases,
        failure_persistence: None,
        max_shrink_time: 60_000,
        max_shrink_iters: 2_000,
        ..Config::default()
    });
    let bytes = prop::collection::vec(any::<u8>(), 2_000..8_000);
    let outcome =
        runner.run(&bytes, |bytes| compare(&bytes, &mut met.borrow_mut()).map_err(TestCaseError::fail));
    let met = met.into_inner();
    println!("{met:#?}");
    match outcome {
        Ok(()) => {}
        Err(proptest::test_runner::TestError::Fail(why, _)) => panic!("{why}"),
        Err(error) => panic!("{error}"),
    }
    for (what, times) in &met {
        assert!(*times * 60 >= cases as usize, "{what}: met {times} times in {cases} cases");
    }
    assert_eq!(met.len(), 11, "{met:?}");
}
