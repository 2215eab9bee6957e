//! Which names are well formed, and which known name somebody probably meant.

use unicode_normalization::UnicodeNormalization as _;

/// Longest key of a charter, in bytes.
pub const MAX_KEY_BYTES: usize = 64;
/// Longest entity name (`type:id`), in bytes.
pub const MAX_ENTITY_BYTES: usize = 256;

/// Types every charter has; none may be declared under these names.
pub const RESERVED_TYPES: [&str; 6] = ["user", "service", "group", "tenant", "anonymous", "everywhere"];
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

/// Splits `type:id` at the first colon and verifies both halves.
///
/// # Errors
/// Says in words what is wrong with the name.
pub fn split_entity(name: &str) -> Result<(&str, &str), String> {
    if name.len() > MAX_ENTITY_BYTES {
        return Err(format!("an entity's name has at most {MAX_ENTITY_BYTES} bytes"));
    }
    let Some((kind, id)) = name.split_once(':') else {
        return Err(format!("{name:?} is not an entity: write type:id, such as user:{name}"));
    };
    if !is_key(kind) {
        return Err(format!("{kind:?} is not a type: a to z, 0 to 9 and hyphens"));
    }
    if id.is_empty() {
        return Err(format!("{name:?} has no id after the colon"));
    }
    if id.chars().any(|c| c.is_whitespace() || c.is_control()) {
        return Err(format!("{name:?} holds white space or a control character"));
    }
    if !unicode_normalization::is_nfc(id) {
        let nfc: String = id.nfc().collect();
        return Err(format!("{name:?} is not in Unicode's composed form (NFC): write {kind}:{nfc}"));
    }
    Ok((kind, id))
}

/// The known name nearest to `wrong`, if one is near enough to be worth saying.
///
/// Bounded on purpose: a wild guess is worse than none. Only names within a third of the
/// length in edits count, and comparison stops being tried on very long texts.
pub fn nearest<'a>(wrong: &str, known: impl IntoIterator<Item = &'a str>) -> Option<&'a str> {
    // Of one or two characters, any other name of that length would be as near.
    if wrong.len() > MAX_ENTITY_BYTES || wrong.chars().count() < 3 {
        return None;
    }
    let limit = (wrong.chars().count() / 3).clamp(1, 4);
    known
        .into_iter()
        .filter(|name| name.len().abs_diff(wrong.len()) <= limit)
        .map(|name| (strsim::osa_distance(wrong, name), name))
        .filter(|(distance, _)| *distance <= limit)
        .min()
        .map(|(_, name)| name)
}

/// `; did you mean "x"?`, or nothing.
pub fn did_you_mean<'a>(wrong: &str, known: impl IntoIterator<Item = &'a str>) -> String {
    nearest(wrong, known).map_or_else(String::new, |name| format!("; did you mean {name:?}?"))
}

/// The wrong name and the one that was likely meant, of a message that ends as [`did_you_mean`] says.
pub fn suggested(message: &str) -> Option<(&str, &str)> {
    let (said, meant) = message.strip_suffix("\"?")?.rsplit_once("; did you mean \"")?;
    let (before, _) = said.rsplit_once('"')?;
    let (_, wrong) = before.rsplit_once('"')?;
    Some((wrong, meant))
}
