//! The generated charter, register and questions as the texts a person would write.

use crate::naive::{Attribute, Charter, Entity, Expr, From, Grant, List, Question, Register, Relation, Term};
use serde_json::{Map, Value as Json, json};
use std::fmt::Write as _;

pub fn charter(charter: &Charter) -> String {
    let mut out = String::from("[charter]\nname = \"Random\"\nformat = 1\n[application.yard]\n");
    for (key, kind) in &charter.kinds {
        let table = match key.as_str() {
            "user" | "service" => format!("subject.{key}"),
            "group" | "tenant" => continue,
            _ => {
                let _ = writeln!(out, "[resource.{key}]\napplication = \"yard\"");
                if !kind.within.is_empty() {
                    let _ = writeln!(out, "within = {:?}", kind.within);
                }
                let actions: Vec<String> =
                    kind.actions.iter().map(|action| format!("{action} = \"\"")).collect();
                let _ = writeln!(out, "actions = {{ {} }}", actions.join(", "));
                format!("resource.{key}")
            }
        };
        let _ = writeln!(out, "[{table}.attributes]");
        for (name, attribute) in &kind.attributes {
            let _ = writeln!(out, "{name} = {}", declared_attribute(attribute, true));
        }
        let _ = writeln!(out, "[{table}.relations]");
        for (name, relation) in &kind.relations {
            let _ = writeln!(out, "{name} = {}", declared_relation(relation));
        }
    }
    for (key, kind) in &charter.kinds {
        for confer in &kind.confers {
            let path = confer.path.join(".");
            let to = match &confer.holds {
                None => format!("relation = \"{path}\""),
                Some(role) => format!("holds = \"{role}\", at = \"{path}\""),
            };
            let _ = writeln!(
                out,
                "[[resource.{key}.confer]]\nrole = \"{}\"\nto = {{ {to} }}\nregardless = true",
                confer.role
            );
            if confer.through_detached {
                out.push_str("through-detached = true\n");
            }
            if let Some(when) = &confer.when {
                let _ = writeln!(out, "when = \"{}\"", expr(when));
            }
        }
    }
    for (at, roles) in charter.separations.iter().enumerate() {
        let _ = writeln!(out, "[[separation]]\nkey = \"apart{at}\"\nroles = {}", json!(roles));
    }
    for (permissions, when) in &charter.tenant_clauses {
        let _ = writeln!(
            out,
            "[[tenant-roles.clause]]\npermissions = {}\nregardless = true\nunguarded = true",
            json!(permissions)
        );
        if let Some(when) = when {
            let _ = writeln!(out, "when = \"{}\"", expr(when));
        }
    }
    for group in &charter.groups {
        let _ = writeln!(out, "[group.{group}]");
    }
    out.push_str("[context]\n");
    for (name, attribute) in &charter.context {
        let _ = writeln!(out, "{name} = {}", declared_attribute(attribute, attribute.from == From::Token));
    }
    for (key, role) in &charter.roles {
        let _ = writeln!(
            out,
            "[role.{key}]\npermissions = {}\nheld-by = {}\nregardless = true",
            json!(role.permissions),
            json!(role.held_by)
        );
        if !role.includes.is_empty() {
            let _ = writeln!(out, "includes = {:?}", role.includes);
        }
        if !role.except.is_empty() {
            let _ = writeln!(out, "except = {}", json!(role.except));
        }
        if let Some(held_at) = &role.held_at {
            let _ = writeln!(out, "held-at = {}", json!(held_at));
        }
        if !role.grantable {
            out.push_str("grantable = false\n");
        }
        if role.values {
            out.push_str("values = { tag = \"text\" }\n");
        }
        if let Some(standby) = &role.standby {
            let when =
                standby.as_ref().map_or_else(String::new, |when| format!(", when = \"{}\"", expr(when)));
            let _ = writeln!(out, "standby = {{ longest = \"1d\"{when} }}");
        }
        if let Some(given_to) = role.given_to {
            let _ = writeln!(out, "given-to = {given_to:?}");
        }
        if let Some(when) = &role.when {
            let _ = writeln!(out, "when = \"{}\"", expr(when));
        }
        for (permissions, when) in &role.clauses {
            let _ = writeln!(
                out,
                "[[role.{key}.clause]]\npermissions = {}\nwhen = \"{}\"\nregardless = true",
                json!(permissions),
                expr(when)
            );
        }
    }
    for (key, rule) in &charter.rules {
        let effect = if rule.deny { "deny" } else { "allow" };
        let _ = writeln!(
            out,
            "[[rule]]\nkey = \"{key}\"\neffect = \"{effect}\"\npermissions = {}\nregardless = true",
            json!(rule.permissions)
        );
        if let Some(when) = &rule.when {
            let _ = writeln!(out, "when = \"{}\"", expr(when));
        }
        if rule.for_anyone {
            out.push_str("for = \"anyone\"\n");
        }
        if rule.across {
            out.push_str("across-tenants = true\n");
        }
    }
    out
}

