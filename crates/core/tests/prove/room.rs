//! Requests of a world full of what is rare: containment that ends in no tenant, types that declare
//! the same name differently, requests that speak for the register, recursion, standby, separations.

use crate::Dice;
use ostrog_core::prelude::*;
use ostrog_core::prove::{Claim, Guarantee};
use ostrog_core::rehearse::read;
use serde_json::{Map, Value, json};
use std::sync::Arc;

const TYPES: &str = r#"
[charter]
name = "Rare"
format = 1
[application.quay]
[resource.depot]
application = "quay"
actions = { view = "", open = "" }
[resource.depot.attributes]
lit = { type = "boolean", from = "request", default = true }
class = { type = "integer", from = "either", default = 3 }
[resource.depot.relations]
owner = "user"
[resource.shed]
application = "quay"
within = ["depot", "tenant"]
actions = { view = "", open = "" }
[resource.shed.attributes]
lit = { type = "boolean", from = "request", default = false }
class = { type = "integer", from = "either" }
size = "decimal"
note = { type = "text", values = ["red", "blue"] }
marks = { type = "text", many = true }
built = "time"
net = "address"
[resource.shed.relations]
owner = { to = "user", from = "either" }
crew = { to = ["user", "group"], many = true }
near = ["depot", "shed", "box"]
twin = { to = "shed", across-tenants = true }
parts = { to = "box", many = true }
[resource.box]
application = "quay"
within = ["box", "shed"]
actions = { view = "", open = "" }
[resource.box.attributes]
lit = { type = "boolean", default = false }
class = { type = "integer", default = 3 }
[resource.box.relations]
owner = "user"
next = "box"
[subject.user.attributes]
rank = "integer"
badge = { type = "text", from = "either" }
[subject.user.relations]
boss = "user"
home = "shed"
mates = { to = "user", many = true }
team = "group"
[tenant.attributes]
plan = "text"
[subject.service.attributes]
badge = "text"
[group.duty]
[context]
zone = { type = "text", values = ["quay", "yard"], default = "yard" }
level = "integer"
codes = { type = "integer", many = true }
from = "address"
"#;

/// Conditions about a type; those of all come first.
fn atoms(kind: &str) -> Vec<&'static str> {
    let mut all = vec![
        "subject == resource.owner",
        "resource.owner == subject.boss",
        "subject.boss.boss == subject",
        "known(subject.boss)",
        "resource.class > 2",
        "subject.rank >= resource.class",
        "resource.class + 1 == subject.rank",
        "resource.class + 1.0 > 3.5",
        "subject.rank - 1 < context.level",
        "subject.badge == 'b1'",
        "starts(subject.badge, 'b')",
        "lower(subject.badge) == 'b1'",
        "member('duty')",
        "context.zone == 'quay'",
        "context.level in context.codes",
        "count(context.codes) > 1",
        "context.from in [address('10.0.0.0/8')]",
        "subject.type == 'service'",
        "resource.id == 'one'",
        "known(resource.id)",
        "resource.lit",
        "now < time('2026-11-24T00:00:00Z')",
        "hour(now, 'Europe/Lisbon') < 12",
        "subject.home.class > 2",
        "subject == entity('user:u1')",
        "known(resource.owner.rank)",
        "resource.owner.badge != subject.badge",
        "starts(subject.badge, resource.owner.badge)",
        "3 in subject.mates.rank",
        "subject in resource.owner.mates",
        "subject.mates overlaps resource.owner.mates",
        "count(subject.mates) == 0",
        "known(subject.mates.rank)",
        "among(subject, resource.owner)",
        "among(subject, subject.team)",
        "weekday(now, 'Europe/Lisbon') == 'monday'",
        "clock(now, 'Europe/Lisbon') < duration('9h')",
        "subject.home.tenant.plan == 'full'",
    ];
    all.extend_from_slice(match kind {
        "shed" => &[
            "resource == entity('shed:one')",
            "resource in [entity('shed:one'), entity('shed:gone')]",
            "resource.near.lit",
            "resource.near.class == 3",
            "resource.near == resource",
            "resource.twin.lit",
            "resource.twin == resource",
            "resource.twin.owner == subject",
            "resource.twin.tenant == resource.tenant",
            "subject.home == resource",
            "resource.size + 0.5 > 2.0",
            "resource.note == 'red'",
            "'a' in resource.marks",
            "count(resource.marks) == 0",
            "resource.marks overlaps ['a', 'b']",
            "among(subject, resource.crew)",
            "known(resource.crew)",
            "resource.built < now",
            "resource.built + duration('4d') > now",
            "now - resource.built > duration('1h')",
            "resource.tenant.plan == 'full'",
            "resource.parts.class overlaps [1, 3]",
            "count(resource.parts) > 0",
            "resource.parts.next overlaps resource.parts",
            "resource.net in [address('10.1.0.0/16')]",
            "known(resource.within)",
            "resource.within.type == 'depot'",
            "known(resource.tenant)",
            "resource.detached",
        ][..],
        "box" => &[
            "resource.next == resource",
            "resource.next.next.class > 2",
            "resource.next.owner == subject",
            "resource.within == resource.next",
            "resource.within.class < 3",
            "resource.within.owner == subject",
            "known(resource.within.within)",
            "resource.tenant == subject.home.tenant",
            "resource.detached",
        ][..],
        _ => &["resource == entity('depot:one')", "known(resource.detached)"][..],
    });
    all
}

