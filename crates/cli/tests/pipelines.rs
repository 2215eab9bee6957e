//! The pipeline of the documentation, as it stands there: its scripts, a Git repository, a service.

mod support;

use std::collections::BTreeMap;
use std::path::{Path, PathBuf};
use std::process::{Command, Output};
use support::{Service, folder, root};

/// Scripts by the file that the document says they are, and whatever it runs besides.
fn scripts() -> (BTreeMap<String, String>, Vec<String>) {
    let text = std::fs::read_to_string(root().join("docs/pipelines.md")).expect("the document");
    let (mut named, mut others) = (BTreeMap::new(), Vec::new());
    let mut rest = text.as_str();
    while let Some((before, after)) = rest.split_once("```sh\n") {
        let (script, after) = after.split_once("```").expect("the block ends");
        let paragraph = before.trim_end().rsplit("\n\n").next().expect("something stands before it");
        match paragraph.split('`').find(|word| word.starts_with("pipeline/") && word.ends_with(".sh")) {
            Some(name) => drop(named.insert(name.to_owned(), script.to_owned())),
            None => others.push(script.to_owned()),
        }
        rest = after;
    }
    (named, others)
}

fn copy(from: &Path, to: &Path) {
    std::fs::create_dir_all(to).expect("a folder");
    for entry in std::fs::read_dir(from).expect("a folder") {
        let path = entry.expect("an entry").path();
        std::fs::copy(&path, to.join(path.file_name().expect("a name"))).expect("is copied");
    }
}

/// A working copy, with the program on its path.
struct Repository {
    folder: PathBuf,
    /// The service that its pipeline is told of.
    url: String,
    key: String,
}

impl Repository {
    fn command(&self, program: &str) -> Command {
        let program_folder = Path::new(env!("CARGO_BIN_EXE_ostrog")).parent().expect("a folder");
        let path = format!("{}:{}", program_folder.display(), std::env::var("PATH").unwrap_or_default());
        let mut command = Command::new(program);
        command.current_dir(&self.folder).env("PATH", path).env("HOME", &self.folder).env("NO_COLOR", "1");
        command.env("GIT_CONFIG_NOSYSTEM", "1").env_remove("OSTROG_URL").env_remove("OSTROG_KEY");
        command
    }

    fn git(&self, arguments: &[&str]) {
        let done = self.command("git").args(arguments).output().expect("Git is installed");
        assert!(done.status.success(), "{arguments:?} {}", String::from_utf8_lossy(&done.stderr));
    }

    /// A script of the repository: with the service and the pipeline's key, or with neither.
    fn run(&self, script: &str, arguments: &[&str], served: bool) -> (i32, String) {
        let mut command = self.command("sh");
        command.arg(script).args(arguments);
        if served {
            command.env("OSTROG_URL", &self.url).env("OSTROG_KEY", &self.key);
        }
        let Output { status, stdout, stderr } = command.output().expect("runs");
        let said = [stdout, stderr].map(|said| String::from_utf8_lossy(&said).into_owned()).concat();
        (status.code().expect("ends by itself"), said)
    }

    fn change(&self, branch: &str, from: &str, to: &str) {
        self.git(&["checkout", "-q", "-b", branch, "main"]);
        let path = self.folder.join("charter/roles.toml");
        let text = std::fs::read_to_string(&path).expect("a file");
        assert!(text.contains(from), "{from}");
        std::fs::write(&path, text.replacen(from, to, 1)).expect("is written");
        self.git(&["commit", "-q", "-a", "-m", &format!("Change: {branch}")]);
    }

