//! What goes over the network, as types: shared by the service, the client and the command line.
//!
//! - [`access`]: decisions and searches, in the AuthZEN Authorization API 1.0;
//! - [`register`], [`charter`], [`import`], [`keys`], [`questions`], [`rehearsals`], [`changes`]: management;
//! - [`problem`]: how calls are refused (RFC 9457);
//! - [`strict`]: how requests are read.
//!
//! Nothing here decides, looks anything up or speaks HTTP. Feature `schema` describes the shapes for
//! OpenAPI documents.

#![forbid(unsafe_code)]

pub mod access;
pub mod changes;
pub mod charter;
pub mod import;
pub mod issuers;
pub mod keys;
pub mod problem;
pub mod questions;
pub mod register;
pub mod rehearsals;
pub mod release;
pub mod strict;
