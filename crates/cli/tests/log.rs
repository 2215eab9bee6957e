//! What happened, verified on the command line: in itself, and against a checkpoint that was kept elsewhere.

mod support;

use aws_lc_rs::encoding::AsDer as _;
use aws_lc_rs::signature::{Ed25519KeyPair, KeyPair as _};
use base64::Engine as _;
use base64::engine::general_purpose::STANDARD;
use std::path::Path;
use support::{Service, folder};

/// A pair of keys, as `openssl genpkey -algorithm ed25519` and `openssl pkey -pubout` write it.
fn keys(folder: &Path, name: &str) -> (String, String) {
    let key = Ed25519KeyPair::generate().expect("a key");
    let pem = |kind: &str, der: &[u8]| {
        let path = folder.join(format!("{name}-{}.pem", kind.to_lowercase().replace(' ', "-")));
        let text = format!("-----BEGIN {kind}-----\n{}\n-----END {kind}-----\n", STANDARD.encode(der));
        std::fs::write(&path, text).expect("is written");
        path.to_str().expect("UTF-8").to_owned()
    };
    let private = key.to_pkcs8v1().expect("can be written");
    let public = key.public_key().as_der().expect("can be written");
    (pem("PRIVATE KEY", private.as_ref()), pem("PUBLIC KEY", public.as_ref()))
}

fn run(service: &Service, arguments: &[&str]) -> (Option<i32>, String) {
    let done = service.ostrog().arg("log").args(arguments).output().expect("runs");
    let said = [done.stdout, done.stderr].map(|said| String::from_utf8_lossy(&said).into_owned()).concat();
    (done.status.code(), said)
}

#[tokio::test(flavor = "multi_thread")]
async fn what_is_verified_is_said_as_far_as_it_shows() {
    let folder = folder();
    let (signing, public) = keys(folder.path(), "ours");
    let (_, others) = keys(folder.path(), "others");
    let first = Service::demo(&folder.path().join("first"));
    let (code, said) = run(&first, &["verify"]);
    assert_eq!(code, Some(0), "{said}");
    assert!(said.contains("consistent in itself; the tables are what they come to"), "{said}");
    assert!(!said.contains("whole"), "{said}");

    let (code, checkpoint) = run(&first, &["checkpoint", "--signing-key", &signing]);
    assert_eq!(code, Some(0), "{checkpoint}");
    let kept = folder.path().join("checkpoint.json");
    std::fs::write(&kept, &checkpoint).expect("is kept");
    let kept = kept.to_str().expect("UTF-8").to_owned();
    let against = |service: &Service, kept: &str, key: &str| {
        run(service, &["verify", "--checkpoint", kept, "--public-key", key])
    };
    let set = first.ostrog().args(["register", "set", "user:ines.clearance = 5"]).output().expect("runs");
    assert!(set.status.success());
    let (code, said) = against(&first, &kept, &public);
    assert_eq!(code, Some(0), "{said}");
    assert!(said.contains("whole up to position"), "{said}");
    let (code, said) = against(&first, &kept, &others);
    assert_eq!(code, Some(3), "{said}");
    assert!(said.contains("was not signed by this key, or was altered since"), "{said}");
    let altered = folder.path().join("altered.json");
    std::fs::write(&altered, checkpoint.replace("\"position\": ", "\"position\": 1")).expect("is written");
    assert_eq!(against(&first, altered.to_str().expect("UTF-8"), &public).0, Some(3));

    // Another database tells another history; one that ends before it has lost something.
    let second = Service::demo(&folder.path().join("second"));
    let (code, said) = against(&second, &kept, &public);
    assert_eq!(code, Some(1), "{said}");
    assert!(said.contains("another history"), "{said}");
    let empty = Service::empty(&folder.path().join("third"));
    let (code, said) = against(&empty, &kept, &public);
    assert_eq!(code, Some(1), "{said}");
    assert!(said.contains("lost by restore"), "{said}");

    let (code, said) = run(&first, &["verify", "--from", "3", "--output", "json"]);
    assert_eq!(code, Some(0), "{said}");
    assert!(said.contains("\"folded\":false"), "{said}");
    let missing = run(&first, &["verify", "--checkpoint", &kept]);
    assert_eq!(missing.0, Some(2), "{}", missing.1);
}
