//! Every way in which a token does not count, each by the words of the refusal; and the keys that are taken.

use crate::support::{AUD, Documents, ED, ISS, P256, P384, RSA, Signer, b64, claims, config, now};
use jiff::{SignedDuration, Timestamp};
use ostrog_tokens::issuers::{Config, KeySource};
use ostrog_tokens::keys::{KeySet, NoKeys};
use ostrog_tokens::{Issuers, Refused, Verified};
use rstest::rstest;
use serde_json::{Value, json};
use std::sync::Arc;

fn issuers(config: Config) -> Issuers {
    let issuers = Issuers::new(Arc::new(Documents::default()));
    issuers.set(vec![config], now());
    issuers
}

fn file(keys: &[Value]) -> KeySource {
    KeySource::File(json!({ "keys": keys }).to_string().into_bytes())
}

fn all_keys() -> KeySource {
    file(&[RSA.jwk("r"), P256.jwk("p"), P384.jwk("q"), ED.jwk("e")])
}

async fn held_at(config: Config, token: &str, at: Timestamp) -> Result<Arc<Verified>, Refused> {
    issuers(config).verify(token, Some("customs"), at).await
}

async fn held(token: &str) -> Result<(), Refused> {
    held_at(config(all_keys()), token, now()).await.map(drop)
}

#[rstest]
#[case(&RSA, "r")]
#[case(&P256, "p")]
#[case(&P384, "q")]
#[case(&ED, "e")]
#[tokio::test]
async fn a_token_holds_by_each_kind_of_key(#[case] signer: &Signer, #[case] kid: &str) {
    let token = signer.token(kid, &claims(&json!({})));
    let verified = held_at(config(all_keys()), &token, now()).await.expect("it holds");
    assert_eq!((verified.issuer.as_str(), &verified.claims["sub"]), ("port-id", &json!("ines")));
    assert_eq!(
        held(&signer.token("r", &claims(&json!({})))).await.is_ok(),
        kid == "r",
        "a key is for its own"
    );
    // Without kid only the key that fits is meant.
    let header = json!({ "alg": signer.algorithm() }).to_string();
    assert_eq!(held(&signer.written(&header, &claims(&json!({})).to_string())).await, Ok(()));
}

#[rstest]
#[case::other_issuer(json!({ "iss": "https://elsewhere.example" }), Refused::UnknownIssuer)]
#[case::issuer_with_a_slash(json!({ "iss": format!("{ISS}/") }), Refused::UnknownIssuer)]
#[case::no_issuer(json!({ "iss": null }), Refused::UnknownIssuer)]
#[case::issuer_is_no_text(json!({ "iss": [ISS] }), Refused::UnknownIssuer)]
#[case::other_audience(json!({ "aud": "https://quay.sorrel-bay.example" }), Refused::Audience)]
#[case::no_audience(json!({ "aud": null }), Refused::Audience)]
#[case::audience_but_for_case(json!({ "aud": AUD.to_uppercase() }), Refused::Audience)]
#[case::audience_is_an_object(json!({ "aud": { AUD: true } }), Refused::Audience)]
#[case::bound_to_a_key(json!({ "cnf": { "jkt": "x" } }), Refused::Bound)]
#[case::id_token_by_nonce(json!({ "nonce": "n" }), Refused::IdToken)]
#[case::id_token_by_at_hash(json!({ "at_hash": "h" }), Refused::IdToken)]
#[case::no_end(json!({ "exp": null }), Refused::NoEnd)]
#[case::end_is_a_text(json!({ "exp": "1795000000" }), Refused::NoTime)]
#[case::ended(json!({ "exp": now().as_second() - 30 }), Refused::Expired)]
#[case::ended_long_ago(json!({ "exp": -1e300 }), Refused::Expired)]
#[case::not_yet(json!({ "nbf": now().as_second() + 31 }), Refused::NotYet)]
#[case::from_the_future(json!({ "iat": now().as_second() + 31 }), Refused::FromTheFuture)]
#[case::begins_at_no_time(json!({ "nbf": true }), Refused::NoTime)]
#[tokio::test]
async fn claims_that_do_not_count(#[case] other: Value, #[case] why: Refused) {
    assert_eq!(held(&P256.token("p", &claims(&other))).await, Err(why));
}

#[rstest]
#[case::just_ended(json!({ "exp": now().as_second() - 29 }))]
#[case::just_begun(json!({ "nbf": now().as_second() + 30, "iat": now().as_second() + 30 }))]
#[case::with_fractions(json!({ "exp": now().as_second() as f64 + 0.5 }))]
#[case::for_one(json!({ "aud": AUD }))]
#[tokio::test]
async fn clocks_may_differ_a_little(#[case] other: Value) {
    assert_eq!(held(&P256.token("p", &claims(&other))).await, Ok(()));
}