fn condition(dice: &mut Dice, kind: &str, depth: usize) -> String {
    if depth == 0 || dice.often(4) {
        let atoms = atoms(kind);
        let held = ["holds('r1')", "holds('r3')"];
        return if dice.often(1) { dice.one(&held).to_owned() } else { dice.one(&atoms).to_owned() };
    }
    let a = condition(dice, kind, depth - 1);
    match dice.below(3) {
        0 => format!("not ({a})"),
        1 => format!("({a} and {})", condition(dice, kind, depth - 1)),
        _ => format!("({a} or {})", condition(dice, kind, depth - 1)),
    }
}

/// As [`condition`], without asking for roles: those of conferrals are put into strata.
fn plain(dice: &mut Dice, kind: &str) -> String {
    let text = condition(dice, kind, 1);
    text.replace("holds('r1')", "known(subject.rank)").replace("holds('r3')", "known(subject.boss)")
}

fn charter(dice: &mut Dice) -> String {
    let mut text = TYPES.to_owned();
    let kinds = ["depot", "shed", "box"];
    for n in 1..=6 {
        let kind = dice.one(&kinds);
        text += &format!("[role.r{n}]\n");
        if n != 1 && n != 3 && dice.often(3) {
            text += &format!("held-by = [{}]\n", dice.one(&["'service'", "'user', 'service'"]));
        }
        match n {
            1 if dice.often(4) => text += "given-to = 'signed-in'\n",
            2 => text += "given-to = 'members'\n",
            // Conferred below, and never guarded.
            4 if dice.often(5) => text += "grantable = false\n",
            5 => {
                text += &format!(
                    "standby = {{ longest = '2h', when = \"{}\" }}\n",
                    dice.one(&["context.zone == 'quay'", "subject.rank > 1"])
                );
            }
            6 => text += "values = { class = 'integer' }\nwhen = \"resource.class in grant.class\"\n",
            _ => {}
        }
        if n == 3 && dice.often(5) {
            text += "includes = ['r1']\n";
        }
        text += &format!("permissions = [\"{kind}:view\"]\n");
        let kind = dice.one(&kinds);
        text += &format!(
            "[[role.r{n}.clause]]\npermissions = [\"{kind}:open\"]\nwhen = \"{}\"\n",
            condition(dice, kind, 2)
        );
    }
    let paths = ["within", "next", "next.within"];
    let when = plain(dice, "box");
    text += &format!(
        "[[resource.box.confer]]\nrole = 'r4'\nto = {{ holds = 'r{}', at = '{}' }}\nwhen = \"{when}\"\n",
        dice.one(&["1", "4", "3"]),
        dice.one(&paths)
    );
    text += &format!(
        "[[resource.shed.confer]]\nrole = 'r{}'\nto = {{ relation = '{}' }}\nthrough-detached = {}\n",
        dice.one(&["1", "4"]),
        dice.one(&["owner", "crew", "near.owner", "twin.owner"]),
        dice.often(5)
    );
    if dice.often(5) {
        text += "[[resource.shed.confer]]\nrole = 'r4'\nto = { holds = 'r1', at = 'parts' }\n";
    }
    if dice.often(5) {
        text += "[[separation]]\nkey = 's'\nroles = ['r1', 'r4']\n";
    }
    for n in 0..3 {
        let kind = dice.one(&kinds);
        let (deny, action) = (dice.often(4), dice.one(&["view", "open"]));
        let more = if deny {
            ""
        } else {
            dice.one(&["", "for = 'anyone'\nacross-tenants = true\n", "across-tenants = true\n"])
        };
        text += &format!(
            "[[rule]]\nkey = 'rule-{n}'\neffect = '{}'\n{more}permissions = [\"{kind}:{action}\"]\nwhen = \"{}\"\n",
            if deny { "deny" } else { "allow" },
            condition(dice, kind, 2)
        );
    }
    text += "[[tenant-roles.clause]]\npermissions = [\"shed:view\"]\nwhen = \"resource.class > 2\"\n";
    text
}

