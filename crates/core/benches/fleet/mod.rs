//! A large register of the demo's types: tenants with ships and what these carry, seeded.

use crate::port::Dice;
use ostrog_core::prelude::*;
use serde_json::json;
use std::sync::Arc;

const TENANTS: usize = 40;

/// So many users, and three times as many resources.
pub fn register(policy: Arc<Policy>, users: usize) -> Register {
    let mut dice = Dice(7);
    let mut world = World::new(policy, Register::default());
    let mut waiting = Vec::new();
    let mut line = |value: serde_json::Value| waiting.push(line::parse(&value.to_string()).expect("a line"));
    let tenant = |at: usize| format!("tenant:line-{}", at % TENANTS);
    for at in 0..TENANTS {
        line(json!({"entity": tenant(at), "attributes": {"kind": "line"}}));
    }
    for at in 0..users {
        line(json!({"entity": format!("user:u{at}"), "tenants": [format!("line-{}", at % TENANTS)],
            "attributes": {"clearance": 1 + dice.below(9), "post": (["quay", "yard", "office", "gate"][dice.below(4)])},
            "relations": {"supervisor": format!("user:u{}", dice.below(1 + at / 20))}}));
    }
    for at in 0..TENANTS * 5 {
        let members: Vec<String> = (0..users / 400)
            .map(|_| format!("user:u{}", dice.below(users / TENANTS) * TENANTS + at % TENANTS))
            .collect();
        line(json!({"entity": format!("group:g{at}"), "members": members}));
    }
    let vessels = users / 50;
    let (mut voyages, mut manifests) = (0, 0);
    for vessel in 0..vessels {
        let name = format!("vessel:s{vessel}");
        line(json!({"entity": name, "within": tenant(vessel), "attributes": {"flag": "PT"}}));
        for _ in 0..8 {
            let voyage = format!("voyage:v{voyages}");
            voyages += 1;
            line(json!({"entity": voyage, "within": name}));
            for n in 0..6 {
                let manifest = format!("manifest:m{manifests}");
                let own = |dice: &mut Dice| {
                    format!("user:u{}", dice.below(users / TENANTS) * TENANTS + vessel % TENANTS)
                };
                let reviewers = if dice.below(20) == 0 { vec![own(&mut dice)] } else { Vec::new() };
                line(json!({"entity": manifest, "within": voyage,
                    "attributes": {"line": format!("L{}", vessel % TENANTS), "hazard": 1 + dice.below(9),
                        "state": (["draft", "filed", "released"][dice.below(3)]), "held": dice.below(10) == 0},
                    "relations": {"declarant": own(&mut dice), "reviewers": reviewers}}));
                line(json!({"entity": format!("container:c{manifests}"), "within": manifest,
                    "attributes": {"weight": format!("{}", 4 + dice.below(24))}}));
                if n == 0 {
                    line(
                        json!({"entity": format!("inspection:i{manifests}"), "within": format!("container:c{manifests}")}),
                    );
                }
                manifests += 1;
            }
            line(
                json!({"entity": format!("booking:b{voyages}"), "within": voyage, "attributes": {"line": "NL"}}),
            );
            line(
                json!({"entity": format!("invoice:b{voyages}"), "within": format!("booking:b{voyages}"), "attributes": {"amount": "500"}}),
            );
        }
    }
    let roles =
        ["deckhand", "planner", "inspector", "customs-clerk", "chief-inspector", "yard-hand", "auditor"];
    for at in 0..users / 2 {
        let to = if at % 20 == 0 {
            format!("group:g{}", dice.below(TENANTS * 5))
        } else {
            format!("user:u{}", dice.below(users))
        };
        let place = match dice.below(4) {
            0 => format!("tenant:line-{}", dice.below(TENANTS)),
            1 | 2 => format!("vessel:s{}", dice.below(vessels)),
            _ => format!("voyage:v{}", dice.below(voyages)),
        };
        line(json!({"grant": {"role": roles[dice.below(roles.len())], "to": to, "at": place}}));
    }
    world.apply(&waiting).expect("the facts are valid");
    world.register().clone()
}
