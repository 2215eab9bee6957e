//! The service in process: its paths called as a connection would call them, over a database of its own.
//!
//! - [`table`]: every operation, by every kind of caller;
//! - [`worlds`]: two registers that differ only in what a caller may not read answer alike;
//! - [`shapes`]: what is sent, well and badly;
//! - [`bounds`]: what one caller costs others, and what ends;
//! - [`release`]: how a change of policy travels; [`histories`]: whole ways of many, beside a model;
//! - [`sign_in`]: operators who sign in, and whoever would like to be one;
//! - [`chain`]: changes that are not what was written;
//! - [`measures`]: what is measured;
//! - [`connections`]: what holds before there is a request.

#![allow(clippy::disallowed_methods, reason = "a service has a clock")]

mod bounds;
mod chain;
mod connections;
mod histories;
mod measures;
mod release;
mod route_check;
mod shapes;
mod sign_in;
mod support;
mod table;
mod tokens;
mod worlds;