/// Lines in an order in which what is named comes first; some of them the write checks refuse.
fn register(dice: &mut Dice) -> Vec<Value> {
    let mut lines = vec![
        json!({ "entity": "tenant:t1", "attributes": { "plan": "full" } }),
        json!({ "entity": "tenant:t2" }),
    ];
    let tenants = [json!(["t1"]), json!(["t2"]), json!(["t1", "t2"]), json!([])];
    for user in ["u1", "u2", "u3"] {
        let mut attributes = Map::new();
        if dice.often(7) {
            attributes.insert("rank".to_owned(), json!(dice.below(4)));
        }
        if dice.often(6) {
            attributes.insert("badge".to_owned(), dice.one(&["b1", "B1", "c"]).into());
        }
        let tenants = &tenants[dice.below(4)];
        lines.push(json!({ "entity": format!("user:{user}"), "tenants": tenants, "attributes": attributes }));
    }
    lines.push(
        json!({ "entity": "service:s1", "tenants": tenants[dice.below(4)], "attributes": { "badge": "b1" } }),
    );
    let people = ["user:u1", "user:u2", "user:u3"];
    for (group, inner) in [("crew", None), ("duty", Some("group:crew"))] {
        let mut members: Vec<&str> = vec![dice.one(&["user:u1", "user:u2", "service:s1"])];
        members.extend(inner.filter(|_| dice.often(5)));
        let mut line = json!({ "entity": format!("group:{group}"), "members": members });
        if dice.often(4) {
            line["tenant"] = dice.one(&["t1", "t2"]).into();
        }
        lines.push(line);
    }
    let mut things: Vec<String> = Vec::new();
    for (name, within) in [
        ("depot:one", &[""][..]),
        ("shed:one", &["tenant:t1", "depot:one"]),
        ("shed:two", &["tenant:t1", "tenant:t2", "depot:one"]),
        ("box:one", &["shed:one", "shed:two"]),
        ("box:two", &["box:one", "shed:one"]),
        ("box:three", &["box:two", "box:one", "shed:two"]),
    ] {
        if dice.often(1) {
            continue;
        }
        let mut line = json!({ "entity": name });
        let within = dice.one(within);
        if !within.is_empty() {
            line["within"] = within.into();
        }
        line["detached"] = dice.often(2).into();
        let (mut attributes, mut relations) = (Map::new(), Map::new());
        if dice.often(6) {
            attributes.insert("class".to_owned(), json!(dice.below(5)));
        }
        if dice.often(6) {
            relations.insert("owner".to_owned(), dice.one(&people).into());
        }
        if name.starts_with("shed") {
            for (key, value) in [
                ("size", json!(dice.one(&["1.5", "2", "x"]))),
                ("note", json!(dice.one(&["red", "blue", "green"]))),
                ("marks", [json!([]), json!(["a"]), json!(["a", "c"])][dice.below(3)].clone()),
                ("built", json!("2026-11-20T00:00:00Z")),
                ("net", json!(dice.one(&["10.1.2.3", "10.2.0.0/16"]))),
            ] {
                if dice.often(6) {
                    attributes.insert(key.to_owned(), value);
                }
            }
            if dice.often(6) {
                let crew = [json!([]), json!(["group:crew"]), json!(["user:u2", "group:duty"])];
                relations.insert("crew".to_owned(), crew[dice.below(3)].clone());
            }
        }
        let before = things.clone();
        let of = |dice: &mut Dice, kinds: &[&str]| {
            let fit: Vec<&String> =
                before.iter().filter(|name| kinds.iter().any(|kind| name.starts_with(kind))).collect();
            (!fit.is_empty() && dice.often(6)).then(|| fit[dice.below(fit.len())].clone())
        };
        for (own, key, kinds) in
            [("shed", "near", &["depot", "shed"][..]), ("shed", "twin", &["shed"]), ("box", "next", &["box"])]
        {
            if name.starts_with(own)
                && let Some(to) = of(dice, kinds)
            {
                relations.insert(key.to_owned(), to.into());
            }
        }
        line["attributes"] = attributes.into();
        line["relations"] = relations.into();
        lines.push(line);
        things.push(name.to_owned());
    }
    // What leads back, once all is there.
    for thing in &things {
        let kind = thing.split(':').next().unwrap_or_default();
        let relation = match kind {
            "shed" if dice.often(6) => {
                let near = &things[dice.below(things.len())];
                let boxes = things.iter().filter(|name| name.starts_with("box") && dice.often(6));
                json!({ "twin": thing, "near": near, "parts": boxes.collect::<Vec<_>>() })
            }
            "box" if dice.often(3) => json!({ "next": things[things.len() - 1] }),
            _ => continue,
        };
        lines.push(json!({ "entity": thing, "merge": true, "relations": relation }));
    }
    for user in people {
        let home = things.iter().find(|name| name.starts_with("shed") && dice.often(6));
        let mut relations = json!({ "boss": dice.one(&people) });
        if let Some(home) = home {
            relations["home"] = home.as_str().into();
        }
        if dice.often(6) {
            let mates = [json!([]), json!(["user:u1", "user:u3"]), json!(["user:u2"])];
            relations["mates"] = mates[dice.below(3)].clone();
        }
        if dice.often(5) {
            relations["team"] = dice.one(&["group:crew", "group:duty"]).into();
        }
        if dice.often(7) {
            lines.push(json!({ "entity": user, "merge": true, "relations": relations }));
        }
    }
    lines.push(json!({ "tenant-role": { "tenant": "t1", "key": "own", "permissions": ["shed:view"] } }));
    let places: Vec<&str> = ["everywhere", "tenant:t1", "tenant:t2"]
        .into_iter()
        .chain(things.iter().map(String::as_str))
        .collect();
    for n in 0..12 {
        let role = dice.one(&["r1", "r2", "r3", "r4", "r5", "r6", "t1/own"]);
        let to = dice.one(&["user:u1", "user:u2", "service:s1", "group:crew", "group:duty"]);
        let mut grant = json!({ "id": format!("g-{n}"), "role": role, "to": to, "at": dice.one(&places) });
        if role == "r6" {
            grant["values"] = json!({ "class": [dice.below(5), 3] });
        }
        lines.push(json!({ "grant": grant }));
        if role == "r5" {
            let subject = dice.one(&["user:u1", "user:u2", "service:s1"]);
            lines.push(json!({ "activation": { "grant": format!("g-{n}"), "subject": subject,
                "from": "2026-11-23T08:30:00Z", "until": "2026-11-23T10:00:00Z", "reason": "a trial" } }));
        }
    }
    lines
}

