//! The draft as pieces of text, each guess with its reason beside it.

use super::document::{Base, Document, Security};
use super::guess::{Action, Guessed, Meaning, Need, Route, Target};
use super::kinds::{TENANT, Type};
use super::words::one_line;
use super::{About, Guess, Piece, Plan, Standing, scopes};
use std::collections::{BTreeMap, BTreeSet};
use std::fmt::Write as _;

/// Largest draft that is kept in one file, in bytes.
const ONE_FILE_BYTES: usize = 256 << 10;
/// Largest file that is written, in bytes: some is left for what is added by hand.
const MANY_FILES_BYTES: usize = 768 << 10;
/// From how many bytes on a draft leaves out what its routes say of themselves anyway.
const LEAN_BYTES: usize = 4 << 20;
/// Most files by tag or first segment.
const MAX_GROUPS: usize = 200;
/// Most rows of one table in a comment.
const ROWS: usize = 1_000;
/// Most lines of one list in a comment.
const MAX_LISTED: usize = 500;

/// Makes the pieces.
pub fn plan(document: &Document, guessed: &Guessed, application: &str) -> Plan {
    let mut plan = Plan {
        application: application.to_owned(),
        base: document.base.clone(),
        operations: document.operations.len(),
        mapped: guessed.mapped,
        left: guessed.left.clone(),
        ..Plan::default()
    };
    let mut open: Vec<&Route> =
        guessed.routes.iter().filter(|route| route.meaning == Meaning::Open).collect();
    open.sort_by_key(|route| matches!(route.method.as_str(), "GET" | "HEAD" | "OPTIONS"));
    plan.open = open.iter().map(|route| format!("{} {}", route.method, route.path.text)).collect();
    let home = format!("{application}.toml");
    let piece = |about, key: &str, file: &str, text: String| Piece {
        about,
        key: key.to_owned(),
        file: file.to_owned(),
        text,
        now: None,
        standing: Standing::New,
        guesses: Vec::new(),
        permissions: Vec::new(),
        within: Vec::new(),
    };
    let title = if document.title.is_empty() { application } else { &document.title };
    plan.pieces.push(piece(About::Note, "draft", &home, note(document, &plan, title)));
    let text = format!("[application.{application}]\nname = {}\n", quoted(title));
    plan.pieces.push(piece(About::Application, application, &home, text));
    let roles_file = format!("{application}-roles.toml");
    for role in roles(guessed, application) {
        let permissions = role.permissions.iter().cloned().collect();
        plan.pieces.push(Piece {
            guesses: vec![Guess::Role],
            permissions,
            ..piece(About::Role, &role.key, &roles_file, role.text(&|_| true, &|_| true))
        });
    }
    if let Some(text) = for_anyone(document, guessed, application) {
        plan.pieces.push(piece(About::Note, "optional", &roles_file, text));
    }
    let scopes_file = format!("{application}-scopes.toml");
    let scoped = scopes::roles(document, guessed, application);
    for (at, text) in table(document).into_iter().enumerate() {
        plan.pieces.push(piece(About::Note, &format!("scopes {}", at + 1), &scopes_file, text));
    }
    for role in scoped {
        let operations = role.operations;
        let why =
            format!("a guess: the scope {}, which {operations} operations ask for", one_line(&role.scopes));
        let own = Role {
            key: role.key,
            name: format!("Scope {}", role.scopes),
            why,
            includes: None,
            permissions: role.permissions,
        };
        plan.pieces.push(Piece {
            guesses: vec![Guess::Role],
            permissions: own.permissions.iter().cloned().collect(),
            ..piece(About::Role, &own.key, &scopes_file, own.text(&|_| true, &|_| true))
        });
    }
    // A type stands in the file of the first route that is about it.
    let mut files: BTreeMap<&str, String> = BTreeMap::new();
    let file = |group: &str| format!("{application}-{group}.toml");
    for route in &guessed.routes {
        let Meaning::Needs(needs) = &route.meaning else { continue };
        for need in needs {
            files.entry(&need.kind).or_insert_with(|| file(&route.group));
        }
    }
    let nothing = BTreeMap::new();
    let mut kinds: BTreeSet<&String> = guessed.actions.keys().collect();
    kinds.extend(guessed.kinds.types.iter().filter(|(_, of)| !of.within.is_empty()).map(|(key, _)| key));
    let around: BTreeSet<&String> = guessed.kinds.types.values().flat_map(|of| of.within.keys()).collect();
    for key in kinds {
        let actions = guessed.actions.get(key).unwrap_or(&nothing);
        let of = guessed.kinds.types.get(key);
        if actions.is_empty() && !around.contains(key) {
            continue;
        }
        let (text, guesses) = kind(application, key, of, actions);
        let file = files.get(key.as_str()).unwrap_or(&home);
        plan.pieces.push(Piece { guesses, ..piece(About::Type, key, file, text) });
    }
    for one in &guessed.routes {
        let key = format!("{} {}", one.method, one.path.text);
        let needs: &[Need] = match &one.meaning {
            Meaning::Needs(needs) => needs,
            Meaning::Open | Meaning::Refused => &[],
        };
        let outer = |need: &Need| match &need.target {
            Target::New(Some(outer)) | Target::Any(Some(outer)) => {
                outer.split_once(':').map(|(outer, _)| (need.kind.clone(), outer.to_owned()))
            }
            _ => None,
        };
        plan.pieces.push(Piece {
            guesses: one.guesses.iter().copied().collect(),
            permissions: needs.iter().map(Need::permission).collect(),
            within: needs.iter().filter_map(outer).collect(),
            ..piece(About::Route, &key, &file(&one.group), route(document, one, application))
        });
    }
    into_files(&mut plan, &home);
    plan
}

