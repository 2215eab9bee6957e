//! How a change of policy travels: live by application, approved by another, tried beside and ahead, and back.

use crate::support::{Answer, CHARTER, Server, Service, request};
use ostrog_store::key::{KeyKind, Making, Right};
use ostrog_wire::access::{Evaluation, Evaluations};
use ostrog_wire::charter::DraftText;
use ostrog_wire::rehearsals::RunShown;
use ostrog_wire::release::{
    ApprovalShown, DifferenceGroup, LiveShown, NodeShown, ReleasedShown, ReviewShown, SettingsChange,
    SettingsShown, ShadowShown, StepShown, Waiting,
};
use serde_json::{Value, json};
use std::time::{Duration, Instant};

/// Hands may moor, and nobody releases declarations.
const MOORING: [(&str, &str); 2] = [
    (
        r#"permissions = ["vessel:view", "hold:open"]"#,
        r#"permissions = ["vessel:view", "hold:open", "vessel:moor"]"#,
    ),
    (
        "[[rule]]\n",
        "[[rule]]\nkey = \"closed\"\neffect = \"deny\"\npermissions = [\"declaration:release\"]\n[[rule]]\n",
    ),
];
/// Vessels have a flag.
const FLAG: [(&str, &str); 1] = [("length = \"integer\"", "length = \"integer\"\nflag = \"text\"")];
/// Declarations are the quay's.
const MOVED: [(&str, &str); 1] =
    [("[resource.declaration]\napplication = \"customs\"", "[resource.declaration]\napplication = \"quay\"")];

const SETTINGS: &str = "[release]\napprovals = 1\nrequire-rehearsal = false\n\
                        [operators.people.vera]\n[operators.people.wim]\n[operators.people.tea]\n";

fn text(changes: &[(&str, &str)]) -> String {
    changes.iter().fold(CHARTER.to_owned(), |text, (from, to)| {
        assert!(text.contains(from), "{from}");
        text.replacen(from, to, 1)
    })
}

fn lines() -> Vec<Value> {
    vec![
        json!({ "entity": "tenant:northline" }),
        json!({ "entity": "user:ines", "tenants": ["northline"] }),
        json!({ "entity": "vessel:tern", "within": "tenant:northline", "attributes": { "length": 90 } }),
        json!({ "entity": "declaration:d1", "within": "tenant:northline" }),
        json!({ "grant": { "role": "hand", "to": "user:ines", "at": "tenant:northline" } }),
        json!({ "grant": { "role": "broker", "to": "user:ines", "at": "tenant:northline" } }),
    ]
}

async fn save(service: &Service, key: &str, text: &str, draft: Option<&str>) -> DraftText {
    let files = json!([{ "path": "charter.toml", "text": text }]);
    let mut body = json!({ "title": "another", "files": files });
    if let Some(draft) = draft {
        body["draft"] = draft.into();
    }
    let saved = service.post(key, "/api/v1/drafts", &body).await;
    assert_eq!(saved.status, 200, "{saved}");
    saved.read()
}