fn request(dice: &mut Dice, permission: &str) -> Request {
    let kind = permission.split(':').next().unwrap_or_default();
    let id = dice.one(&["one", "one", "two", "three", "gone", ""]);
    let mut request = Request {
        subject: dice
            .one(&["user:u1", "user:u1", "user:u2", "service:s1", "anonymous", "user:gone"])
            .to_owned(),
        permission: permission.to_owned(),
        resource: (!id.is_empty()).then(|| format!("{kind}:{id}")),
        ..Request::default()
    };
    let mut state = |to: &mut Map<String, Value>, key: &str, values: &[Value]| {
        if dice.often(4) {
            to.insert(key.to_owned(), values[dice.below(values.len())].clone());
        }
    };
    state(&mut request.of_resource, "lit", &[json!(true), json!(false), json!("x")]);
    state(&mut request.of_resource, "class", &[json!(1), json!(3), json!(i64::MAX)]);
    state(&mut request.of_resource, "owner", &[json!("user:u1"), json!("user:gone")]);
    state(
        &mut request.of_resource,
        "within",
        &[json!("shed:one"), json!("tenant:t1"), json!("depot:one"), json!("box:one")],
    );
    state(&mut request.of_subject, "badge", &[json!("b1"), json!(7)]);
    state(&mut request.context, "zone", &[json!("quay"), json!("yard"), json!("sea")]);
    state(&mut request.context, "level", &[json!(0), json!(2)]);
    state(&mut request.context, "codes", &[json!([]), json!([1, 2]), json!(["x"])]);
    state(&mut request.context, "from", &[json!("10.0.0.7"), json!("11.0.0.0/8")]);
    request
}

