//! What a verification costs, by algorithm, and what one costs that was verified lately.

#[path = "../tests/tokens/support.rs"]
#[allow(dead_code, reason = "shared with the tests")]
mod support;

use ostrog_tokens::Issuers;
use ostrog_tokens::issuers::{Config, KeySource};
use serde_json::json;
use std::hint::black_box;
use std::sync::Arc;
use std::time::{Duration, Instant};
use support::{Documents, ED, P256, RSA, Signer, claims, config, now};

/// For how long each is measured.
const LONG: Duration = Duration::from_secs(2);

fn main() {
    let runtime = tokio::runtime::Builder::new_current_thread().enable_all().build().expect("a runtime");
    runtime.block_on(async {
        let signers: [(&str, &Signer); 3] = [("RS256", &RSA), ("ES256", &P256), ("EdDSA", &ED)];
        for (name, signer) in signers {
            let keys = json!({ "keys": [signer.jwk("k")] }).to_string().into_bytes();
            let issuers = Issuers::new(Arc::new(Documents::default()));
            issuers.set(vec![Config { ..config(KeySource::File(keys)) }], now());
            // As many as are never remembered twice.
            let tokens: Vec<String> =
                (0..1_000).map(|n| signer.token("k", &claims(&json!({ "jti": n })))).collect();
            let first = measured(&issuers, &tokens).await;
            let again = measured(&issuers, &tokens[..1]).await;
            println!("{name}: {first:.1} µs; verified lately, {again:.1} µs");
        }
    });
}

/// Microseconds of one verification; each token is new the first time it is met.
async fn measured(issuers: &Issuers, tokens: &[String]) -> f64 {
    let (mut done, mut spent) = (0_u32, Duration::ZERO);
    while spent < LONG {
        if tokens.len() > 1 {
            // Set up anew nothing is remembered.
            let config = issuers.all()[0].config.clone();
            issuers.set(Vec::new(), now());
            issuers.set(vec![config], now());
        }
        let began = Instant::now();
        for token in tokens {
            black_box(issuers.verify(black_box(token), Some("customs"), now()).await.expect("it holds"));
            done += 1;
        }
        spent += began.elapsed();
    }
    spent.as_secs_f64() * 1e6 / f64::from(done)
}
