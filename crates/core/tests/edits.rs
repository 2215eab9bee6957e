//! Forms change a charter's text as its author would: only what is meant changes, and back is back.

use ostrog_core::charter;
use ostrog_core::charter::compare::compare;
use ostrog_core::charter::edit::{Edit, edit};
use ostrog_core::charter::policy::Policy;
use ostrog_core::prelude::{SourceFile, Sources};
use std::collections::BTreeSet;

macro_rules! harbour {
    ($($name:literal)*) => {
        Sources::new(vec![$(SourceFile {
            path: $name.to_owned(),
            text: include_str!(concat!("../../../demo/harbour/", $name)).to_owned(),
        }),*])
    };
}

fn harbour() -> Sources {
    harbour!("agents.toml" "charter.toml" "connect.toml" "customs.toml" "people.toml" "quay.toml" "roles.toml" "rules.toml")
}

fn policy(sources: &Sources) -> Policy {
    let reading = charter::read(sources);
    reading.policy.unwrap_or_else(|| panic!("{:?}", reading.findings))
}

fn comments(sources: &Sources) -> BTreeSet<String> {
    let lines = sources.files().iter().flat_map(|file| file.text.lines());
    lines.filter_map(|line| Some(line.split_once("# ")?.1.to_owned())).collect()
}

fn of_role(role: &str, key: &str) -> Edit {
    Edit { path: vec!["role".to_owned(), role.to_owned(), key.to_owned()], ..Edit::default() }
}

/// Every role of the demo is given every permission it does not list, one at a time, and loses it again.
#[test]
fn giving_a_permission_changes_one_role_and_taking_it_back_changes_nothing() {
    let before = harbour();
    let live = policy(&before);
    let model = live.model();
    let mut tried = 0;
    for (at, role) in model.roles.iter().enumerate() {
        let listed: Vec<_> =
            role.permissions.iter().map(|id| model.permissions[id.index()].text.as_str()).collect();
        // One of every few, others for each role.
        let others = model.permissions.iter().map(|p| p.text.as_str()).filter(|text| !listed.contains(text));
        for permission in others.skip(at % 9).step_by(9) {
            let give = Edit { add: Some(permission.to_owned()), ..of_role(&role.key, "permissions") };
            let wider = edit(&before, std::slice::from_ref(&give)).expect("can be written");
            assert_eq!(comments(&wider), comments(&before), "{} gets {permission}", role.key);
            let changed = wider.files().iter().zip(before.files()).filter(|(new, old)| new != old).count();
            assert_eq!(changed, 1, "{} gets {permission}", role.key);
            if let Some(policy) = charter::read(&wider).policy {
                let told = compare(&live, &policy);
                let own = live.role(&role.key).expect("is declared");
                let meant = |key: &str| live.role(key).is_some_and(|outer| live.includes(outer, own));
                assert!(told.iter().all(|one| one.about == "role" && meant(&one.key)), "{told:?}");
                tried += 1;
            }
            let back = Edit { remove: Some(permission.to_owned()), ..of_role(&role.key, "permissions") };
            let back = edit(&wider, &[back]).expect("can be written");
            assert!(compare(&live, &policy(&back)).is_empty(), "{} loses {permission}", role.key);
        }
    }
    assert!(tried > 60, "only {tried} were tried");
}

/// Every role and every rule of the demo is taken out, and everything else stays as it was written.
#[test]
fn taking_something_out_leaves_every_other_line() {
    let before = harbour();
    let live = policy(&before);
    let lines =
        |sources: &Sources| -> usize { sources.files().iter().map(|file| file.text.lines().count()).sum() };
    let roles = live.model().roles.iter().map(|role| ["role", role.key.as_str()]);
    let rules = live.model().rules.iter().map(|rule| ["rule", rule.key.as_str()]);
    for [kind, key] in roles.chain(rules) {
        let out = Edit { path: vec![kind.to_owned(), key.to_owned()], ..Edit::default() };
        let after = edit(&before, &[out]).expect("can be taken out");
        assert!(lines(&after) < lines(&before), "{kind} {key}");
        let text: String = before.files().iter().map(|file| file.text.as_str()).collect();
        let kept = after.files().iter().flat_map(|file| file.text.lines());
        for line in kept {
            assert!(text.lines().any(|old| old == line), "{kind} {key} made {line:?}");
        }
    }
}

/// Routes have no keys: one is named by its place among all of them, in whichever file it stands.
#[test]
fn a_route_is_taken_out_by_its_place_through_all_files() {
    let route = |path: &str| {
        format!("[[route]]\napplication = \"quay\"\nmethod = \"GET\"\npath = \"{path}\"\nopen = true\n\n")
    };
    let mut files = harbour().files().to_vec();
    for (name, paths) in [("aaa.toml", ["/one", "/two"]), ("zzz.toml", ["/three", "/four"])] {
        files.push(SourceFile { path: name.to_owned(), text: paths.map(route).concat() });
    }
    let before = Sources::new(files);
    let paths = |sources: &Sources| -> Vec<String> {
        policy(sources)
            .model()
            .routes
            .iter()
            .map(|route| format!("{} {}", route.method, route.path()))
            .collect()
    };
    let all = paths(&before);
    assert!(all.len() > 8 && all[0] == "GET /one" && all[all.len() - 1] == "GET /four", "{all:?}");
    for at in 0..all.len() {
        let path = vec!["route".to_owned(), format!("#{at}")];
        let without = edit(&before, &[Edit { path, ..Edit::default() }]).expect("it is there");
        let mut expected = all.clone();
        expected.remove(at);
        assert_eq!(paths(&without), expected, "without #{at}");
    }
    let behind = vec!["route".to_owned(), format!("#{}", all.len())];
    let wrong =
        edit(&before, &[Edit { path: behind, ..Edit::default() }]).expect_err("there are not so many");
    assert!(wrong.to_string().contains("route"), "{wrong}");
}
