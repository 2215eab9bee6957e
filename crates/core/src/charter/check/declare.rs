//! Applications, types, attributes, relations: what a charter says there is.

use crate::charter::model::NameId;
use crate::charter::model::{Application, Attribute, Kind, KindId, Permission, Relation, Stated};
use crate::charter::syntax::{self, Default as Written, Source, Tree};
use crate::interner::Interner;
use crate::names::{RESERVED_PATHS, RESERVED_TYPES};
use crate::source::{At, Finding, Span};
use crate::value::{Scalar, ValueType};
use std::collections::HashMap;

/// Applications, by key.
pub fn applications(tree: &Tree) -> Vec<Application> {
    let mut all: Vec<Application> = tree
        .applications
        .iter()
        .map(|application| Application {
            key: application.key.value.clone(),
            name: application.name.clone().map_or_else(|| application.key.value.clone(), |name| name.value),
            description: application.description.clone().map_or_else(String::new, |text| text.value),
        })
        .collect();
    all.sort_by(|a, b| a.key.cmp(&b.key));
    all.dedup_by(|a, b| a.key == b.key);
    all
}

/// All kinds with their permissions: the reserved ones first, then resource types by key.
pub fn kinds(
    tree: &Tree,
    applications: &[Application],
    names: &mut Interner,
    findings: &mut Vec<Finding>,
) -> (Vec<Kind>, Vec<Permission>) {
    let mut written: Vec<&syntax::Resource> = tree.resources.iter().collect();
    written.sort_by(|a, b| a.key.value.cmp(&b.key.value));
    written.dedup_by(|a, b| a.key.value == b.key.value);
    let mut keys: Vec<&str> = RESERVED_TYPES[..4].to_vec();
    keys.extend(written.iter().map(|resource| resource.key.value.as_str()));

    let mut kinds: Vec<Kind> = RESERVED_TYPES[..4].iter().map(|key| reserved(key)).collect();
    let mut permissions = Vec::new();
    for (index, resource) in written.iter().enumerate() {
        reserved_name(&resource.key, &RESERVED_TYPES, "type", findings);
        let start = permissions.len();
        for (action, description) in &resource.actions {
            permissions.push(Permission {
                text: format!("{}:{}", resource.key.value, action.value),
                kind: KindId::at(index + 4),
                action: action.value.clone(),
                description: description.clone(),
            });
        }
        let key = resource.key.value.clone();
        let range = |at: usize| u32::try_from(at).unwrap_or(u32::MAX);
        kinds.push(Kind {
            name: resource.name.clone().map_or_else(|| key.clone(), |name| name.value),
            application: owner(resource, applications, findings),
            within: within(resource, &keys, findings),
            attributes: attributes(&resource.attributes, names, Some(Source::Either), findings),
            relations: relations(&resource.relations, &keys, names, findings),
            permissions: range(start)..range(permissions.len()),
            confers: 0..0,
            key,
        });
        both(&resource.attributes, &resource.relations, findings);
    }
    for subject in &tree.subjects {
        let index = match subject.key.value.as_str() {
            "user" => 0,
            "service" => 1,
            other => {
                let message = format!("subjects are of type user or service, not {other:?}");
                let finding = Finding::error("unknown-type", subject.key.span, message);
                findings.push(finding.meant(other, ["user", "service"]));
                continue;
            }
        };
        kinds[index].attributes.extend(attributes(
            &subject.attributes,
            names,
            Some(Source::Register),
            findings,
        ));
        kinds[index].relations.extend(relations(&subject.relations, &keys, names, findings));
        both(&subject.attributes, &subject.relations, findings);
    }
    kinds[KindId::TENANT.index()].attributes =
        attributes(&tree.tenant, names, Some(Source::Register), findings);
    let of_things = tree.resources.iter().flat_map(|resource| &resource.attributes).chain(&tree.tenant);
    for from in of_things.filter_map(|attribute| attribute.from.as_ref()) {
        if matches!(from.value, Source::Token | Source::RegisterOrToken) {
            let message = "a token vouches for who bears it, and for nothing else";
            let finding = Finding::error("unknown-word", from.span, message);
            findings.push(finding.help("write one of: register, request, either"));
        }
    }
    rootless(tree, &kinds, findings);
    (kinds, permissions)
}

