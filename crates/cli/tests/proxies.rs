//! nginx and Caddy in front of an application, as `docs/proxies.md` sets them up: real processes on loopback.

mod support;

use axum::Router;
use rstest::rstest;
use serde_json::{Value, json};
use std::sync::atomic::Ordering;
use std::time::{Duration, Instant};
use support::proxy::{Application, CUSTOMS, Kind, Port, Proxy, QUAY};
use tokio::net::TcpListener;

#[rstest]
#[case(Kind::Nginx)]
#[case(Kind::Caddy)]
#[tokio::test(flavor = "multi_thread")]
async fn a_proxy_lets_through_what_the_charter_allows_and_nothing_else(#[case] kind: Kind) {
    let port = Port::open(kind).await;
    let ines = port.token("ines").await;
    let petra = port.token("petra").await;
    let (ines, petra) = (ines.as_str(), petra.as_str());
    let spoofed = [
        ("X-Original-Method", "GET"),
        ("X-Original-URI", "/tides"),
        ("X-Original-Host", QUAY),
        ("X-Forwarded-Method", "GET"),
        ("X-Forwarded-Uri", "/tides"),
        ("X-Forwarded-Host", QUAY),
        ("Ostrog-Subject", "user:maren"),
        ("Ostrog-Proxy-Key", "ostrog.k-0.x"),
        ("Ostrog-Decision", "d-0"),
    ];

    // What passes arrives whole, with who asked: also where a client said otherwise.
    for more in [&[][..], &spoofed] {
        let headers = [&[("Authorization", ines)][..], more].concat();
        let (status, header, body) = port.proxy.ask(CUSTOMS, "GET /manifests/m-204?a=1", &headers, "").await;
        assert_eq!(status, 200, "{header} {body}");
        let told: Value = serde_json::from_str(body_of(&body)).expect("JSON");
        assert_eq!((&told["method"], &told["path"]), (&json!("GET"), &json!("/manifests/m-204")));
        assert_eq!(told["ostrog"]["ostrog-subject"], "user:ines");
        assert_eq!(told["ostrog"]["ostrog-path"], "/manifests/m-204");
        assert!(told["ostrog"]["ostrog-decision"].as_str().expect("an id").len() > 3, "{told}");
        assert_eq!(told["ostrog"]["ostrog-proxy-key"], Value::Null, "{told}");
    }
    let (status, _, body) = port.proxy.ask(QUAY, "GET /tides", &[], "").await;
    assert_eq!(status, 200, "an open route: {body}");
    let maren = port.token("maren").await;
    let maren = [("Authorization", maren.as_str())];
    let (status, _, body) = port.proxy.ask(CUSTOMS, "POST /manifests/m-204/release", &maren, "papers").await;
    let told: Value = serde_json::from_str(body_of(&body)).expect("JSON");
    assert_eq!((status, &told["method"], &told["body"]), (200, &json!("POST"), &json!("papers")));
    let at_first = port.reached();

    let nobody = "www-authenticate: bearer";
    let invalid = "www-authenticate: bearer error=\"invalid_token\"";
    for (host, what, headers, status, told) in [
        (CUSTOMS, "GET /manifests/m-204", &[][..], 401, nobody),
        (CUSTOMS, "GET /manifests/m-204", &[("Authorization", "Bearer a.b.c")], 401, invalid),
        (CUSTOMS, "GET /manifests/m-204", &[("Authorization", "Basic aW5lczp4")], 401, nobody),
        (QUAY, "GET /tides", &[("Authorization", "Bearer a.b.c")], 401, invalid),
        (QUAY, "GET /tides?access_token=a.b.c", &[], 401, invalid),
        // A token for the customs desk is none for the quay.
        (QUAY, "GET /tides", &[("Authorization", ines)], 401, invalid),
        (CUSTOMS, "POST /manifests/m-204/release", &[("Authorization", petra)], 403, ""),
        (CUSTOMS, "GET /manifests/none", &[("Authorization", ines)], 403, ""),
        (CUSTOMS, "GET /tides", &[("Authorization", ines)], 403, ""),
        (CUSTOMS, "DELETE /manifests/m-204", &[("Authorization", ines)], 403, ""),
        (CUSTOMS, "GET /manifests/m-204/", &[("Authorization", ines)], 403, ""),
        (CUSTOMS, "GET /manifests/m-204%2f", &[("Authorization", ines)], 403, ""),
        (CUSTOMS, "GET /manifests%2fm-204", &[("Authorization", ines)], 403, ""),
        (CUSTOMS, "GET /manifests/%2e%2e/manifests/m-204", &[("Authorization", ines)], 403, ""),
        (CUSTOMS, "GET /x/../manifests/m-204", &[("Authorization", ines)], 403, ""),
        (CUSTOMS, "GET /manifests/./m-204", &[("Authorization", ines)], 403, ""),
        (CUSTOMS, "GET //manifests/m-204", &[("Authorization", ines)], 403, ""),
        (CUSTOMS, "GET /manifests/m-204;a=1", &[("Authorization", ines)], 403, ""),
        (CUSTOMS, "GET /manifests/m-20%34", &[("Authorization", ines)], 403, ""),
        (
            CUSTOMS,
            "GET /manifests/m-204",
            &[("Authorization", ines), ("X-HTTP-Method-Override", "DELETE")],
            403,
            "",
        ),
        // What is asked about is never asked from outside.
        (CUSTOMS, "GET /route-check", &[("Authorization", ines)], 403, ""),
    ] {
        let (found, header, body) = port.proxy.ask(host, what, headers, "").await;
        let hidden = kind == Kind::Nginx && what.ends_with("/route-check") && found == 404;
        assert!(found == status || hidden, "{what} {headers:?}: {header} {body}");
        assert!(header.contains(told), "{what}: {header}");
        if told == nobody {
            assert!(!header.contains("error="), "{header}");
        }
        // A client that makes headers up gets no further.
        let more = [headers, &spoofed].concat();
        let (found, header, body) = port.proxy.ask(host, what, &more, "").await;
        assert!(found == status || hidden, "spoofed {what}: {header} {body}");
    }
    let two = [("Authorization", ines), ("Authorization", petra)];
    let (status, header, _) = port.proxy.ask(CUSTOMS, "GET /manifests/m-204", &two, "").await;
    assert!(matches!(status, 400 | 401), "two tokens: {header}");
    let absolute =
        format!("GET http://{QUAY}/tides HTTP/1.1\r\nHost: {CUSTOMS}\r\nConnection: close\r\n\r\n");
    let reached = port.reached();
    let (status, _, _) = port.proxy.raw(&absolute).await;
    // Whichever host it takes, it is the application's too: nothing but the open route of that host passed.
    assert!(status != 200 || port.reached() == reached + 1);
    assert_eq!(reached, at_first, "something that was refused reached the application");
    let lately = port.service.get("/api/v1/asked").await.1;
    let counted: Vec<_> =
        lately["unmapped"].as_array().expect("a list").iter().map(|one| &one["pattern"]).collect();
    assert!(counted.contains(&&json!("/manifests/{manifest}/")), "{counted:?}");
}

