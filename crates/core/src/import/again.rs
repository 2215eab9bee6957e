//! A draft beside a charter that is there: what it adds, changes and no longer has, and how what is chosen of it is
//! written.

use super::paths::shape;
use super::{About, Choice, NotImported, Piece, Plan, Standing};
use crate::charter::check::pattern;
use crate::charter::syntax::{self, RouteResource, Tree};
use crate::charter::tidy::tidy;
use crate::source::{At, MAX_FILE_BYTES, SourceFile, Sources, Span};
use std::collections::{BTreeMap, BTreeSet, HashMap};
use toml_edit::{DocumentMut, Item, TableLike, Value};

/// A charter that is there, as far as it is about one application.
pub struct There<'s> {
    tree: Tree,
    sources: &'s Sources,
    application: String,
}

type RouteKey = (String, String);

impl<'s> There<'s> {
    /// Reads it.
    pub fn read(sources: &'s Sources, application: &str) -> Result<There<'s>, NotImported> {
        for file in sources.files() {
            if let Err(error) = file.text.parse::<DocumentMut>() {
                let why = error.message().lines().next().unwrap_or_default().to_owned();
                return Err(NotImported::Beside(format!(
                    "{} cannot be read: {why}: check it first",
                    file.path
                )));
            }
        }
        let tree = syntax::read(sources, &mut Vec::new());
        Ok(There { tree, sources, application: application.to_owned() })
    }

    /// Types that others have.
    pub fn taken(&self) -> BTreeSet<String> {
        let ours = |of: &Option<At<String>>| of.as_ref().is_some_and(|of| of.value == self.application);
        let others = self.tree.resources.iter().filter(|one| !ours(&one.application));
        others.map(|one| one.key.value.clone()).collect()
    }

    fn is_known(&self) -> bool {
        self.tree.applications.iter().any(|one| one.key.value == self.application)
    }

    /// Says of each piece how it stands, and adds what is gone.
    pub fn compare(&self, plan: &mut Plan) {
        plan.known = self.is_known();
        let fresh: String = plan.pieces.iter().map(|piece| format!("{}\n", piece.text)).collect();
        let fresh_sources = Sources::single("draft.toml", &fresh);
        let fresh = syntax::read(&fresh_sources, &mut Vec::new());
        let types: HashMap<&str, &syntax::Resource> =
            self.tree.resources.iter().map(|one| (one.key.value.as_str(), one)).collect();
        let fresh_types: HashMap<&str, &syntax::Resource> =
            fresh.resources.iter().map(|one| (one.key.value.as_str(), one)).collect();
        let roles: HashMap<&str, &syntax::Role> =
            self.tree.roles.iter().map(|one| (one.key.value.as_str(), one)).collect();
        let (routes, fresh_routes) = (self.routes(&self.tree), self.routes(&fresh));
        let is_new = |permission: &String| {
            let (kind, action) = permission.split_once(':').unwrap_or((permission, ""));
            types.get(kind).is_none_or(|of| !of.actions.iter().any(|(key, _)| key.value == action))
        };
        let mut pieces: Vec<Piece> = Vec::new();
        for mut piece in std::mem::take(&mut plan.pieces) {
            match piece.about {
                About::Note if plan.known => continue,
                About::Application if plan.known => piece.standing = Standing::Same,
                About::Type => {
                    let (Some(have), Some(own)) =
                        (types.get(piece.key.as_str()), fresh_types.get(piece.key.as_str()))
                    else {
                        pieces.push(piece);
                        continue;
                    };
                    let within = |of: &syntax::Resource| -> BTreeSet<String> {
                        of.within.iter().map(|one| one.value.clone()).collect()
                    };
                    let (now, wanted) = (within(have), within(own));
                    // What it lies within besides, somebody said by hand, and other routes may need it.
                    piece.standing = if wanted.is_subset(&now) { Standing::Same } else { Standing::Changed };
                    let more = wanted.difference(&now).map(|outer| (piece.key.clone(), outer.clone()));
                    piece.within = more.collect();
                    let told = |all: BTreeSet<String>| all.into_iter().collect::<Vec<_>>().join(", ");
                    if piece.standing == Standing::Changed {
                        piece.now = Some(format!("within {}", told(now)));
                    }
                    let file = piece.file.clone();
                    let kind = piece.key.clone();
                    pieces.push(piece);
                    let missing =
                        own.actions.iter().filter(|(key, _)| is_new(&format!("{kind}:{}", key.value)));
                    pieces.extend(missing.map(|(key, description)| Piece {
                        about: About::Action,
                        key: format!("{kind}:{}", key.value),
                        file: file.clone(),
                        text: format!("{} = {}", key.value, toml::Value::from(description.as_str())),
                        now: None,
                        standing: Standing::New,
                        guesses: vec![super::Guess::Action],
                        permissions: Vec::new(),
                        within: Vec::new(),
                    }));
                    continue;
                }
                About::Role => match roles.get(piece.key.as_str()) {
                    // What somebody took out is not brought again.
                    None if plan.known && !piece.key.starts_with(&format!("{}-scope-", self.application)) => {
                        continue;
                    }
                    None => {}
                    Some(_) => {
                        let added: Vec<String> =
                            piece.permissions.iter().filter(|one| is_new(one)).cloned().collect();
                        let role = piece.key.clone();
                        let file = piece.file.clone();
                        piece.standing = Standing::Same;
                        pieces.push(piece);
                        pieces.extend(added.into_iter().map(|permission| Piece {
                            about: About::Permission,
                            key: format!("{role}: {permission}"),
                            file: file.clone(),
                            text: toml::Value::from(permission.as_str()).to_string(),
                            now: None,
                            standing: Standing::New,
                            guesses: vec![super::Guess::Role],
                            permissions: vec![permission],
                            within: Vec::new(),
                        }));
                        continue;
                    }
                },
                About::Route => {
                    let key = piece_route(&piece);
                    let own = fresh_routes.get(&key).map(|route| told(route));
                    if let Some(have) = routes.get(&key) {
                        let have = told(have);
                        piece.standing =
                            if own.as_ref() == Some(&have) { Standing::Same } else { Standing::Changed };
                        if piece.standing == Standing::Changed {
                            piece.now = Some(have);
                        }
                    }
                }
                _ => {}
            }
            pieces.push(piece);
        }
        for (key, route) in &routes {
            if fresh_routes.contains_key(key) {
                continue;
            }
            let path = route.path.as_ref().map_or("", |path| path.value.as_str());
            pieces.push(Piece {
                about: About::Route,
                key: format!("{} {path}", key.0),
                file: self.file(route.span),
                text: String::new(),
                now: Some(told(route)),
                standing: Standing::Gone,
                guesses: Vec::new(),
                permissions: Vec::new(),
                within: Vec::new(),
            });
        }
        plan.pieces = pieces;
    }

    fn file(&self, span: Span) -> String {
        self.sources.place(span).path
    }

    /// The application's routes, by method and shape.
    fn routes<'t>(&self, tree: &'t Tree) -> BTreeMap<RouteKey, &'t syntax::Route> {
        let all = tree.routes.iter().filter_map(|route| {
            let ours = route.application.as_ref().is_some_and(|of| of.value == self.application);
            let (method, path) = (route.method.as_ref()?, route.path.as_ref()?);
            ours.then(|| ((method.value.clone(), shape_of(&path.value)), route))
        });
        all.collect()
    }
}

