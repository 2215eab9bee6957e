//! How a change of policy travels: what of it must be accepted, what is in force when somebody approves or puts
//! it live, and what there is to go back to. Pure: what happened comes in as data.
//!
//! - [`accept`]: what approvers of a change must each accept;
//! - [`history`]: what was live for an application, and the way back;
//! - [`settings`]: the workspace's settings, from a text with places.

pub mod accept;
pub mod history;
pub mod settings;

use std::collections::BTreeSet;

/// Why somebody counts among the editors of what they want to approve: what both count as. None if they do not.
pub fn in_common<'a>(editors: &'a [String], persons: &[String]) -> Option<&'a str> {
    let persons: BTreeSet<&str> = persons.iter().map(String::as_str).collect();
    let common = || editors.iter().map(String::as_str).filter(|editor| persons.contains(editor));
    // People say who they are by their names.
    common().find(|one| one.starts_with("person:")).or_else(|| common().next())
}