fn reserved(key: &str) -> Kind {
    Kind {
        key: key.to_owned(),
        name: key.to_owned(),
        application: None,
        within: Vec::new(),
        attributes: Vec::new(),
        relations: Vec::new(),
        permissions: 0..0,
        confers: 0..0,
    }
}

fn reserved_name(key: &At<String>, reserved: &[&str], what: &str, findings: &mut Vec<Finding>) {
    if reserved.contains(&key.value.as_str()) {
        let message = format!("{:?} is reserved and cannot be declared as a {what}", key.value);
        findings.push(Finding::error("reserved-name", key.span, message));
    }
}

fn owner(
    resource: &syntax::Resource,
    applications: &[Application],
    findings: &mut Vec<Finding>,
) -> Option<usize> {
    let Some(key) = &resource.application else {
        let message = format!("the type {:?} names no application", resource.key.value);
        findings
            .push(Finding::error("missing-key", resource.key.span, message).help("add application = \"…\""));
        return None;
    };
    let at = applications.iter().position(|application| application.key == key.value);
    if at.is_none() {
        let message = format!("unknown application {:?}", key.value);
        let finding = Finding::error("unknown-application", key.span, message);
        findings.push(finding.meant(&key.value, applications.iter().map(|a| a.key.as_str())));
    }
    at
}

fn kind_id(
    key: &At<String>,
    keys: &[&str],
    allowed: &dyn Fn(usize) -> bool,
    findings: &mut Vec<Finding>,
) -> Option<KindId> {
    // Behind the reserved ones they stand in order.
    let (reserved, declared) = keys.split_at(4);
    let at = reserved.iter().position(|known| *known == key.value).or_else(|| {
        let at = declared.binary_search(&key.value.as_str()).ok()?;
        Some(at + reserved.len())
    });
    let at = at.filter(|at| allowed(*at));
    if at.is_none() {
        let known = keys.iter().enumerate().filter(|(at, _)| allowed(*at)).map(|(_, key)| *key);
        let finding = Finding::error("unknown-type", key.span, format!("unknown type {:?}", key.value));
        findings.push(finding.meant(&key.value, known));
    }
    at.map(KindId::at)
}

fn within(resource: &syntax::Resource, keys: &[&str], findings: &mut Vec<Finding>) -> Vec<KindId> {
    let allowed = |at: usize| at >= KindId::TENANT.index();
    let mut all: Vec<KindId> =
        resource.within.iter().filter_map(|key| kind_id(key, keys, &allowed, findings)).collect();
    all.sort_unstable();
    all.dedup();
    all
}

/// Attributes as declared; `from` is where they are read unless they say. The context has none.
pub fn attributes(
    written: &[syntax::Attribute],
    names: &mut Interner,
    from: Option<Source>,
    findings: &mut Vec<Finding>,
) -> Vec<Attribute> {
    let mut all = Vec::new();
    for attribute in written {
        let reserved: &[&str] = if from.is_some() { &RESERVED_PATHS } else { &["session"] };
        reserved_name(&attribute.key, reserved, "name", findings);
        if let (None, Some(stated)) = (from, &attribute.from)
            && !matches!(stated.value, Source::Request | Source::Token)
        {
            let message = "what the context holds comes from the request, or from a token";
            let finding = Finding::error("unknown-word", stated.span, message);
            findings.push(finding.help("leave from out, or write from = \"token\""));
        }
        let Some(kind) = &attribute.kind else { continue };
        let values = attribute.values.as_ref().map(|values| {
            let typed =
                values.value.iter().filter_map(|value| typed(&value.value, kind.value, value.span, findings));
            typed.collect::<Vec<_>>()
        });
        let made = Attribute {
            name: NameId(names.intern(&attribute.key.value)),
            kind: kind.value,
            many: attribute.many,
            from: attribute.from.as_ref().map_or(from.unwrap_or(Source::Request), |from| from.value),
            values,
            default: None,
        };
        let default = attribute.default.as_ref().and_then(|default| self::default(default, &made, findings));
        all.push(Attribute { default, ..made });
    }
    all
}