fn shape_of(path: &str) -> String {
    pattern(path).map_or_else(|| path.to_owned(), |segments| shape(&segments))
}

/// The method and shape of a route's piece.
fn piece_route(piece: &Piece) -> RouteKey {
    let (method, path) = piece.key.split_once(' ').unwrap_or_default();
    (method.to_owned(), shape_of(path))
}

/// What a route comes to, in words: the same for two that come to the same.
fn told(route: &syntax::Route) -> String {
    if route.open || route.refuse {
        return if route.open { "open" } else { "refuses" }.to_owned();
    }
    let places: HashMap<String, String> =
        parameters(route.path.as_ref().map_or("", |path| path.value.as_str()));
    let shared = route.resource.as_ref().map(|of| resource(of, &places)).unwrap_or_default();
    let shared = route.needs.iter().map(|need| format!("{} of {shared}", need.value));
    let each = route.each.iter().map(|(need, of)| format!("{} of {}", need.value, resource(of, &places)));
    let all: BTreeSet<String> = shared.chain(each).collect();
    let unregistered = if route.unregistered { ", unregistered too" } else { "" };
    format!("needs {}{unregistered}", all.into_iter().collect::<Vec<_>>().join(" and "))
}

/// The parameters of a path, by where they stand in it: what they are called makes no difference.
fn parameters(path: &str) -> HashMap<String, String> {
    let names = path.split('{').skip(1).filter_map(|rest| rest.split('}').next());
    names.enumerate().map(|(at, name)| (name.to_owned(), format!("{{{}}}", at + 1))).collect()
}

