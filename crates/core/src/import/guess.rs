//! What operations need: `POST /voyages/{voyage}/manifests` a permission to make one within that voyage.

use super::Guess;
use super::crossing::{Crossing, shut, takes_of, widened};
use super::document::{Document, Left, Operation, Security, twice};
use super::kinds::{Kinds, Step, TENANT, Way};
use super::paths::{self, Read, Written};
use super::words;
use std::collections::{BTreeMap, BTreeSet, HashMap};

/// What a document comes to.
#[derive(Debug, Default)]
pub struct Guessed {
    pub kinds: Kinds,
    /// Actions of each type.
    pub actions: BTreeMap<String, BTreeMap<String, Action>>,
    pub routes: Vec<Route>,
    /// What is not mapped: refused, or not even that.
    pub left: Vec<Left>,
    /// How many operations are mapped.
    pub mapped: usize,
}

/// An action.
#[derive(Clone, Debug)]
pub struct Action {
    pub description: String,
    /// The operation it was guessed from.
    pub from: String,
    /// Whether it changes nothing, wherever it is needed.
    pub reads: bool,
    /// Whether it takes something away for good.
    pub removes: bool,
    /// Whether it shows what lets in whoever knows it.
    pub secret: bool,
}

/// An endpoint.
#[derive(Debug)]
pub struct Route {
    pub method: String,
    pub path: Written,
    pub meaning: Meaning,
    /// Why it means this.
    pub why: Vec<String>,
    /// The operations that take it: indices.
    pub operations: Vec<usize>,
    pub guesses: BTreeSet<Guess>,
    /// What it is kept with: a tag, or the first word of its path.
    pub group: String,
}

/// What a route comes to.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Meaning {
    Open,
    Refused,
    Needs(Vec<Need>),
}

/// A permission, and what it is about.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Need {
    pub kind: String,
    pub action: String,
    pub target: Target,
}

/// What a permission is needed for.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Target {
    /// One that is named: its id as a template.
    Named(String),
    /// A new one, within what a template names.
    New(Option<String>),
    /// Any one, within what a template names.
    Any(Option<String>),
}

/// Makes sense of a document; `taken` are types of other applications.
pub fn guess(document: &Document, taken: &BTreeSet<String>, application: &str) -> Guessed {
    let mut guessed = Guessed { left: document.left.clone(), ..Guessed::default() };
    let read: Vec<Option<Read>> =
        document.operations.iter().map(|one| written(one, &mut guessed.left)).collect();
    let whole: Vec<(usize, &Written)> = read
        .iter()
        .enumerate()
        .filter_map(|(at, read)| match read {
            Some(Read::Whole(written)) => Some((at, written)),
            _ => None,
        })
        .collect();
    let paths: Vec<(&Written, &BTreeSet<String>)> =
        whole.iter().map(|(at, written)| (*written, &document.operations[*at].unique)).collect();
    guessed.kinds = Kinds::of(&paths, taken, application);
    let own = own_key(&guessed.kinds, taken, application);
    let ways: HashMap<usize, usize> = whole.iter().enumerate().map(|(way, (at, _))| (*at, way)).collect();
    let mut made = Routes::default();
    for (at, read) in read.into_iter().enumerate() {
        let operation = &document.operations[at];
        let (written, told) = match read {
            Some(Read::Whole(written)) => {
                let told = match &guessed.kinds.ways[ways[&at]] {
                    Ok(way) => Ok(Guesser { kinds: &guessed.kinds, operation, own: &own }.told(way)),
                    Err(why) => Err(why.clone()),
                };
                (Some(written), told.map_err(|why| Left::new(operation.place(), why)))
            }
            Some(Read::Left(left, written)) => (written, Err(left)),
            None => continue,
        };
        let group = group(operation, ways.get(&at).and_then(|way| guessed.kinds.ways[*way].as_ref().ok()));
        match told {
            Ok(told) => made.add(at, operation, written, told, group),
            Err(left) => made.refuse(at, operation, written, left, group),
        }
    }
    made.settle(document, &mut guessed);
    for (id, count) in twice(&document.operations) {
        let why = format!("it is the operation id of {count}; each was taken by its path");
        guessed.left.push(Left::new(format!("{id:?}"), why));
    }
    guessed
}

/// The path of an operation; none, and why, for a method that no route has.
fn written(operation: &Operation, left: &mut Vec<Left>) -> Option<Read> {
    if operation.method == "TRACE" {
        left.push(Left::new(operation.place(), "TRACE is refused at every door"));
        return None;
    }
    Some(paths::read(&operation.place(), &operation.path))
}