/// Small drafts stand in one file; of large ones each is kept under what a file may have.
fn into_files(plan: &mut Plan, home: &str) {
    let whole: usize = plan.pieces.iter().map(|piece| piece.text.len() + 1).sum();
    let groups: BTreeSet<String> = plan.pieces.iter().map(|piece| piece.file.clone()).collect();
    if whole <= ONE_FILE_BYTES {
        plan.pieces.iter_mut().for_each(|piece| home.clone_into(&mut piece.file));
        return;
    }
    if whole > LEAN_BYTES {
        // The rest of the table stands beside the routes.
        plan.pieces.retain(|piece| {
            piece.about != About::Note || !piece.key.starts_with("scopes ") || piece.key == "scopes 1"
        });
    }
    // So many groups say nothing: the draft is cut where a file is full.
    let cut = groups.len() > MAX_GROUPS;
    let mut full: BTreeMap<String, (usize, usize)> = BTreeMap::new();
    for piece in &mut plan.pieces {
        if cut && piece.file != home {
            piece.file = format!("{}-{}s.toml", plan.application, piece.about.word());
        }
        if whole > LEAN_BYTES {
            piece.text = lean(piece);
        }
        let (number, bytes) = full.entry(piece.file.clone()).or_insert((1, 0));
        if *bytes + piece.text.len() > MANY_FILES_BYTES {
            (*number, *bytes) = (*number + 1, 0);
        }
        *bytes += piece.text.len() + 1;
        if *number > 1 {
            piece.file = piece.file.replace(".toml", &format!("-{number}.toml"));
        }
    }
}

/// A route without why it is so, which its method and path say too, and a type without what its parts were guessed
/// from; what else is said of them stays.
fn lean(piece: &Piece) -> String {
    let kept = |line: &&str| {
        let is_told =
            line.starts_with("# scopes") || line.starts_with("# is it meant") || line.starts_with("# from");
        piece.about == About::Note || is_told || !line.starts_with("# ")
    };
    let is_type = piece.about == About::Type;
    let mut out = String::new();
    for line in piece.text.lines().filter(kept) {
        // Within a text there are never two spaces.
        let end = line.find("  # ").filter(|_| is_type).unwrap_or(line.len());
        let _ = writeln!(out, "{}", &line[..end]);
    }
    out
}