#[rstest]
#[case::unknown_type(json!({ "alg": "ES256", "kid": "p", "typ": "dpop+jwt" }), Refused::Type)]
#[case::type_is_no_text(json!({ "alg": "ES256", "kid": "p", "typ": 1 }), Refused::Header)]
#[case::critical(json!({ "alg": "ES256", "kid": "p", "crit": ["exp"], "exp": 1 }), Refused::Critical)]
#[case::encrypted(json!({ "alg": "ES256", "kid": "p", "enc": "A256GCM" }), Refused::Encrypted)]
#[case::compressed(json!({ "alg": "ES256", "kid": "p", "zip": "DEF" }), Refused::Encrypted)]
#[case::no_algorithm(json!({ "kid": "p" }), Refused::Header)]
#[case::small_letters(json!({ "alg": "es256", "kid": "p" }), Refused::Algorithm)]
#[case::none(json!({ "alg": "none", "kid": "p" }), Refused::Algorithm)]
#[case::shared_secret(json!({ "alg": "HS256", "kid": "p" }), Refused::Algorithm)]
#[case::unknown_key(json!({ "alg": "ES256", "kid": "x" }), Refused::UnknownKey)]
#[case::key_of_another_kind(json!({ "alg": "ES256", "kid": "r" }), Refused::OtherAlgorithm)]
#[case::other_curve(json!({ "alg": "ES256", "kid": "q" }), Refused::OtherAlgorithm)]
#[case::not_by_that_key(json!({ "alg": "RS256", "kid": "r" }), Refused::Signature)]
#[tokio::test]
async fn headers_that_do_not_count(#[case] header: Value, #[case] why: Refused) {
    let token = P256.written(&header.to_string(), &claims(&json!({})).to_string());
    assert_eq!(held(&token).await, Err(why));
}

#[tokio::test]
async fn where_a_key_is_said_to_be_is_never_followed() {
    let other = json!({ "alg": "ES256", "kid": "p", "jku": "http://127.0.0.1:1/k", "x5u": "http://127.0.0.1:1/c",
                        "jwk": P384.jwk("p"), "x5c": ["AA"] });
    assert_eq!(held(&P256.written(&other.to_string(), &claims(&json!({})).to_string())).await, Ok(()));
    // The key in the header is not the one it is verified with.
    let own = json!({ "alg": "ES384", "kid": "p", "jwk": P384.jwk("p") });
    let token = P384.written(&own.to_string(), &claims(&json!({})).to_string());
    assert_eq!(held(&token).await, Err(Refused::OtherAlgorithm));
}

#[rstest]
#[case::nothing("", Refused::NoToken)]
#[case::two_parts("a.b", Refused::NoToken)]
#[case::five_parts("a.b.c.d.e", Refused::Encrypted)]
#[case::padded("eyJhbGciOiJFUzI1NiJ9==.e30.AA", Refused::NoToken)]
#[case::not_the_url_alphabet("eyJhbGciOiJFUzI1NiJ9.e30.+/+/", Refused::NoToken)]
#[case::header_is_a_list("W10.e30.AA", Refused::NoObject)]
#[tokio::test]
async fn texts_that_are_no_token(#[case] text: &str, #[case] why: Refused) {
    assert_eq!(held(text).await, Err(why));
}

#[tokio::test]
async fn what_is_written_twice_or_too_long_is_refused() {
    let payload = claims(&json!({})).to_string();
    let twice = payload.replacen('{', "{\"sub\":\"rui\",", 1);
    let header = json!({ "alg": "ES256", "kid": "p" }).to_string();
    assert_eq!(held(&P256.written(&header, &twice)).await, Err(Refused::NoObject));
    let header = header.replacen('{', "{\"alg\":\"ES256\",", 1);
    assert_eq!(held(&P256.written(&header, &payload)).await, Err(Refused::NoObject));
    let long = claims(&json!({ "more": "x".repeat(16 << 10) }));
    assert_eq!(held(&P256.token("p", &long)).await, Err(Refused::TooLong));
}

#[tokio::test]
async fn id_tokens_count_where_they_are_let() {
    let config = Config { id_tokens: true, ..config(all_keys()) };
    let token = P256.token("p", &claims(&json!({ "nonce": "n", "at_hash": "h" })));
    assert!(held_at(config, &token, now()).await.is_ok());
}