/// The type of what is about no one thing: the application itself.
fn own_key(kinds: &Kinds, taken: &BTreeSet<String>, application: &str) -> String {
    let free = |key: &String| {
        !kinds.types.contains_key(key)
            && !taken.contains(key)
            && !crate::names::RESERVED_TYPES.contains(&key.as_str())
    };
    let all = [application.to_owned(), words::short(&format!("{application}-itself"))];
    let numbered = (2..).map(|n| words::short(&format!("{application}-itself-{n}")));
    all.into_iter().chain(numbered).find(free).unwrap_or_default()
}

/// What an operation is kept with.
fn group(operation: &Operation, way: Option<&Way>) -> String {
    let tag = operation.tag.as_deref().and_then(words::key);
    tag.or_else(|| way.and_then(|way| way.first.clone())).unwrap_or_else(|| "rest".to_owned())
}

/// What one operation means.
struct Told {
    meaning: Meaning,
    why: String,
    guesses: BTreeSet<Guess>,
    action: Option<Action>,
}

struct Guesser<'g> {
    kinds: &'g Kinds,
    operation: &'g Operation,
    /// The type of the application itself.
    own: &'g str,
}

impl Guesser<'_> {
    fn told(&self, way: &Way) -> Told {
        let asks_nothing = match self.operation.security {
            Security::Open { own } => own || self.operation.reads(),
            _ => false,
        };
        if asks_nothing {
            let why = "the document asks for nothing here".to_owned();
            return Told {
                meaning: Meaning::Open,
                why,
                guesses: BTreeSet::from([Guess::Open]),
                action: None,
            };
        }
        let (need, why, mut guesses) = self.need(way);
        if matches!(self.operation.security, Security::Optional | Security::Open { .. }) {
            guesses.insert(Guess::Optional);
        }
        let reads = self.operation.reads()
            || words::reads(&need.action) && !self.operation.method.starts_with("DELETE");
        let names = [Some(need.kind.as_str()), Some(&need.action), self.operation.id.as_deref()];
        let secret = names.into_iter().flatten().filter_map(words::key).any(|key| words::secret(&key));
        let action = Action {
            description: words::one_line(&self.operation.summary),
            from: self.operation.id.clone().unwrap_or_else(|| self.operation.place()),
            reads,
            removes: self.operation.method == "DELETE" || words::removes(&need.action),
            secret: secret && reads,
        };
        if secret && reads {
            guesses.insert(Guess::Secret);
        }
        Told { meaning: Meaning::Needs(vec![need]), why, guesses, action: Some(action) }
    }

    fn need(&self, way: &Way) -> (Need, String, BTreeSet<Guess>) {
        let mut guesses = BTreeSet::from([Guess::Action]);
        let Some(last) = way.steps.last() else {
            let (action, why) = self.done(&way.rest, way.verb.as_deref());
            let need = Need { kind: self.own.to_owned(), action, target: Target::New(None) };
            guesses.insert(Guess::Itself);
            return (
                need,
                format!("{why}; it is about the application itself, so only a role everywhere lets in"),
                guesses,
            );
        };
        let kind = self.kinds.kind(last).to_owned();
        if let Some(id) = self.kinds.id(&way.steps) {
            let (action, why) = self.done(&way.rest, way.verb.as_deref());
            guesses.insert(Guess::Id);
            return (Need { kind, action, target: Target::Named(id) }, why, guesses);
        }
        guesses.insert(Guess::Collection);
        self.of_many(way, last, kind, guesses)
    }

    /// What is needed of a collection.
    fn of_many(
        &self,
        way: &Way,
        last: &Step,
        kind: String,
        guesses: BTreeSet<Guess>,
    ) -> (Need, String, BTreeSet<Guess>) {
        let done = way.verb.as_deref().or_else(|| way.rest.first().map(String::as_str));
        let many = last.position.rsplit('/').next().unwrap_or_default();
        let outer = self.outer(way);
        let within = outer.as_ref().filter(|(kind_of, _, _)| {
            self.kinds.types.get(&kind).is_some_and(|of| of.within.contains_key(kind_of))
        });
        let template = within.map(|(of, _, id)| format!("{of}:{id}"));
        let verb = self.operation.id.as_deref().and_then(words::verb_of);
        let makes = self.operation.method == "POST"
            && done.is_none()
            && verb.as_deref().is_none_or(|verb| {
                words::creates(verb) || !words::reads(verb) && verb != "bulk" && !words::removes(verb)
            });
        let reads = self.operation.reads()
            || self.operation.method == "POST"
                && (done.and_then(words::key).is_some_and(|key| words::reads(&key))
                    || done.is_none() && !makes && verb.as_deref().is_some_and(words::reads));
        if makes && (outer.is_none() || template.is_some()) {
            let verb = verb.filter(|verb| !words::creates(verb));
            let action = verb.unwrap_or_else(|| "create".to_owned());
            let why = format!("POST to a collection makes a new {kind}");
            return (Need { kind, action, target: Target::New(template) }, why, guesses);
        }
        if reads && (outer.is_none() || template.is_some()) {
            let (action, why) = match done {
                None => ("view".to_owned(), format!("{} reads a collection", self.operation.method)),
                Some(_) => self.done(&way.rest, way.verb.as_deref()),
            };
            return (Need { kind, action, target: Target::Any(template) }, why, guesses);
        }
        // What is done to all of a collection is no matter of one that somebody may have a role at.
        let (verb, why) = match done {
            None if makes => ("create".to_owned(), "POST makes a new one".to_owned()),
            None => self.done(&[], None),
            Some(_) => self.done(&way.rest, way.verb.as_deref()),
        };
        match outer {
            Some((_, kind_of, id)) if kind_of != TENANT => {
                let action = words::short(&format!("{verb}-{}", plural(many)));
                let why = format!("{why}; it is about the {} of one {kind_of}", plural(many));
                (Need { kind: kind_of, action, target: Target::Named(id) }, why, guesses)
            }
            _ => {
                let action = if done.is_none() { words::short(&format!("{verb}-all")) } else { verb };
                let why = format!("{why}; it is about all of them, so only a role around all lets in");
                (Need { kind, action, target: Target::New(template) }, why, guesses)
            }
        }
    }

    /// The nearest thing named before the last step: the type that things lie within, the type that its own
    /// permissions are of, and its id.
    fn outer(&self, way: &Way) -> Option<(String, String, String)> {
        let (_, before) = way.steps.split_last()?;
        let at = before.iter().rposition(|step| !step.parameters.is_empty())?;
        let id = self.kinds.id(&before[..=at])?;
        let step = &before[at];
        let own = if self.kinds.is_tenant(step) { TENANT } else { self.kinds.kind(step) };
        Some((self.kinds.outer_kind(step).to_owned(), own.to_owned(), id))
    }

    /// What is done to one thing: an action, and why it is called so.
    fn done(&self, rest: &[String], verb: Option<&str>) -> (String, String) {
        let method = self.operation.method.as_str();
        let keys: Vec<String> = rest.iter().filter_map(|text| words::key(text)).collect();
        let part = keys.join("-");
        let said = self.operation.id.as_deref().and_then(words::verb_of);
        let said = said.or_else(|| words::verb_of(&self.operation.summary));
        let (action, why) = match (verb.and_then(words::key), part.is_empty()) {
            (Some(verb), _) => {
                let said = format!("{verb} stands behind a colon");
                let verb = if self.operation.reads() && !words::reads(&verb) {
                    format!("view-{verb}")
                } else {
                    verb
                };
                (if part.is_empty() { verb } else { format!("{verb}-{part}") }, said)
            }
            (None, true) => match method {
                "GET" | "HEAD" | "OPTIONS" => ("view".to_owned(), format!("{method} reads")),
                "PUT" | "PATCH" => ("change".to_owned(), format!("{method} changes")),
                "DELETE" => ("remove".to_owned(), "DELETE removes".to_owned()),
                _ => match said {
                    Some(verb) if !words::creates(&verb) || verb == "file" => {
                        (verb.clone(), format!("the document says {verb}"))
                    }
                    _ => ("change".to_owned(), format!("{method} to one, and nothing says what it does")),
                },
            },
            (None, false) => {
                let last = keys.last().map_or("", String::as_str);
                let first = last.split('-').next().unwrap_or_default();
                match method {
                    "GET" | "HEAD" | "OPTIONS" => {
                        (format!("view-{part}"), format!("{part} is read, and no path numbers it"))
                    }
                    "PUT" | "PATCH" => {
                        (format!("change-{part}"), format!("{part} is changed, and no path numbers it"))
                    }
                    "DELETE" => {
                        (format!("remove-{part}"), format!("{part} is removed, and no path numbers it"))
                    }
                    _ if words::is_verb(first) => (part.clone(), format!("{part} is what is done")),
                    _ => match said.filter(|verb| !words::creates(verb)) {
                        Some(verb) => (format!("{verb}-{part}"), format!("the document says {verb}")),
                        None if words::is_plural(last) => (
                            format!("create-{}", words::singular(&part)),
                            format!("{method} makes one more of {part}"),
                        ),
                        None => (part.clone(), format!("{part} follows, and no path numbers it")),
                    },
                }
            }
        };
        (words::short(&action), why)
    }
}