fn resource(of: &RouteResource, places: &HashMap<String, String>) -> String {
    let template = |text: &At<String>| {
        let mut out = String::new();
        for (at, part) in text.value.split('{').enumerate() {
            match (at, part.split_once('}')) {
                (0, _) | (_, None) => out.push_str(part),
                (_, Some((name, after))) => {
                    out.push_str(places.get(name).map_or(name, String::as_str));
                    out.push_str(after);
                }
            }
        }
        out
    };
    let within = |outer: &Option<At<String>>| {
        outer.as_ref().map_or(String::new(), |outer| format!(" within {}", template(outer)))
    };
    match of {
        RouteResource::Named(text) => template(text),
        RouteResource::New(kind, outer) => format!("a new {}{}", kind.value, within(outer)),
        RouteResource::Any(kind, outer) => format!("any {}{}", kind.value, within(outer)),
    }
}

// -- writing -------------------------------------------------------------------------------------

/// The files that change, with what is chosen written into them.
pub fn write(plan: &Plan, choice: &Choice, beside: Option<&Sources>) -> Result<Vec<SourceFile>, NotImported> {
    let chosen = |piece: &Piece| match choice.only.is_empty() {
        true => piece.standing == Standing::New,
        false => choice.only.contains(&piece.standing),
    };
    let left_out = |piece: &Piece| choice.without.contains(&piece.id());
    // What is not there after all takes with it what names it.
    let mut missing: BTreeSet<&str> = plan
        .pieces
        .iter()
        .filter(|piece| piece.standing == Standing::New && (left_out(piece) || !chosen(piece)))
        .filter(|piece| matches!(piece.about, About::Type | About::Action | About::Role))
        .map(|piece| piece.key.as_str())
        .collect();
    // Nor is what a type that is there lies within only once it is changed.
    let unchanged =
        plan.pieces.iter().filter(|piece| piece.about == About::Type && piece.standing == Standing::Changed);
    let unchanged = unchanged.filter(|piece| left_out(piece) || !chosen(piece));
    let nowhere: BTreeSet<&(String, String)> = unchanged.flat_map(|piece| &piece.within).collect();
    // A role of nothing is no role.
    let roles =
        plan.pieces.iter().filter(|piece| piece.about == About::Role && piece.standing == Standing::New);
    let empty = roles.filter(|piece| !piece.permissions.iter().any(|one| is_there(&missing, one)));
    missing.extend(empty.map(|piece| piece.key.as_str()).collect::<Vec<_>>());
    let has = |name: &str| is_there(&missing, name);
    let mut files = Files::of(beside);
    for piece in plan.pieces.iter().filter(|piece| piece.standing != Standing::Same && chosen(piece)) {
        let within = |one: &(String, String)| has(&one.1) && !nowhere.contains(one);
        let whole = piece.permissions.iter().all(|one| has(one)) && piece.within.iter().all(within);
        match (piece.about, piece.standing) {
            (About::Route, Standing::New) if left_out(piece) || !whole => {
                files.append(&piece.file, &refusing(piece));
            }
            _ if left_out(piece) => {}
            (About::Route, Standing::New) => files.append(&piece.file, &piece.text),
            (About::Route, Standing::Gone) => files.take_out(piece),
            (About::Route, _) => {
                if whole {
                    files.take_out(piece);
                    files.append(&piece.file, &piece.text);
                }
            }
            (About::Action, _) => files.set(piece)?,
            (About::Permission, _) => {
                if whole {
                    files.give(piece)?;
                }
            }
            (About::Type, Standing::Changed) => {
                let outer = piece.within.iter().map(|(_, outer)| outer.as_str()).filter(|outer| has(outer));
                files.lies_within(&piece.key, outer.collect())?;
            }
            (About::Type | About::Role, _) => {
                if let Some(text) = pruned(&piece.text, &has)? {
                    files.append(&piece.file, &text);
                }
            }
            _ => files.append(&piece.file, &piece.text),
        }
    }
    files.done(&plan.application)
}