#[tokio::test]
async fn an_audience_is_the_asking_applications_also_when_it_was_verified_before() {
    let issuers = issuers(config(all_keys()));
    let token = P256.token("p", &claims(&json!({})));
    assert!(issuers.verify(&token, Some("customs"), now()).await.is_ok());
    assert_eq!(issuers.verify(&token, Some("quay"), now()).await, Err(Refused::Audience));
    assert!(issuers.verify(&token, None, now()).await.is_ok(), "an operator asks for any");
    // Remembered or not, it ends; and with other audiences it is verified anew.
    let later = now() + SignedDuration::from_secs(331);
    assert_eq!(issuers.verify(&token, Some("customs"), later).await, Err(Refused::Expired));
    let mut other = config(all_keys());
    other.audiences.insert("customs".to_owned(), vec!["another".to_owned()]);
    issuers.set(vec![other], now());
    assert_eq!(issuers.verify(&token, Some("customs"), now()).await, Err(Refused::Audience));
    issuers.set(Vec::new(), now());
    assert_eq!(issuers.verify(&token, Some("customs"), now()).await, Err(Refused::UnknownIssuer));
}

fn with(mut key: Value, name: &str, value: Value) -> Value {
    key[name] = value;
    key
}

#[rstest]
#[case::encryption(with(RSA.jwk("k"), "use", json!("enc")), "not for signatures")]
#[case::signs_only(with(RSA.jwk("k"), "key_ops", json!(["sign"])), "does not verify")]
#[case::small_rsa(with(RSA.jwk("k"), "n", json!(b64([0xff; 128]))), "1024 bits")]
#[case::even_rsa(with(RSA.jwk("k"), "n", json!(b64([0xfe; 256]))), "no RSA key's")]
#[case::exponent_of_one(with(RSA.jwk("k"), "e", json!("AQ")), "no RSA key's")]
#[case::no_modulus(with(RSA.jwk("k"), "n", json!(7)), "n is missing")]
#[case::broken_point(with(P256.jwk("k"), "y", json!(b64([1; 32]))), "no point of its curve")]
#[case::short_point(with(P256.jwk("k"), "x", json!("AA")), "32 bytes")]
#[case::other_curve(with(P256.jwk("k"), "crv", json!("P-521")), "none of RSA")]
#[case::shared_secret(json!({ "kty": "oct", "k": "AA", "kid": "k" }), "shared secret")]
#[case::unknown_kind(json!({ "kty": "AKP", "kid": "k" }), "none of RSA")]
#[case::other_algorithm(with(P256.jwk("k"), "alg", json!("ES384")), "not one that its kind verifies")]
#[case::shared_algorithm(with(RSA.jwk("k"), "alg", json!("HS256")), "not one that its kind verifies")]
#[case::no_object(json!("x"), "no object")]
fn keys_are_skipped_one_by_one(#[case] key: Value, #[case] why: &str) {
    let text = json!({ "keys": [key, ED.jwk("e")] }).to_string();
    let set = KeySet::read(text.as_bytes()).expect("the other one is taken");
    assert!(set.told[0].skipped.as_ref().is_some_and(|told| told.contains(why)), "{:?}", set.told[0]);
    assert_eq!(set.told[1].algorithms, ["EdDSA"]);
}

#[tokio::test]
async fn a_key_verifies_what_its_alg_says_and_no_more() {
    let only = with(RSA.jwk("r"), "alg", json!("PS512"));
    let token = |alg: &str| {
        RSA.written(&json!({ "alg": alg, "kid": "r" }).to_string(), &claims(&json!({})).to_string())
    };
    let held = async |alg: &str| {
        held_at(config(file(std::slice::from_ref(&only))), &token(alg), now()).await.map(drop)
    };
    assert_eq!(held("PS512").await, Ok(()));
    assert_eq!(held("RS256").await, Err(Refused::OtherAlgorithm));
}

#[tokio::test]
async fn keys_that_cannot_be_told_apart_verify_nothing() {
    let twice = config(file(&[P256.jwk("p"), P256.jwk("p")]));
    let token = P256.token("p", &claims(&json!({})));
    assert_eq!(held_at(twice, &token, now()).await.map(drop), Err(Refused::SeveralKeys));
    let two = config(file(&[P256.jwk("a"), P256.jwk("b")]));
    let header = json!({ "alg": "ES256" }).to_string();
    let token = P256.written(&header, &claims(&json!({})).to_string());
    assert_eq!(held_at(two, &token, now()).await.map(drop), Err(Refused::SeveralKeys));
}

#[rstest]
#[case(b"".to_vec(), NoKeys::NotASet)]
#[case(b"{\"keys\":[]}".to_vec(), NoKeys::NoneUsable)]
#[case(b"{\"keys\":[],\"keys\":[]}".to_vec(), NoKeys::NotASet)]
#[case(b"-----BEGIN PUBLIC KEY-----\nAA==\n-----END PUBLIC KEY-----\n".to_vec(), NoKeys::NoneUsable)]
#[case(vec![b' '; (1 << 20) + 1], NoKeys::TooLarge)]
#[case(json!({ "keys": vec![json!({}); 101] }).to_string().into_bytes(), NoKeys::TooMany)]
fn texts_without_keys(#[case] text: Vec<u8>, #[case] why: NoKeys) {
    assert_eq!(KeySet::read(&text).map(drop), Err(why));
}