/// Many of what one is called.
fn plural(one: &str) -> String {
    let (before, last) = one.rsplit_once('-').map_or(("", one), |(before, last)| (before, last));
    let many = pluralizer::pluralize(last, 2, false);
    let many = if crate::names::is_key(&many) { many } else { last.to_owned() };
    if before.is_empty() { many } else { format!("{before}-{many}") }
}

/// Routes while they are made: one for each method and shape of path.
#[derive(Default)]
struct Routes {
    all: Vec<Route>,
    known: HashMap<(String, String), usize>,
    actions: Vec<(usize, String, String, Action)>,
    /// What is left, by operation, so that it is told in the document's order.
    left: BTreeMap<usize, Left>,
}

impl Routes {
    fn route(&mut self, at: usize, operation: &Operation, path: Written, group: String) -> (usize, bool) {
        let key = (operation.method.clone(), path.shape());
        if let Some(known) = self.known.get(&key) {
            self.all[*known].operations.push(at);
            return (*known, false);
        }
        let route = Route {
            method: operation.method.clone(),
            path,
            meaning: Meaning::Refused,
            why: Vec::new(),
            operations: vec![at],
            guesses: BTreeSet::new(),
            group,
        };
        self.known.insert(key, self.all.len());
        self.all.push(route);
        (self.all.len() - 1, true)
    }

