//! `cargo xtask mutate`: switches off, one at a time, what guards against a wrong allow or a wrong
//! proof, in a copy of the core, and demands that a test of it fails.

use crate::run::{root, step};
use anyhow::{Context as _, Result, bail};
use std::path::Path;
use std::process::{Command, Stdio};

/// A guard, where it stands, and the same text without it.
struct Guard {
    name: &'static str,
    file: &'static str,
    with: &'static str,
    without: &'static str,
}

const GUARDS: [Guard; 75] = [
    Guard {
        name: "the seal on steps from a resource",
        file: "decide/evaluate/paths.rs",
        with: "of != Tenant::Unknown && (at == Tenant::None || (at == of && at != Tenant::Unknown))",
        without: "let _ = (of, at); true",
    },
    Guard {
        name: "the seal on groups of another tenant",
        file: "decide/site.rs",
        with: "Some(of) => tenant == Tenant::Is(of),",
        without: "Some(_) => { let _ = tenant; true }",
    },
    Guard {
        name: "the seal on groups at the end of a path",
        file: "decide/evaluate/mod.rs",
        with: "(Some(tenant), Some(of)) => tenant == Tenant::Is(of) || own == Some(of),",
        without: "(Some(_), Some(_)) => true,",
    },
    Guard {
        name: "allow rules reach members of the tenant only",
        file: "decide/walk.rs",
        with: "Tenant::Is(_) => self.is_member_of_tenant(),\n            }",
        without: "Tenant::Is(_) => true,\n            }",
    },
    Guard {
        name: "a resource whose tenant is unknown is reached by no allow rule",
        file: "decide/walk.rs",
        with: "Tenant::Unknown => false,",
        without: "Tenant::Unknown => true,",
    },
    Guard {
        name: "an undetermined deny denies",
        file: "decide/walk.rs",
        with: "if value != Truth::False {\n                first",
        without: "if value == Truth::True {\n                first",
    },
    Guard {
        name: "a candidate must be sure",
        file: "decide/walk.rs",
        with: "(Truth::Undetermined, false) => found.undetermined = true,",
        without: "(Truth::Undetermined, false) => found.role = Some(role),",
    },
    Guard {
        name: "an allow rule must be true",
        file: "decide/walk.rs",
        with: "Truth::Undetermined => found.undetermined = true,\n                Truth::False => found.condition = true,",
        without: "Truth::Undetermined => found.rule = Some(*id),\n                Truth::False => found.condition = true,",
    },
    Guard {
        name: "a grant ends",
        file: "register/grants.rs",
        with: "&& self.until.is_none_or(|until| now < until)",
        without: "",
    },
    Guard {
        name: "a grant begins",
        file: "register/grants.rs",
        with: "self.from.is_none_or(|from| from <= now) &&",
        without: "self.from.is_none_or(|_| true) &&",
    },
    Guard {
        name: "an activation ends",
        file: "register/mod.rs",
        with: "&& ends.is_none_or(|until| now < until)",
        without: "",
    },
    Guard {
        name: "an activation is of one session",
        file: "decide/walk.rs",
        with: "&& (session.is_none() || session == self.question.session.as_deref())",
        without: "&& (session.is_none() || session.is_some())",
    },
    Guard {
        name: "an activation is for one subject",
        file: "decide/walk.rs",
        with: "Some(activation.subject) == self.subject\n",
        without: "Some(activation.subject).is_some()\n",
    },
    Guard {
        name: "a standby's own condition",
        file: "decide/walk.rs",
        with: "self.test(Bound { condition: when, grant: None }, when.root) == Truth::True\n",
        without: "self.test(Bound { condition: when, grant: None }, when.root) != Truth::False || true\n",
    },
    Guard {
        name: "a suspended subject is denied",
        file: "decide/mod.rs",
        with: "State::Suspended => return Some(Reason::SubjectSuspended),",
        without: "State::Suspended => {}",
    },
    Guard {
        name: "a separation takes away what both give",
        file: "decide/walk.rs",
        with: "Arrived::Role(role) => found.taken.iter().any(|taken| policy.includes(role, *taken)),",
        without: "Arrived::Role(_) => { let _ = policy; false }",
    },
    Guard {
        name: "a possible holding separates",
        file: "decide/walk.rs",
        with: "if self.holds(*a) != Truth::False && self.holds(*b) != Truth::False {",
        without: "if self.holds(*a) == Truth::True && self.holds(*b) == Truth::True {",
    },
    Guard {
        name: "a role stops at what is detached",
        file: "decide/site.rs",
        with: "arrives &= !glance.is_detached();",
        without: "",
    },
    Guard {
        name: "a conferral's path stops at what is detached",
        file: "decide/evaluate/paths.rs",
        with: "if *step == Step::Within && !confer.through_detached && self.is_detached(thing) {",
        without: "if *step == Step::Within && !confer.through_detached && self.is_detached(thing) && false {",
    },
    Guard {
        name: "except takes out",
        file: "charter/policy.rs",
        with: "for permission in &role.except {\n            self.may_give.set(at, permission.index(), false);\n            self.surely_gives.set(at, permission.index(), false);\n        }",
        without: "",
    },
    Guard {
        name: "held-by keeps a role from kinds of subjects",
        file: "decide/walk.rs",
        with: "kind.is_some_and(|kind| self.engine.policy.model().roles[role.index()].held_by(kind))",
        without: "kind.is_some_and(|_| true)",
    },
    Guard {
        name: "what is conferred beyond the bound is undetermined",
        file: "decide/confer.rs",
        with: "graph.too_many = true;",
        without: "",
    },
    Guard {
        name: "in the formula an undetermined deny denies",
        file: "prove/encode/deciding.rs",
        with: "Some(when) => self.condition(when, self.resource, None).may,",
        without: "Some(when) => self.condition(when, self.resource, None).sure,",
    },
    Guard {
        name: "in the formula tenants' own roles give",
        file: "prove/encode/deciding.rs",
        with: "self.formula.any([by_role, by_rule, by_made])",
        without: "{ let _ = by_made; self.formula.any([by_role, by_rule]) }",
    },
    Guard {
        name: "in the formula a separation takes away",
        file: "prove/encode/deciding.rs",
        with: "let counts = self.formula.and(arrives, !taken);",
        without: "let counts = { let _ = taken; arrives };",
    },
    Guard {
        name: "in the formula a role stops at what is detached",
        file: "prove/encode/holding.rs",
        with: "self.formula.all([from_outer, there, !detached])",
        without: "{ let _ = detached; self.formula.all([from_outer, there]) }",
    },
    Guard {
        name: "in the formula what is on standby needs its condition",
        file: "prove/encode/holding.rs",
        with: "self.formula.all([arrives, may, active])",
        without: "{ let _ = active; self.formula.all([arrives, may]) }",
    },
    Guard {
        name: "in the formula what is missing is not false",
        file: "prove/encode/conditions.rs",
        with: "Tri { sure: self.formula.and(read, value), may: self.formula.or(!read, value) }",
        without: "Tri { sure: self.formula.and(read, value), may: self.formula.and(read, value) }",
    },
    Guard {
        name: "in the formula one thing has one of each",
        file: "prove/encode/things.rs",
        with: "self.agree(ThingId(a), ThingId(b), same);",
        without: "let _ = (a, b, same);",
    },
    Guard {
        name: "in the formula what is equal by others is equal",
        file: "prove/theory/equal.rs",
        with: "lemmas.push(way.chain([bit]).collect());",
        without: "let _ = way.chain([bit]).count();",
    },
    Guard {
        name: "in the formula numbers have an order",
        file: "prove/theory.rs",
        with: "lemmas.push(clause);",
        without: "drop(clause);",
    },
    Guard {
        name: "where something should lie in something and does not, the tenant is unknown, not none",
        file: "decide/mod.rs",
        with: "Some(kind) if self.policy.model().kinds[kind.index()].within.is_empty() => Tenant::None,",
        without: "Some(_) => Tenant::None,",
    },
    Guard {
        name: "the formula leaves open: whether what the charter names is registered",
        file: "prove/encode/conditions.rs",
        with: "let can_be_told = self.formula.or(self.has_id, registered);",
        without: "let can_be_told = { let _ = registered; self.has_id };",
    },
    Guard {
        name: "the formula leaves open: a conferral with a step missing",
        file: "prove/encode/holding.rs",
        with: "Tri { sure: self.formula.and(there, held.sure), may: self.formula.or(!there, held.may) }",
        without: "Tri { sure: self.formula.and(there, held.sure), may: self.formula.and(there, held.may) }",
    },
    Guard {
        name: "the formula leaves open: what is conferred too many steps away",
        file: "prove/encode/holding.rs",
        with: "at);\n            self.formula.free_tri()",
        without: "at);\n            none",
    },
    Guard {
        name: "the formula leaves open: grants everywhere to groups of a tenant",
        file: "prove/encode/holding.rs",
        with: "let arrives = self.formula.any([everywhere, around, by_tenants_group]);",
        without: "let arrives = { let _ = by_tenants_group; self.formula.any([everywhere, around]) };",
    },
    Guard {
        name: "in the formula what something is in is not empty",
        file: "prove/encode/mod.rs",
        with: "let clause: Vec<Bit> = unless.iter().copied().chain([!whole, enough]).collect();\n        self.formula.clause(&clause);",
        without: "let _ = (unless, whole, enough);",
    },
    Guard {
        name: "in the formula a sum is what it is made of",
        file: "prove/theory.rs",
        with: "if self.sums.iter().all(is_sum) {",
        without: "if self.sums.iter().all(is_sum) || true {",
    },
    Guard {
        name: "in the formula lower case is that of the text",
        file: "prove/theory.rs",
        with: "self.lowered(formula, &text_classes, &mut lemmas);",
        without: "",
    },
    Guard {
        name: "the checker refuses: what means something else where it meets another type",
        file: "charter/check/typing/mod.rs",
        with: "if mixed && !findings[before..].iter().any(is_error) {",
        without: "if false && mixed {",
    },
    Guard {
        name: "overlapping networks lie in one another",
        file: "charter/check/typing/truths.rs",
        with: "Type::Value(ValueType::Address) => Test::OverlapNetworks(a, b),",
        without: "",
    },
    Guard {
        name: "a rehearsal refuses: a reason of which there is nothing",
        file: "rehearse/mod.rs",
        with: "if asked.is_empty() {\n                let message",
        without: "if false {\n                let message",
    },
    Guard {
        name: "what names a subject is asked about by itself",
        file: "shift/about.rs",
        with: "all.iter().filter_map(|id| self.resources.places[0].get(id)).copied().collect()",
        without: "{ let _ = all; HashSet::new() }",
    },
    Guard {
        name: "roles that are given or conferred differ for whom nothing was granted",
        file: "shift/depends.rs",
        with: "if role.given_to.is_some() || policy.is_conferred(id) {",
        without: "if false {",
    },
    Guard {
        name: "what names a group leads somewhere",
        file: "decide/ways.rs",
        with: "names.filter(|name| *holder != subject || !left_out(register.text(*name))).collect();",
        without: "names.filter(|name| *holder == subject && !left_out(register.text(*name))).collect();",
    },
    Guard {
        name: "members of a tenant are looked for in it",
        file: "decide/ways.rs",
        with: "places.extend_from_slice(register.tenants(subject));",
        without: "",
    },
    Guard {
        name: "who holds a role around a resource may have another conferred",
        file: "decide/ways.rs",
        with: "made.roles.extend(all().filter(|role| policy.includes(*role, held)));",
        without: "",
    },
    Guard {
        name: "what a token vouches for cannot be activated",
        file: "decide/walk.rs",
        with: "if holder.link != Link::Registered {",
        without: "if false {",
    },
    Guard {
        name: "a group that a token may vouch for surely stands for nobody",
        file: "decide/site.rs",
        with: "Link::Perhaps => Truth::Undetermined,",
        without: "Link::Perhaps => Truth::True,",
    },
    Guard {
        name: "an issuer vouches for no other tenants",
        file: "decide/bearer.rs",
        with: "_ if only.is_some_and(|only| !only.contains(&full)) => {",
        without: "_ if only.is_some_and(|_| false) => {",
    },
    Guard {
        name: "an issuer vouches for no other tenants' groups",
        file: "decide/bearer.rs",
        with: "&& !only.iter().any(|one| one == register.name(tenant))",
        without: "&& !only.iter().any(|one| one == register.name(tenant) || !one.is_empty())",
    },
    Guard {
        name: "a token is for the application that owns what is asked about",
        file: "decide/question.rs",
        with: "if let Err(why) = self.owns(bearer, permission) {",
        without: "if let Err(why) = self.owns(bearer, permission).or(Ok::<(), NotBorne>(())) {",
    },
    Guard {
        name: "what is mapped the application cannot state",
        file: "decide/question.rs",
        with: "bearer.attributes.iter().any(|name| policy.name(*name) == key)",
        without: "bearer.attributes.iter().any(|name| policy.name(*name) == key && false)",
    },
    Guard {
        name: "what only a token vouches for the application cannot state",
        file: "decide/question.rs",
        with: "self.vouched || attribute.from.may_be_stated()",
        without: "true",
    },
    Guard {
        name: "a name that is another's but for case is nobody's",
        file: "decide/bearer.rs",
        with: "if found.is_none() && engine.register.called_alike(&name).is_some() {",
        without: "if false && engine.register.called_alike(&name).is_some() {",
    },
    Guard {
        name: "an id that begins with a reserved type is nobody's",
        file: "decide/bearer.rs",
        with: ".filter(|(kind, _)| RESERVED_TYPES.contains(kind))",
        without: ".filter(|(kind, _)| kind.is_empty())",
    },
    Guard {
        name: "a path's segment is neither empty nor dots",
        file: "routes/path.rs",
        with: r#"if matches!(segment.as_str(), "." | "..") || (segment.is_empty() && at < last) {"#,
        without: "if false && at < last {",
    },
    Guard {
        name: "a segment of a path holds nothing that separates",
        file: "routes/path.rs",
        with: r#"if segment.contains(['/', '\\', ';', '%']) || segment.chars().any(char::is_control) {"#,
        without: "if segment.chars().any(char::is_control) {",
    },
    Guard {
        name: "what need not be encoded in a path is not",
        file: "routes/path.rs",
        with: "if is_unreserved(byte) || byte == b':' {",
        without: "if false {",
    },
    Guard {
        name: "a path is composed",
        file: "routes/path.rs",
        with: "if !is_nfc(&segment) {",
        without: "if false && !is_nfc(&segment) {",
    },
    Guard {
        name: "what a route names is registered",
        file: "routes/mod.rs",
        with: "let counts = self.route.unregistered || engine.register.registered(&name).is_some();",
        without: "let counts = true || self.route.unregistered;",
    },
    Guard {
        name: "nothing new lies in what is not registered",
        file: "routes/mod.rs",
        with: "let counts = self.route.unregistered || outer.as_ref().is_none_or(is_there);",
        without: "let counts = true || outer.as_ref().is_none_or(is_there);",
    },
    Guard {
        name: "all that a route needs is needed",
        file: "routes/mod.rs",
        with: "asked.iter().find(|one: &&Asked| !one.allowed)",
        without: "asked.iter().find(|one: &&Asked| !one.allowed && false)",
    },
    Guard {
        name: "any one is one for which all is allowed",
        file: "routes/mod.rs",
        with: "all = all && decided(engine, &other, now)?.0;",
        without: "let _ = (&mut all, decided(engine, &other, now)?);",
    },
    Guard {
        name: "the parameters of an id are kept apart",
        file: "charter/check/connect.rs",
        with: "if before && !apart {",
        without: "if before && !apart && false {",
    },
    Guard {
        name: "the route that is more literal decides",
        file: "charter/model/connect.rs",
        with: "b.literal().cmp(&a.literal())",
        without: "a.literal().cmp(&b.literal())",
    },
    Guard {
        name: "an import opens what writes by its own word only",
        file: "import/guess.rs",
        with: "Security::Open { own } => own || self.operation.reads(),",
        without: "Security::Open { .. } => true,",
    },
    Guard {
        name: "an import opens nothing where signing in is optional",
        file: "import/guess.rs",
        with: "            _ => false,\n        };\n        if asks_nothing {",
        without: "            Security::Optional => true,\n            _ => false,\n        };\n        if asks_nothing {",
    },
    Guard {
        name: "an import refuses what it does not map",
        file: "import/guess.rs",
        with: "let Some(path) = path else { return };\n        let (known, _)",
        without: "let Some(path) = path.filter(|_| false) else { return };\n        let (known, _)",
    },
    Guard {
        name: "of two that an import cannot tell apart the open one gives way",
        file: "import/guess.rs",
        with: "Meaning::Open if told_needs.is_empty() => {}",
        without: "Meaning::Open => {}",
    },
    Guard {
        name: "an import refuses both of two that cross",
        file: "import/guess.rs",
        with: "self.cross(document, *other, why(&path.text));",
        without: "",
    },
    Guard {
        name: "an import refuses what an open route would take",
        file: "import/crossing.rs",
        with: "if together(&open.method, &other.method) && !lies_in(ours, theirs) && !lies_in(theirs, ours) {",
        without: "if together(&open.method, &other.method) && ours.len() != theirs.len() {",
    },
    Guard {
        name: "an import gives a scope what every operation lets it do",
        file: "import/scopes.rs",
        with: "all.iter().all(|ways| ways.iter().any(|way| way.is_subset(set)))",
        without: "all.iter().any(|ways| ways.iter().any(|way| way.is_subset(set)))",
    },
    Guard {
        name: "what is left out of an import is refused",
        file: "import/again.rs",
        with: "if left_out(piece) || !whole => {",
        without: "if !whole => {",
    },
    Guard {
        name: "affordances end where the types do that whoever asks may ask about",
        file: "decide/hints.rs",
        with: "if !asks(declared.kind) {",
        without: "if !asks(declared.kind) && declared.text.is_empty() {",
    },
];

