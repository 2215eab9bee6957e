//! Signing in on the command line: with a device's code, by a browser on this machine, and by pasting.

mod support;

use rstest::rstest;
use std::io::{BufRead as _, BufReader, Write as _};
use std::os::unix::fs::PermissionsExt as _;
use std::process::{Child, Command, Stdio};
use support::{Service, folder};

/// The command line without a key, which keeps its sessions in a folder.
fn nobody(service: &Service, state: &std::path::Path) -> Command {
    let mut command = support::ostrog();
    command.env("OSTROG_URL", &service.url).env_remove("OSTROG_KEY").env("XDG_STATE_HOME", state);
    command
}

/// What it says until it says something.
fn until(child: &mut Child, what: &str) -> String {
    let mut said = String::new();
    let error = child.stderr.as_mut().expect("a pipe");
    let mut lines = BufReader::with_capacity(1, error);
    loop {
        let mut line = String::new();
        assert!(lines.read_line(&mut line).expect("is read") > 0, "never says {what}: {said}");
        said.push_str(&line);
        if let Some((_, rest)) = line.split_once(what) {
            return rest.trim().to_owned();
        }
    }
}

/// Somebody picks whom to be, as their browser would.
async fn pick(page: &str, person: &str) -> String {
    let url = url::Url::parse(page).expect("an address");
    let mut form: Vec<(String, String)> = url.query_pairs().into_owned().collect();
    form.push(("person".to_owned(), person.to_owned()));
    let http =
        reqwest::Client::builder().redirect(reqwest::redirect::Policy::none()).build().expect("a client");
    let (action, status) = match url.path() {
        "/device" => ("/device/confirm", 200),
        _ => ("/authorize", 303),
    };
    let body = url::form_urlencoded::Serializer::new(String::new()).extend_pairs(form).finish();
    let picked = http.post(url.join(action).expect("an address"));
    let picked = picked.header("content-type", "application/x-www-form-urlencoded").body(body);
    let picked = picked.send().await.expect("is answered");
    assert_eq!(picked.status(), status);
    picked.headers().get("location").map_or_else(String::new, |to| to.to_str().expect("text").to_owned())
}

#[rstest]
#[case::with_a_device(&[], false)]
#[case::in_a_browser_here(&["--browser"], false)]
#[case::in_a_browser_elsewhere(&["--browser"], true)]
#[tokio::test(flavor = "multi_thread")]
async fn a_person_signs_in_and_out(#[case] arguments: &[&str], #[case] pastes: bool) {
    let (folder, state) = (folder(), folder());
    let service = Service::port(folder.path());
    let refused = nobody(&service, state.path()).arg("status").output().expect("runs");
    assert_eq!(refused.status.code(), Some(2));
    assert!(String::from_utf8_lossy(&refused.stderr).contains("nobody is signed in: ostrog login"));

    let mut login = nobody(&service, state.path());
    login.arg("login").args(arguments).stdin(Stdio::piped()).stdout(Stdio::piped()).stderr(Stdio::piped());
    let mut child = login.spawn().expect("starts");
    if arguments.is_empty() {
        let page = until(&mut child, "or open ");
        pick(&page, "vera").await;
    } else {
        let page = until(&mut child, "open ");
        let back = pick(&page, "vera").await;
        if pastes {
            let stdin = child.stdin.as_mut().expect("a pipe");
            writeln!(stdin, "http://127.0.0.1:1/signed-in?code=made-up&state=another").expect("is written");
            writeln!(stdin, "{back}").expect("is written");
        } else {
            assert_eq!(reqwest::get(&back).await.expect("it listens").status(), 200);
        }
    }
    assert!(until(&mut child, "signed in as ").starts_with("Vera (person:vera)"));
    assert_eq!(child.wait().expect("ends").code(), Some(0));

    // It is kept for its owner alone, and what is done with it names the person.
    let kept = state.path().join("ostrog/sessions.json");
    assert_eq!(std::fs::metadata(&kept).expect("is kept").permissions().mode() & 0o777, 0o600);
    let set = nobody(&service, state.path()).args(["register", "set", "user:ines.clearance = 5"]).output();
    let set = set.expect("runs");
    assert!(set.status.success(), "{}", String::from_utf8_lossy(&set.stderr));
    let (_, changes) = service.get("/api/v1/changes").await;
    assert_eq!(changes["items"][0]["actor"], "person:vera", "{changes}");

    let text = std::fs::read_to_string(&kept).expect("is kept");
    assert!(nobody(&service, state.path()).arg("logout").status().expect("runs").success());
    std::fs::write(&kept, text).expect("is put back");
    let stolen = nobody(&service, state.path()).arg("status").output().expect("runs");
    assert_eq!(stolen.status.code(), Some(5), "{}", String::from_utf8_lossy(&stolen.stderr));
    assert!(String::from_utf8_lossy(&stolen.stderr).contains("The session has ended"));
}
