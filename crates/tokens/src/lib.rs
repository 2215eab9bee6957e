//! Bearer tokens (JWT, RFC 7519; as access tokens, RFC 9068): whether one holds, and what it claims. What a
//! verified claim *means* is said by the charter, not here.
//!
//! - [`jws`]: a token's parts, read strictly, and what may stand in its header;
//! - [`keys`]: the keys of an issuer, each taken or skipped with the reason, made ready once;
//! - [`verify`](mod@verify): one token held against one issuer, its claims and the clock;
//! - [`issuers`]: all issuers of a node: where their keys are found, how often they are asked for, what was verified
//!   lately;
//! - [`discovery`]: where an issuer says that its keys are.
//!
//! Nothing here opens a connection: fetching stands behind [`issuers::Fetch`].

pub mod discovery;
pub mod issuers;
pub mod jws;
pub mod keys;
pub mod verify;

pub use issuers::{Issuer, Issuers};
pub use verify::{Refused, Verified};

use jws::Object;

/// What a token says, unverified: its header and its claims, as far as they can be read.
pub fn read(token: &str) -> (Option<Object>, Option<Object>) {
    jws::parts(token)
}