/// Whether a permission or role is not among what is missing, nor the permission's type.
fn is_there(missing: &BTreeSet<&str>, name: &str) -> bool {
    let kind = name.split(':').next().unwrap_or_default();
    !missing.contains(name) && !missing.contains(kind)
}

/// A route that refuses what another would have taken.
fn refusing(piece: &Piece) -> String {
    let is_head = |line: &&str| {
        ["[[route]]", "application = ", "method = ", "path = "].iter().any(|head| line.starts_with(head))
    };
    let head: String = piece.text.lines().filter(is_head).map(|line| format!("{line}\n")).collect();
    format!("# left out of what the document suggests\n{head}refuse = true\n")
}

/// A table without what is not there; nothing, if a role then gives nothing.
fn pruned(text: &str, has: &dyn Fn(&str) -> bool) -> Result<Option<String>, NotImported> {
    let mut document = parsed("the draft", text)?;
    let mut empty = false;
    for kind in ["resource", "role"] {
        let Some(tables) = document.get_mut(kind).and_then(Item::as_table_like_mut) else { continue };
        for (_, table) in tables.iter_mut() {
            let Some(table) = table.as_table_like_mut() else { continue };
            for key in ["within", "includes", "permissions"] {
                let gone = match table.get_mut(key).and_then(Item::as_value_mut) {
                    Some(Value::Array(all)) => {
                        all.retain(|one| one.as_str().is_none_or(has));
                        all.is_empty()
                    }
                    Some(one) => one.as_str().is_some_and(|one| !has(one)),
                    None => false,
                };
                if gone {
                    table.remove(key);
                }
            }
            empty |= kind == "role" && table.get("permissions").is_none();
        }
    }
    Ok((!empty).then(|| document.to_string()))
}

fn parsed(path: &str, text: &str) -> Result<DocumentMut, NotImported> {
    text.parse().map_err(|error: toml_edit::TomlError| {
        NotImported::Beside(format!("{path} cannot be read: {}: check it first", error.message()))
    })
}

/// A file while it is written.
#[derive(Default)]
struct Open {
    text: String,
    /// Its parts, once some of them change.
    parts: Option<DocumentMut>,
    added: String,
}

/// All files while they are written.
struct Files {
    files: BTreeMap<String, Open>,
    /// Routes that are taken out.
    out: BTreeSet<RouteKey>,
}

impl Files {
    fn of(beside: Option<&Sources>) -> Files {
        let all = beside.into_iter().flat_map(|sources| sources.files());
        let files = all.map(|file| (file.path.clone(), Open { text: file.text.clone(), ..Open::default() }));
        Files { files: files.collect(), out: BTreeSet::new() }
    }

    fn append(&mut self, path: &str, text: &str) {
        let added = &mut self.files.entry(path.to_owned()).or_default().added;
        if !added.is_empty() {
            added.push('\n');
        }
        added.push_str(text);
    }

    fn take_out(&mut self, piece: &Piece) {
        self.out.insert(piece_route(piece));
    }

    /// The table of a type or role that is there.
    fn table(&mut self, kind: &str, key: &str) -> Result<Option<&mut dyn TableLike>, NotImported> {
        for (path, file) in &mut self.files {
            if file.parts.is_none() && file.text.contains(key) {
                file.parts = Some(parsed(path, &file.text)?);
            }
            let known = file.parts.as_ref().and_then(|parts| parts.get(kind)?.get(key));
            if known.is_some() {
                let parts = file.parts.as_mut().and_then(|parts| parts.get_mut(kind)?.get_mut(key));
                return Ok(parts.and_then(Item::as_table_like_mut));
            }
        }
        Ok(None)
    }

