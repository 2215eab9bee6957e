//! Issuers that are away, slow or mean harm; and keys that change.

use crate::support::{Documents, ED, ISS, P256, RSA, claims, config, now};
use jiff::SignedDuration;
use ostrog_tokens::issuers::{Config, KeySource};
use ostrog_tokens::{Issuers, Refused};
use rstest::rstest;
use serde_json::{Value, json};
use std::sync::Arc;
use std::time::{Duration, Instant};

fn network() -> (Arc<Documents>, Issuers) {
    let documents = Arc::new(Documents::default());
    let issuers = Issuers::new(Arc::clone(&documents) as _);
    issuers.set(vec![config(KeySource::Discovered)], now());
    (documents, issuers)
}

fn seconds(more: i64) -> jiff::Timestamp {
    now() + SignedDuration::from_secs(more)
}

#[tokio::test]
async fn keys_that_change_are_asked_for_when_a_token_names_them() {
    let (documents, issuers) = network();
    documents.issuer(&[P256.jwk("one")]);
    let long = |at: i64| claims(&json!({ "exp": seconds(at + 300).as_second(), "iat": null }));
    let verify = async |kid: &str, at: i64| {
        let signer = if kid == "two" { &ED } else { &P256 };
        issuers.verify(&signer.token(kid, &long(at)), Some("customs"), seconds(at)).await.map(drop)
    };
    assert_eq!(verify("one", 0).await, Ok(()));
    assert_eq!(documents.asked(), 2, "the document and the keys");
    // A key that is not there is asked for once in half a minute, and refused at once in between.
    documents.issuer(&[P256.jwk("one"), ED.jwk("two")]);
    assert_eq!(verify("two", 10).await, Err(Refused::UnknownKey));
    assert_eq!(documents.asked(), 2);
    assert_eq!(verify("two", 31).await, Ok(()));
    assert_eq!(documents.asked(), 4);
    for _ in 0..50 {
        assert_eq!(verify("three", 40).await, Err(Refused::UnknownKey));
    }
    assert_eq!(documents.asked(), 4);
    // Taken out of the set, a key counts no more once the set was had anew: what was verified neither.
    documents.issuer(&[ED.jwk("two")]);
    assert_eq!(verify("one", 50).await, Ok(()));
    issuers.freshen(seconds(400)).await;
    assert_eq!(verify("one", 401).await, Err(Refused::UnknownKey));
    assert_eq!(verify("two", 401).await, Ok(()));
}

#[tokio::test]
async fn in_an_outage_the_last_good_keys_count_for_a_day() {
    let (documents, issuers) = network();
    documents.issuer(&[P256.jwk("p")]);
    issuers.freshen(now()).await;
    documents.take_away();
    let at = |at: i64| P256.token("p", &claims(&json!({ "exp": seconds(at + 60).as_second() })));
    for hours in [1, 12, 23] {
        let at_then = hours * 3_600;
        issuers.freshen(seconds(at_then)).await;
        assert!(issuers.verify(&at(at_then), Some("customs"), seconds(at_then)).await.is_ok());
        let standing = issuers.find("port-id").expect("set up").standing();
        assert!(standing.failed.is_some_and(|why| why.contains("neither document could be had")));
    }
    let late = 24 * 3_600;
    let refused = issuers.verify(&at(late), Some("customs"), seconds(late)).await;
    assert_eq!(refused.map(drop), Err(Refused::NoKeys));
}

#[tokio::test]
async fn whoever_waits_for_keys_waits_two_seconds_and_few_do() {
    let (documents, issuers) = network();
    documents.issuer(&[P256.jwk("p")]);
    *documents.delay.lock().expect("no panic") = Duration::from_secs(60);
    let issuers = Arc::new(issuers);
    let began = Instant::now();
    let calls: Vec<_> = (0..200)
        .map(|n| {
            let (issuers, token) = (Arc::clone(&issuers), P256.token("p", &claims(&json!({ "jti": n }))));
            tokio::spawn(async move { issuers.verify(&token, Some("customs"), now()).await.map(drop) })
        })
        .collect();
    let mut busy = 0;
    for call in calls {
        match call.await.expect("ends") {
            Err(Refused::Busy) => busy += 1,
            Err(Refused::NoKeys) => {}
            other => panic!("{other:?}"),
        }
    }
    assert!(began.elapsed() < Duration::from_secs(4), "{:?}", began.elapsed());
    assert_eq!(busy, 200 - 64);
}

