//! Files to [`Tree`]: one function per table of the format.

mod connect;

use super::condition::{self, Expr, Origin};
use super::{
    Application, Attribute, Clause, Confer, ConferTo, Default, Effect, Field, Fields, GivenTo, Group, Head,
    NamedCondition, Relation, Resource, Role, Rule, Separation, Source, Standby, SubjectKind, TenantClause,
    TomlFile, Tree, parse_file,
};
use crate::names::{as_key, is_key};
use crate::source::{At, Finding, MAX_CHARTER_BYTES, MAX_FILE_BYTES, MAX_FILES, Sources, Span};
use crate::value::{ValueType, parse_duration};
use jiff::SignedDuration;
use std::collections::HashMap;

const TABLES: [&str; 15] = [
    "charter",
    "application",
    "resource",
    "subject",
    "tenant",
    "group",
    "condition",
    "context",
    "role",
    "rule",
    "separation",
    "tenant-roles",
    "route",
    "affordance",
    "issuer",
];

/// Where attributes and relations may be read.
const STATED: &[(&str, Source)] =
    &[("register", Source::Register), ("request", Source::Request), ("either", Source::Either)];
/// Where attributes may be read, too: no token vouches for a relation.
const VOUCHED: &[(&str, Source)] =
    &[("token", Source::Token), ("register-or-token", Source::RegisterOrToken)];

/// Reads all files of a charter. The tree holds whatever could be read.
pub fn read(sources: &Sources, findings: &mut Vec<Finding>) -> Tree {
    let mut reader = Reader { tree: Tree::default(), findings, first: HashMap::new() };
    if !reader.within_bounds(sources) {
        return reader.tree;
    }
    for (index, file) in sources.files().iter().enumerate() {
        let id = u32::try_from(index).unwrap_or(u32::MAX);
        let toml = parse_file(id, file, reader.findings);
        reader.file(&toml);
    }
    if reader.tree.head.is_none() {
        let start = Span::new(0, 0..0);
        let finding = Finding::error("no-charter-table", start, "no file has a [charter] table");
        reader.findings.push(finding.help("add [charter] with name = \"…\" and format = 1"));
    }
    reader.tree
}

struct Reader<'f> {
    tree: Tree,
    findings: &'f mut Vec<Finding>,
    /// Where each table was first defined, by its full name.
    first: HashMap<String, Span>,
}

