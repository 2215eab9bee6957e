//! Tokens against the standards' own vectors, against every way not to count, and against issuers that mean
//! harm or are away.

mod hostile;
mod refusals;
mod support;
mod vectors;