fn document(other: &Value) -> Value {
    let mut document = json!({ "issuer": ISS, "jwks_uri": format!("{ISS}/keys") });
    document.as_object_mut().expect("an object").extend(other.as_object().expect("an object").clone());
    document
}

#[rstest]
#[case::of_somebody_else(document(&json!({ "issuer": "https://elsewhere.example" })), "not the one that was asked for")]
#[case::but_for_a_slash(document(&json!({ "issuer": format!("{ISS}/") })), "not the one that was asked for")]
#[case::without_keys(json!({ "issuer": ISS }), "no jwks_uri")]
#[case::keys_by_plain_http(document(&json!({ "jwks_uri": "http://elsewhere.example/keys" })), "not https")]
#[case::keys_in_a_file(document(&json!({ "jwks_uri": "file:///etc/passwd" })), "no address")]
#[case::keys_of_nowhere(document(&json!({ "jwks_uri": "keys" })), "no address")]
#[case::no_object(json!([]), "no JSON object")]
#[case::keys_that_are_not_there(document(&json!({ "jwks_uri": format!("{ISS}/gone") })), "status 404")]
#[tokio::test]
async fn documents_that_lead_nowhere(#[case] found: Value, #[case] why: &str) {
    let (documents, issuers) = network();
    documents.issuer(&[P256.jwk("p")]);
    documents.put("/.well-known/openid-configuration", &found);
    let token = P256.token("p", &claims(&json!({})));
    assert_eq!(issuers.verify(&token, Some("customs"), now()).await.map(drop), Err(Refused::NoKeys));
    let issuer = issuers.find("port-id").expect("set up");
    let failed = issuer.standing().failed.expect("it says why");
    assert!(failed.contains(why), "{failed}");
    let (steps, keys) = issuers.attempt(&issuer).await;
    let last = steps.last().expect("a step");
    assert!(!last.ok && last.words.contains(why) && keys.is_empty(), "{steps:?}");
}

#[tokio::test]
async fn the_other_place_of_the_document_is_looked_at_too() {
    let (documents, issuers) = network();
    documents.issuer(&[RSA.jwk("r")]);
    let found =
        documents.all.lock().expect("no panic").remove(&format!("{ISS}/.well-known/openid-configuration"));
    let at = format!("{ISS}/.well-known/oauth-authorization-server");
    documents.all.lock().expect("no panic").insert(at, found.expect("was there"));
    let (steps, keys) = issuers.attempt(&issuers.find("port-id").expect("set up")).await;
    assert!(steps.iter().all(|step| step.ok), "{steps:?}");
    assert_eq!(steps.iter().map(|step| step.words.as_str()).collect::<Vec<_>>()[2], "1 of 1 can be used");
    assert_eq!(keys[0].algorithms.len(), 6);
}

#[tokio::test]
async fn ten_thousand_keys_or_garbage_are_refused_whole() {
    let (documents, issuers) = network();
    for keys in
        [json!({ "keys": vec![P256.jwk("p"); 10_000] }), json!("garbage"), json!({ "keys": { "p": 1 } })]
    {
        documents.issuer(&[]);
        documents.put("/keys", &keys);
        let token = P256.token("p", &claims(&json!({})));
        let refused = issuers.verify(&token, Some("customs"), now()).await;
        assert_eq!(refused.map(drop), Err(Refused::NoKeys));
    }
}

#[test]
fn a_file_without_keys_sets_nothing_up() {
    let broken = Config { source: KeySource::File(b"{}".to_vec()), ..config(KeySource::Discovered) };
    let issuers = Issuers::new(Arc::new(Documents::default()));
    issuers.set(vec![broken], now());
    assert!(issuers.all().is_empty());
}
