//! The first check in other languages, as `docs/clients.md` has it: each block is run as it stands, beside the demo, by the
//! interpreter that the machine has.

mod support;

use rstest::rstest;
use serde_json::json;
use std::process::Command;
use support::{Service, folder, root};

/// The block of a language.
fn block(language: &str) -> String {
    let text = std::fs::read_to_string(root().join("docs/clients.md")).expect("is there");
    let (_, rest) = text.split_once(&format!("```{language}\n")).expect("a block");
    rest.split_once("\n```").expect("an end").0.to_owned()
}

#[rstest]
#[case("sh", "sh", "check.sh")]
#[case("python", "python3", "check.py")]
#[case("javascript", "node", "check.mjs")]
#[tokio::test(flavor = "multi_thread")]
async fn the_first_check_is_run_as_it_stands(
    #[case] language: &str,
    #[case] interpreter: &str,
    #[case] name: &str,
) {
    if Command::new(interpreter).arg("-c").arg("").output().is_err() {
        println!("{interpreter} is not here");
        return;
    }
    let folder = folder();
    let service = Service::demo(folder.path());
    let file = folder.path().join(name);
    std::fs::write(&file, block(language)).expect("is written");
    let run = |url: &str, key: &str| {
        let mut command = Command::new(interpreter);
        command.arg(&file).env("OSTROG_URL", url).env("OSTROG_KEY", key);
        let run = command.output().expect("runs");
        (
            run.status.code(),
            String::from_utf8_lossy(&run.stdout).trim().to_owned() + &String::from_utf8_lossy(&run.stderr),
        )
    };
    let (code, told) = run(&service.url, &service.customs);
    assert!(code == Some(1) && told.starts_with("denied"), "{told}");
    let fact = json!({ "set": ["user:ines.clearance = 5"] });
    assert_eq!(service.post(&service.operator, "/api/v1/facts", &fact).await.0, 200);
    let (code, told) = run(&service.url, &service.customs);
    assert_eq!((code, told.as_str()), (Some(0), "allowed"));
    // Closed: with a key that does not count, and without a service.
    for (url, key) in
        [(service.url.as_str(), "ostrog.k-0.x"), ("http://127.0.0.1:1", service.customs.as_str())]
    {
        let (code, told) = run(url, key);
        assert!(code == Some(1) && told.starts_with("denied"), "{url}: {told}");
    }
}