/// The tests that one of must notice, quick ones first.
const TESTS: &[&[&str]] = &[
    &["decisions"],
    &["guarantees"],
    &["messages"],
    &["rehearsals"],
    &["prove"],
    &["routes"],
    &["oracle", "the_compiled"],
    &["oracle", "searches"],
    &["oracle", "tokens"],
    &["oracle", "shift"],
];

/// Tries every guard, or those whose names hold a text.
pub fn run(only: Option<&str>) -> Result<()> {
    let copy = root().join("target/mutants");
    let mut survived = Vec::new();
    let chosen = GUARDS.iter().filter(|guard| only.is_none_or(|text| guard.name.contains(text)));
    for guard in chosen {
        step(guard.name);
        prepare(&copy)?;
        let file = copy.join("crates/core/src").join(guard.file);
        let text = std::fs::read_to_string(&file).with_context(|| file.display().to_string())?;
        if text.matches(guard.with).count() != 1 {
            bail!("{} does not hold this once:\n{}", guard.file, guard.with);
        }
        std::fs::write(&file, text.replace(guard.with, guard.without))?;
        let import = guard.file.starts_with("import/");
        if !test(&copy, if import { &["build-imports"] } else { &["build"] })? {
            bail!("{} does not compile without it", guard.name);
        }
        let tests: &[&[&str]] = if import { &[&["imports"]] } else { TESTS };
        let mut failed = false;
        for one in tests {
            failed = failed || !test(&copy, one)?;
        }
        println!("{}", if failed { "a test fails" } else { "NO TEST FAILS" });
        if !failed {
            survived.push(guard.name);
        }
    }
    if !survived.is_empty() {
        bail!("no test notices without: {}", survived.join("; "));
    }
    println!("\nWithout any one of these guards a test fails.");
    Ok(())
}