fn source(from: From) -> &'static str {
    match from {
        From::Register => "register",
        From::Request => "request",
        From::Either => "either",
        From::Token => "token",
        From::RegisterOrToken => "register-or-token",
    }
}

fn declared_attribute(attribute: &Attribute, from: bool) -> String {
    let mut parts = vec![format!("type = \"{}\"", attribute.of)];
    if attribute.many {
        parts.push("many = true".into());
    }
    if from {
        parts.push(format!("from = \"{}\"", source(attribute.from)));
    }
    if let Some(values) = &attribute.values {
        parts.push(format!("values = {}", json!(values)));
    }
    if let Some(default) = &attribute.default {
        parts.push(format!("default = {default}"));
    }
    format!("{{ {} }}", parts.join(", "))
}

fn declared_relation(relation: &Relation) -> String {
    let mut parts = vec![format!("to = {:?}", relation.to), format!("from = \"{}\"", source(relation.from))];
    if relation.many {
        parts.push("many = true".into());
    }
    if relation.default_empty {
        parts.push("default = []".into());
    }
    if relation.across {
        parts.push("across-tenants = true".into());
    }
    format!("{{ {} }}", parts.join(", "))
}

/// A condition as text. Everything compound stands in parentheses.
pub fn expr(expr: &Expr) -> String {
    let joined = |parts: &[Expr], word: &str| {
        let texts: Vec<String> = parts.iter().map(self::expr).collect();
        format!("({})", texts.join(word))
    };
    match expr {
        Expr::Const(value) => value.to_string(),
        Expr::Not(inner) => format!("not ({})", self::expr(inner)),
        Expr::All(parts) => joined(parts, " and "),
        Expr::Any(parts) => joined(parts, " or "),
        Expr::Truth(path) => path.join("."),
        Expr::Compare(operator, a, b) => format!("{} {operator} {}", term(a), term(b)),
        Expr::In(needle, within) => format!("{} in {}", term(needle), list(within)),
        Expr::Overlaps(a, b) => format!("{} overlaps {}", list(a), list(b)),
        Expr::Holds(role) => format!("holds('{role}')"),
        Expr::Member(group) => format!("member('{group}')"),
        Expr::Among(path) => format!("among(subject, {})", path.join(".")),
        Expr::Known(path) => format!("known({})", path.join(".")),
        Expr::Fits(text, pattern) => format!("fits({}, '{pattern}')", term(text)),
        Expr::Starts(a, b) => format!("starts({}, {})", term(a), term(b)),
        Expr::Ends(a, b) => format!("ends({}, {})", term(a), term(b)),
        Expr::Contains(a, b) => format!("contains({}, {})", term(a), term(b)),
    }
}

fn term(term: &Term) -> String {
    match term {
        Term::Path(path) => path.join("."),
        Term::Int(value) => value.to_string(),
        Term::Decimal(parts) => format!("{}.{:04}", parts / 10_000, parts % 10_000),
        Term::Duration(seconds) => format!("duration('{seconds}s')"),
        Term::Clock(time) => format!("clock({}, 'Etc/GMT-2')", self::term(time)),
        Term::Hour(time) => format!("hour({}, 'Etc/GMT-2')", self::term(time)),
        Term::Weekday(time) => format!("weekday({}, 'Etc/GMT-2')", self::term(time)),
        Term::Text(text) => format!("'{text}'"),
        Term::Address(text) => format!("address('{text}')"),
        Term::Time(at) => format!("time('{}')", moment(*at)),
        Term::Entity(name) => format!("entity('{name}')"),
        Term::Now => "now".into(),
        Term::Plus(a, b) => format!("{} + {}", self::term(a), self::term(b)),
        Term::Minus(a, b) => format!("{} - {}", self::term(a), self::term(b)),
        Term::Lower(inner) => format!("lower({})", self::term(inner)),
        Term::Count(list) => format!("count({})", self::list(list)),
    }
}

