//! Single decisions, so many a second, and how long each took.

use axum::Router;
use axum::body::Body;
use axum::http::Request;
use http_body_util::BodyExt as _;
use ostrog_wire::access::Evaluation;
use serde_json::Value;
use std::time::{Duration, Instant};
use tower::ServiceExt as _;

/// Between two decisions.
pub const EVERY: Duration = Duration::from_micros(500);

pub fn call(key: &str, method: &str, path: &str, body: &Value) -> Request<Body> {
    let request = Request::builder().method(method).uri(path).header("host", "x");
    let request = request.header("authorization", format!("Bearer {key}"));
    request.header("content-type", "application/json").body(Body::from(body.to_string())).expect("a request")
}

pub async fn answered(router: &Router, request: Request<Body>) -> (u16, Vec<u8>) {
    let response = router.clone().oneshot(request).await.expect("infallible");
    let status = response.status().as_u16();
    (status, response.into_body().collect().await.expect("whole").to_bytes().to_vec())
}

/// Decisions on a thread of their own, each at its moment: how long each took from then on, sorted.
pub fn decisions(
    handle: tokio::runtime::Handle,
    router: Router,
    asked: Vec<(Request<Body>, bool)>,
) -> Vec<Duration> {
    let mut took = Vec::with_capacity(asked.len());
    let mut due = Instant::now();
    for (request, expected) in asked {
        due += EVERY;
        while let Some(left) = due.checked_duration_since(Instant::now()) {
            // A thread that sleeps is woken a little late; the rest is waited for awake.
            if left > Duration::from_micros(200) {
                std::thread::sleep(left.checked_sub(Duration::from_micros(150)).unwrap_or_default());
            } else {
                std::hint::spin_loop();
            }
        }
        let (status, body) = handle.block_on(answered(&router, request));
        took.push(due.elapsed());
        let answer: Evaluation = serde_json::from_slice(&body).expect("an answer");
        assert!(status == 200 && answer.decision == expected, "{status} {}", String::from_utf8_lossy(&body));
    }
    took.sort_unstable();
    took
}

pub fn told(name: &str, took: &[Duration]) -> Duration {
    let at = |part: f64| took[((took.len() as f64 * part) as usize).min(took.len() - 1)];
    println!(
        "{name:>24}  {:>10.1?}  {:>10.1?}  {:>10.1?}  {:>10.1?}",
        at(0.5),
        at(0.99),
        at(0.999),
        took[took.len() - 1]
    );
    at(0.999)
}