    /// Says of a type that is there what it lies within besides.
    fn lies_within(&mut self, kind: &str, more: Vec<&str>) -> Result<(), NotImported> {
        if more.is_empty() {
            return Ok(());
        }
        let Some(table) = self.table("resource", kind)? else { return Ok(()) };
        let own = match table.get("within").and_then(Item::as_value) {
            Some(Value::Array(all)) => all.iter().filter_map(Value::as_str).map(str::to_owned).collect(),
            one => one.and_then(Value::as_str).map(|one| vec![one.to_owned()]).unwrap_or_default(),
        };
        let all: toml_edit::Array = own.iter().map(String::as_str).chain(more).collect();
        table.insert("within", toml_edit::value(all));
        Ok(())
    }

    /// Writes an action into a type that is there.
    fn set(&mut self, piece: &Piece) -> Result<(), NotImported> {
        let said = parsed("the draft", &piece.text)?;
        let (kind, action) = piece.key.split_once(':').unwrap_or((&piece.key, ""));
        let Some(table) = self.table("resource", kind)? else { return Ok(()) };
        let words = said.get(action).and_then(Item::as_str).unwrap_or_default();
        let inline = || Item::Value(Value::InlineTable(toml_edit::InlineTable::new()));
        if table.get("actions").is_none() {
            table.insert("actions", inline());
        }
        if let Some(actions) = table.get_mut("actions").and_then(Item::as_table_like_mut) {
            actions.insert(action, toml_edit::value(words));
        }
        Ok(())
    }

    /// Gives a role that is there one more permission.
    fn give(&mut self, piece: &Piece) -> Result<(), NotImported> {
        let Some((role, permission)) = piece.key.split_once(": ") else { return Ok(()) };
        let Some(table) = self.table("role", role)? else { return Ok(()) };
        if table.get("permissions").is_none() {
            table.insert("permissions", toml_edit::value(toml_edit::Array::new()));
        }
        if let Some(all) = table.get_mut("permissions").and_then(Item::as_array_mut) {
            // On a line of its own where the others are.
            let before = all.iter().last().and_then(|one| one.decor().prefix()?.as_str().map(str::to_owned));
            let value = Value::from(permission).decorated(before.unwrap_or_default(), "");
            all.push_formatted(value);
        }
        Ok(())
    }

    /// What changed.
    fn done(mut self, application: &str) -> Result<Vec<SourceFile>, NotImported> {
        let mut changed = Vec::new();
        for (path, file) in &mut self.files {
            if !self.out.is_empty() && file.parts.is_none() && file.text.contains("route") {
                file.parts = Some(parsed(path, &file.text)?);
            }
            let routes =
                file.parts.as_mut().and_then(|parts| parts.get_mut("route")?.as_array_of_tables_mut());
            if let Some(routes) = routes {
                let text = |table: &toml_edit::Table, key: &str| {
                    table.get(key).and_then(Item::as_str).unwrap_or_default().to_owned()
                };
                routes.retain(|table| {
                    let key = (text(table, "method"), shape_of(&text(table, "path")));
                    text(table, "application") != application || !self.out.contains(&key)
                });
            }
            let mut text = file.parts.as_ref().map_or_else(|| file.text.clone(), ToString::to_string);
            if !file.added.is_empty() {
                if !text.is_empty() {
                    text.truncate(text.trim_end().len());
                    text.push_str("\n\n");
                }
                text.push_str(&tidy(&file.added).unwrap_or_else(|_| file.added.clone()));
            }
            if text == file.text {
                continue;
            }
            if text.len() > MAX_FILE_BYTES {
                return Err(NotImported::Beside(format!(
                    "{path} would be larger than {MAX_FILE_BYTES} bytes: move some of it into another file"
                )));
            }
            changed.push(SourceFile { path: path.clone(), text });
        }
        Ok(changed)
    }
}