fn list(list: &List) -> String {
    match list {
        List::Path(path) => path.join("."),
        List::Literal(items) => format!("[{}]", items.iter().map(term).collect::<Vec<_>>().join(", ")),
    }
}

pub fn moment(at: i64) -> String {
    jiff::Timestamp::from_second(at).map(|at| at.to_string()).unwrap_or_default()
}

pub fn register(register: &Register) -> Vec<Json> {
    let entities = register.entities.iter().map(|(name, entity)| self::entity(name, entity));
    let grants = register.grants.iter().enumerate().map(|(at, grant)| self::grant(at, grant));
    let made = register.made.iter().map(|(key, (tenant, permissions))| {
        let key = key.split('/').nth(1).unwrap_or_default();
        json!({ "tenant-role": { "tenant": tenant, "key": key, "permissions": permissions } })
    });
    let activations = register.activations.iter().map(|activation| {
        let mut inner = json!({
            "grant": format!("g-{}", activation.grant),
            "subject": activation.subject,
            "from": moment(activation.from),
            "until": moment(activation.until),
        });
        if let Some(session) = &activation.session {
            inner["session"] = session.as_str().into();
        }
        json!({ "activation": inner })
    });
    former(register).into_iter().chain(entities).chain(made).chain(grants).chain(activations).collect()
}

/// What once was, under names that are used again: nothing of it may count any more.
fn former(register: &Register) -> Vec<Json> {
    let (user, ship, group, tenant) = ("user:u1", "ship:s1", "group:g1", "tenant:north");
    if [user, ship, group, tenant].iter().any(|name| !register.entities.contains_key(*name)) {
        return Vec::new();
    }
    let mut lines = vec![
        json!({ "entity": tenant }),
        json!({ "entity": user, "tenants": ["north"], "attributes": { "rank": 9 } }),
        json!({ "entity": ship, "within": tenant, "detached": true, "relations": { "owner": user, "crew": [user] } }),
        json!({ "entity": group, "members": [user], "tenant": "north" }),
    ];
    let known = |at: &str| at == "everywhere" || at == tenant || at == ship;
    let theirs = register.grants.iter().enumerate().filter(|(_, grant)| {
        (grant.to == user || grant.to == group) && known(&grant.at) && !grant.role.contains('/')
    });
    lines.extend(theirs.map(|(at, grant)| {
        let mut line = self::grant(at, grant);
        line["grant"]["id"] = format!("former-{at}").into();
        line
    }));
    lines.extend([user, group, ship].map(|name| json!({ "delete": name })));
    lines
}

fn entity(name: &str, entity: &Entity) -> Json {
    let mut line = Map::new();
    line.insert("entity".into(), name.into());
    if entity.state == "suspended" {
        line.insert("state".into(), "suspended".into());
    }
    if let Some(within) = &entity.within {
        line.insert("within".into(), within.as_str().into());
    }
    if entity.detached {
        line.insert("detached".into(), true.into());
    }
    if let Some(tenant) = &entity.tenant {
        line.insert("tenant".into(), tenant.as_str().into());
    }
    for (key, names) in [("tenants", &entity.tenants), ("members", &entity.members)] {
        if !names.is_empty() {
            line.insert(key.into(), json!(names));
        }
    }
    line.insert("attributes".into(), json!(entity.attributes));
    line.insert("relations".into(), json!(entity.relations));
    Json::Object(line)
}

fn grant(at: usize, grant: &Grant) -> Json {
    let mut inner = json!({ "id": format!("g-{at}"), "role": grant.role, "to": grant.to, "at": grant.at });
    for (key, moment) in [("from", grant.from), ("until", grant.until)] {
        if let Some(moment) = moment {
            inner[key] = self::moment(moment).into();
        }
    }
    if let Some(values) = &grant.values {
        inner["values"] = json!({ "tag": values });
    }
    json!({ "grant": inner })
}

pub fn request(question: &Question) -> ostrog_core::prelude::Request {
    let mut of_resource: Map<String, Json> = question.of_resource.clone().into_iter().collect();
    if let Some(within) = &question.within {
        of_resource.insert("within".into(), within.as_str().into());
    }
    let mut context: Map<String, Json> = question.context.clone().into_iter().collect();
    context.extend(question.session.iter().map(|session| ("session".to_owned(), session.as_str().into())));
    ostrog_core::prelude::Request {
        subject: question.subject.clone(),
        permission: question.permission.clone(),
        resource: question.resource.clone(),
        of_subject: question.of_subject.clone().into_iter().collect(),
        of_resource,
        context,
        ..ostrog_core::prelude::Request::default()
    }
}
