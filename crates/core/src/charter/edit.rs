//! Changing a charter's text by its parts, as forms do: what is not changed stays as it was written,
//! comments and layout too.

use crate::source::{MAX_FILE_BYTES, SourceFile, Sources};
use serde::{Deserialize, Serialize};
use serde_json::Value as Json;
use toml_edit::{Array, ArrayOfTables, DocumentMut, InlineTable, Item, RawString, Table, TableLike, Value};

/// Most edits at a time.
pub const MAX_EDITS: usize = 100;
/// Longest path of an edit, in names.
const MAX_PATH: usize = 8;

/// One change: what stands at a path is from now on this, or nothing.
///
/// A path names tables as the text does: `["role", "inspector", "permissions"]`. Of tables that are
/// listed (`[[rule]]`) one is named by its `key`, or by `#0`, `#1` … in the order they stand in a
/// table; `#new` adds one.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(deny_unknown_fields)]
pub struct Edit {
    /// Where.
    pub path: Vec<String>,
    /// What; none takes it away.
    #[serde(default)]
    #[cfg_attr(feature = "schema", schema(value_type = Option<Object>))]
    pub value: Option<Json>,
    /// Instead: what the list there shall have too.
    #[serde(default)]
    pub add: Option<String>,
    /// Instead: what the list there shall have no more. A list that is empty then is taken away.
    #[serde(default)]
    pub remove: Option<String>,
}

/// An edit that cannot be made.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
#[error("{at}{why}")]
pub struct NotEdited {
    /// Which edit, from 0.
    pub edit: usize,
    /// Its path with a colon behind, unless it is the path that is wrong.
    at: String,
    /// Why.
    pub why: Uneditable,
}

/// Why a text cannot be changed so.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
pub enum Uneditable {
    /// Too many at a time.
    #[error("at most {MAX_EDITS} edits at a time")]
    TooMany,
    /// A path without names, or with too many.
    #[error("a path has 1 to {MAX_PATH} names")]
    PathLength,
    /// It ends where a name must follow.
    #[error("the path is too short")]
    PathEnds,
    /// Nothing is there.
    #[error("there is no such thing")]
    Nothing,
    /// A listed table that is not there.
    #[error("there is no {table} {which}")]
    NoSuch {
        /// Such as `rule`.
        table: String,
        /// Its key or number.
        which: String,
    },
    /// A list does not hold what is to be taken out.
    #[error("{0} is not in the list")]
    NotListed(String),
    /// What stands there is something else.
    #[error("{name} is not a {wanted}")]
    IsNo {
        /// The name.
        name: String,
        /// What it would have to be.
        wanted: &'static str,
    },
    /// A file is no TOML.
    #[error("{file} cannot be read: {why}")]
    Unreadable {
        /// Its path.
        file: String,
        /// What is wrong.
        why: String,
    },
    /// A file would grow too large.
    #[error("{0} would be larger than {MAX_FILE_BYTES} bytes")]
    TooLarge(String),
    /// A value for which TOML has no form.
    #[error("{0} cannot be written")]
    NoValue(&'static str),
}

impl Uneditable {
    fn is_no(name: &str, wanted: &'static str) -> Uneditable {
        Uneditable::IsNo { name: name.to_owned(), wanted }
    }