#[test]
fn every_request_of_a_rare_world_has_room_in_the_formula() {
    let (mut allowed, mut asked, mut refused) = (0, 0, 0);
    for seed in 0..crate::cases(80) {
        let mut dice = Dice(seed);
        let text = charter(&mut dice);
        let sources = Sources::single("rare.toml", &text);
        let reading = charter::read(&sources);
        let Some(policy) = reading.policy.map(Arc::new) else {
            refused += 1;
            continue;
        };
        let mut world = World::new(Arc::clone(&policy), Register::default());
        let mut kept = Vec::new();
        for line in register(&mut dice) {
            if world.apply(&[line::from_json(&line).expect("a line")]).is_ok() {
                kept.push(line.to_string());
            }
        }
        for permission in ["depot:view", "depot:open", "shed:view", "shed:open", "box:view", "box:open"] {
            let kind = permission.split(':').next().unwrap_or_default();
            let claim = Claim::Never(policy.permission(permission).expect("it is declared"));
            let mut when = condition(&mut dice, kind, 2);
            if dice.often(3) {
                when = format!("holds('{}') and ({when})", dice.one(&["r2", "r4", "r5", "r6"]));
            }
            let beside =
                format!("[[guarantee]]\nname = \"g\"\nnever = \"{permission}\"\nwhen = \"{when}\"\n");
            let beside = Sources::single("g.toml", &beside);
            let mut guarantees = read(&beside, &mut Vec::new()).checked(&policy, &beside).unwrap_or_default();
            guarantees.push(Guarantee { claim, when: None, assume: None });
            for _ in 0..8 {
                let request = request(&mut dice, permission);
                let now = "2026-11-23T09:00:00Z".parse().expect("a moment");
                let resolved = request.resolve(world.engine(), now).expect("well formed").question;
                let Ok(question) = resolved else { continue };
                let decision = with_scratch(|scratch| decide(world.engine(), &question, scratch));
                allowed += usize::from(decision.allowed);
                asked += 1;
                for guarantee in &guarantees {
                    let room = guarantee.has_room_for(&world, &request, now, 1 + 2 * dice.below(2));
                    assert!(
                        room.is_ok(),
                        "seed {seed}: no room for {room:#?}\n{decision:?} {request:#?} {guarantee:#?}\n{text}\n{}",
                        kept.join("\n")
                    );
                }
            }
        }
    }
    assert!(allowed * 20 > asked, "{allowed} of {asked} allowed, {refused} charters refused");
}
