//! Guarantees by brute force: small random charters, and every register up to a small size.

use crate::Dice;
use ostrog_core::prelude::*;
use ostrog_core::prove::Guarantee;
use ostrog_core::rehearse::{Outcome, read};
use serde_json::{Value, json};
use std::collections::BTreeMap;
use std::sync::Arc;

impl Dice {
    /// A condition over what the small registers can hold.
    fn condition(&mut self, depth: usize) -> String {
        const ATOMS: [&str; 10] = [
            "subject.rank >= resource.class",
            "subject.rank < resource.class",
            "resource.class == 1",
            "resource.class + 1 > subject.rank",
            "subject == resource.owner",
            "subject == subject.boss",
            "resource.owner == subject.boss",
            "known(resource.owner)",
            "resource.detached",
            "holds('a')",
        ];
        if depth == 0 || self.below(3) == 0 {
            return ATOMS[self.below(ATOMS.len())].to_owned();
        }
        match self.below(3) {
            0 => format!("not ({})", self.condition(depth - 1)),
            1 => format!("({} and {})", self.condition(depth - 1), self.condition(depth - 1)),
            _ => format!("({} or {})", self.condition(depth - 1), self.condition(depth - 1)),
        }
    }

    /// A charter, and the condition of its deny rule.
    fn charter(&mut self) -> (String, String) {
        let clause = self.condition(2).replace("holds('a')", "resource.class == 2");
        let confer = self.condition(1).replace("holds('a')", "known(resource.class)");
        let denied = self.condition(2);
        let text = format!(
            "[charter]\nname = \"Tiny\"\nformat = 1\n[application.quay]\n[resource.vessel]\napplication = \"quay\"\nwithin = \"tenant\"\n\
             actions = {{ view = \"\", moor = \"\" }}\n[resource.vessel.attributes]\nclass = \"integer\"\n\
             [resource.vessel.relations]\nowner = \"user\"\n[subject.user.attributes]\nrank = \"integer\"\n[subject.user.relations]\nboss = \"user\"\n\
             [role.a]\npermissions = [\"vessel:view\"]\n[[role.a.clause]]\npermissions = [\"vessel:moor\"]\nwhen = \"{clause}\"\n\
             [role.b]\npermissions = [\"vessel:moor\"]\n[[resource.vessel.confer]]\nrole = \"b\"\nto = {{ relation = \"owner\" }}\nwhen = \"{confer}\"\n\
             [[rule]]\nkey = \"d\"\neffect = \"deny\"\npermissions = [\"vessel:moor\"]\nregardless = true\nwhen = \"{denied}\"\n"
        );
        (text, denied)
    }
}

/// Every register with one vessel, its subject and perhaps another user.
fn registers() -> Vec<Vec<Value>> {
    let mut all = Vec::new();
    let stated = [json!({}), json!(1), json!(2)];
    let people = [json!({}), json!("user:u"), json!("user:v")];
    for (rank, class) in stated.iter().flat_map(|rank| stated.iter().map(move |class| (rank, class))) {
        for (owner, boss) in people.iter().flat_map(|owner| people.iter().map(move |boss| (owner, boss))) {
            for held in 0..4 {
                for detached in [false, true] {
                    let some = |key: &str, value: &Value| match value {
                        Value::Object(_) => json!({}),
                        value => json!({ key: value }),
                    };
                    let mut lines = vec![
                        json!({ "entity": "tenant:t" }),
                        json!({ "entity": "user:v", "attributes": { "rank": 1 } }),
                        json!({ "entity": "user:u", "attributes": some("rank", rank), "relations": some("boss", boss) }),
                        json!({ "entity": "vessel:x", "within": "tenant:t", "detached": detached,
                                "attributes": some("class", class), "relations": some("owner", owner) }),
                    ];
                    if held & 1 == 1 {
                        lines.push(json!({ "grant": { "role": "a", "to": "user:u", "at": "vessel:x" } }));
                    }
                    if held & 2 == 2 {
                        lines.push(json!({ "grant": { "role": "b", "to": "user:u", "at": "tenant:t" } }));
                    }
                    all.push(lines);
                }
            }
        }
    }
    all
}

fn broken_by_some(policy: &Arc<Policy>, guarantee: &Guarantee, registers: &[Vec<Change>]) -> bool {
    let now = "2026-11-23T09:00:00Z".parse().expect("a moment");
    registers.iter().any(|changes| {
        let mut world = World::new(Arc::clone(policy), Register::default());
        world.apply(changes).expect("the register is valid");
        ["user:u", "anonymous"].iter().any(|subject| {
            let resource = Some("vessel:x".to_owned());
            let request = Request { subject: (*subject).to_owned(), resource, ..Request::default() };
            guarantee.is_broken_by(&world, &request, now)
        })
    })
}

#[test]
fn no_register_up_to_a_small_size_breaks_what_is_proved() {
    let registers: Vec<Vec<Change>> = registers()
        .iter()
        .map(|lines| lines.iter().map(|line| line::from_json(line).expect("a line")).collect())
        .collect();
    let mut tally: BTreeMap<(&str, bool), usize> = BTreeMap::new();
    for seed in 0..crate::cases(250) {
        let mut dice = Dice(seed);
        let (text, denied) = dice.charter();
        let reading = charter::read(&Sources::single("tiny.toml", &text));
        let Some(policy) = reading.policy.map(Arc::new) else { continue };
        let claim = [
            "never = \"vessel:moor\"",
            "always = \"vessel:moor\"",
            "alike = [\"vessel:view\", \"vessel:moor\"]",
        ];
        let claim = claim[dice.below(3)];
        let when = match dice.below(3) {
            0 => denied,
            1 => format!("({denied}) and {}", dice.condition(1)),
            _ => dice.condition(2),
        };
        let assume = ["true", "known(resource.class) and known(subject.rank) and known(resource.owner)"]
            [dice.below(2)];
        let guarantee =
            format!("[[guarantee]]\nname = \"g\"\n{claim}\nwhen = \"{when}\"\nassume = \"{assume}\"\n");
        let sources = Sources::single("g.toml", &guarantee);
        let rehearsal = read(&sources, &mut Vec::new());
        let checked = rehearsal.checked(&policy, &sources).expect("it has a meaning").remove(0);
        let report = rehearsal.settle(&policy, &sources, &|| true, &mut |_| {}).expect("as before").remove(0);
        let broken = broken_by_some(&policy, &checked, &registers);
        let settled = !matches!(report.outcome, Outcome::Proved | Outcome::Vacuous);
        assert!(settled || !broken, "{} is broken\n{text}\n{guarantee}", report.outcome.word());
        *tally.entry((report.outcome.word(), broken)).or_default() += 1;
    }
    assert!(tally.get(&("proved", false)).is_some_and(|times| *times >= 20), "{tally:?}");
    assert!(tally.get(&("refuted", true)).is_some_and(|times| *times >= 20), "{tally:?}");
    // Nothing here is beyond what the formula follows, but a search may offer too much that is not so.
    let undecided = tally.iter().filter(|((word, _), _)| *word == "undecided").map(|(_, times)| times);
    assert!(undecided.sum::<usize>() * 100 <= tally.values().sum(), "{tally:?}");
}