fn typed(
    scalar: &Scalar,
    kind: ValueType,
    span: Span,
    findings: &mut Vec<Finding>,
) -> Option<crate::value::Value<'static>> {
    let value = scalar.read(kind).map(crate::value::Value::into_owned);
    if value.is_none() {
        let message = format!("{} is not of type {kind}", scalar.to_json());
        findings.push(Finding::error("types-differ", span, message));
    }
    value
}

fn default(written: &At<Written>, attribute: &Attribute, findings: &mut Vec<Finding>) -> Option<Stated> {
    let scalars: Vec<&Scalar> = match &written.value {
        Written::One(scalar) => vec![scalar],
        Written::Many(scalars) => scalars.iter().collect(),
    };
    if !attribute.many && matches!(written.value, Written::Many(_)) {
        let finding = Finding::error(
            "wrong-shape",
            written.span,
            "this attribute has one value, its default is a list",
        );
        findings.push(finding.help("add many = true, or take the brackets away"));
        return None;
    }
    for scalar in &scalars {
        let value = typed(scalar, attribute.kind, written.span, findings)?;
        if attribute.values.as_ref().is_some_and(|values| !values.contains(&value)) {
            let message = format!("the default {value} is not one of its values");
            findings.push(Finding::error("types-differ", written.span, message));
        }
    }
    Some(match &written.value {
        Written::One(scalar) if !attribute.many => Stated::One(scalar.clone()),
        Written::One(scalar) => Stated::Many(vec![scalar.clone()]),
        Written::Many(scalars) => Stated::Many(scalars.clone()),
    })
}

fn relations(
    written: &[syntax::Relation],
    keys: &[&str],
    names: &mut Interner,
    findings: &mut Vec<Finding>,
) -> Vec<Relation> {
    let mut all = Vec::new();
    for relation in written {
        reserved_name(&relation.key, &RESERVED_PATHS, "relation", findings);
        let mut to: Vec<KindId> =
            relation.to.iter().filter_map(|key| kind_id(key, keys, &|_| true, findings)).collect();
        to.sort_unstable();
        to.dedup();
        all.push(Relation {
            name: NameId(names.intern(&relation.key.value)),
            to,
            many: relation.many,
            from: relation.from.as_ref().map_or(Source::Register, |from| from.value),
            default_empty: relation.default_empty,
            across_tenants: relation.across_tenants,
        });
    }
    all
}

/// One name cannot be an attribute and a relation of one type.
fn both(attributes: &[syntax::Attribute], relations: &[syntax::Relation], findings: &mut Vec<Finding>) {
    let first: HashMap<&str, Span> = attributes.iter().map(|a| (a.key.value.as_str(), a.key.span)).collect();
    for relation in relations {
        if let Some(span) = first.get(relation.key.value.as_str()) {
            let message = format!("{:?} is an attribute and a relation of one type", relation.key.value);
            let finding = Finding::error("defined-twice", relation.key.span, message);
            findings.push(finding.beside(*span, "the attribute"));
        }
    }
}

/// A type that declares containment whose walk can never end: nothing of it can be registered.
fn rootless(tree: &Tree, kinds: &[Kind], findings: &mut Vec<Finding>) {
    let mut rooted = vec![false; kinds.len()];
    for (at, kind) in kinds.iter().enumerate() {
        rooted[at] = kind.within.is_empty();
    }
    loop {
        let before = rooted.iter().filter(|is| **is).count();
        for (at, kind) in kinds.iter().enumerate() {
            rooted[at] |= kind.within.iter().any(|outer| rooted[outer.index()]);
        }
        if rooted.iter().filter(|is| **is).count() == before {
            break;
        }
    }
    let places: HashMap<&str, usize> =
        kinds.iter().enumerate().rev().map(|(at, kind)| (kind.key.as_str(), at)).collect();
    for resource in &tree.resources {
        let Some(&at) = places.get(resource.key.value.as_str()) else { continue };
        if !kinds[at].within.is_empty() && !rooted[at] {
            let message = format!(
                "what {:?} lies within never ends at a tenant or at a type that lies nowhere, \
                 so none can ever be registered",
                resource.key.value
            );
            let finding = Finding::warning("never-ends", resource.key.span, message);
            findings.push(
                finding.help("add \"tenant\", or a type without within, to what one of them lies within"),
            );
        }
    }
}
