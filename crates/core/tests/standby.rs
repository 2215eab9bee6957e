//! Whether a grant on standby may be activated now: its role's condition, asked with what the call
//! says along.

use ostrog_core::decide::standby::may_begin;
use ostrog_core::prelude::*;
use rstest::rstest;
use serde_json::{Value, json};
use std::sync::Arc;

const CHARTER: &str = r#"
[charter]
name = "Quay"
format = 1
[application.quay]
[resource.berth]
application = "quay"
within = "tenant"
actions = { weld = "", view = "" }
[subject.user.attributes]
trained = "boolean"
[context]
zone = { type = "text", values = ["quay", "yard"] }
[role.welder]
permissions = ["berth:weld"]
standby = { longest = "2h", when = "context.zone == 'quay' and subject.trained" }
[role.torch]
permissions = ["berth:weld"]
standby = { longest = "2h" }
[role.deckhand]
permissions = ["berth:view"]
[role.night]
permissions = ["berth:weld"]
standby = { longest = "2h", when = "hour(now, 'Etc/UTC') >= 20" }
"#;

fn world() -> World {
    let policy = charter::read(&Sources::single("quay.toml", CHARTER)).policy.expect("the charter holds");
    let mut world = World::new(Arc::new(policy), Register::default());
    let grant = |id: &str, role: &str, to: &str| json!({ "grant": { "id": id, "role": role, "to": to, "at": "everywhere" } });
    let lines = [
        json!({ "entity": "user:ines", "attributes": { "trained": true } }),
        json!({ "entity": "user:oda", "attributes": { "trained": false } }),
        json!({ "entity": "user:rui" }),
        json!({ "entity": "group:crew", "members": ["user:ines", "user:oda", "user:rui"] }),
        grant("g-weld", "welder", "group:crew"),
        grant("g-torch", "torch", "group:crew"),
        grant("g-deck", "deckhand", "group:crew"),
        grant("g-night", "night", "group:crew"),
    ];
    let changes: Vec<Change> = lines.iter().map(|line| line::from_json(line).expect("a line")).collect();
    world.apply(&changes).expect("valid");
    world
}

#[rstest]
#[case("g-weld", "user:ines", json!({ "zone": "quay" }), "")]
#[case("g-weld", "user:ines", json!({ "zone": "yard" }), "welder may be activated only while context.zone == 'quay' and subject.trained, which is false here")]
#[case("g-weld", "user:oda", json!({ "zone": "quay" }), "which is false here")]
// What is missing, or no value the context may have, opens nothing.
#[case("g-weld", "user:ines", json!({}), "which is undetermined here")]
#[case("g-weld", "user:rui", json!({ "zone": "quay" }), "which is undetermined here")]
#[case("g-weld", "user:ines", json!({ "zone": "sea" }), "which is undetermined here")]
// One that is false is false whatever else is missing.
#[case("g-weld", "user:oda", json!({}), "which is false here")]
// What is said and does not count is told.
#[case("g-weld", "user:ines", json!({ "zon": "quay" }), "zon")]
// Without a condition, not on standby, or not there: the write itself says what is wrong, if anything is.
#[case("g-torch", "user:rui", json!({}), "")]
#[case("g-deck", "user:rui", json!({}), "")]
#[case("g-none", "user:rui", json!({}), "")]
// The moment is that of the call.
#[case("g-night", "user:rui", json!({}), "which is false here")]
fn its_condition_is_asked_of_subject_context_and_moment(
    #[case] grant: &str,
    #[case] subject: &str,
    #[case] context: Value,
    #[case] why: &str,
) {
    let world = world();
    let now = "2026-11-23T09:00:00Z".parse().expect("a moment");
    let context = context.as_object().expect("an object");
    let may = may_begin(world.engine(), grant, subject, context, now);
    match (&may, why) {
        (Ok(()), "") => {}
        (Err(told), why) if !why.is_empty() => assert!(told.contains(why), "{told}"),
        _ => panic!("{may:?}"),
    }
    let late = "2026-11-23T21:00:00Z".parse().expect("a moment");
    assert_eq!(may_begin(world.engine(), "g-night", subject, context, late), Ok(()));
}

/// The call's answer and the decision's are one: what may be activated gives, what may not would not.
#[test]
fn what_may_be_activated_gives_then_and_what_may_not_would_not() {
    for (subject, zone) in ["user:ines", "user:oda", "user:rui"].iter().flat_map(|subject| {
        [json!("quay"), json!("yard"), json!("sea"), Value::Null].map(|zone| (*subject, zone))
    }) {
        let mut world = world();
        let now = "2026-11-23T09:00:00Z".parse().expect("a moment");
        let context = json!({ "zone": zone });
        let context = context.as_object().expect("an object");
        let may = may_begin(world.engine(), "g-weld", subject, context, now).is_ok();
        let activation = json!({ "activation": { "grant": "g-weld", "subject": subject, "from": "2026-11-23T08:30:00Z",
            "until": "2026-11-23T09:30:00Z", "reason": "a trial" } });
        world.apply(&[line::from_json(&activation).expect("a line")]).expect("valid");
        let request = Request {
            subject: subject.to_owned(),
            permission: "berth:weld".to_owned(),
            context: context.clone(),
            ..Request::default()
        };
        let question = request.resolve(world.engine(), now).expect("well formed").question.expect("asked");
        let decision = with_scratch(|scratch| decide(world.engine(), &question, scratch));
        assert_eq!(decision.allowed, may, "{subject} {zone}");
    }
}
