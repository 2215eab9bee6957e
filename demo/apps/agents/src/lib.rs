//! The agents' portal: bookings and invoices. An example of a page whose menu, buttons and routes follow affordances, and
//! of the small back end behind it, which keeps its key and everybody's tokens to itself.
//!
//! | request | needs |
//! | --- | --- |
//! | `GET /` and the page's files | nothing |
//! | `GET /sign-in`, `/signed-in`, `POST /sign-out` | nothing |
//! | `GET /api/affordances?resource=` | nothing: tells what the page shows and enables, to whoever asks |
//! | `GET /api/moves` | nothing: server-sent events, whenever that may be different |
//! | `GET /api/bookings`, `GET /api/invoices` | those that somebody may view |
//! | `GET /api/bookings/{booking}` | `booking:view` |
//! | `POST /api/bookings/{booking}/cancel` | `booking:cancel` |
//! | `POST /api/invoices/{invoice}/dispute`, `…/approve` | `invoice:dispute`, `invoice:approve` |
//!
//! Buttons are a courtesy: each request of the page is decided again.
//!
//! - [`sign_in`]: who is signed in, by the port's sign-in (RFC 6749 with PKCE, RFC 7636);
//! - [`api`]: what the page asks;
//! - [`page`]: the page's files, built into the program.

#![forbid(unsafe_code)]

pub mod api;
pub mod page;
pub mod sign_in;

use api::Book;
use axum::Router;
use axum::middleware::from_fn_with_state;
use ostrog_client::Client;
use ostrog_client::guard::{Guard, NotBuilt};
use sign_in::SignIn;
use std::io;
use std::sync::Arc;
use tokio::net::TcpListener;

/// The portal.
#[derive(Clone, Debug)]
pub struct Portal {
    pub(crate) client: Client,
    pub(crate) guard: Guard,
    pub(crate) sign_in: Arc<SignIn>,
    pub(crate) book: Arc<Book>,
}

/// Why there is no portal.
#[derive(Debug, thiserror::Error)]
pub enum Error {
    /// What it begins with cannot be read.
    #[error("what the portal begins with: {0}")]
    Beginning(#[from] serde_json::Error),
    /// The sign-in's address or the portal's own is none.
    #[error("the sign-in: {0}")]
    SignIn(String),
    /// A route cannot be guarded.
    #[error(transparent)]
    NotBuilt(#[from] NotBuilt),
    /// It cannot listen.
    #[error("{0}")]
    Listening(#[from] io::Error),
}

impl Portal {
    /// A portal at an address that asks with an application's key, signs people in at another, and begins with the
    /// bookings and invoices of register lines (NDJSON).
    ///
    /// # Errors
    /// If an address or a line cannot be read.
    pub fn open(address: &str, client: Client, sign_in: &str, register: &str) -> Result<Portal, Error> {
        Ok(Portal {
            guard: Guard::new(client.clone()),
            client,
            sign_in: Arc::new(SignIn::at(sign_in, address)?),
            book: Arc::new(Book::of(register)?),
        })
    }

    /// Its routes.
    ///
    /// # Errors
    /// If one of them cannot be guarded.
    pub fn router(self) -> Result<Router, Error> {
        let api = api::router(&self)?.layer(from_fn_with_state(self.clone(), sign_in::as_signed_in));
        Ok(Router::new().merge(sign_in::router().with_state(self)).nest("/api", api).merge(page::router()))
    }

    /// Serves it until `stop` resolves, and follows where answers are meanwhile.
    ///
    /// # Errors
    /// If the listener fails.
    pub async fn serve(
        self,
        listener: TcpListener,
        stop: impl Future<Output = ()> + Send + 'static,
    ) -> Result<(), Error> {
        let following = tokio::spawn(self.guard.clone().follow());
        let served = axum::serve(listener, self.router()?).with_graceful_shutdown(stop).await;
        following.abort();
        Ok(served?)
    }
}
