//! What is measured, as those read it who watch: by their own tool, and by the documents.

mod support;

use std::collections::BTreeSet;
use std::io::Write as _;
use std::process::{Command, Stdio};
use support::{Service, folder, root};

/// What Prometheus' own tool says of a page or of rules.
fn promtool(arguments: &[&str], input: &str) -> (bool, String) {
    let mut child = Command::new("/usr/bin/promtool")
        .args(arguments)
        .stdin(Stdio::piped())
        .stdout(Stdio::piped())
        .stderr(Stdio::piped())
        .spawn()
        .expect("Debian's prometheus is installed");
    child.stdin.take().expect("a pipe").write_all(input.as_bytes()).expect("is read");
    let done = child.wait_with_output().expect("ends");
    let said = [done.stdout, done.stderr].map(|said| String::from_utf8_lossy(&said).into_owned()).concat();
    (done.status.success(), said)
}

fn free_port() -> u16 {
    let listener = std::net::TcpListener::bind("127.0.0.1:0").expect("a port");
    listener.local_addr().expect("an address").port()
}

#[tokio::test(flavor = "multi_thread")]
async fn the_page_is_one_that_prometheus_reads() {
    let folder = folder();
    let listen = format!("127.0.0.1:{}", free_port());
    let data = folder.path().join("data");
    let data = data.to_str().expect("UTF-8");
    let arguments = ["--data", data, "--metrics-listen", &listen];
    let service = Service::with(&arguments, None);
    service.evaluate(&service.operator, "user:ines", "view", "manifest:m-204").await;
    let page =
        service.http().get(format!("http://{listen}/metrics")).send().await.expect("is told on loopback");
    assert_eq!(page.status(), 200);
    let page = page.text().await.expect("text");
    let (fine, said) = promtool(&["check", "metrics"], &page);
    assert!(fine, "{said}\n{page}");
    // On the service's own address it takes a key.
    let closed = service.http().get(format!("{}/metrics", service.url)).send().await.expect("is answered");
    assert_eq!(closed.status(), 401);
    let open = service.http().get(format!("{}/metrics", service.url)).bearer_auth(&service.operator);
    assert_eq!(open.send().await.expect("is answered").status(), 200);
    let elsewhere =
        service.http().get(format!("http://{listen}/api/v1/status")).send().await.expect("is answered");
    assert_eq!(elsewhere.status(), 404);
}

#[test]
fn rules_and_documents_name_what_is_measured() {
    let rules = root().join("docs/alerts.yml");
    let (fine, said) = promtool(&["check", "rules", rules.to_str().expect("UTF-8")], "");
    assert!(fine, "{said}");
    let known: BTreeSet<&str> = ostrog_service::measures::names().collect();
    for document in ["docs/alerts.yml", "docs/watching.md"] {
        let text = std::fs::read_to_string(root().join(document)).expect("a file");
        let words = text
            .split(|c: char| !(c.is_ascii_lowercase() || c == '_'))
            .filter(|word| word.starts_with("ostrog_"));
        for word in words {
            let name = word.strip_suffix("_bucket").unwrap_or(word);
            assert!(known.contains(name), "{document}: {word}");
        }
    }
}