fn note(document: &Document, plan: &Plan, title: &str) -> String {
    let mut out = format!(
        "# A draft made from an OpenAPI document: {}.\n# Read every line before you rely on it. What was guessed says why.\n",
        one_line(title)
    );
    let mut line = |text: String| {
        let _ = writeln!(out, "# {}", one_line(&text));
    };
    match &document.base {
        Base::Known(base) if base.is_empty() => {}
        Base::Known(base) => line(format!("Every path begins with {base}, the base of its server.")),
        Base::Unsaid => {
            line("The document names no server: paths begin at /, unless --base says otherwise.".to_owned())
        }
        Base::Unknown(why) => line(format!(
            "Where paths begin is not known: {why}. They begin at / here; --base says otherwise."
        )),
    }
    if !document.extensions.is_empty() {
        let names: Vec<&str> = document.extensions.iter().take(20).map(String::as_str).collect();
        line(format!("Vendor extensions say nothing here: {}.", names.join(", ")));
    }
    let listed = |out: &mut String, head: &str, all: &[String]| {
        if all.is_empty() {
            return;
        }
        let _ = writeln!(out, "#\n# {head}:");
        for one in all.iter().take(MAX_LISTED) {
            let _ = writeln!(out, "#   {}", one_line(one));
        }
        if all.len() > MAX_LISTED {
            let _ = writeln!(out, "#   and {} more", all.len() - MAX_LISTED);
        }
    };
    listed(&mut out, "Open to anybody, without a token; what writes comes first", &plan.open);
    let elsewhere = plan.elsewhere();
    if elsewhere > 0 {
        let _ = writeln!(
            out,
            "#\n# {elsewhere} are told apart by query, header or body, at which no route looks."
        );
    }
    let left: Vec<String> = plan.left.iter().map(ToString::to_string).collect();
    listed(&mut out, "Not mapped, and so refused", &left);
    out
}

/// A resource type's table.
fn kind(
    application: &str,
    key: &str,
    of: Option<&Type>,
    actions: &BTreeMap<String, Action>,
) -> (String, Vec<Guess>) {
    let mut guesses = Vec::new();
    let mut out = String::new();
    let Some(of) = of else {
        let _ = writeln!(out, "# The application itself: what is about no one thing. It lies nowhere.");
        let _ = writeln!(out, "[resource.{key}]\napplication = {}", quoted(application));
        acts(&mut out, key, actions);
        return (out, guesses);
    };
    let _ = writeln!(out, "# from {}", one_line(&of.path));
    for path in of.same.iter().take(5) {
        guesses.push(Guess::Same);
        let _ = writeln!(out, "# a guess: {} is about the same ones", one_line(path));
    }
    if let Some(other) = &of.apart_from {
        guesses.push(Guess::Apart);
        let _ = writeln!(out, "# a guess: others that are called {other} too are other things");
    }
    for (outer, path) in of.circle.iter().take(5) {
        let _ = writeln!(out, "# {} has one within a {outer} too, which would be a circle", one_line(path));
    }
    let _ = writeln!(out, "[resource.{key}]\napplication = {}", quoted(application));
    let why: Vec<String> =
        of.within.iter().filter(|(outer, _)| *outer != TENANT).map(|(_, path)| one_line(path)).collect();
    let names: Vec<String> = of.within.keys().map(|outer| quoted(outer)).collect();
    let why = match why.first() {
        Some(path) => format!("a guess from {path}"),
        None => "a guess: nothing stands around it; take it out if it belongs to no tenant".to_owned(),
    };
    guesses.push(Guess::Within);
    match names.as_slice() {
        [] => {}
        [one] => drop(writeln!(out, "within = {one}  # {why}")),
        many => drop(writeln!(out, "within = [{}]  # {why}", many.join(", "))),
    }
    acts(&mut out, key, actions);
    (out, guesses)
}