async fn roll_out(service: &Service, key: &str, what: &str, r#for: &str) -> Answer {
    service.post(key, "/api/v1/rollouts", &json!({ "what": what, "for": r#for })).await
}

async fn roll_back(service: &Service, key: &str, r#for: &str) -> Answer {
    service.post(key, "/api/v1/rollbacks", &json!({ "for": r#for, "note": "a try" })).await
}

fn asks(resource: &str, id: &str, action: &str) -> Value {
    json!({ "subject": { "type": "user", "id": "ines" }, "action": { "name": action },
            "resource": { "type": resource, "id": id } })
}

/// The answer and the revision that gave it.
async fn asked(service: &Service, key: &str, resource: &str, id: &str, action: &str) -> (bool, i64) {
    let answer = service.post(key, "/access/v1/evaluation", &asks(resource, id, action)).await;
    let revision = answer.headers["ostrog-revision"].to_str().expect("a number").parse().expect("a number");
    (answer.decision(), revision)
}

/// Rehearses a draft to the end.
pub async fn rehearse(service: &Service, key: &str, draft: &str) -> RunShown {
    let begun = service.post(key, "/api/v1/rehearsals", &json!({ "draft": draft })).await;
    assert_eq!(begun.status, 202, "{begun}");
    let number = begun.read::<RunShown>().number;
    let until = Instant::now() + Duration::from_secs(60);
    loop {
        let all = service.get(key, "/api/v1/rehearsals").await.read::<Vec<RunShown>>();
        match all.into_iter().find(|run| run.number == number) {
            Some(run) if run.ended_at.is_some() => return run,
            _ => assert!(Instant::now() < until, "a rehearsal comes to an end"),
        }
        tokio::time::sleep(Duration::from_millis(20)).await;
    }
}

async fn review(service: &Service, key: &str, draft: &str) -> ReviewShown {
    let found = service.get(key, &format!("/api/v1/drafts/{draft}/review")).await;
    assert_eq!(found.status, 200, "{found}");
    found.read()
}

pub async fn approve(service: &Service, key: &str, id: &str) -> Answer {
    let body = json!({ "accepts": { "all": "as agreed" }, "note": "read" });
    service.post(key, &format!("/api/v1/reviews/{id}/approval"), &body).await
}

/// A key of somebody on record, made by whoever started the program: it counts as nobody else.
pub async fn of_person(service: &Service, person: &str) -> String {
    let making = Making { person: Some(person.to_owned()), ..Making::whole(KeyKind::Operator, person) };
    service.key(making).await
}

pub async fn with_reviews() -> (Service, String, String, String) {
    let service = Service::start(&lines()).await;
    let put = service.node.put_settings_of_host(SETTINGS, "test").await;
    put.unwrap_or_else(|why| panic!("{}", why.detail()));
    let (vera, wim) = (of_person(&service, "vera").await, of_person(&service, "wim").await);
    let robot = service.operator("owner", "everywhere").await;
    (service, vera, wim, robot)
}

/// Until another node answers so.
async fn comes_to(what: impl AsyncFn() -> bool) {
    let until = Instant::now() + Duration::from_secs(5);
    while !what().await {
        assert!(Instant::now() < until, "it never comes to that");
        tokio::time::sleep(Duration::from_millis(10)).await;
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn each_application_is_answered_under_its_own_revision() {
    let server = Server::start().await;
    let service = Service::on(&server, "service", &lines()).await;
    let other = service.beside().await;
    let owner = service.operator("owner", "everywhere").await;
    let (quay, customs) = (service.application("quay").await, service.application("customs").await);
    let draft = save(&service, &owner, &text(&MOORING), None).await.draft.id;

    let live = roll_out(&service, &owner, &draft, "quay").await;
    assert_eq!(live.status, 200, "{live}");
    let live: ReleasedShown = live.read();
    assert_eq!(live.live, [("quay".to_owned(), Some(2))].into());
    assert_eq!(live.words, "1 gains, 0 lose", "only what is the quay's moved");
    for node in [&service, &other] {
        comes_to(async || asked(node, &quay, "vessel", "tern", "moor").await == (true, 2)).await;
        assert_eq!(asked(node, &customs, "declaration", "d1", "release").await, (true, 1));
        // Of a batch each item under the revision that is live for its type.
        let items =
            json!({ "evaluations": [asks("vessel", "tern", "moor"), asks("declaration", "d1", "release")] });
        let batch = node.post(&owner, "/access/v1/evaluations", &items).await;
        let header = batch.headers["ostrog-revision"].clone();
        let told: Vec<(bool, Option<i64>)> = batch
            .read::<Evaluations>()
            .evaluations
            .iter()
            .map(|one| (one.decision, one.context.revision))
            .collect();
        assert_eq!((header.to_str().expect("text"), told), ("2", vec![(true, None), (true, Some(1))]));
    }
    assert_eq!(roll_out(&service, &owner, "2", "quay").await.status, 409, "it is live there");

    assert_eq!(roll_out(&service, &owner, "2", "customs").await.status, 200);
    for node in [&service, &other] {
        comes_to(async || asked(node, &customs, "declaration", "d1", "release").await == (false, 2)).await;
    }
    // Each goes back by itself, and only as far as there is something.
    let back = roll_back(&other, &owner, "customs").await;
    assert_eq!(back.read::<ReleasedShown>().live, [("customs".to_owned(), Some(1))].into());
    for node in [&service, &other] {
        comes_to(async || asked(node, &customs, "declaration", "d1", "release").await == (true, 1)).await;
        assert_eq!(asked(node, &quay, "vessel", "tern", "moor").await, (true, 2));
    }
    assert_eq!(roll_back(&other, &owner, "customs").await.status, 409);
    assert_eq!(roll_back(&service, &owner, "quay").await.status, 200);
    comes_to(async || asked(&other, &quay, "vessel", "tern", "moor").await == (false, 1)).await;

    // A node that starts now begins with the same.
    let late = service.beside().await;
    let live = |node: &'static str, answer: Answer| {
        let all: Vec<LiveShown> = answer.read();
        (node, all.into_iter().map(|one| (one.application, one.revision)).collect::<Vec<_>>())
    };
    let all = vec![("customs".to_owned(), 1), ("quay".to_owned(), 1)];
    assert_eq!(live("late", late.get(&owner, "/api/v1/live").await).1, all);
    let steps: Vec<StepShown> = late.get(&owner, "/api/v1/rollouts?application=customs").await.read();
    let told: Vec<(Option<i64>, bool)> = steps.iter().map(|step| (step.revision, step.back)).collect();
    assert_eq!(told, [(Some(1), true), (Some(2), false), (Some(1), false)]);
    assert_eq!(steps[0].note.as_deref(), Some("a try"));
    // Every node says how far it answers.
    comes_to(async || {
        let nodes: Vec<NodeShown> = service.get(&owner, "/api/v1/nodes").await.read();
        nodes.len() == 3 && nodes.iter().all(|node| node.position == nodes[0].position)
    })
    .await;
    for node in [late, other, service] {
        node.close().await;
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn facts_are_written_as_the_owner_of_their_type_declares_them() {
    let service = Service::start(&lines()).await;
    let owner = service.operator("owner", "everywhere").await;
    let draft = save(&service, &owner, &text(&FLAG), None).await.draft.id;
    let flag = json!({ "set": ["vessel:tern.flag = 'red'"] });
    // Live for customs alone, it says nothing of the quay's vessels.
    assert_eq!(roll_out(&service, &owner, &draft, "customs").await.status, 200);
    let refused = service.post(&owner, "/api/v1/facts", &flag).await;
    assert_eq!(refused.status, 422, "{refused}");
    // Live for the quay, it does; where another does not declare it, it is ignored, and told.
    assert_eq!(roll_out(&service, &owner, "2", "quay").await.status, 200);
    assert_eq!(roll_back(&service, &owner, "customs").await.status, 200);
    let written = service.post(&owner, "/api/v1/facts", &flag).await;
    assert_eq!(written.status, 200, "{written}");
    let written: ostrog_wire::register::Written = written.read();
    assert_eq!(written.ignored.len(), 1);
    assert!(written.ignored[0].starts_with("revision 1 (customs) ignores it: "), "{:?}", written.ignored);
    // What another declares otherwise fits both, or is refused.
    let longer = [
        FLAG[0],
        ("length = \"integer\"", "length = \"text\""),
        ("when = \"resource.length > 200\"", "when = \"resource.length == 'long'\""),
    ];
    let draft = save(&service, &owner, &text(&longer), None).await.draft.id;
    let unfit = roll_out(&service, &owner, &draft, "quay").await;
    assert!(unfit.problem().detail.starts_with("The register would not be valid under D-"), "{unfit}");
    let remove = json!({ "remove": ["vessel:tern.length"] });
    assert_eq!(service.post(&owner, "/api/v1/facts", &remove).await.status, 200);
    assert_eq!(roll_out(&service, &owner, &draft, "quay").await.status, 200);
    let long = json!({ "set": ["vessel:tern.length = 'long'"] });
    let refused = service.post(&owner, "/api/v1/facts", &long).await;
    assert_eq!(refused.status, 422, "{refused}");
}

#[tokio::test(flavor = "multi_thread")]
async fn a_type_is_one_applications() {
    let service = Service::start(&lines()).await;
    let owner = service.operator("owner", "everywhere").await;
    let customs = service.application("customs").await;
    let quay = service.application("quay").await;
    let draft = save(&service, &owner, &text(&MOVED), None).await.draft.id;
    for (r#for, why) in [
        (
            "quay",
            "declaration would be owned by customs and quay: roll it out for customs and quay together.",
        ),
        (
            "customs",
            "declaration would be owned by no application: roll it out for customs and quay together.",
        ),
    ] {
        let refused = roll_out(&service, &owner, &draft, r#for).await;
        assert_eq!((refused.status.as_u16(), refused.problem().detail.as_str()), (409, why));
    }
    assert_eq!(roll_out(&service, &owner, &draft, "customs,quay").await.status, 200);
    assert_eq!(asked(&service, &quay, "declaration", "d1", "release").await, (true, 2));
    assert!(!asked(&service, &customs, "declaration", "d1", "release").await.0, "it is the quay's now");
    // Going back by one alone would tear it, too.
    assert_eq!(roll_back(&service, &owner, "quay").await.status, 409);
    assert_eq!(roll_back(&service, &owner, "all").await.status, 200);

    // A type that is new in a revision is nobody's until it is live for whoever owns it.
    let ahead = text(&[(
        "[resource.declaration]",
        "[resource.seal]\napplication = \"customs\"\nwithin = \"tenant\"\nactions = { break = \"Break it\" }\n\
         [role.sealer]\ngiven-to = \"anyone\"\npermissions = [\"seal:break\"]\n[resource.declaration]",
    )]);
    let draft = save(&service, &owner, &ahead, None).await.draft.id;
    assert_eq!(roll_out(&service, &owner, &draft, "quay").await.status, 200);
    for key in [&owner, &customs, &quay] {
        let answer = service.post(key, "/access/v1/evaluation", &asks("seal", "s1", "break")).await;
        assert!(!answer.decision(), "{answer}");
        let read: Evaluation = answer.read();
        assert_eq!(read.context.reason.as_deref(), Some("unknown-type"));
    }
    assert_eq!(roll_out(&service, &owner, "3", "customs").await.status, 200);
    assert!(asked(&service, &customs, "seal", "s1", "break").await.0);
}

#[tokio::test(flavor = "multi_thread")]
async fn a_change_is_approved_by_another_who_accepts_what_it_does() {
    let (service, vera, wim, robot) = with_reviews().await;
    let id = save(&service, &vera, &text(&MOORING), None).await.draft.id;
    assert_eq!(roll_out(&service, &vera, &id, "all").await.status, 409, "it waits for approval");
    let refused = approve(&service, &wim, &id).await;
    assert!(refused.problem().detail.contains("no rehearsal of exactly this text"), "{refused}");
    assert_eq!(rehearse(&service, &vera, &id).await.state, "held");

    // A gain and a loss, each to be accepted with a note; remarks void nothing.
    let found = review(&service, &wim, &id).await;
    let kinds: Vec<_> = found.to_accept.iter().map(|item| (item.kind, item.permission.clone())).collect();
    assert_eq!(format!("{kinds:?}"), r#"[(Gain, Some("vessel:moor")), (Loss, Some("declaration:release"))]"#);
    assert_eq!((found.editors, found.needed, found.not_you), (vec!["vera".to_owned()], 1, None));
    let half = json!({ "accepts": { found.to_accept[0].id.clone(): "hands moor" } });
    let refused = service.post(&wim, &format!("/api/v1/reviews/{id}/approval"), &half).await;
    let problem = refused.problem();
    assert_eq!(
        (problem.status, problem.errors.len(), &problem.errors[0].at),
        (409, 1, &found.to_accept[1].id)
    );
    let remark = json!({ "path": "charter.toml", "line": 3, "text": "why?" });
    assert_eq!(service.post(&wim, &format!("/api/v1/drafts/{id}/comments"), &remark).await.status, 204);
    let nowhere = json!({ "path": "charter.toml", "line": 3_000, "text": "why?" });
    assert_eq!(service.post(&wim, &format!("/api/v1/drafts/{id}/comments"), &nowhere).await.status, 422);

    // What is returned is mended first.
    let back = json!({ "note": "say why" });
    assert_eq!(service.post(&wim, &format!("/api/v1/reviews/{id}/return"), &back).await.status, 204);
    assert!(approve(&service, &wim, &id).await.problem().detail.contains("it was returned"));
    let mended = format!("{}# Hands moor since the tide.\n", text(&MOORING));
    save(&service, &vera, &mended, Some(&id)).await;
    rehearse(&service, &robot, &id).await;
    let old = json!({ "digest": found.digest, "accepts": { "all": "ok" } });
    let stale = service.post(&wim, &format!("/api/v1/reviews/{id}/approval"), &old).await;
    assert_eq!(stale.status, 412, "it read another text: {stale}");
    let waiting: Vec<Waiting> = service.get(&wim, "/api/v1/waiting").await.read();
    assert_eq!((waiting.len(), &waiting[0].id, &waiting[0].not_yet), (1, &id, &None));

    let done = approve(&service, &wim, &id).await;
    assert_eq!(done.status, 200, "{done}");
    assert_eq!(done.read::<ApprovalShown>().revision, Some(2));
    assert_eq!(service.get(&vera, &format!("/api/v1/drafts/{id}")).await.status, 404, "it is a revision");
    assert_eq!(roll_out(&service, &vera, "2", "quay").await.status, 200, "whoever may, rolls it out");

    // Who gains since is somebody that nobody accepted.
    service
        .load(&[
            json!({ "entity": "user:nils", "tenants": ["northline"] }),
            json!({ "grant": { "role": "broker", "to": "user:nils", "at": "tenant:northline" } }),
        ])
        .await;
    let refused = roll_out(&service, &vera, "2", "customs").await;
    assert_eq!(refused.status, 409, "{refused}");
    assert!(refused.problem().detail.contains("Nobody accepted this"), "{refused}");
}

#[tokio::test(flavor = "multi_thread")]
async fn nobody_gets_a_change_of_their_own_live_alone() {
    let (service, vera, wim, robot) = with_reviews().await;
    let id = save(&service, &vera, &text(&MOORING), None).await.draft.id;
    rehearse(&service, &vera, &id).await;
    let refused = async |key: &str, id: &str, why: &str| {
        let answer = approve(&service, key, id).await;
        assert_eq!(answer.status, 403, "{answer}");
        assert!(answer.problem().detail.contains(why), "{answer}");
    };
    refused(&vera, &id, "You count among its editors (vera)").await;
    refused(&robot, &id, "operators on record").await;
    // A second key, for another name or none, counts as whoever made it; and so does one that replaces it.
    let make = async |key: &str, body: Value| {
        let made = service.post(key, "/api/v1/keys", &body).await;
        assert_eq!(made.status, 200, "{made}");
        made.read::<ostrog_wire::keys::KeyMade>()
    };
    let owner = json!([{ "role": "owner", "at": "everywhere" }]);
    let second = make(&vera, json!({ "name": "x", "person": "wim", "rights": owner })).await;
    refused(&second.text, &id, "You count among its editors").await;
    let third =
        service.post(&second.text, &format!("/api/v1/keys/{}/replacement", second.key.id), &json!({})).await;
    refused(&third.read::<ostrog_wire::keys::KeyMade>().text, &id, "You count among its editors").await;
    let nobody = json!({ "name": "x", "person": "nobody", "rights": owner });
    assert_eq!(service.post(&vera, "/api/v1/keys", &nobody).await.status, 422, "not on record");
    // A program of one's own that writes.
    let program = make(&wim, json!({ "name": "pipeline", "rights": owner })).await.text;
    let other = save(&service, &program, &text(&FLAG), None).await.draft.id;
    rehearse(&service, &program, &other).await;
    refused(&wim, &other, "You count among its editors").await;
    // Whoever saved what it is rehearsed with is an editor, too.
    let case = json!({ "name": "looks", "subject": "user:ines", "permission": "vessel:view",
                       "resource": "vessel:tern", "may": true });
    assert_eq!(service.post(&wim, "/api/v1/cases", &case).await.status, 200);
    rehearse(&service, &vera, &id).await;
    refused(&wim, &id, "You count among its editors").await;
    let tea = of_person(&service, "tea").await;

    // Discarded, and saved again by a program.
    assert_eq!(service.call(&vera, &format!("DELETE /api/v1/drafts/{id}"), None).await.status, 200);
    let again = save(&service, &robot, &text(&MOORING), None).await.draft.id;
    rehearse(&service, &robot, &again).await;
    refused(&vera, &again, "You count among its editors").await;

    // Settings that ask for less wait for another, too.
    let lower = json!({ "text": SETTINGS.replace("approvals = 1", "approvals = 0") });
    let put: SettingsChange = service.call(&vera, "PUT /api/v1/settings", Some(&lower)).await.read();
    assert_eq!((put.in_force, put.weighs.len()), (false, 1));
    // By a key that counts as everybody on record, since one made keys for the others, too.
    let all = json!({ "name": "x", "person": "tea", "rights": owner });
    let all = make(&second.text, all).await.text;
    let put_by_all: SettingsChange = service.call(&all, "PUT /api/v1/settings", Some(&lower)).await.read();
    assert!(!put_by_all.in_force, "they are one, however many they count as");
    let put: SettingsChange = service.call(&vera, "PUT /api/v1/settings", Some(&lower)).await.read();
    assert_eq!(roll_out(&service, &vera, &again, "all").await.status, 409);
    let waits = put.id.expect("has a number");
    refused(&vera, &waits, "You count among its editors").await;
    // What keeps more, and nothing else, is in force at once; what waited waits no more.
    let longer = json!({ "text": format!("{SETTINGS}[decisions]\nkeep = \"400d\"\n") });
    let put: SettingsChange = service.call(&vera, "PUT /api/v1/settings", Some(&longer)).await.read();
    assert!(put.in_force);
    assert_eq!(approve(&service, &wim, &waits).await.status, 404);
    let shown: SettingsShown = service.get(&vera, "/api/v1/settings").await.read();
    assert_eq!((shown.approvals, shown.people.len(), shown.history[0].state.as_str()), (1, 3, "in-force"));

    // Back to what was never live, and shut for good.
    let never =
        service.post(&vera, "/api/v1/rollbacks", &json!({ "for": "all", "to": 9, "note": "x" })).await;
    assert_eq!(never.status, 409, "{never}");

    // Urgently, and then elsewhere.
    let urgent = json!({ "what": again, "for": "quay", "urgent": true });
    assert_eq!(service.post(&vera, "/api/v1/rollouts", &urgent).await.status, 400, "it says why");
    let releaser = service.operator("releaser", "everywhere").await;
    let urgent = json!({ "what": again, "for": "quay", "urgent": true, "note": "the quay burns" });
    assert_eq!(service.post(&releaser, "/api/v1/rollouts", &urgent).await.status, 403, "by an owner");
    assert_eq!(service.post(&vera, "/api/v1/rollouts", &urgent).await.status, 200);
    let live: Vec<LiveShown> = service.get(&vera, "/api/v1/live").await.read();
    assert_eq!(live.iter().map(|one| one.urgent).collect::<Vec<_>>(), [false, true], "marked");
    let elsewhere = roll_out(&service, &vera, "2", "customs").await;
    assert!(elsewhere.problem().detail.contains("nobody has approved it yet"), "{elsewhere}");
    refused(&vera, "R-2", "You count among its editors").await;
    // It is nothing to go back to while nobody approved it.
    let next = save(&service, &vera, &text(&FLAG), None).await.draft.id;
    let urgent = json!({ "what": next, "for": "quay", "urgent": true, "note": "and again" });
    let live: ReleasedShown = service.post(&vera, "/api/v1/rollouts", &urgent).await.read();
    assert_eq!(live.revision.number, 3);
    let back: ReleasedShown = roll_back(&service, &vera, "quay").await.read();
    assert_eq!(back.live, [("quay".to_owned(), Some(1))].into(), "over the one that nobody approved");
    let waiting: Vec<Waiting> = service.get(&tea, "/api/v1/waiting").await.read();
    assert!(waiting.iter().any(|one| one.id == "R-2" && one.not_yet.is_none()), "{waiting:?}");
    assert_eq!(approve(&service, &tea, "R-2").await.status, 200);
    assert_eq!(roll_out(&service, &vera, "2", "customs").await.status, 200, "approved, it goes elsewhere");

    // Shut for good, it goes nowhere, and nothing goes back to it.
    let shut = service.post(&tea, "/api/v1/revisions/2/bar", &json!({ "note": "too wide" })).await;
    assert_eq!(shut.status, 409, "it is live: {shut}");
    assert_eq!(roll_back(&service, &tea, "customs").await.status, 200);
    assert_eq!(
        service.post(&tea, "/api/v1/revisions/2/bar", &json!({ "note": "too wide" })).await.status,
        200
    );
    assert_eq!(roll_out(&service, &vera, "2", "customs").await.status, 409);
}

#[tokio::test(flavor = "multi_thread")]
async fn an_approval_is_of_exactly_what_was_read() {
    let (service, vera, wim, _) = with_reviews().await;
    let two = SETTINGS.replace("approvals = 1", "approvals = 2");
    service.node.put_settings_of_host(&two, "test").await.expect("put");
    let id = save(&service, &vera, &text(&MOORING), None).await.draft.id;
    rehearse(&service, &vera, &id).await;
    assert_eq!(approve(&service, &wim, &id).await.read::<ApprovalShown>().revision, None);
    assert_eq!(approve(&service, &wim, &id).await.status, 409, "once each");
    let voided = async || {
        let found = review(&service, &vera, &id).await;
        (found.approvals, found.reviews.last().and_then(|one| one.voided.clone()))
    };
    assert_eq!(voided().await, (1, None));
    save(&service, &vera, &text(&FLAG), Some(&id)).await;
    assert_eq!(voided().await, (0, Some("the text was saved anew".to_owned())));
    rehearse(&service, &vera, &id).await;
    assert_eq!(approve(&service, &wim, &id).await.status, 200);
    rehearse(&service, &vera, &id).await;
    assert_eq!(voided().await, (0, Some("it was rehearsed anew".to_owned())));
    assert_eq!(approve(&service, &wim, &id).await.status, 200);
    let files = json!({ "files": [{ "path": "a.toml", "text": "" }], "from": 0 });
    assert_eq!(service.call(&vera, "PUT /api/v1/rehearsal", Some(&files)).await.status, 200);
    assert_eq!(voided().await, (0, Some("the rehearsal's files were saved anew".to_owned())));
    // Facts move, and it stands.
    rehearse(&service, &vera, &id).await;
    assert_eq!(approve(&service, &wim, &id).await.status, 200);
    service.load(&[json!({ "entity": "user:nils" })]).await;
    assert_eq!(voided().await, (1, None));
    let tea = of_person(&service, "tea").await;
    assert_eq!(approve(&service, &tea, &id).await.read::<ApprovalShown>().revision, Some(2));
}

#[tokio::test(flavor = "multi_thread")]
async fn of_two_who_race_one_comes_too_late() {
    let (service, vera, wim, _) = with_reviews().await;
    let (mut numbered, mut saved) = (0, 0);
    for round in 0..12 {
        let words = format!("{}# {round}\n", text(&MOORING));
        let id = save(&service, &vera, &words, None).await.draft.id;
        rehearse(&service, &vera, &id).await;
        let found = review(&service, &wim, &id).await;
        // An edit against an approval that says what it read.
        let body = json!({ "digest": found.digest, "accepts": { "all": "ok" } });
        let path = format!("/api/v1/reviews/{id}/approval");
        let files = json!([{ "path": "charter.toml", "text": format!("{words}# edited\n") }]);
        let edit = json!({ "title": "edited", "files": files, "draft": id });
        let pause = Duration::from_millis(round % 4);
        let (approved, edited) = tokio::join!(
            async {
                tokio::time::sleep(pause).await;
                service.post(&wim, &path, &body).await
            },
            service.post(&vera, "/api/v1/drafts", &edit)
        );
        match (approved.status.as_u16(), edited.status.as_u16()) {
            (200, 404 | 409) => {
                numbered += 1;
                let revision = approved.read::<ApprovalShown>().revision.expect("is one");
                let text = service.get(&vera, &format!("/api/v1/revisions/{revision}")).await;
                let text: ostrog_wire::charter::RevisionText = text.read();
                assert_eq!(text.revision.digest, found.digest, "what was read is what is approved");
                assert_eq!(text.files[0].text, words);
            }
            (409 | 412, 200) => saved += 1,
            other => panic!("both or neither: {other:?} {approved} {edited}"),
        }
    }
    assert_eq!(numbered + saved, 12);

    // Two rollouts at once, and a rollout against writes: one revision is live, and facts are all there.
    let id = save(&service, &vera, &text(&FLAG), None).await.draft.id;
    rehearse(&service, &vera, &id).await;
    let revision = approve(&service, &wim, &id).await.read::<ApprovalShown>().revision.expect("is one");
    let what = revision.to_string();
    let write = async |n: usize| {
        let set = json!({ "set": [format!("user:ines.clearance = {n}")] });
        service.post(&vera, "/api/v1/facts", &set).await.status.as_u16()
    };
    let (one, two, a, b) = tokio::join!(
        roll_out(&service, &vera, &what, "all"),
        roll_out(&service, &wim, &what, "all"),
        write(1),
        write(2)
    );
    let mut statuses = [one.status.as_u16(), two.status.as_u16()];
    statuses.sort_unstable();
    assert_eq!((statuses, a, b), ([200, 409], 200, 200), "{one} {two}");
    let live: Vec<LiveShown> = service.get(&vera, "/api/v1/live").await.read();
    assert!(live.iter().all(|one| one.revision == revision), "{live:?}");
}

/// Positions of changes whose line has something.
async fn positions(service: &Service, key: &str, what: impl Fn(&Value) -> bool) -> Vec<i64> {
    let page: Value = service.get(key, "/api/v1/changes?limit=1000").await.read();
    let changes = page["items"].as_array().expect("changes").iter();
    let all = changes.filter(|change| change["lines"].as_array().expect("lines").iter().any(&what));
    all.filter_map(|change| change["position"].as_i64()).collect()
}

#[tokio::test(flavor = "multi_thread")]
async fn an_approval_counts_under_what_is_live_and_in_force_when_it_is_given() {
    let (service, vera, wim, _) = with_reviews().await;
    let beside = service.beside().await;
    let tea = of_person(&service, "tea").await;
    let (mut before, mut after) = (0, 0);
    for round in 0..8 {
        // Against a rollout of something else: it was read against what was live then.
        let other = save(&service, &vera, &format!("{CHARTER}# other {round}\n"), None).await.draft.id;
        rehearse(&service, &vera, &other).await;
        let other = approve(&service, &wim, &other).await.read::<ApprovalShown>().revision.expect("is one");
        let words = format!("{CHARTER}# {round}\n");
        let id = save(&service, &vera, &words, None).await.draft.id;
        rehearse(&service, &vera, &id).await;
        let pause = Duration::from_millis(round * 3);
        let (approved, live) = tokio::join!(
            async {
                tokio::time::sleep(pause).await;
                approve(&beside, &wim, &id).await
            },
            async { roll_out(&service, &vera, &other.to_string(), "all").await }
        );
        assert_eq!(live.status, 200, "{live}");
        if approved.status == 200 {
            before += 1;
            let revision = approved.read::<ApprovalShown>().revision.expect("is one");
            let live = roll_out(&service, &vera, &revision.to_string(), "all").await;
            assert_eq!(live.status, 409, "something else went live since: {live}");
            continue;
        }
        after += 1;
        assert_eq!(approved.status, 409, "{approved}");
        // Put onto what is live now it is read anew, whoever comes first.
        let files = json!([{ "path": "charter.toml", "text": words }]);
        let onto = json!({ "title": "onto", "files": files, "draft": id, "onto-live": true });
        let (approved, onto) =
            tokio::join!(approve(&beside, &wim, &id), service.post(&vera, "/api/v1/drafts", &onto));
        assert_eq!((approved.status.as_u16(), onto.status.as_u16()), (409, 200), "{approved} {onto}");
        rehearse(&service, &vera, &id).await;
        assert_eq!(approve(&beside, &wim, &id).await.status, 200);
    }
    assert_eq!(before + after, 8);
    assert!(after > 0, "the rollout was never first");

    // Against settings that ask for more: each approval counts under those in force when it is given.
    for round in 0..6 {
        let (put, needed) = if round % 2 == 0 { (2, 1) } else { (1, 2) };
        let text = SETTINGS.replace("approvals = 1", &format!("approvals = {put}"));
        let change: SettingsChange =
            service.call(&vera, "PUT /api/v1/settings", Some(&json!({ "text": text }))).await.read();
        let settings = change.id.expect("is kept");
        assert!(!change.in_force);
        if needed == 2 {
            assert_eq!(approve(&service, &tea, &settings).await.status, 200);
        }
        let id = save(&service, &vera, &format!("{CHARTER}# more {round}\n"), None).await.draft.id;
        rehearse(&service, &vera, &id).await;
        let (in_force, approved) =
            tokio::join!(approve(&service, &wim, &settings), approve(&beside, &tea, &id));
        assert_eq!((in_force.status.as_u16(), approved.status.as_u16()), (200, 200), "{in_force} {approved}");
        let approved: ApprovalShown = approved.read();
        let number: i64 = settings.trim_start_matches("S-").parse().expect("a number");
        let at =
            positions(&service, &vera, |line| line["settings"] == number && line["in-force"] == true).await;
        let given = positions(&service, &vera, |line| line["review"] == id.as_str()).await;
        let under = if given[0] < at[0] { needed } else { put };
        assert_eq!((approved.needed, approved.revision.is_some()), (under, under == 1), "round {round}");
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn over_what_it_was_not_approved_on_it_is_approved_anew() {
    let (service, vera, wim, robot) = with_reviews().await;
    let tea = of_person(&service, "tea").await;
    let mut numbers = Vec::new();
    for words in [text(&FLAG), text(&MOORING)] {
        let id = save(&service, &vera, &words, None).await.draft.id;
        rehearse(&service, &vera, &id).await;
        numbers.push(approve(&service, &wim, &id).await.read::<ApprovalShown>().revision.expect("is one"));
    }
    assert_eq!((numbers[0], numbers[1]), (2, 3));
    assert_eq!(roll_out(&service, &vera, "2", "all").await.status, 200);
    let over = async |over: i64| {
        let asked = json!({ "what": "3", "for": "all", "over": over });
        service.post(&vera, "/api/v1/rollouts", &asked).await
    };
    assert_eq!(over(1).await.status, 409, "revision 2 is live, not 1");
    let refused = over(2).await.problem();
    assert!(refused.detail.ends_with("(ostrog approve R-3 --over 2)."), "{}", refused.detail);
    // By somebody who wrote none of it, who accepts what it moves there.
    let path = "/api/v1/reviews/R-3/approval";
    let says = |accepts: Value, over: i64| json!({ "accepts": accepts, "over": over });
    for (key, status) in [(&vera, 403), (&robot, 403)] {
        assert_eq!(service.post(key, path, &says(json!({ "all": "ok" }), 2)).await.status, status);
    }
    let unsaid = service.post(&tea, path, &says(json!({}), 2)).await.problem();
    assert_eq!((unsaid.status, unsaid.errors.len()), (409, 2), "{}", unsaid.detail);
    assert_eq!(
        service.post(&tea, path, &says(json!({ "all": "ok" }), 1)).await.status,
        409,
        "1 is live nowhere"
    );
    assert_eq!(over(2).await.status, 409);
    let done = service.post(&tea, path, &says(json!({ "all": "read it there" }), 2)).await;
    assert_eq!(done.status, 200, "{done}");
    assert_eq!(service.post(&tea, path, &says(json!({ "all": "again" }), 2)).await.status, 409);
    // It counts for that alone.
    let plain = roll_out(&service, &vera, "3", "all").await;
    assert_eq!(plain.status, 409, "{plain}");
    let live = over(2).await;
    assert_eq!(live.status, 200, "{live}");
}

/// A way to a database that can be cut, and mended.
async fn way_to(url: &str) -> (String, tokio::sync::watch::Sender<bool>) {
    let at = url::Url::parse(url).expect("an address");
    let to = format!("{}:{}", at.host_str().expect("a host"), at.port().expect("a port"));
    let listener = tokio::net::TcpListener::bind("127.0.0.1:0").await.expect("a port");
    let mut by = at;
    by.set_port(Some(listener.local_addr().expect("an address").port())).expect("can be set");
    let (sender, open) = tokio::sync::watch::channel(true);
    tokio::spawn(async move {
        while let Ok((mut near, _)) = listener.accept().await {
            let (to, mut open) = (to.clone(), open.clone());
            tokio::spawn(async move {
                if !*open.borrow() {
                    return;
                }
                let Ok(mut there) = tokio::net::TcpStream::connect(to).await else { return };
                tokio::select! {
                    _ = tokio::io::copy_bidirectional(&mut near, &mut there) => {}
                    _ = open.wait_for(|open| !open) => {}
                }
            });
        }
    });
    (by.to_string(), sender)
}

#[tokio::test(flavor = "multi_thread")]
async fn with_the_database_gone_from_one_node_the_other_goes_back() {
    let (service, vera, wim, _) = with_reviews().await;
    let quay = service.application("quay").await;
    let id = save(&service, &vera, &text(&MOORING), None).await.draft.id;
    rehearse(&service, &vera, &id).await;
    assert_eq!(approve(&service, &wim, &id).await.status, 200);
    assert_eq!(roll_out(&service, &vera, "2", "all").await.status, 200);
    let (by, way) = way_to(service.url()).await;
    let cut = service.by(&by).await;
    comes_to(async || asked(&cut, &quay, "vessel", "tern", "moor").await == (true, 2)).await;

    way.send_replace(false);
    // It answers on from memory, and refuses what it cannot keep, soon.
    comes_to(async || roll_back(&cut, &vera, "quay").await.status == 503).await;
    let begun = Instant::now();
    assert_eq!(roll_back(&cut, &vera, "quay").await.status, 503);
    assert!(begun.elapsed() < Duration::from_secs(2), "{:?}", begun.elapsed());
    assert_eq!(asked(&cut, &quay, "vessel", "tern", "moor").await, (true, 2));
    let back = roll_back(&service, &vera, "quay").await;
    assert_eq!(back.status, 200, "{back}");
    assert_eq!(asked(&service, &quay, "vessel", "tern", "moor").await, (false, 1));
    // It is named, with until when it may answer as before.
    let (_, position) = service.node.live_revision().expect("is live");
    let nodes: Vec<NodeShown> = service.get(&vera, "/api/v1/nodes").await.read();
    assert!(nodes.iter().any(|node| node.position < position), "{nodes:?}");

    // A node that starts in the middle begins with what is live; the one that was cut off follows by itself.
    let late = service.beside().await;
    assert_eq!(asked(&late, &quay, "vessel", "tern", "moor").await, (false, 1));
    way.send_replace(true);
    comes_to(async || asked(&cut, &quay, "vessel", "tern", "moor").await == (false, 1)).await;
    comes_to(async || roll_out(&cut, &vera, "2", "quay").await.status == 200).await;
    comes_to(async || asked(&service, &quay, "vessel", "tern", "moor").await == (true, 2)).await;
}

#[tokio::test(flavor = "multi_thread")]
async fn a_key_for_trying_ahead_is_answered_ahead_and_never_else() {
    let (service, vera, wim, _) = with_reviews().await;
    let made = service
        .post(
            &vera,
            "/api/v1/keys",
            &json!({ "name": "staging", "application": "quay", "staging": true, "detail": "full" }),
        )
        .await;
    let staging = made.read::<ostrog_wire::keys::KeyMade>().text;
    let quay = service.application("quay").await;
    let id = save(&service, &vera, &text(&MOORING), None).await.draft.id;
    rehearse(&service, &vera, &id).await;
    let call = |key: &str, path: &str, revision: Option<&str>, body: &Value| {
        let mut request = request(key, &format!("POST {path}"), Some(body));
        if let Some(revision) = revision {
            request.headers_mut().insert("ostrog-try-revision", revision.parse().expect("text"));
        }
        service.send(request)
    };
    let moor = asks("vessel", "tern", "moor");
    let path = "/access/v1/evaluation";
    assert_eq!(call(&staging, path, Some("2"), &moor).await.status, 404, "there is none yet");
    assert_eq!(approve(&service, &wim, &id).await.status, 200);
    for (key, revision, status) in
        [(&staging, None, 403), (&staging, Some("x"), 404), (&quay, Some("2"), 403), (&vera, Some("2"), 403)]
    {
        let answer = call(key, path, revision, &moor).await;
        assert_eq!(answer.status, status, "{revision:?} {answer}");
    }
    let ahead = call(&staging, path, Some("2"), &moor).await;
    assert_eq!((ahead.decision(), &ahead.headers["ostrog-tried"]), (true, &"2".parse().expect("text")));
    assert_eq!(ahead.read::<Evaluation>().context.tried, Some(2));
    let batch = call(&staging, "/access/v1/evaluations", Some("2"), &json!({ "evaluations": [moor] })).await;
    assert_eq!(batch.read::<Evaluations>().evaluations[0].context.tried, Some(2));
    assert!(!asked(&service, &quay, "vessel", "tern", "moor").await.0, "nothing changed for anybody");
    let lately = service.get(&vera, "/api/v1/asked").await.read::<Value>();
    let minutes = &lately["applications"].as_array().expect("a list")[1]["minutes"];
    let counted = minutes.as_array().expect("a list").iter().map(|one| one["allowed"].as_u64().unwrap_or(0));
    assert_eq!(counted.sum::<u64>(), 0, "what is tried counts nowhere");
    // Nothing is written ahead, and what is shut is not tried.
    let activate = json!({ "grant": "g-1", "subject": "user:ines", "session": "s", "reason": "fog" });
    let written = call(&staging, "/api/v1/activations", Some("2"), &activate).await;
    assert_eq!(written.status, 403, "{written}");
    assert_eq!(service.post(&wim, "/api/v1/revisions/2/bar", &json!({ "note": "no" })).await.status, 200);
    assert_eq!(call(&staging, path, Some("2"), &moor).await.status, 403);
}

#[tokio::test(flavor = "multi_thread")]
async fn live_questions_are_answered_once_more_in_the_shadow() {
    let (service, vera, wim, _) = with_reviews().await;
    let other = service.beside().await;
    let (quay, customs) = (service.application("quay").await, service.application("customs").await);
    let id = save(&service, &vera, &text(&MOORING), None).await.draft.id;
    rehearse(&service, &vera, &id).await;
    assert_eq!(approve(&service, &wim, &id).await.status, 200);
    let begin = json!({ "revision": 2, "for": "quay", "share": 100 });
    let begun = service.post(&vera, "/api/v1/shadows", &begin).await;
    assert_eq!(begun.status, 200, "{begun}");
    let number = begun.read::<ShadowShown>().number;
    comes_to(async || other.node.has_shadow(number)).await;
    for node in [&service, &other] {
        for _ in 0..5 {
            assert!(!asked(node, &quay, "vessel", "tern", "moor").await.0, "callers notice nothing");
            assert!(asked(node, &quay, "vessel", "tern", "view").await.0);
            assert!(asked(node, &customs, "declaration", "d1", "release").await.0);
        }
        let items = json!({ "subject": { "type": "user", "id": "ines" }, "action": { "name": "moor" },
                            "evaluations": [{ "resource": { "type": "vessel", "id": "tern" } }] });
        assert_eq!(node.post(&quay, "/access/v1/evaluations", &items).await.status, 200);
    }
    let shadow = async || {
        let all: Vec<ShadowShown> = service.get(&vera, "/api/v1/shadows").await.read();
        all.into_iter().find(|one| one.number == number).expect("is told")
    };
    comes_to(async || shadow().await.asked == 22).await;
    assert_eq!((shadow().await.differing, shadow().await.dropped), (12, 0));
    let path = format!("/api/v1/shadows/{number}/differences");
    let groups: Vec<DifferenceGroup> = service.get(&vera, &path).await.read();
    assert_eq!(groups.len(), 1, "{groups:?}");
    let group = &groups[0];
    assert_eq!((group.permission.as_str(), group.newly_denied, group.times), ("vessel:moor", false, 12));
    assert_eq!((group.reason.as_str(), group.shadow_reason.as_str()), ("no-role", "role:hand"));
    assert_eq!(group.questions[0].resource.as_deref(), Some("vessel:tern"));
    // Whoever may not read all facts is told none of it.
    let north = Right { role: "reader".to_owned(), at: "tenant:northline".to_owned() };
    let north =
        service.key(Making { rights: vec![north], ..Making::whole(KeyKind::Operator, "north") }).await;
    assert_eq!(service.get(&north, &path).await.status, 403);
    let ended = service.call(&vera, &format!("DELETE /api/v1/shadows/{number}"), None).await;
    assert_eq!(ended.read::<ShadowShown>().ended.as_deref(), Some("it was stopped"));
    comes_to(async || !other.node.has_shadow(number)).await;
}