    fn add(&mut self, at: usize, operation: &Operation, path: Option<Written>, told: Told, group: String) {
        let Some(path) = path else { return };
        let named: Vec<String> = path.called.iter().map(|(own, _)| own.clone()).collect();
        let (known, new) = self.route(at, operation, path, group);
        let route = &mut self.all[known];
        if let (Some(action), Meaning::Needs(needs)) = (told.action, &told.meaning) {
            self.actions.extend(
                needs.iter().map(|need| (known, need.kind.clone(), need.action.clone(), action.clone())),
            );
        }
        route.guesses.extend(told.guesses);
        if new {
            route.meaning = told.meaning;
            route.why.push(told.why);
            return;
        }
        // Two operations that the same requests fit: what either needs is needed.
        let own: Vec<String> = route.path.called.iter().map(|(own, _)| own.clone()).collect();
        let told_needs = match told.meaning {
            Meaning::Needs(needs) => needs.into_iter().map(|need| need.renamed(&named, &own)).collect(),
            Meaning::Open | Meaning::Refused => Vec::new(),
        };
        route.guesses.insert(Guess::Twice);
        match &mut route.meaning {
            Meaning::Refused => {}
            Meaning::Open if told_needs.is_empty() => {}
            Meaning::Open => {
                route.meaning = Meaning::Needs(told_needs);
                route.guesses.remove(&Guess::Open);
                route.why = vec![told.why];
            }
            Meaning::Needs(needs) => {
                for need in told_needs {
                    if !needs.contains(&need) {
                        needs.push(need);
                        route.why.push(format!(
                            "{}, as {} says, which the same requests fit",
                            told.why, operation.path
                        ));
                    }
                }
            }
        }
    }

    fn refuse(&mut self, at: usize, operation: &Operation, path: Option<Written>, left: Left, group: String) {
        self.left.insert(at, left.clone());
        // Without a pattern no request can be meant that a route might take: its path is refused as it is.
        let Some(path) = path else { return };
        let (known, _) = self.route(at, operation, path, group);
        self.all[known].meaning = Meaning::Refused;
        self.all[known].why = vec![left.why];
    }

    /// Refuses a route, and leaves its operations.
    fn cross(&mut self, document: &Document, at: usize, why: String) {
        let route = &mut self.all[at];
        for operation in &route.operations {
            let place = document.operations[*operation].place();
            self.left.entry(*operation).or_insert_with(|| Left::new(place, why.clone()));
        }
        route.meaning = Meaning::Refused;
        route.why = vec![why];
    }