    fn read(&self, file: &str) -> String {
        std::fs::read_to_string(self.folder.join(file)).unwrap_or_else(|error| panic!("{file}: {error}"))
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn a_change_is_checked_saved_approved_and_rolled_out() {
    let folder = folder();
    let service = Service::port(folder.path());
    let (scripts, others) = scripts();
    let make_key = others.iter().find(|script| script.starts_with("ostrog key new")).expect("makes a key");
    let repository = Repository {
        folder: folder.path().join("policy"),
        url: service.url.clone(),
        key: service.operator.clone(),
    };
    copy(&root().join("demo/harbour"), &repository.folder.join("charter"));
    copy(&root().join("demo/rehearsal"), &repository.folder.join("rehearsal"));
    std::fs::create_dir_all(repository.folder.join("pipeline")).expect("a folder");
    for (name, script) in &scripts {
        std::fs::write(repository.folder.join(name), script).expect("is written");
    }
    std::fs::write(repository.folder.join("key.sh"), make_key).expect("is written");
    let (code, made) = repository.run("key.sh", &[], true);
    assert_eq!(code, 0, "{made}");
    let key = made.split_whitespace().find(|word| word.starts_with("ostrog.k-")).expect("a key").to_owned();
    let repository = Repository { key, ..repository };
    std::fs::remove_file(repository.folder.join("key.sh")).expect("is taken away");
    std::fs::write(repository.folder.join(".gitignore"), "draft.*\nrehearsal.xml\n").expect("is written");
    repository.git(&["init", "-q", "-b", "main"]);
    repository.git(&["config", "user.name", "The pipeline"]);
    repository.git(&["config", "user.email", "pipeline@sorrel-bay.example"]);
    repository.git(&["add", "."]);
    repository.git(&["commit", "-q", "-m", "The port as it stands"]);
    let (code, said) = repository.run("pipeline/check.sh", &[], false);
    assert_eq!(code, 0, "{said}");

    // What cannot be read, and what is not right: told with its place, and as tests.
    let clerks =
        r#"permissions = ["manifest:view", "manifest:open-page", "container:view", "inspection:view"]"#;
    repository.change("misspelt", clerks, &clerks.replace("container:view", "container:veiw"));
    let (code, said) = repository.run("pipeline/check.sh", &[], false);
    assert_eq!(code, 3, "{said}");
    assert!(said.contains("roles.toml:101") && said.contains("did you mean \"container:view\"?"), "{said}");
    repository.change("careless", clerks, &clerks.replace("\"container:view\"", "\"manifest:release\""));
    let (code, said) = repository.run("pipeline/check.sh", &[], false);
    assert_eq!(code, 1, "{said}");
    assert!(repository.read("rehearsal.xml").contains("<failure"), "{said}");

    // What is right goes to the main branch, and waits as a draft.
    repository.change(
        "with-care",
        clerks,
        &clerks.replace("\"container:view\"", "\"container:view\", \"container:move\""),
    );
    let (code, said) = repository.run("pipeline/check.sh", &[], false);
    assert_eq!(code, 0, "{said}");
    repository.git(&["checkout", "-q", "main"]);
    repository.git(&["merge", "-q", "--no-ff", "-m", "Clerks move containers", "with-care"]);
    let (code, said) = repository.run("pipeline/draft.sh", &[], true);
    assert_eq!(code, 0, "{said}");
    let draft = repository.read("draft.id").trim().to_owned();
    assert!(said.contains(&format!("{}/rollout/review/{draft}", service.url)), "{said}");
    assert!(!repository.read("rehearsal.xml").contains("<failure"));
    let (_, drafts) = service.get("/api/v1/drafts").await;
    assert!(drafts[0]["title"].as_str().expect("a title").ends_with(" Clerks move containers"), "{drafts}");

    // Nobody approved it: it does not go live, whoever else the pipeline is.
    let (code, said) = repository.run("pipeline/release.sh", &["customs"], true);
    assert_eq!(code, 5, "{said}");
    let approval = async |key: &str| {
        let path = format!("/api/v1/reviews/{draft}/approval");
        service.post(key, &path, &serde_json::json!({ "accepts": { "all": "as merged" } })).await.0
    };
    assert_eq!(approval(&repository.key).await, 403);
    assert_eq!(approval(&service.approver).await, 200);
    let live = async || {
        let (_, live) = service.get("/api/v1/live").await;
        let all = live.as_array().expect("a list").iter();
        all.map(|one| {
            (
                one["application"].as_str().expect("a key").to_owned(),
                one["revision"].as_i64().expect("a number"),
            )
        })
        .collect::<BTreeMap<String, i64>>()
    };
    let (code, said) = repository.run("pipeline/release.sh", &["customs"], true);
    assert_eq!(code, 0, "{said}");
    assert_eq!(
        live().await,
        [("agents", 1), ("customs", 2), ("quay", 1)].map(|(key, number)| (key.to_owned(), number)).into()
    );
    let (code, said) = repository.run("pipeline/release.sh", &[], true);
    assert_eq!(code, 0, "{said}");
    assert!(live().await.values().all(|revision| *revision == 2));

    // Without the service every script that needs it says so.
    let away = Repository { url: "http://127.0.0.1:1".to_owned(), ..repository };
    for script in ["pipeline/draft.sh", "pipeline/release.sh"] {
        let (code, said) = away.run(script, &[], true);
        assert_eq!(code, 4, "{script} {said}");
    }
}
