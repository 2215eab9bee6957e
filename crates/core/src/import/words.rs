//! Words: keys and singulars from segments, verbs, and what a description says without its markup.

use crate::names::{MAX_KEY_BYTES, is_key};
use heck::ToKebabCase as _;
use sha2::{Digest as _, Sha256};
use std::collections::HashSet;
use std::sync::LazyLock;

type Words = LazyLock<HashSet<&'static str>>;

/// Words that are the same for one and many, or that the rules for plurals would spoil.
static UNCHANGED: Words = LazyLock::new(|| {
    words(
        "access address analytics atlas basis bus business canvas chaos class css data diagnostics dns gas geodata gps \
         https lens logistics media metadata metrics news os process progress radius series \
         sms species statistics status tls",
    )
});
/// What somebody does: a word of these is an action.
static VERBS: Words = LazyLock::new(|| {
    words(
        "accept acknowledge activate add adjust adopt allocate amend answer append apply approve archive arrive \
         assess assign attach authorize backup ban begin bind block book broadcast bulk calculate call cancel \
         capture change charge check clear clone close collect commit compare complete compute confirm connect \
         convert copy count create deactivate declare decline decrypt delegate delete deliver deny depart deploy \
         deprecate destroy detach disable discard disconnect dismiss dispatch dissolve download drop duplicate \
         edit enable encrypt end enqueue enroll erase estimate evaluate execute expire export extend fail fetch \
         file finalize find finish flush follow forward freeze generate get give grant hold import inspect install \
         invalidate invite invoke issue join kick launch leave link list load lock lookup mark merge migrate moor \
         move mute notify open order pause pay pin ping plan preview promote provision publish purge query queue \
         read rebuild recalculate receive redeem refresh refund register reject release remove rename renew reopen \
         reorder replace replay reply report request reschedule resend reserve reset resize resolve restart \
         restore resume retry return revert review revoke rollback rotate run save scale scan schedule seal search \
         send set settle share show shutdown sign simulate snooze split star start stop submit subscribe suspend \
         swap switch sync tag terminate test toggle transfer trash trigger unarchive unassign unblock unfollow \
         unlink unload unlock unmute unpin unpublish unregister unstar unsubscribe update upload validate verify \
         view void weigh wipe",
    )
});
/// Words that the rules for plurals would spoil.
const IRREGULAR: [(&str, &str); 6] = [
    ("biases", "bias"),
    ("caches", "cache"),
    ("cpus", "cpu"),
    ("dies", "die"),
    ("lenses", "lens"),
    ("schemata", "schema"),
];
/// Verbs that take something away for good.
const REMOVING: &str = "remove delete revoke purge erase destroy drop wipe terminate trash flush clear";
/// Verbs that change nothing.
const READING: &str =
    "view get list search find query lookup count show compare preview estimate calculate simulate";
/// Verbs of making one more of a collection.
const CREATING: &str = "create add post new insert make register file submit save store put open";
/// Words for what lets in whoever knows it.
const SECRETS: &str = "accesscode credential secret password passphrase token apikey keypair certificate cert key sshkey accesskey \
    otp totp mfa seed mnemonic connectionstring cookie pin passcode";

