//! Generated charters and registers as the engine takes them, and what it says of a row.

use crate::render;
use ostrog_core::prelude::*;
use serde_json::Value as Json;
use std::collections::BTreeMap;
use std::sync::Arc;

pub fn allowed(world: &World, request: &Request, now: jiff::Timestamp) -> bool {
    let asked = request.resolve(world.engine(), now).expect("well formed");
    with_scratch(|scratch| explain(world.engine(), &asked, scratch)).0.allowed
}

/// A charter with two affordances for each permission, the second under the first.
pub fn text(charter: &crate::naive::Charter) -> String {
    let mut text = render::charter(charter);
    for kind in ["beacon", "crate", "hold", "ship"] {
        for action in ["look", "take"] {
            text.push_str(&format!(
                "[[affordance]]\napplication = \"yard\"\nkey = \"{kind}-{action}\"\nvisible = \"{kind}:{action}\"\n\
                 [[affordance]]\napplication = \"yard\"\nkey = \"{kind}-{action}-too\"\nvisible = \"{kind}:look\"\n\
                 enabled = \"{kind}:{action}\"\nunder = \"{kind}-{action}\"\n"
            ));
        }
    }
    text
}

pub fn world(charter: &crate::naive::Charter, register: &crate::naive::Register) -> Result<World, String> {
    let sources = Sources::single("random.toml", &text(charter));
    let reading = charter::read(&sources);
    let why = || reading.findings.iter().map(|finding| sources.render(finding)).collect::<String>();
    let policy = reading.policy.ok_or_else(|| format!("the generated charter is refused: {}", why()))?;
    let mut world = World::new(Arc::new(policy), Register::default());
    let changes: Result<Vec<Change>, Wrong> =
        render::register(register).iter().map(line::from_json).collect();
    world.apply_under(&changes?, Checks::of(&[])).map_err(|refusals| format!("{refusals:?}"))?;
    Ok(world)
}

/// What evaluation says of a row: its columns are what the register or the question says of it.
pub fn row_is_allowed(
    charter: &crate::naive::Charter,
    register: &crate::naive::Register,
    request: &Request,
    now: jiff::Timestamp,
    kind: &str,
    row: &BTreeMap<String, Json>,
) -> Result<bool, String> {
    let name = format!("{kind}:{}", row["id"].as_str().unwrap_or_default());
    let stated = || {
        let attribute =
            |(key, value): &(&String, &Json)| !matches!(key.as_str(), "id" | "within") && !value.is_null();
        row.iter().filter(attribute).map(|(key, value)| (key.clone(), value.clone()))
    };
    let mut register = register.clone();
    if let Some(entity) = register.entities.get_mut(&name) {
        entity.attributes = stated().collect();
    }
    let world = world(charter, &register)?;
    let mut asked = Request { resource: Some(name), ..request.clone() };
    asked.of_resource = stated().collect();
    asked.of_resource.extend(row.get("within").map(|outer| ("within".to_owned(), outer.clone())));
    Ok(allowed(&world, &asked, now))
}
