//! The rules as they were: written by hand, over years, by several people.

/// Somebody who works here.
#[derive(Clone, Debug)]
pub struct Person {
    /// Their id.
    pub id: String,
    /// `clerk`, `foreman` or `office`.
    pub job: String,
    /// The berth where they work; the office works at none.
    pub berth: Option<String>,
}

/// A sheet.
#[derive(Clone, Debug)]
pub struct Sheet {
    /// Its id.
    pub id: String,
    /// The berth it is of.
    pub berth: String,
    /// Who began it.
    pub clerk: String,
    /// Whether it is closed.
    pub closed: bool,
}

/// What there is to do.
pub const ACTIONS: [&str; 4] = ["read", "write", "close", "reopen"];

/// Whether somebody may do something with a sheet.
pub fn may(person: &Person, action: &str, sheet: &Sheet) -> bool {
    let here = person.berth.as_deref() == Some(sheet.berth.as_str());
    match action {
        "read" => person.job == "office" || here,
        // Nobody writes on a sheet that is closed. A clerk writes on their own, a foreman on any of the berth.
        "write" => {
            if sheet.closed {
                return false;
            }
            if person.job == "foreman" {
                return here;
            }
            person.job == "clerk" && here && person.id == sheet.clerk
        }
        "close" => person.job == "foreman" && here,
        // Whoever closed it by mistake calls the office.
        "reopen" => person.job == "office" && sheet.closed,
        _ => false,
    }
}