fn words(text: &'static str) -> HashSet<&'static str> {
    text.split_whitespace().collect()
}

fn is_of(words: &str, word: &str) -> bool {
    words.split_whitespace().any(|known| known == word)
}

/// A key of what is written in any style: `serverInfo`, `load_balancers`, `SSHKeys`.
pub fn key(text: &str) -> Option<String> {
    let kebab: String = text.to_kebab_case();
    let kebab = kebab.trim_matches('-');
    let kebab = match kebab.as_bytes().first()? {
        b'0'..=b'9' => format!("n-{kebab}"),
        _ => kebab.to_owned(),
    };
    let kebab = short(&kebab);
    is_key(&kebab).then_some(kebab)
}

/// A key of at most as many bytes as a key may have: whole words of it, and the digest of all.
pub fn short(key: &str) -> String {
    if key.len() <= MAX_KEY_BYTES {
        return key.to_owned();
    }
    let digest: String = Sha256::digest(key).iter().take(4).map(|byte| format!("{byte:02x}")).collect();
    let mut kept =
        key.char_indices().take_while(|(at, _)| *at < MAX_KEY_BYTES - 9).map(|(_, c)| c).collect::<String>();
    if let Some(at) = kept.rfind('-').filter(|at| *at > 0) {
        kept.truncate(at);
    }
    format!("{kept}-{digest}")
}

/// One of what a key names many of: `load-balancers` is a `load-balancer`.
pub fn singular(key: &str) -> String {
    let (before, last) = key.rsplit_once('-').map_or(("", key), |(before, last)| (before, last));
    if UNCHANGED.contains(last) || last.len() <= 2 {
        return key.to_owned();
    }
    let one = match IRREGULAR.iter().find(|(many, _)| *many == last) {
        Some((_, one)) => (*one).to_owned(),
        None => pluralizer::pluralize(last, 1, false),
    };
    let one = if is_key(&one) { one } else { last.to_owned() };
    if before.is_empty() { one } else { format!("{before}-{one}") }
}

/// Whether a key says many.
pub fn is_plural(key: &str) -> bool {
    singular(key) != key
}

pub fn is_verb(word: &str) -> bool {
    VERBS.contains(word)
}

/// Whether an action of this name takes something away for good.
pub fn removes(action: &str) -> bool {
    action.split('-').next().is_some_and(|verb| is_of(REMOVING, verb))
}

/// Whether an action of this name changes nothing.
pub fn reads(action: &str) -> bool {
    action.split('-').next().is_some_and(|verb| is_of(READING, verb))
}

/// Whether an action of this name makes a new one.
pub fn creates(action: &str) -> bool {
    is_of(CREATING, action)
}

/// Whether a name speaks of credentials or keys.
pub fn secret(key: &str) -> bool {
    let bare = |word: &'_ str| word.strip_suffix('s').unwrap_or(word).to_owned();
    let words: Vec<&str> = key.split('-').collect();
    words.iter().any(|word| is_of(SECRETS, &bare(word)))
        || words.windows(2).any(|pair| is_of(SECRETS, &format!("{}{}", pair[0], bare(pair[1]))))
}

/// The verb that an operation's id or summary begins with, if it is one: `cancelBooking`, `Cancels a booking`.
pub fn verb_of(text: &str) -> Option<String> {
    let kebab = text.to_kebab_case();
    let verb = kebab.split('-').find(|word| is_verb(word));
    let stem = || kebab.split('-').next()?.strip_suffix('s').filter(|stem| is_verb(stem));
    verb.or_else(stem).map(str::to_owned)
}

/// What a parameter is called, without what says that it is a name: `teamId`, `team_slug` are a `team`.
pub struct Called {
    /// What it is of, if it says so.
    pub of: Option<String>,
    /// Whether it says that it is an id, or nothing about it.
    pub is_id: bool,
    /// Whether it is of another kind than an id: a name, a number, a slug.
    pub is_other: bool,
}

/// Reads a parameter's name.
pub fn called(parameter: &str) -> Called {
    const IDS: [&str; 9] = ["id", "ids", "uuid", "guid", "uid", "sid", "oid", "urn", "identifier"];
    const OTHERS: [&str; 20] = [
        "name", "slug", "number", "no", "index", "key", "code", "path", "ref", "tag", "title", "type",
        "login", "username", "email", "date", "position", "version", "iid", "handle",
    ];
    let kebab = parameter.to_kebab_case();
    let mut words: Vec<&str> = kebab.split('-').collect();
    let last = words.last().copied().unwrap_or_default();
    let is_id = IDS.contains(&last);
    let is_other = OTHERS.contains(&last);
    if is_id || is_other {
        words.pop();
    }
    let of = words.join("-");
    let of = if is_key(&of) { Some(singular(&of)) } else { None };
    Called { of, is_id, is_other }
}

/// A text on one line, without markup.
pub fn plain(text: &str) -> String {
    use pulldown_cmark::{Event, Parser, TagEnd};
    // Only its beginning is shown.
    let text: String = text.chars().take(2_000).collect();
    let mut parts = text.split('<');
    let mut bare = parts.next().unwrap_or_default().to_owned();
    for part in parts {
        let is_mark = part.starts_with(|first: char| first.is_ascii_alphabetic() || "/!".contains(first));
        match part.split_once('>').filter(|_| is_mark) {
            Some((mark, after)) => {
                // Paragraphs end where their marks do.
                let ends = ["/p", "/h", "/li", "/div", "br"].iter().any(|end| mark.starts_with(end));
                bare.push_str(if ends { "\n\n" } else { "" });
                bare.push_str(after);
            }
            None => {
                bare.push('<');
                bare.push_str(part);
            }
        }
    }
    let mut out = String::new();
    for event in Parser::new(&bare) {
        match event {
            Event::Text(text) | Event::Code(text) => out.push_str(&text),
            Event::SoftBreak | Event::HardBreak => out.push(' '),
            Event::End(TagEnd::Paragraph | TagEnd::Heading(_) | TagEnd::Item) if !out.trim().is_empty() => {
                break;
            }
            _ => {}
        }
    }
    one_line(&out)
}

/// Without line breaks or anything a comment could not hold, and not without end.
pub fn one_line(text: &str) -> String {
    let spaced: String = text.chars().map(|c| if c.is_control() { ' ' } else { c }).collect();
    let words: Vec<&str> = spaced.split_whitespace().collect();
    words.join(" ").chars().take(300).collect()
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case("voyages", "voyage")]
    #[case("load-balancers", "load-balancer")]
    #[case("series", "series")]
    #[case("status", "status")]
    #[case("statuses", "status")]
    #[case("aliases", "alias")]
    #[case("addresses", "address")]
    #[case("policies", "policy")]
    #[case("people", "person")]
    #[case("analyses", "analysis")]
    #[case("indices", "index")]
    #[case("buses", "bus")]
    #[case("classes", "class")]
    #[case("processes", "process")]
    #[case("databases", "database")]
    #[case("caches", "cache")]
    #[case("leases", "lease")]
    #[case("movies", "movie")]
    #[case("metadata", "metadata")]
    #[case("dns", "dns")]
    #[case("news", "news")]
    #[case("heroes", "hero")]
    #[case("crew", "crew")]
    #[case("releases", "release")]
    #[case("licenses", "license")]
    #[case("branches", "branch")]
    fn one_of_many(#[case] many: &str, #[case] one: &str) {
        assert_eq!(singular(many), one);
    }

    #[rstest]
    #[case("serverInfo", "server-info")]
    #[case("load_balancers", "load-balancers")]
    #[case("SSHKeys", "ssh-keys")]
    #[case("2fa", "n-2fa")]
    fn keys_of_any_style(#[case] text: &str, #[case] wanted: &str) {
        assert_eq!(key(text).as_deref(), Some(wanted));
    }

    #[test]
    fn long_names_keep_their_beginning_and_differ() {
        let (a, b) = (format!("{}-x", "word-".repeat(20)), format!("{}-y", "word-".repeat(20)));
        let (a, b) = (short(&a), short(&b));
        assert!(is_key(&a) && is_key(&b) && a != b && a.starts_with("word-word-"), "{a} {b}");
    }

    #[rstest]
    #[case("<p>Reads a <b>berth</b>.</p>", "Reads a berth.")]
    #[case("Reads a **berth** of [the port](https://port.example/x).", "Reads a berth of the port.")]
    #[case("# Reads `berths`\n\nAnd more.", "Reads berths")]
    #[case("Tea &amp; berths\nof the quay", "Tea & berths of the quay")]
    fn markup_is_left_out(#[case] text: &str, #[case] wanted: &str) {
        assert_eq!(plain(text), wanted);
    }

    #[rstest]
    #[case("cancelBooking", Some("cancel"))]
    #[case("Bookings_Cancel", Some("cancel"))]
    #[case("Cancels a booking", Some("cancel"))]
    #[case("bookingThing", None)]
    fn verbs_of_ids(#[case] text: &str, #[case] verb: Option<&str>) {
        assert_eq!(verb_of(text).as_deref(), verb);
    }
}