fn acts(out: &mut String, key: &str, actions: &BTreeMap<String, Action>) {
    if actions.is_empty() {
        return;
    }
    let _ = writeln!(out, "\n[resource.{key}.actions]");
    for (action, guess) in actions {
        let secret = if guess.secret { "; it shows credentials or keys" } else { "" };
        let _ =
            writeln!(out, "{action} = {}  # {}{secret}", quoted(&guess.description), one_line(&guess.from));
    }
}

impl Need {
    fn permission(&self) -> String {
        format!("{}:{}", self.kind, self.action)
    }

    fn resource(&self) -> String {
        let within = |within: &Option<String>| {
            within.as_ref().map_or(String::new(), |template| format!(", within = {}", exact(template)))
        };
        match &self.target {
            Target::Named(id) => exact(&format!("{}:{id}", self.kind)),
            Target::New(outer) => format!("{{ new = {}{} }}", quoted(&self.kind), within(outer)),
            Target::Any(outer) => format!("{{ any = {}{} }}", quoted(&self.kind), within(outer)),
        }
    }
}

fn route(document: &Document, route: &Route, application: &str) -> String {
    let mut out = String::new();
    for why in &route.why {
        let _ = writeln!(out, "# {}", one_line(why));
    }
    if let Some(asked) = scopes::asked(document, &route.operations) {
        let _ = writeln!(out, "# scopes: {asked}");
    }
    let is_optional = |at: &usize| document.operations[*at].security == Security::Optional;
    if route.operations.iter().any(is_optional) && matches!(route.meaning, Meaning::Needs(_)) {
        let _ = writeln!(out, "# signing in is optional here, as the document says");
    }
    if route.meaning == Meaning::Open && !matches!(route.method.as_str(), "GET" | "HEAD" | "OPTIONS") {
        let _ =
            writeln!(out, "# is it meant that anybody may write here? If not, say needs in place of open");
    }
    let _ = writeln!(
        out,
        "[[route]]\napplication = {}\nmethod = {}\npath = {}",
        quoted(application),
        quoted(&route.method),
        exact(&route.path.text)
    );
    match &route.meaning {
        Meaning::Open => out.push_str("open = true\n"),
        Meaning::Refused => out.push_str("refuse = true\n"),
        Meaning::Needs(needs) => {
            let first = needs.first().map(Need::resource).unwrap_or_default();
            if needs.iter().all(|need| need.resource() == first) {
                let all: Vec<String> = needs.iter().map(|need| quoted(&need.permission())).collect();
                let _ = writeln!(out, "needs = [{}]\nresource = {first}", all.join(", "));
            } else {
                let each = |need: &Need| {
                    format!(
                        "    {{ permission = {}, resource = {} }},\n",
                        quoted(&need.permission()),
                        need.resource()
                    )
                };
                let _ = writeln!(out, "needs = [\n{}]", needs.iter().map(each).collect::<String>());
            }
        }
    }
    out
}

/// A role to start from.
pub struct Role {
    pub key: String,
    pub name: String,
    pub why: String,
    pub includes: Option<String>,
    pub permissions: BTreeSet<String>,
}