    fn no_such(table: &str, which: &str) -> Uneditable {
        Uneditable::NoSuch { table: table.to_owned(), which: which.to_owned() }
    }
}

type Done<T = ()> = Result<T, Uneditable>;

/// The text with changes made, one after the other.
///
/// # Errors
/// If a file is not TOML, a path leads nowhere, or a value cannot be written. Nothing is half done.
pub fn edit(sources: &Sources, edits: &[Edit]) -> Result<Sources, NotEdited> {
    if edits.len() > MAX_EDITS {
        return Err(NotEdited { edit: MAX_EDITS, at: String::new(), why: Uneditable::TooMany });
    }
    let mut files = sources.files().to_vec();
    for (edit, one) in edits.iter().enumerate() {
        if !(1..=MAX_PATH).contains(&one.path.len()) {
            return Err(NotEdited { edit, at: String::new(), why: Uneditable::PathLength });
        }
        let at = || format!("{}: ", one.path.join("."));
        change(&mut files, one).map_err(|why| NotEdited { edit, at: at(), why })?;
    }
    Ok(Sources::new(files))
}

fn change(files: &mut Vec<SourceFile>, edit: &Edit) -> Done {
    let (at, path) = file_of(files, &edit.path)?;
    let at = match at {
        Some(at) => at,
        None if edit.value.is_none() && edit.add.is_none() => return Err(Uneditable::Nothing),
        None => {
            files.push(SourceFile { path: "charter.toml".to_owned(), text: String::new() });
            files.len() - 1
        }
    };
    let mut document = parse(&files[at])?;
    let value = match (&edit.add, &edit.remove) {
        (None, None) => edit.value.clone(),
        _ => listed(&document, edit, &path)?,
    };
    set(document.as_table_mut(), &path, value.as_ref(), 1)?;
    let text = document.to_string();
    if text.len() > MAX_FILE_BYTES {
        return Err(Uneditable::TooLarge(files[at].path.clone()));
    }
    files[at].text = text.trim_start_matches('\n').to_owned();
    // What was written must be read again as it was meant.
    parse(&files[at]).map(|_| ())
}

/// The list at a path with something added, or without something.
fn listed(document: &DocumentMut, edit: &Edit, path: &[String]) -> Done<Option<Json>> {
    let mut at: Option<&dyn TableLike> = Some(document.as_table());
    let (last, outer) = path.split_last().ok_or(Uneditable::PathEnds)?;
    let mut names = outer.iter();
    while let (Some(table), Some(name)) = (at, names.next()) {
        at = match table.get(name) {
            Some(Item::ArrayOfTables(all)) => {
                let one = names.next().and_then(|which| all.get(index(all, which)?));
                one.map(|one| one as &dyn TableLike)
            }
            item => item.and_then(Item::as_table_like),
        };
    }
    let list = at.and_then(|table| table.get(last)).and_then(Item::as_array);
    let mut list: Vec<Json> =
        list.into_iter().flat_map(Array::iter).filter_map(Value::as_str).map(Json::from).collect();
    if let Some(removed) = &edit.remove {
        let before = list.len();
        list.retain(|item| item != removed);
        if list.len() == before {
            return Err(Uneditable::NotListed(removed.clone()));
        }
    }
    list.extend(
        edit.add
            .iter()
            .filter(|added| !list.iter().any(|item| item == *added))
            .map(|added| Json::from(added.as_str()))
            .collect::<Vec<_>>(),
    );
    Ok((!list.is_empty()).then(|| list.into()))
}

fn parse(file: &SourceFile) -> Done<DocumentMut> {
    file.text.parse().map_err(|error: toml_edit::TomlError| {
        let why = error.message().lines().next().unwrap_or("broken TOML").to_owned();
        Uneditable::Unreadable { file: file.path.clone(), why }
    })
}

/// The file that has what a path names; else the last that has something of its kind; else the first.
/// With the path in that file: tables that are listed are numbered through all files.
fn file_of(files: &[SourceFile], path: &[String]) -> Done<(Option<usize>, Vec<String>)> {
    let mut like = None;
    let mut before = 0;
    let mut own = path.to_vec();
    for (at, file) in files.iter().enumerate() {
        let document = parse(file)?;
        let Some(kind) = document.get(&path[0]) else { continue };
        like = Some(at);
        let has = match (kind, own.get_mut(1)) {
            (_, None) => true,
            (Item::ArrayOfTables(all), Some(key)) => {
                let number = path[1].strip_prefix('#').and_then(|number| number.parse::<usize>().ok());
                if let Some(number) = number.and_then(|number| number.checked_sub(before)) {
                    *key = format!("#{number}");
                }
                before += all.len();
                index(all, key).is_some()
            }
            (table, Some(key)) => table.as_table_like().is_some_and(|table| table.contains_key(key.as_str())),
        };
        if has {
            return Ok((Some(at), own));
        }
    }
    Ok((like.or((!files.is_empty()).then_some(0)), path.to_vec()))
}

/// Which of listed tables a name means.
fn index(all: &ArrayOfTables, name: &str) -> Option<usize> {
    match name.strip_prefix('#') {
        Some(number) => number.parse().ok().filter(|at| *at < all.len()),
        None => all.iter().position(|table| table.get("key").and_then(Item::as_str) == Some(name)),
    }
}

/// Tables that are listed wherever they stand.
const LISTED: [&str; 7] = ["rule", "separation", "route", "affordance", "clause", "confer", "groups"];

/// Tables of which each name is a key that somebody chose: there may be a type that is called `route`.
const KEYED: [&str; 6] = ["application", "resource", "role", "group", "issuer", "condition"];

fn set(table: &mut dyn TableLike, path: &[String], value: Option<&Json>, depth: usize) -> Done {
    set_in(table, path, value, depth, false)
}

fn set_in(
    table: &mut dyn TableLike,
    path: &[String],
    value: Option<&Json>,
    depth: usize,
    is_keyed: bool,
) -> Done {
    let (name, rest) = path.split_first().ok_or(Uneditable::PathEnds)?;
    if !rest.is_empty() && !is_keyed && LISTED.contains(&name.as_str()) {
        return set_listed(table, name, rest, value);
    }
    if rest.is_empty() {
        return put(table, name, value, depth);
    }
    if table.get(name).is_none() {
        if value.is_none() {
            return Ok(());
        }
        let mut new = Table::new();
        // `[role.deckhand]` needs no `[role]` of its own.
        new.set_implicit(depth == 1);
        new.decor_mut().set_prefix("\n");
        table.insert(name, Item::Table(new));
    }
    let next = table.get_mut(name).and_then(Item::as_table_like_mut);
    let next = next.ok_or_else(|| Uneditable::is_no(name, "table"))?;
    set_in(next, rest, value, depth + 1, depth == 1 && KEYED.contains(&name.as_str()))
}

fn set_listed(table: &mut dyn TableLike, name: &str, rest: &[String], value: Option<&Json>) -> Done {
    let (which, rest) = rest.split_first().ok_or(Uneditable::PathEnds)?;
    if table.get(name).is_none() {
        table.insert(name, Item::ArrayOfTables(ArrayOfTables::new()));
    }
    let all = table.get_mut(name).and_then(Item::as_array_of_tables_mut);
    let all = all.ok_or_else(|| Uneditable::is_no(name, "list of tables"))?;
    let at = match index(all, which) {
        Some(at) => at,
        None if value.is_none() => return Err(Uneditable::no_such(name, which)),
        None => {
            let mut new = Table::new();
            new.decor_mut().set_prefix("\n");
            if !which.starts_with('#') {
                new.insert("key", toml_edit::value(which.as_str()));
            } else if which != "#new" {
                return Err(Uneditable::no_such(name, which));
            }
            all.push(new);
            all.len() - 1
        }
    };
    if rest.is_empty() {
        let Some(value) = value else {
            all.remove(at);
            return Ok(());
        };
        let object = value.as_object().ok_or_else(|| Uneditable::is_no(name, "value, but a table"))?;
        let one = all.get_mut(at).ok_or(Uneditable::Nothing)?;
        return object.iter().try_for_each(|(key, value)| put(one, key, Some(value), 3));
    }
    set(all.get_mut(at).ok_or(Uneditable::Nothing)?, rest, value, 3)
}

/// Writes one key. An object of depth 2, such as a role, is a table of its own.
fn put(table: &mut dyn TableLike, key: &str, value: Option<&Json>, depth: usize) -> Done {
    let Some(value) = value.filter(|value| !value.is_null()) else {
        table.remove(key);
        return Ok(());
    };
    if let (Json::Object(members), true) = (value, depth <= 2) {
        if table.get(key).is_none() {
            let mut new = Table::new();
            new.decor_mut().set_prefix("\n");
            table.insert(key, Item::Table(new));
        }
        let one = table.get_mut(key).and_then(Item::as_table_like_mut);
        let one = one.ok_or_else(|| Uneditable::is_no(key, "table"))?;
        return members.iter().try_for_each(|(name, value)| put(one, name, Some(value), depth + 1));
    }
    if let (Some(Item::Value(Value::Array(old))), Json::Array(new)) = (table.get_mut(key), value) {
        return relist(old, new);
    }
    let decor = table.get(key).and_then(Item::as_value).map(|old| old.decor().clone());
    let mut new = written(value)?;
    if let Some(decor) = decor {
        *new.decor_mut() = decor;
    }
    match table.get_mut(key) {
        Some(item) => *item = Item::Value(new),
        None => {
            table.insert(key, Item::Value(new));
        }
    }
    Ok(())
}

/// Makes a list hold other items; those that stay keep their lines and comments.
///
/// A comment behind an item stands, for the reader of TOML, before the next one; it goes where its
/// item goes.
fn relist(old: &mut Array, new: &[Json]) -> Done {
    let split = |text: &str| match text.find('\n') {
        Some(at) => (text[..at].to_owned(), text[at..].to_owned()),
        None => (String::new(), text.to_owned()),
    };
    let new: Vec<Value> = new.iter().map(written).collect::<Result<_, _>>()?;
    let prefix =
        |item: &Value| item.decor().prefix().and_then(RawString::as_str).unwrap_or_default().to_owned();
    let (mut behind, mut before): (Vec<String>, Vec<String>) =
        old.iter().map(|item| split(&prefix(item))).unzip();
    let (last_behind, end) = split(old.trailing().as_str().unwrap_or_default());
    behind.push(last_behind);
    let first = if behind.is_empty() { String::new() } else { behind.remove(0) };
    // A list over several lines goes on so.
    let line = before
        .last()
        .filter(|text| text.contains('\n'))
        .map_or_else(|| " ".to_owned(), |text| format!("\n{}", text.rsplit('\n').next().unwrap_or_default()));
    let mut kept: Vec<(Value, String, String)> = Vec::new();
    for (at, item) in old.iter().enumerate() {
        if new.iter().any(|wanted| meaning(wanted) == meaning(item)) {
            kept.push((item.clone(), std::mem::take(&mut before[at]), std::mem::take(&mut behind[at])));
        }
    }
    for item in new {
        if !kept.iter().any(|(known, _, _)| meaning(known) == meaning(&item)) {
            kept.push((item, line.clone(), String::new()));
        }
    }
    if let Some((_, before, _)) = kept.first_mut()
        && before == " "
    {
        before.clear();
    }
    old.clear();
    let mut ahead = first;
    for (item, before, after) in kept {
        old.push_formatted(item.decorated(format!("{ahead}{before}"), ""));
        ahead = after;
    }
    old.set_trailing(format!("{ahead}{end}"));
    Ok(())
}

/// A value without its layout.
fn meaning(value: &Value) -> String {
    let mut bare = value.clone();
    bare.decor_mut().clear();
    match bare {
        Value::String(text) => text.value().clone(),
        other => other.to_string(),
    }
}

fn written(value: &Json) -> Done<Value> {
    Ok(match value {
        Json::Null => return Err(Uneditable::NoValue("nothing")),
        Json::Bool(value) => (*value).into(),
        Json::Number(number) => match number.as_i64() {
            Some(whole) => whole.into(),
            None => number.as_f64().ok_or(Uneditable::NoValue("so large a number"))?.into(),
        },
        Json::String(text) => text.as_str().into(),
        Json::Array(items) => items.iter().map(written).collect::<Result<Array, _>>()?.into(),
        Json::Object(members) => {
            let mut table = InlineTable::new();
            for (key, value) in members {
                table.insert(key, written(value)?);
            }
            table.into()
        }
    })
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;
    use serde_json::json;

    const TEXT: &str = r#"# Who may what.
[role.deckhand]
name = "Deckhand"  # on board
permissions = [
    "vessel:view",  # all of them
    "voyage:view",
]

[[rule]]
key = "own"
effect = "deny"  # always
permissions = ["a:b"]

[resource.manifest]
actions = { view = "See it" }
"#;

    fn edited(path: &[&str], value: Option<Json>) -> Result<String, NotEdited> {
        let path = path.iter().map(|&name| name.to_owned()).collect();
        let sources = Sources::single("roles.toml", TEXT);
        edit(&sources, &[Edit { path, value, ..Edit::default() }])
            .map(|sources| sources.files()[0].text.clone())
    }

    #[rstest]
    #[case(&["role", "deckhand", "name"], json!("Hand"), "\"Deckhand\"", "\"Hand\"")]
    #[case(&["role", "deckhand", "permissions"], json!(["vessel:view", "voyage:view", "berth:view"]),
        "    \"voyage:view\",\n", "    \"voyage:view\",\n    \"berth:view\",\n")]
    #[case(&["role", "deckhand", "permissions"], json!(["vessel:view"]), "\n    \"voyage:view\",", "")]
    #[case(&["rule", "own", "permissions"], json!(["a:b", "a:c"]), "[\"a:b\"]", "[\"a:b\", \"a:c\"]")]
    #[case(&["rule", "#0", "effect"], json!("allow"), "\"deny\"", "\"allow\"")]
    #[case(&["resource", "manifest", "actions", "file"], json!("File it"),
        "{ view = \"See it\" }", "{ view = \"See it\" , file = \"File it\" }")]
    #[case(&["role", "cook"], json!({ "name": "Cook", "permissions": ["galley:use"] }), "\n[[rule]]",
        "\n[role.cook]\nname = \"Cook\"\npermissions = [\"galley:use\"]\n\n[[rule]]")]
    fn what_is_not_changed_stays_as_it_was(
        #[case] path: &[&str],
        #[case] value: Json,
        #[case] old: &str,
        #[case] new: &str,
    ) {
        assert!(TEXT.contains(old), "{old}");
        let text = edited(path, Some(value)).expect("can be written");
        let plain = |text: &str| text.replace(" ,", ",");
        assert_eq!(plain(&text), plain(&TEXT.replacen(old, new, 1)));
    }

    #[rstest]
    #[case(&["resource", "manifest", "attributes", "hazard"], json!("integer"), "[resource.manifest.attributes]\nhazard = \"integer\"")]
    #[case(&["resource", "manifest", "confer", "#new"], json!({ "role": "x", "to": { "relation": "declarant" } }),
        "[[resource.manifest.confer]]\nrole = \"x\"\nto = { relation = \"declarant\" }")]
    #[case(&["rule", "new-one"], json!({ "effect": "allow", "when": "resource.a == 'b'" }),
        "[[rule]]\nkey = \"new-one\"\neffect = \"allow\"\nwhen = \"resource.a == 'b'\"")]
    #[case(&["issuer", "port-id", "groups", "#new"], json!({ "claim": "groups", "map": { "Night": "night" } }),
        "[issuer.port-id]\n\n[[issuer.port-id.groups]]\nclaim = \"groups\"\nmap = { Night = \"night\" }")]
    #[case(&["resource", "route", "name"], json!("A route"), "[resource.route]\nname = \"A route\"")]
    #[case(&["group", "groups", "name"], json!("All"), "[group.groups]\nname = \"All\"")]
    #[case(&["application", "customs"], json!({ "name": "Customs" }), "[application.customs]\nname = \"Customs\"")]
    fn what_is_new_is_added_and_all_else_stays(
        #[case] path: &[&str],
        #[case] value: Json,
        #[case] part: &str,
    ) {
        let text = edited(path, Some(value)).expect("can be written");
        assert!(text.contains(part), "{text}");
        let lines = |text: &str| text.lines().filter(|line| !line.is_empty()).collect::<String>();
        assert_eq!(lines(&text.replacen(part, "", 1)), lines(TEXT), "{text}");
    }

    #[rstest]
    #[case(&["role", "deckhand"], "[[rule]]\nkey")]
    #[case(&["rule", "own"], "[resource.manifest]")]
    fn what_is_taken_away_takes_nothing_along(#[case] path: &[&str], #[case] stays: &str) {
        let text = edited(path, None).expect("can be taken away");
        assert!(text.contains(stays), "{text}");
        assert!(text.len() < TEXT.len());
    }

    #[rstest]
    #[case(&["rule", "unknown"], None)]
    #[case(&["rule", "#7", "effect"], Some(json!("deny")))]
    #[case(&["role", "deckhand", "name", "x"], Some(json!(1)))]
    #[case(&[], Some(json!(1)))]
    #[case(&["rule", "own"], Some(json!("deny")))]
    fn what_cannot_be_done_says_so(#[case] path: &[&str], #[case] value: Option<Json>) {
        edited(path, value).expect_err("cannot be done");
    }

    #[rstest]
    #[case(&["role", "deckhand", "permissions"], true, "berth:view", "    \"berth:view\",\n]")]
    #[case(&["role", "deckhand", "permissions"], true, "vessel:view", "    \"voyage:view\",\n]")]
    #[case(&["role", "deckhand", "permissions"], false, "voyage:view", "    \"vessel:view\",  # all of them\n]")]
    #[case(&["role", "deckhand", "except"], true, "voyage:view", "except = [\"voyage:view\"]")]
    #[case(&["rule", "own", "permissions"], true, "a:c", "[\"a:b\", \"a:c\"]")]
    #[case(&["role", "cook", "permissions"], true, "galley:use", "[role.cook]\npermissions = [\"galley:use\"]")]
    fn a_list_has_something_more_or_less(
        #[case] path: &[&str],
        #[case] more: bool,
        #[case] item: &str,
        #[case] part: &str,
    ) {
        let path = path.iter().map(|&name| name.to_owned()).collect();
        let item = Some(item.to_owned());
        let (add, remove) = if more { (item, None) } else { (None, item) };
        let edited = edit(&Sources::single("roles.toml", TEXT), &[Edit { path, add, remove, value: None }]);
        let text = edited.expect("can be written").files()[0].text.clone();
        assert!(text.contains(part), "{text}");
    }

    #[test]
    fn what_is_in_no_list_cannot_be_taken_out_of_it() {
        let path = vec!["role".to_owned(), "deckhand".to_owned(), "permissions".to_owned()];
        let one = Edit { path, remove: Some("voyage:plan".to_owned()), ..Edit::default() };
        let told = edit(&Sources::single("roles.toml", TEXT), &[one]).expect_err("is not there");
        assert_eq!(told.to_string(), "role.deckhand.permissions: voyage:plan is not in the list");
    }

    #[test]
    fn an_empty_charter_gets_a_file() {
        let name = Edit {
            path: vec!["charter".to_owned()],
            value: Some(json!({ "name": "New", "format": 1 })),
            ..Edit::default()
        };
        let sources = edit(&Sources::new(Vec::new()), &[name]).expect("can be written");
        assert_eq!(sources.files()[0].text, "[charter]\nname = \"New\"\nformat = 1\n");
    }
}