/// A body, whether or not it came in chunks.
fn body_of(body: &str) -> &str {
    let from = body.find('{').unwrap_or_default();
    let to = body.rfind('}').map_or(body.len(), |at| at + 1);
    &body[from..to]
}

#[rstest]
#[case(Kind::Nginx)]
#[case(Kind::Caddy)]
#[tokio::test(flavor = "multi_thread")]
async fn nothing_passes_while_ostrog_is_away_or_silent(#[case] kind: Kind) {
    let application = Application::start().await;
    let silent = TcpListener::bind("127.0.0.1:0").await.expect("a port");
    let silent_at = silent.local_addr().expect("an address").to_string();
    let odd = TcpListener::bind("127.0.0.1:0").await.expect("a port");
    let odd_at = odd.local_addr().expect("an address").to_string();
    // Something else than Ostrog listens there, and errs.
    let errs = async || (axum::http::StatusCode::IM_A_TEAPOT, "?");
    tokio::spawn(async move { axum::serve(odd, Router::new().fallback(errs)).await });
    let away = {
        let gone = std::net::TcpListener::bind("127.0.0.1:0").expect("a port");
        gone.local_addr().expect("an address").to_string()
    };
    for (ostrog, statuses) in [(away, 500..=504), (silent_at, 500..=504), (odd_at, 400..=504)] {
        let proxy = Proxy::start(kind, &application.address, &ostrog, "ostrog.k-0.x");
        let begun = Instant::now();
        let (status, header, _) = proxy.ask(QUAY, "GET /tides", &[], "").await;
        assert!(statuses.contains(&status), "{ostrog}: {header}");
        assert!(begun.elapsed() < Duration::from_secs(5), "{ostrog}: it took {:?}", begun.elapsed());
    }
    assert_eq!(application.reached.load(Ordering::Relaxed), 0);
}