impl Reader<'_> {
    fn within_bounds(&mut self, sources: &Sources) -> bool {
        let mut total = 0;
        for (index, file) in sources.files().iter().enumerate() {
            total += file.text.len();
            if file.text.len() > MAX_FILE_BYTES || index >= MAX_FILES || total > MAX_CHARTER_BYTES {
                let span = Span::new(u32::try_from(index).unwrap_or(u32::MAX), 0..0);
                let message = format!(
                    "a charter has at most {MAX_FILES} files of {MAX_FILE_BYTES} bytes, \
                     {MAX_CHARTER_BYTES} bytes in all"
                );
                self.findings.push(Finding::error("over-a-bound", span, message));
                return false;
            }
        }
        true
    }

    fn file(&mut self, file: &TomlFile<'_>) {
        let root = Fields::root(file);
        root.only(&TABLES, self.findings);
        for (key, field) in root.entries() {
            match key.value.as_str() {
                "charter" => self.head(&key, &field),
                "application" => self.each(&field, "application", Self::application),
                "resource" => self.each(&field, "resource", Self::resource),
                "subject" => self.each(&field, "subject", Self::subject),
                "tenant" => self.tenant(&field),
                "group" => self.each(&field, "group", Self::group),
                "condition" => self.each(&field, "condition", Self::condition),
                "context" => self.context(&key, &field),
                "role" => self.each(&field, "role", Self::role),
                "rule" => self.all(&field, "[[rule]]", Self::rule),
                "separation" => self.all(&field, "[[separation]]", Self::separation),
                "tenant-roles" => self.tenant_roles(&field),
                "route" => self.all(&field, "[[route]]", Self::route),
                "affordance" => self.all(&field, "[[affordance]]", Self::affordance),
                "issuer" => self.each(&field, "issuer", Self::issuer),
                _ => {}
            }
        }
    }

    /// Each table of a list.
    fn all(&mut self, field: &Field<'_, '_>, what: &str, read: fn(&mut Self, &Fields<'_, '_>)) {
        for fields in field.tables(what, self.findings) {
            read(self, &fields);
        }
    }

    /// Complains about each key that a table must have and has not.
    fn needs(&mut self, fields: &Fields<'_, '_>, what: &str, keys: &[&str]) {
        for key in keys.iter().filter(|key| fields.get(key).is_none()) {
            let message = format!("{what} needs {key}");
            self.findings.push(Finding::error("missing-key", fields.span, message));
        }
    }

    /// Each table under `name`, by key.
    fn each(
        &mut self,
        field: &Field<'_, '_>,
        name: &'static str,
        read: fn(&mut Self, At<String>, &Fields<'_, '_>),
    ) {
        let Some(fields) = field.table(&format!("[{name}]"), self.findings) else { return };
        for (key, inner) in fields.entries() {
            let what = format!("[{name}.{}]", key.value);
            if name != "subject" {
                self.define(&what, key.span);
            }
            self.key(&key);
            if let Some(inner) = inner.table(&what, self.findings) {
                read(self, key, &inner);
            }
        }
    }

    /// Notes a table's place, and complains if it has one already.
    fn define(&mut self, what: &str, span: Span) {
        if let Some(first) = self.first.get(what) {
            let finding = Finding::error("defined-twice", span, format!("{what} is defined twice"));
            self.findings.push(finding.beside(*first, "first defined here"));
        } else {
            self.first.insert(what.to_owned(), span);
        }
    }

    fn key(&mut self, key: &At<String>) {
        if !is_key(&key.value) {
            let message = format!(
                "{:?} is not a key: a to z, 0 to 9 and hyphens, a letter first, at most 64",
                key.value
            );
            let mut finding = Finding::error("not-a-key", key.span, message);
            if let Some(better) = as_key(&key.value) {
                finding = finding.help(format!("write {better}"));
            }
            self.findings.push(finding);
        }
    }

    fn head(&mut self, key: &At<String>, field: &Field<'_, '_>) {
        self.define("[charter]", key.span);
        let Some(fields) = field.table("[charter]", self.findings) else { return };
        fields.only(&["name", "format"], self.findings);
        let head = Head {
            name: self.text(&fields, "name"),
            format: fields.get("format").and_then(|field| field.integer(self.findings)),
            span: key.span,
        };
        match &head.format {
            None => self.findings.push(
                Finding::error("format", key.span, "[charter] states no format").help("write format = 1"),
            ),
            Some(format) if format.value != 1 => {
                let message = format!("this version reads format 1, not {}", format.value);
                self.findings.push(Finding::error("format", format.span, message));
            }
            Some(_) => {}
        }
        self.tree.head.get_or_insert(head);
    }

    fn text(&mut self, fields: &Fields<'_, '_>, key: &str) -> Option<At<String>> {
        fields.get(key)?.text(self.findings)
    }

    fn flag(&mut self, fields: &Fields<'_, '_>, key: &str) -> bool {
        fields.get(key).and_then(|field| field.boolean(self.findings)).unwrap_or(false)
    }

    fn texts(&mut self, fields: &Fields<'_, '_>, key: &str) -> Vec<At<String>> {
        fields.get(key).map(|field| field.texts(self.findings)).unwrap_or_default()
    }

    /// One word out of a few.
    fn word<T: Copy>(&mut self, fields: &Fields<'_, '_>, key: &str, words: &[(&str, T)]) -> Option<At<T>> {
        let text = self.text(fields, key)?;
        if let Some((_, value)) = words.iter().find(|(word, _)| *word == text.value) {
            return Some(At::new(*value, text.span));
        }
        let known: Vec<_> = words.iter().map(|(word, _)| *word).collect();
        let message = format!("{key} cannot be {:?}", text.value);
        let finding = Finding::error("unknown-word", text.span, message);
        let finding = finding.meant(&text.value, known.iter().copied());
        self.findings.push(finding.help(format!("write one of: {}", known.join(", "))));
        None
    }

    fn when(&mut self, fields: &Fields<'_, '_>) -> Option<Expr> {
        condition_in(&fields.get("when")?, self.findings)
    }

    fn application(&mut self, key: At<String>, fields: &Fields<'_, '_>) {
        fields.only(&["name", "description"], self.findings);
        let name = self.text(fields, "name");
        let description = self.text(fields, "description");
        self.tree.applications.push(Application { key, name, description });
    }

    fn resource(&mut self, key: At<String>, fields: &Fields<'_, '_>) {
        fields.only(
            &["application", "name", "within", "actions", "attributes", "relations", "confer"],
            self.findings,
        );
        let confers = fields.get("confer").map(|field| field.tables("[[…confer]]", self.findings));
        let confers = confers.unwrap_or_default().iter().map(|fields| self.confer(fields)).collect();
        let mut actions = Vec::new();
        if let Some(table) = fields.get("actions").and_then(|field| field.table("actions", self.findings)) {
            for (action, field) in table.entries() {
                self.key(&action);
                if let Some(description) = field.text(self.findings) {
                    actions.push((action, description.value));
                }
            }
        }
        let within = fields.get("within").map(|field| field.one_or_more(self.findings)).unwrap_or_default();
        let resource = Resource {
            application: self.text(fields, "application"),
            name: self.text(fields, "name"),
            within,
            actions,
            attributes: self.attributes(fields.get("attributes")),
            relations: self.relations(fields.get("relations")),
            confers,
            key,
        };
        self.tree.resources.push(resource);
    }

    fn confer(&mut self, fields: &Fields<'_, '_>) -> Confer {
        fields.only(&["role", "to", "when", "regardless", "through-detached"], self.findings);
        self.needs(fields, "a confer", &["role", "to"]);
        let mut confer = Confer {
            role: self.text(fields, "role"),
            to: None,
            when: self.when(fields),
            regardless: self.flag(fields, "regardless"),
            through_detached: self.flag(fields, "through-detached"),
            span: fields.span,
        };
        if let Some(to) = fields.get("to").and_then(|field| field.table("to", self.findings)) {
            to.only(&["relation", "holds", "at", "regardless", "through-detached"], self.findings);
            confer.regardless |= self.flag(&to, "regardless");
            confer.through_detached |= self.flag(&to, "through-detached");
            let relation = self.text(&to, "relation");
            let (holds, at) = (self.text(&to, "holds"), self.text(&to, "at"));
            confer.to = match (relation, holds, at) {
                (Some(relation), None, None) => Some(ConferTo::Relation(relation)),
                (None, Some(role), Some(at)) => Some(ConferTo::Holds(role, at)),
                _ => {
                    let message =
                        "a confer is to { relation = \"PATH\" } or { holds = \"ROLE\", at = \"PATH\" }";
                    self.findings.push(Finding::error("wrong-shape", to.span, message));
                    None
                }
            };
        }
        confer
    }

    fn subject(&mut self, key: At<String>, fields: &Fields<'_, '_>) {
        fields.only(&["attributes", "relations"], self.findings);
        for (part, _) in fields.entries() {
            self.define(&format!("[subject.{}.{}]", key.value, part.value), part.span);
        }
        let attributes = self.attributes(fields.get("attributes"));
        let relations = self.relations(fields.get("relations"));
        self.tree.subjects.push(SubjectKind { key, attributes, relations });
    }

    fn tenant(&mut self, field: &Field<'_, '_>) {
        let Some(fields) = field.table("[tenant]", self.findings) else { return };
        fields.only(&["attributes"], self.findings);
        if let Some(inner) = fields.get("attributes") {
            self.define("[tenant.attributes]", inner.span());
            self.tree.tenant = self.attributes(Some(inner));
        }
    }

    fn context(&mut self, key: &At<String>, field: &Field<'_, '_>) {
        self.define("[context]", key.span);
        self.tree.context = self.attributes(Some(field.clone()));
    }

    fn group(&mut self, key: At<String>, fields: &Fields<'_, '_>) {
        fields.only(&["name"], self.findings);
        let name = self.text(fields, "name");
        self.tree.groups.push(Group { key, name });
    }

    fn condition(&mut self, key: At<String>, fields: &Fields<'_, '_>) {
        fields.only(&["when", "regardless"], self.findings);
        let when = self.when(fields);
        if when.is_none() {
            self.findings.push(Finding::error("missing-key", key.span, "a [condition] needs a when"));
        }
        let regardless = self.flag(fields, "regardless");
        self.tree.conditions.push(NamedCondition { key, when, regardless });
    }

    fn attributes(&mut self, field: Option<Field<'_, '_>>) -> Vec<Attribute> {
        let Some(fields) = field.and_then(|field| field.table("attributes", self.findings)) else {
            return Vec::new();
        };
        fields.entries().map(|(key, field)| self.attribute(key, &field)).collect()
    }

    fn value_type(&mut self, text: At<String>) -> Option<At<ValueType>> {
        if let Some(kind) = ValueType::from_name(&text.value) {
            return Some(At::new(kind, text.span));
        }
        let known = ValueType::ALL.map(|(name, _)| name);
        let message = format!("unknown type {:?}", text.value);
        let finding = Finding::error("unknown-value-type", text.span, message).meant(&text.value, known);
        self.findings.push(finding.help(format!("write one of: {}", known.join(", "))));
        None
    }

    fn attribute(&mut self, key: At<String>, field: &Field<'_, '_>) -> Attribute {
        self.key(&key);
        let mut attribute =
            Attribute { key, kind: None, many: false, from: None, values: None, default: None };
        if !field.is_table() {
            attribute.kind = field.text(self.findings).and_then(|text| self.value_type(text));
            return attribute;
        }
        let what = format!("the attribute {:?}", attribute.key.value);
        let Some(fields) = field.table(&what, self.findings) else { return attribute };
        fields.only(&["type", "many", "from", "values", "default"], self.findings);
        match self.text(&fields, "type") {
            Some(text) => attribute.kind = self.value_type(text),
            None => self.findings.push(Finding::error(
                "missing-key",
                attribute.key.span,
                format!("{what} states no type"),
            )),
        }
        attribute.many = self.flag(&fields, "many");
        attribute.from = self.source(&fields, &[STATED, VOUCHED].concat());
        if let Some(values) = fields.get("values") {
            let items = values.list(self.findings);
            if items.is_empty() {
                self.findings.push(Finding::error(
                    "empty-list",
                    values.span(),
                    format!("{what} can have no value"),
                ));
            }
            let scalars = items
                .iter()
                .filter_map(|item| Some(At::new(item.scalar(self.findings)?, item.span())))
                .collect();
            attribute.values = Some(At::new(scalars, values.span()));
        }
        if let Some(default) = fields.get("default") {
            let value = match default.items() {
                Some(items) => {
                    Some(Default::Many(items.iter().filter_map(|item| item.scalar(self.findings)).collect()))
                }
                None => default.scalar(self.findings).map(Default::One),
            };
            attribute.default = value.map(|value| At::new(value, default.span()));
        }
        attribute
    }

    fn source(&mut self, fields: &Fields<'_, '_>, words: &[(&str, Source)]) -> Option<At<Source>> {
        self.word(fields, "from", words)
    }

    fn relations(&mut self, field: Option<Field<'_, '_>>) -> Vec<Relation> {
        let Some(fields) = field.and_then(|field| field.table("relations", self.findings)) else {
            return Vec::new();
        };
        fields.entries().map(|(key, field)| self.relation(key, &field)).collect()
    }

    fn relation(&mut self, key: At<String>, field: &Field<'_, '_>) -> Relation {
        self.key(&key);
        let mut relation = Relation {
            key,
            to: Vec::new(),
            many: false,
            from: None,
            default_empty: false,
            across_tenants: false,
        };
        if !field.is_table() {
            relation.to = field.one_or_more(self.findings);
            return relation;
        }
        let what = format!("the relation {:?}", relation.key.value);
        let Some(fields) = field.table(&what, self.findings) else { return relation };
        fields.only(&["to", "many", "from", "default", "across-tenants"], self.findings);
        match fields.get("to") {
            Some(to) => relation.to = to.one_or_more(self.findings),
            None => self.findings.push(Finding::error(
                "missing-key",
                relation.key.span,
                format!("{what} says not what it leads to"),
            )),
        }
        relation.many = self.flag(&fields, "many");
        relation.from = self.source(&fields, STATED);
        relation.across_tenants = self.flag(&fields, "across-tenants");
        if let Some(default) = fields.get("default") {
            relation.default_empty = default.items().is_some_and(|items| items.is_empty());
            if !relation.default_empty {
                let finding =
                    Finding::error("wrong-shape", default.span(), "the default of a relation can only be []");
                self.findings.push(finding);
            } else if !relation.many {
                let finding = Finding::error(
                    "wrong-shape",
                    default.span(),
                    format!("{what} leads to one thing and cannot be empty"),
                );
                self.findings.push(finding.help("add many = true, or leave the default out"));
            }
        }
        relation
    }

    fn role(&mut self, key: At<String>, fields: &Fields<'_, '_>) {
        fields.only(
            &[
                "name",
                "description",
                "permissions",
                "includes",
                "except",
                "held-by",
                "held-at",
                "grantable",
                "values",
                "when",
                "regardless",
                "given-to",
                "standby",
                "clause",
            ],
            self.findings,
        );
        let mut values = Vec::new();
        if let Some(table) = fields.get("values").and_then(|field| field.table("values", self.findings)) {
            for (name, field) in table.entries() {
                self.key(&name);
                if let Some(kind) = field.text(self.findings).and_then(|text| self.value_type(text)) {
                    values.push((name, kind));
                }
            }
        }
        let mut clauses = Vec::new();
        if let Some(field) = fields.get("clause") {
            for clause in field.tables(&format!("[[role.{}.clause]]", key.value), self.findings) {
                clause.only(&["permissions", "when", "regardless"], self.findings);
                let permissions = self.texts(&clause, "permissions");
                let when = self.when(&clause);
                for (name, missing) in
                    [("permissions", clause.get("permissions").is_none()), ("when", when.is_none())]
                {
                    if missing {
                        self.findings.push(Finding::error(
                            "missing-key",
                            clause.span,
                            format!("a clause needs {name}"),
                        ));
                    }
                }
                let regardless = self.flag(&clause, "regardless");
                clauses.push(Clause { permissions, when, regardless, span: clause.span });
            }
        }
        let given =
            [("anyone", GivenTo::Anyone), ("signed-in", GivenTo::SignedIn), ("members", GivenTo::Members)];
        let role = Role {
            name: self.text(fields, "name"),
            description: self.text(fields, "description"),
            permissions: self.texts(fields, "permissions"),
            includes: self.texts(fields, "includes"),
            except: self.texts(fields, "except"),
            held_by: fields.get("held-by").map(|field| field.one_or_more(self.findings)),
            held_at: fields.get("held-at").map(|field| field.one_or_more(self.findings)),
            grantable: fields.get("grantable").and_then(|field| field.boolean(self.findings)).unwrap_or(true),
            values,
            when: self.when(fields),
            regardless: self.flag(fields, "regardless"),
            given_to: self.word(fields, "given-to", &given),
            standby: self.standby(fields),
            clauses,
            key,
        };
        self.tree.roles.push(role);
    }

    fn rule(&mut self, fields: &Fields<'_, '_>) {
        fields.only(
            &[
                "key",
                "effect",
                "permissions",
                "when",
                "regardless",
                "message",
                "advice",
                "for",
                "across-tenants",
            ],
            self.findings,
        );
        let key = self.text(fields, "key");
        match &key {
            Some(key) => {
                self.key(key);
                self.define(&format!("the rule {:?}", key.value), key.span);
            }
            None => self.findings.push(
                Finding::error("missing-key", fields.span, "a rule needs a key")
                    .help("add key = \"…\": answers name the rule by it"),
            ),
        }
        let effect = self.word(fields, "effect", &[("allow", Effect::Allow), ("deny", Effect::Deny)]);
        for name in ["effect", "permissions"] {
            if fields.get(name).is_none() {
                self.findings.push(Finding::error(
                    "missing-key",
                    fields.span,
                    format!("a rule needs {name}"),
                ));
            }
        }
        let mut advice = Vec::new();
        if let Some(table) = fields.get("advice").and_then(|field| field.table("advice", self.findings)) {
            for (name, field) in table.entries() {
                if let Some(text) = field.text(self.findings) {
                    advice.push((name.value, text.value));
                }
            }
        }
        let rule = Rule {
            permissions: self.texts(fields, "permissions"),
            when: self.when(fields),
            regardless: self.flag(fields, "regardless"),
            message: self.text(fields, "message").map(|text| text.value),
            advice,
            for_whom: self.word(
                fields,
                "for",
                &[("signed-in", GivenTo::SignedIn), ("anyone", GivenTo::Anyone)],
            ),
            across_tenants: self.flag(fields, "across-tenants"),
            key,
            effect,
            span: fields.span,
        };
        self.tree.rules.push(rule);
    }

    fn standby(&mut self, fields: &Fields<'_, '_>) -> Option<Standby> {
        let field = fields.get("standby")?;
        let inner = field.table("standby", self.findings)?;
        inner.only(&["longest", "when", "reason", "self"], self.findings);
        self.needs(&inner, "standby", &["longest"]);
        let longest = self.text(&inner, "longest").and_then(|text| {
            let parsed = parse_duration(&text.value).filter(SignedDuration::is_positive);
            if parsed.is_none() {
                let message = format!("{:?} is not a stretch of time", text.value);
                let finding = Finding::error("wrong-shape", text.span, message);
                self.findings.push(finding.help("write such as 45m, 2h30m or 1d"));
            }
            parsed
        });
        Some(Standby {
            longest,
            when: self.when(&inner),
            reason: self.flag(&inner, "reason"),
            by_self: self.flag(&inner, "self"),
            span: field.span(),
        })
    }

    /// The key of a table that needs one of its own, well formed and used once.
    fn own_key(&mut self, fields: &Fields<'_, '_>, what: &str) -> Option<At<String>> {
        let key = self.text(fields, "key")?;
        self.key(&key);
        self.define(&format!("the {what} {:?}", key.value), key.span);
        Some(key)
    }

    fn separation(&mut self, fields: &Fields<'_, '_>) {
        fields.only(&["key", "name", "roles"], self.findings);
        self.needs(fields, "a separation", &["key", "roles"]);
        let separation = Separation {
            key: self.own_key(fields, "separation"),
            name: self.text(fields, "name"),
            roles: self.texts(fields, "roles"),
            span: fields.span,
        };
        self.tree.separations.push(separation);
    }

    fn tenant_roles(&mut self, field: &Field<'_, '_>) {
        let Some(fields) = field.table("[tenant-roles]", self.findings) else { return };
        fields.only(&["clause"], self.findings);
        let Some(clauses) = fields.get("clause") else { return };
        for fields in clauses.tables("[[tenant-roles.clause]]", self.findings) {
            fields.only(&["permissions", "when", "regardless", "unguarded"], self.findings);
            self.needs(&fields, "a clause", &["permissions"]);
            let clause = TenantClause {
                permissions: self.texts(&fields, "permissions"),
                when: self.when(&fields),
                regardless: self.flag(&fields, "regardless"),
                unguarded: self.flag(&fields, "unguarded"),
                span: fields.span,
            };
            self.tree.tenant_roles.push(clause);
        }
    }
}

/// The condition a field holds.
pub fn condition_in(field: &Field<'_, '_>, findings: &mut Vec<Finding>) -> Option<Expr> {
    let text = field.text(findings)?;
    // Offsets inside the condition are those in the file only if no escape stands in it.
    let quotes =
        if field.source().starts_with("\"\"\"") || field.source().starts_with("'''") { 3 } else { 1 };
    let inner = field.source().get(quotes..field.source().len().saturating_sub(quotes)).unwrap_or("");
    let trimmed = inner.len()
        - inner
            .strip_prefix("\r\n")
            .or(inner.strip_prefix('\n'))
            .filter(|_| quotes == 3)
            .unwrap_or(inner)
            .len();
    let exact = inner[trimmed..] == text.value;
    let start = text.span.start as usize + quotes + trimmed;
    let span = if exact { Span::new(text.span.file, start..start + text.value.len()) } else { text.span };
    Some(condition::parse(&text.value, Origin { span, exact }, findings))
}