impl Role {
    /// Its table, with the roles and permissions that are there.
    pub fn text(&self, has_role: &dyn Fn(&str) -> bool, has: &dyn Fn(&str) -> bool) -> String {
        let mut out =
            format!("# {}\n[role.{}]\nname = {}\n", one_line(&self.why), self.key, quoted(&self.name));
        if let Some(inner) = self.includes.as_ref().filter(|inner| has_role(inner)) {
            let _ = writeln!(out, "includes = [{}]", quoted(inner));
        }
        let permissions: Vec<String> =
            self.permissions.iter().filter(|one| has(one)).map(|one| quoted(one)).collect();
        if !permissions.is_empty() {
            let one = format!("permissions = [{}]", permissions.join(", "));
            if one.len() <= 100 {
                let _ = writeln!(out, "{one}");
            } else {
                let _ = writeln!(out, "permissions = [\n    {},\n]", permissions.join(",\n    "));
            }
        }
        out
    }
}

/// Three roles by what is done: reading, changing, all.
fn roles(guessed: &Guessed, application: &str) -> Vec<Role> {
    let mut parts: [BTreeSet<String>; 3] = Default::default();
    let mut secret = 0;
    for (kind, actions) in &guessed.actions {
        for (key, action) in actions {
            secret += usize::from(action.secret);
            let part = match (action.secret || action.removes, action.reads) {
                (true, _) => 2,
                (false, true) => 0,
                (false, false) => 1,
            };
            parts[part].insert(format!("{kind}:{key}"));
        }
    }
    let [reading, changing, all] = parts;
    let mut made: Vec<Role> = Vec::new();
    let why =
        if secret > 0 { "what removes, and what shows credentials or keys" } else { "what removes, too" };
    for (suffix, name, why, permissions) in [
        ("read", "Reads", "what changes nothing", reading),
        ("change", "Reads and changes", "the rest, but for what removes", changing),
        ("all", "Does everything", why, all),
    ] {
        if !permissions.is_empty() {
            let includes = made.last().map(|role| role.key.clone());
            let key = super::words::short(&format!("{application}-{suffix}"));
            made.push(Role {
                key,
                name: name.to_owned(),
                why: format!("a guess: {why}"),
                includes,
                permissions,
            });
        }
    }
    made
}

/// A role for whoever is not signed in, as a comment: where signing in is optional, somebody has to want it.
fn for_anyone(document: &Document, guessed: &Guessed, application: &str) -> Option<String> {
    let optional = |at: &usize| document.operations[*at].security == Security::Optional;
    let needs =
        guessed.routes.iter().filter(|route| route.operations.iter().all(optional)).filter_map(|route| {
            let Meaning::Needs(needs) = &route.meaning else { return None };
            (!route.operations.is_empty()).then_some(needs)
        });
    let permissions: BTreeSet<String> = needs.flatten().map(Need::permission).collect();
    if permissions.is_empty() {
        return None;
    }
    let mut out = String::from(
        "# Signing in is optional for these, as the document says. To let anybody do them, take the marks off;\n\
         # whatever else needs one of these permissions is then open to anybody too.\n",
    );
    let _ = writeln!(out, "# [role.{application}-anyone]\n# given-to = \"anyone\"\n# permissions = [");
    for permission in permissions {
        let _ = writeln!(out, "#     {},", quoted(&permission));
    }
    out.push_str("# ]\n");
    Some(out)
}

/// Which operation asks for which scopes, as comments.
fn table(document: &Document) -> Vec<String> {
    let rows: Vec<String> = (0..document.operations.len())
        .filter_map(|at| {
            Some(format!("{}: {}", document.operations[at].place(), scopes::asked(document, &[at])?))
        })
        .collect();
    let parts = rows.chunks(ROWS).map(|rows| {
        let head = "# Which operation asks for which scopes. A role of a scope has a permission only if every operation\n\
                    # that needs it lets the scope in.\n#\n";
        let lines = rows.iter().map(|row| format!("#   {}\n", one_line(row)));
        head.to_owned() + &lines.collect::<String>()
    });
    parts.collect()
}

/// What must stand as it is, as a TOML text.
fn exact(text: &str) -> String {
    toml::Value::from(text).to_string()
}

/// What people read, as a TOML text: on one line, and not without end.
fn quoted(text: &str) -> String {
    exact(&one_line(text))
}
