//! What the documents show is what the program says: every console block is run.
//!
//! Below a command stands what it prints on standard output; `…` ends what is shown of it, and a
//! line that begins with `!` is of standard error. After a change of wording:
//! `OSTROG_RENEW=1 cargo test -p ostrog-cli --test documents`, then read the difference.

use assert_cmd::cargo::cargo_bin_cmd;
use rstest::rstest;
use std::fmt::Write as _;
use std::path::PathBuf;

const ALWAYS: [&str; 6] =
    ["--charter", "demo/harbour", "--register", "demo/register.ndjson", "--now", "2026-11-23T09:00:00Z"];

/// Words as a shell would make them of a line with single quotes.
fn words(line: &str) -> Vec<String> {
    let mut words = Vec::new();
    for (at, part) in line.split('\'').enumerate() {
        if at % 2 == 1 {
            words.push(part.to_owned());
        } else {
            words.extend(part.split_whitespace().map(str::to_owned));
        }
    }
    words
}

fn run(command: &str) -> (String, String) {
    let mut words = words(command.strip_prefix("ostrog ").expect("a command of ours"));
    if words[0] != "charter" {
        words.extend(ALWAYS.map(str::to_owned));
    }
    let root = PathBuf::from(env!("CARGO_MANIFEST_DIR")).join("../..");
    let output = cargo_bin_cmd!("ostrog")
        .args(words)
        .current_dir(root)
        .env_clear()
        .env("NO_COLOR", "1")
        .output()
        .expect("runs");
    let text = |bytes: &[u8]| String::from_utf8_lossy(bytes).into_owned();
    (text(&output.stdout), text(&output.stderr))
}

/// What a command prints, as it would stand in the document: as much as is shown of it now.
fn shown(command: &str, before: &[&str]) -> String {
    let (out, err) = run(command);
    let cut = before.iter().position(|line| *line == "…");
    let mut text = String::new();
    for (at, line) in out.lines().enumerate() {
        if cut == Some(at) {
            text.push_str("…\n");
            break;
        }
        let _ = writeln!(text, "{line}");
    }
    let told = err.lines().filter(|line| !line.starts_with("offline, "));
    if out.is_empty() {
        told.for_each(|line| {
            let _ = writeln!(text, "! {line}");
        });
    }
    text
}

#[rstest]
fn the_program_says_what_the_documents_show(#[files("../../docs/*.md")] path: PathBuf) {
    let text = std::fs::read_to_string(&path).expect("a file");
    let mut renewed = String::new();
    let mut rest = text.as_str();
    while let Some((head, tail)) = rest.split_once("```console\n") {
        let (block, after) = tail.split_once("```").expect("the block ends");
        let _ = writeln!(renewed, "{head}```console");
        let lines: Vec<&str> = block.lines().collect();
        let mut at = 0;
        while at < lines.len() {
            let command = lines[at].strip_prefix("$ ").expect("a command begins the block");
            let end =
                (at + 1..lines.len()).find(|next| lines[*next].starts_with("$ ")).unwrap_or(lines.len());
            let _ = writeln!(renewed, "$ {command}");
            renewed.push_str(&shown(command, &lines[at + 1..end]));
            at = end;
        }
        renewed.push_str("```");
        rest = after;
    }
    renewed.push_str(rest);
    if std::env::var_os("OSTROG_RENEW").is_some() {
        std::fs::write(&path, &renewed).expect("written");
    } else {
        assert_eq!(renewed, text, "{} shows what the program does not say", path.display());
    }
}