    /// What is left to do once all are known.
    fn settle(mut self, document: &Document, guessed: &mut Guessed) {
        let mut crossing = Crossing::default();
        let mut dropped: BTreeSet<usize> = BTreeSet::new();
        let mut unwritten: Vec<Written> = Vec::new();
        for at in 0..self.all.len() {
            let (method, path) = (self.all[at].method.clone(), self.all[at].path.clone());
            let met = crossing.met(&method, &path.segments);
            // Whether it is written or not: what comes later must not take what it is for.
            crossing.add(at, &method, &path.segments);
            if met.is_empty() {
                continue;
            }
            // Requests fit both, and no route can say which is meant. Both cannot be written either: what would be the
            // second is refused with all that is like it, so that none of it falls to a neighbour.
            let why =
                |path: &str| format!("it crosses {path}: some requests fit both, and neither says more");
            for other in &met {
                self.cross(document, *other, why(&path.text));
            }
            unwritten.push(path.clone());
            let first = self.all[met[0]].path.text.clone();
            self.cross(document, at, why(&first));
            let wide = widened(&path);
            match self.known.get(&(method.clone(), wide.shape())) {
                Some(known) => {
                    let known = *known;
                    dropped.insert(at);
                    self.cross(document, known, why(&path.text));
                }
                None => {
                    self.known.insert((method, wide.shape()), at);
                    self.all[at].path = wide;
                }
            }
        }
        // What is open takes nothing of what could not be written.
        let is_open = |at: &usize| self.all[*at].meaning == Meaning::Open;
        let open: Vec<usize> = (0..self.all.len()).filter(is_open).collect();
        for at in open {
            let segments = &self.all[at].path.segments;
            if let Some(other) = unwritten.iter().find(|other| takes_of(segments, &other.segments)) {
                let why =
                    format!("requests fit it that {} is for, which no route can tell apart", other.text);
                self.cross(document, at, why);
            }
        }
        for route in self.all.iter().filter(|route| route.meaning == Meaning::Refused) {
            for operation in &route.operations {
                let place = document.operations[*operation].place();
                let why = format!("the same requests fit another operation: {}", route.why.join("; "));
                self.left.entry(*operation).or_insert_with(|| Left::new(place, why));
            }
        }
        let mut kept: Vec<Route> = Vec::new();
        let mut numbers: HashMap<usize, usize> = HashMap::new();
        for (at, route) in self.all.into_iter().enumerate() {
            if !dropped.contains(&at) {
                numbers.insert(at, kept.len());
                kept.push(route);
            }
        }
        for (route, kind, key, action) in self.actions {
            let is_needed = |route: &usize| matches!(&kept[*route].meaning, Meaning::Needs(needs) if needs.iter().any(|need| need.kind == kind && need.action == key));
            if !numbers.get(&route).is_some_and(is_needed) {
                continue;
            }
            let known = guessed.actions.entry(kind).or_default().entry(key).or_insert_with(|| action.clone());
            known.reads &= action.reads;
            known.removes |= action.removes;
            known.secret |= action.secret;
            if known.description.is_empty() {
                known.description = action.description;
            }
        }
        for at in shut(&mut kept) {
            for operation in &kept[at].operations {
                let place = document.operations[*operation].place();
                self.left.insert(*operation, Left::new(place, kept[at].why.join("; ")));
            }
        }
        guessed.mapped = document.operations.len()
            - self.left.len()
            - document.operations.iter().filter(|one| one.method == "TRACE").count();
        guessed.left.extend(self.left.into_values());
        guessed.routes = kept;
    }
}

impl Need {
    /// The same with other names for the parameters of its path.
    fn renamed(self, from: &[String], to: &[String]) -> Need {
        let rename = |template: String| {
            let mut out = String::new();
            let mut rest = template.as_str();
            while let Some((before, after)) = rest.split_once('{') {
                let (name, after) = after.split_once('}').unwrap_or((after, ""));
                let at = from.iter().position(|known| known == name);
                let name = at.and_then(|at| to.get(at)).map_or(name, String::as_str);
                out.push_str(&format!("{before}{{{name}}}"));
                rest = after;
            }
            out + rest
        };
        let target = match self.target {
            Target::Named(id) => Target::Named(rename(id)),
            Target::New(within) => Target::New(within.map(rename)),
            Target::Any(within) => Target::Any(within.map(rename)),
        };
        Need { target, ..self }
    }
}
