//! The core of Ostrog: what a charter means, what a register says, and what follows.
//!
//! It is pure. There is no input or output here, no clock, no environment and no interface: text
//! comes in as text, the moment comes in as an argument, and answers go out as data.
//!
//! The road of a charter is [`charter`] (syntax → check → model → [`charter::policy::Policy`]);
//! facts live in a [`register::Register`]; [`decide`] answers questions from the two;
//! [`rehearse`] runs written cases against them.
//!
//! ```
//! use ostrog_core::prelude::*;
//!
//! let charter = r#"
//! [charter]
//! name = "A quay"
//! format = 1
//! [application.quay]
//! [resource.vessel]
//! application = "quay"
//! within = "tenant"
//! actions = { view = "See it" }
//! [role.deckhand]
//! permissions = ["vessel:view"]
//! "#;
//! let reading = charter::read(&Sources::single("charter.toml", charter));
//! let policy = reading.policy.expect("the charter has no errors");
//! let mut world = World::new(std::sync::Arc::new(policy), Register::default());
//! let lines = [
//!     r#"{"entity":"tenant:northline"}"#,
//!     r#"{"entity":"vessel:kestrel","within":"tenant:northline"}"#,
//!     r#"{"entity":"user:ines"}"#,
//!     r#"{"grant":{"role":"deckhand","to":"user:ines","at":"tenant:northline"}}"#,
//! ];
//! let changes: Vec<_> = lines.iter().map(|line| line::parse(line).expect("a line")).collect();
//! world.apply(&changes).expect("valid under the charter");
//!
//! let request = Request {
//!     subject: "user:ines".into(),
//!     permission: "vessel:view".into(),
//!     resource: Some("vessel:kestrel".into()),
//!     ..Request::default()
//! };
//! let now = "2026-11-23T09:00:00Z".parse().expect("a moment");
//! let asked = request.resolve(world.engine(), now).expect("well formed");
//! let (decision, why) = with_scratch(|scratch| explain(world.engine(), &asked, scratch));
//! assert!(decision.allowed);
//! assert_eq!(why.sentence, "deckhand at tenant:northline");
//! ```

#![forbid(unsafe_code)]

pub mod charter;
pub mod decide;
pub mod import;
pub mod interner;
pub mod json;
pub mod names;
mod pieces;
pub mod prove;
pub mod register;
pub mod rehearse;
pub mod release;
pub mod routes;
pub mod shift;
pub mod source;
pub mod value;

/// What most users of the crate need.
pub mod prelude {
    pub use crate::charter;
    pub use crate::charter::policy::Policy;
    pub use crate::decide::explain::{Explanation, explain};
    pub use crate::decide::question::{Asked, Malformed, Question, Request};
    pub use crate::decide::{Decision, Engine, InForce, Link, Reason, Scratch, World, decide, with_scratch};
    pub use crate::register::change::Checks;
    pub use crate::register::line::{self, Change};
    pub use crate::register::sight::Sight;
    pub use crate::register::wrong::Wrong;
    pub use crate::register::{Register, change, fact};
    pub use crate::source::{SourceFile, Sources};
}
