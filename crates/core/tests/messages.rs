//! What an author is told: every file in `data/err` with all that is said about it.
//!
//! After a change to a message: `INSTA_UPDATE=always cargo test -p ostrog-core --test messages`,
//! then read the difference.

#![allow(clippy::disallowed_methods, reason = "test data lives in files")]

use ostrog_core::prelude::*;
use rstest::rstest;
use std::path::PathBuf;

#[rstest]
fn every_mistake_is_told_with_its_place(#[files("tests/data/err/*.toml")] path: PathBuf) {
    let name = path.file_stem().and_then(|name| name.to_str()).expect("a name");
    let text = std::fs::read_to_string(&path).expect("a file");
    let sources = Sources::single(&format!("{name}.toml"), &text);
    let reading = charter::read(&sources);
    assert!(!reading.findings.is_empty(), "nothing is said of {name}");
    let told: Vec<String> = reading
        .findings
        .iter()
        .map(|finding| format!("{}  [{}]", sources.render(finding), finding.code))
        .collect();
    insta::with_settings!({ snapshot_path => "data/err", prepend_module_to_snapshot => false, omit_expression => true }, {
        insta::assert_snapshot!(name, told.join("\n"));
    });
}

#[test]
fn a_table_in_two_files_names_both_places() {
    let file = |path: &str, text: &str| SourceFile { path: path.into(), text: text.into() };
    let sources = Sources::new(vec![
        file("b.toml", "[role.cook]\npermissions = []\n"),
        file("a.toml", "[charter]\nname = \"x\"\nformat = 1\n\n[role.cook]\n"),
    ])
    .shown_under("harbour/");
    let told: Vec<String> =
        charter::read(&sources).findings.iter().map(|finding| sources.render(finding)).collect();
    insta::assert_snapshot!(told.join("\n"), @r#"
    harbour/b.toml:1:7  [role.cook] is defined twice
      | [role.cook]
      |       ^^^^
        first defined here: harbour/a.toml:5:7
    harbour/b.toml:2:15  "permissions" of [role.cook] is empty
      | permissions = []
      |               ^^
        leave the key out
    "#);
}