/// Copies the core, as it is, beside its build.
fn prepare(copy: &Path) -> Result<()> {
    let core = copy.join("crates/core");
    for part in ["src", "tests", "benches"] {
        let to = core.join(part);
        if to.exists() {
            std::fs::remove_dir_all(&to)?;
        }
        folder(&root().join("crates/core").join(part), &to)?;
    }
    for file in ["crates/core/Cargo.toml", "Cargo.lock"] {
        std::fs::copy(root().join(file), copy.join(file))?;
    }
    let workspace = std::fs::read_to_string(root().join("Cargo.toml"))?;
    // Of the workspace's members only this one is copied.
    let (before, rest) = workspace.split_once("members = [").context("the workspace has no members")?;
    let (_, after) = rest.split_once(']').context("the workspace's members have no end")?;
    std::fs::write(copy.join("Cargo.toml"), format!(r#"{before}members = ["crates/core"]{after}"#))?;
    Ok(())
}

fn folder(from: &Path, to: &Path) -> Result<()> {
    std::fs::create_dir_all(to)?;
    for entry in std::fs::read_dir(from)? {
        let entry = entry?;
        let inner = to.join(entry.file_name());
        if entry.file_type()?.is_dir() {
            folder(&entry.path(), &inner)?;
        } else {
            std::fs::copy(entry.path(), inner)?;
        }
    }
    Ok(())
}

/// Builds the tests, or runs those of one file; whether that went well.
fn test(copy: &Path, what: &[&str]) -> Result<bool> {
    let cargo = std::env::var_os("CARGO").unwrap_or_else(|| "cargo".into());
    let mut command = Command::new(cargo);
    command.current_dir(copy).args(["test", "--quiet", "--package", "ostrog-core"]);
    match what {
        ["build"] => command.args([
            "--no-run",
            "--test",
            "decisions",
            "--test",
            "guarantees",
            "--test",
            "messages",
            "--test",
            "rehearsals",
            "--test",
            "prove",
            "--test",
            "oracle",
        ]),
        ["build-imports"] => command.args(["--no-run", "--test", "imports"]),
        [file, filter @ ..] => command.args(["--test", file]).args(filter),
        [] => &mut command,
    };
    // A few hundred charters find each of them; the tests' own number is for what is not expected.
    command
        .env("OSTROG_ORACLE_CASES", "700")
        .env("RUSTFLAGS", "-Awarnings")
        .env("CARGO_TARGET_DIR", copy.join("target"));
    Ok(command.stdout(Stdio::null()).stderr(Stdio::null()).status()?.success())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn every_guard_stands_where_it_is_looked_for() {
        for guard in &GUARDS {
            let file = root().join("crates/core/src").join(guard.file);
            let text = std::fs::read_to_string(&file).expect("is there");
            assert_eq!(text.matches(guard.with).count(), 1, "{} in {}", guard.name, guard.file);
            assert_ne!(guard.with, guard.without);
        }
    }
}
