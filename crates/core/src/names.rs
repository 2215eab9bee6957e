//! Which names are well formed, and which known name somebody probably meant.

use std::borrow::Cow;
use unicode_normalization::UnicodeNormalization as _;

/// Longest key of a charter, in bytes.
pub const MAX_KEY_BYTES: usize = 64;
/// Longest entity name (`type:id`), in bytes.
pub const MAX_ENTITY_BYTES: usize = 256;

/// Types every charter has; none may be declared under these names.
pub const RESERVED_TYPES: [&str; 7] =
    ["user", "service", "group", "tenant", "anonymous", "everywhere", "token"];
/// Paths every entity may have; no attribute or relation may be declared under these names.
pub const RESERVED_PATHS: [&str; 5] = ["id", "type", "tenant", "within", "detached"];

/// Whether `text` is a key: `[a-z][a-z0-9-]*`, at most 64 bytes.
pub fn is_key(text: &str) -> bool {
    text.len() <= MAX_KEY_BYTES
        && text.as_bytes().first().is_some_and(u8::is_ascii_lowercase)
        && text.bytes().all(|b| b.is_ascii_lowercase() || b.is_ascii_digit() || b == b'-')
}

/// A key made from what somebody wrote instead, if one suggests itself.
pub fn as_key(text: &str) -> Option<String> {
    let mut key = String::new();
    for c in text.chars() {
        match c {
            'A'..='Z' => {
                if !key.is_empty() && !key.ends_with('-') {
                    key.push('-');
                }
                key.push(c.to_ascii_lowercase());
            }
            'a'..='z' | '0'..='9' => key.push(c),
            _ if key.is_empty() || key.ends_with('-') => {}
            _ => key.push('-'),
        }
    }
    let key = key.trim_end_matches('-');
    is_key(key).then(|| key.to_owned())
}

/// Why a text names no entity.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
pub enum NotAName {
    /// It has too many bytes.
    #[error("an entity's name has at most {MAX_ENTITY_BYTES} bytes")]
    TooLong,
    /// It has no colon.
    #[error("{0:?} is not an entity: write type:id, such as user:{0}")]
    NoType(Box<str>),
    /// What stands before the colon is no key.
    #[error("{0:?} is not a type: a to z, 0 to 9 and hyphens")]
    NotAType(Box<str>),
    /// Nothing stands after the colon.
    #[error("{0:?} has no id after the colon")]
    NoId(Box<str>),
    /// It holds what cannot be seen.
    #[error("{0:?} holds white space or a control character")]
    Unseen(Box<str>),
    /// It is not in Unicode's composed form.
    #[error("{name:?} is not in Unicode's composed form (NFC): write {composed}")]
    Decomposed {
        /// As written.
        name: Box<str>,
        /// As it would be right.
        composed: Box<str>,
    },
}

impl From<NotAName> for String {
    fn from(wrong: NotAName) -> String {
        wrong.to_string()
    }
}

/// Splits `type:id` at the first colon and verifies both halves.
///
/// # Errors
/// If the text names no entity.
pub fn split_entity(name: &str) -> Result<(&str, &str), NotAName> {
    if name.len() > MAX_ENTITY_BYTES {
        return Err(NotAName::TooLong);
    }
    let Some((kind, id)) = name.split_once(':') else { return Err(NotAName::NoType(name.into())) };
    if !is_key(kind) {
        return Err(NotAName::NotAType(kind.into()));
    }
    if id.is_empty() {
        return Err(NotAName::NoId(name.into()));
    }
    if id.chars().any(|c| c.is_whitespace() || c.is_control()) {
        return Err(NotAName::Unseen(name.into()));
    }
    if !unicode_normalization::is_nfc(id) {
        let composed: String = id.nfc().collect();
        return Err(NotAName::Decomposed {
            name: name.into(),
            composed: format!("{kind}:{composed}").into(),
        });
    }
    Ok((kind, id))
}

/// The type in an entity's name, also in one that nothing can be registered under.
///
/// # Errors
/// If there is no type in it.
pub fn kind_of(name: &str) -> Result<&str, NotAName> {
    split_entity(name).map(|(kind, _)| kind).or_else(|wrong| match name.split_once(':') {
        Some((kind, id)) if is_key(kind) && !id.is_empty() => Ok(kind),
        _ => Err(wrong),
    })
}

