//! `ostrog login`, `ostrog logout`.

use super::Global;
use crate::exit::{Code, Failure, NO, YES};
use crate::sessions::{Kept, keep, of};
use crate::shell::Shell;
use axum::Router;
use axum::extract::{Query, State};
use axum::response::Html;
use axum::routing::get;
use ostrog_client::Client;
use ostrog_client::Error;
use ostrog_wire::keys::{LoopbackAsked, LoopbackBegun, SessionAsked, SessionGiven, SessionOutcome};
use std::collections::HashMap;
use std::time::Duration;
use tokio::io::{AsyncBufReadExt as _, BufReader};
use tokio::net::TcpListener;
use tokio::sync::mpsc;

/// How long somebody may take.
const PATIENCE: Duration = Duration::from_secs(600);
/// How much longer a device waits that asked too often (RFC 8628, 3.5).
const SLOWER: Duration = Duration::from_secs(5);

/// The arguments of `login`.
#[derive(Debug, clap::Args)]
pub struct Args {
    /// The issuer to sign in with, where there are several
    #[arg(long, value_name = "ISSUER")]
    with: Option<String>,
    /// In a browser on this machine, though the issuer can confirm a device
    #[arg(long)]
    browser: bool,
}

/// What came back: by the loopback, or pasted.
type CameBack = HashMap<String, String>;

pub async fn run(args: Args, global: &Global, shell: &Shell) -> Result<Code, Failure> {
    let server = global.server()?;
    let client = Client::new(server, "")?;
    let all = client.sign_in_with().await?;
    let issuer = match (&args.with, all.as_slice()) {
        (_, []) => {
            return Err(Failure::misused(
                "nobody signs in here: no issuer is set up for operators (ostrog issuer add … --operators)",
            ));
        }
        (Some(with), all) => all.iter().find(|one| one.issuer == *with),
        (None, [one]) => Some(one),
        (None, _) => None,
    };
    let Some(issuer) = issuer else {
        let keys: Vec<&str> = all.iter().map(|one| one.issuer.as_str()).collect();
        return Err(Failure::misused(format!("with which issuer? --with {}", keys.join(" or --with "))));
    };
    let given = match args.browser {
        true => by_browser(&client, &issuer.issuer, shell).await?,
        false => match by_device(&client, &issuer.issuer, shell).await {
            Ok(given) => given,
            Err(Error::Refused(problem)) if problem.status == 409 => {
                by_browser(&client, &issuer.issuer, shell).await?
            }
            Err(error) => return Err(error.into()),
        },
    };
    keep(server, Some(Kept::of(&given)))?;
    shell.notice(&format!("signed in as {} ({}), with {server}", given.who.name, given.who.key));
    if std::env::var_os("OSTROG_KEY").is_some() {
        shell.notice("OSTROG_KEY is set, and goes before it: unset it to be who you signed in as");
    }
    Ok(YES)
}

/// Shows a code, and waits until somebody has confirmed it, on whichever machine.
async fn by_device(client: &Client, issuer: &str, shell: &Shell) -> Result<SessionGiven, Error> {
    let device = client.begin_device(issuer).await?;
    shell.notice(&format!("open {} and enter {}", device.verification_uri, device.user_code));
    if let Some(page) = &device.verification_uri_complete {
        shell.notice(&format!("or open {page}"));
    }
    let mut pause = Duration::from_secs(device.interval);
    let asked = SessionAsked { device_code: Some(device.device_code), ..SessionAsked::default() };
    loop {
        tokio::time::sleep(pause).await;
        match client.begin_session(issuer, &asked).await? {
            SessionOutcome { given: Some(given), .. } => return Ok(given),
            SessionOutcome { slow_down: true, .. } => pause += SLOWER,
            SessionOutcome { .. } => {}
        }
    }
}

/// Sends a browser, and takes what it comes back with: where this listens, or pasted.
async fn by_browser(client: &Client, issuer: &str, shell: &Shell) -> Result<SessionGiven, Failure> {
    let listener = TcpListener::bind(("127.0.0.1", 0)).await.map_err(Failure::unreachable)?;
    let back = format!("http://{}/signed-in", listener.local_addr().map_err(Failure::unreachable)?);
    let begun = client.begin_loopback(issuer, &LoopbackAsked { back: back.clone() }).await?;
    shell.notice(&format!("open {}", begun.address));
    shell.notice("if the browser is on another machine, paste the address here that it ends at:");
    let (sender, mut receiver) = mpsc::channel(1);
    let router = Router::new().route("/signed-in", get(came_back)).with_state(sender);
    let serving = tokio::spawn(async move { axum::serve(listener, router).await });
    let came = tokio::time::timeout(PATIENCE, async {
        tokio::select! {
            came = receiver.recv() => came,
            pasted = pasted(&begun, shell) => pasted,
        }
    });
    let came = came.await;
    serving.abort();
    let came = came.ok().flatten().ok_or_else(|| Failure::unreachable("nobody came back in ten minutes"))?;
    let LoopbackBegun { state, nonce, verifier, .. } = begun;
    if came.get("state") != Some(&state) {
        return Err(Failure::misused("what came back is not of this sign-in; begin another"));
    }
    let Some(code) = came.get("code") else {
        return Err(Failure { message: "the issuer let nobody in".to_owned(), code: crate::exit::NOT_YOURS });
    };
    let asked = SessionAsked {
        code: Some(code.clone()),
        iss: came.get("iss").cloned(),
        back: Some(back),
        nonce: Some(nonce),
        verifier: Some(verifier),
        ..SessionAsked::default()
    };
    let outcome = client.begin_session(issuer, &asked).await?;
    outcome.given.ok_or_else(|| Failure::unreachable("no session was given"))
}

async fn came_back(
    State(sender): State<mpsc::Sender<CameBack>>,
    Query(came): Query<CameBack>,
) -> Html<&'static str> {
    let _ = sender.send(came).await;
    Html(
        "<!doctype html><meta charset=utf-8><title>Ostrog</title><p>The command line goes on; you can close this page.",
    )
}

/// What is pasted: the address that a browser ended at. Never, if nothing can be.
async fn pasted(begun: &LoopbackBegun, shell: &Shell) -> Option<CameBack> {
    let mut lines = BufReader::new(tokio::io::stdin()).lines();
    while let Ok(Some(line)) = lines.next_line().await {
        let came: Option<CameBack> =
            url::Url::parse(line.trim()).ok().map(|url| url.query_pairs().into_owned().collect());
        match came {
            Some(came) if came.get("state") == Some(&begun.state) => return Some(came),
            _ => shell.notice(
                "that is not the address; it begins with http://127.0.0.1 and has a state of this sign-in",
            ),
        }
    }
    std::future::pending().await
}

/// Ends the session with the service.
pub async fn out(global: &Global, shell: &Shell) -> Result<Code, Failure> {
    let server = global.server()?;
    let Some(kept) = of(server)? else {
        shell.notice(&format!("nobody is signed in with {server}"));
        return Ok(NO);
    };
    Client::new(server, &kept.session)?.sign_out().await?;
    keep(server, None)?;
    shell.notice(&format!("signed out of {server}"));
    Ok(YES)
}