/// A name without what two names of one person might differ in: case, and Unicode's forms.
pub fn folded(name: &str) -> Cow<'_, str> {
    if name.bytes().all(|byte| byte.is_ascii() && !byte.is_ascii_uppercase()) {
        return Cow::Borrowed(name);
    }
    let folded: String = name.nfkc().collect::<String>().to_lowercase().nfkc().collect();
    if folded == name { Cow::Borrowed(name) } else { Cow::Owned(folded) }
}

/// Whether a type stands for nobody and nothing that can be registered.
pub fn is_nobody(kind: &str) -> bool {
    matches!(kind, "anonymous" | "everywhere" | "token")
}

/// Whether an id of a grant or an activation can be kept: as the id of an entity.
pub fn is_id(id: &str) -> bool {
    split_entity(&format!("activation:{id}")).is_ok()
}

/// The name of a tenant's own role by its parts. The key holds no `/`, whatever the tenant's id holds.
pub fn made_role_name(tenant_id: &str, key: &str) -> String {
    format!("{tenant_id}/{key}")
}

/// The tenant's id and the key in the name of a tenant's own role.
pub fn split_made_role(name: &str) -> Option<(&str, &str)> {
    name.rsplit_once('/').filter(|(tenant, key)| !tenant.is_empty() && is_key(key))
}

/// The known name that was likely meant by one that is not known; it is told behind a message.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Near(Option<Box<str>>);

impl Near {
    /// The nearest of those that are known.
    pub fn of<'a>(wrong: &str, known: impl IntoIterator<Item = &'a str>) -> Near {
        Near(nearest(wrong, known).map(Into::into))
    }

    /// The name, if one is near enough.
    pub fn name(&self) -> Option<&str> {
        self.0.as_deref()
    }
}

impl std::fmt::Display for Near {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        match &self.0 {
            Some(name) => write!(f, "; did you mean {name:?}?"),
            None => Ok(()),
        }
    }
}

/// The known name nearest to `wrong`, if one is near enough to be worth saying.
///
/// Bounded on purpose: a wild guess is worse than none. Names within a third of the length in edits
/// count, one edit further also those that sound alike or differ by neighbours on a keyboard only;
/// and comparison stops being tried on very long texts.
pub fn nearest<'a>(wrong: &str, known: impl IntoIterator<Item = &'a str>) -> Option<&'a str> {
    // Of one or two characters, any other name of that length would be as near.
    if wrong.len() > MAX_ENTITY_BYTES || wrong.chars().count() < 3 {
        return None;
    }
    let limit = (wrong.chars().count() / 3).clamp(1, 4);
    known
        .into_iter()
        .filter(|name| name.len().abs_diff(wrong.len()) <= limit + 1)
        .map(|name| (strsim::osa_distance(wrong, name), name))
        .filter(|(distance, name)| {
            *distance <= limit
                || *distance == limit + 1 && (sound(wrong) == sound(name) || slipped(wrong, name))
        })
        .min()
        .map(|(_, name)| name)
}

/// What a name sounds like: its first letter, then its consonants, those that sound alike as one.
fn sound(name: &str) -> String {
    let mut sound = String::new();
    for (at, letter) in name.to_lowercase().chars().enumerate() {
        let heard = match letter {
            'a' | 'e' | 'i' | 'o' | 'u' | 'y' | 'h' | 'w' if at > 0 => continue,
            'c' | 'q' => 'k',
            'z' => 's',
            'v' => 'f',
            other => other,
        };
        if !sound.ends_with(heard) {
            sound.push(heard);
        }
    }
    sound
}

/// Whether two names differ only by keys that lie beside each other.
fn slipped(wrong: &str, name: &str) -> bool {
    const ROWS: [&str; 3] = ["qwertyuiop", "asdfghjkl", "zxcvbnm"];
    let place =
        |letter: char| ROWS.iter().enumerate().find_map(|(row, keys)| Some((row, keys.find(letter)?)));
    let beside = |a: char, b: char| match (place(a), place(b)) {
        (Some((row, at)), Some((other, there))) => row.abs_diff(other) <= 1 && at.abs_diff(there) <= 1,
        _ => false,
    };
    wrong.chars().count() == name.chars().count()
        && wrong.chars().zip(name.chars()).all(|(a, b)| a == b || beside(a, b))
}

/// `; did you mean "x"?`, or nothing.
pub fn did_you_mean<'a>(wrong: &str, known: impl IntoIterator<Item = &'a str>) -> String {
    nearest(wrong, known).map_or_else(String::new, |name| format!("; did you mean {name:?}?"))
}
