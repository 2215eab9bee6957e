//! What a charter says of a fact.

use super::*;

pub(super) fn declared_attribute<'p>(
    policy: &'p Policy,
    kind: &str,
    name: &str,
) -> Result<&'p Attribute, String> {
    let model = policy.model();
    let declared = &policy.kind(kind).map_or(&[][..], |kind| &model.kinds[kind.index()].attributes);
    declared.iter().find(|attribute| policy.name(attribute.name) == name).ok_or_else(|| {
        let known = declared.iter().map(|attribute| policy.name(attribute.name));
        let relation = declared_relation(policy, kind, name).is_ok();
        let near = if relation { "; it is a relation".to_owned() } else { did_you_mean(name, known) };
        format!("a {kind} has no attribute {name:?}{near}")
    })
}

pub(super) fn declared_relation<'p>(
    policy: &'p Policy,
    kind: &str,
    name: &str,
) -> Result<&'p Relation, String> {
    let model = policy.model();
    let declared = &policy.kind(kind).map_or(&[][..], |kind| &model.kinds[kind.index()].relations);
    declared.iter().find(|relation| policy.name(relation.name) == name).ok_or_else(|| {
        let known = declared.iter().map(|relation| policy.name(relation.name));
        format!("a {kind} has no relation {name:?}{}", did_you_mean(name, known))
    })
}

pub(super) fn fits_attribute(attribute: &Attribute, name: &str, value: &Stated) -> Result<(), String> {
    let scalars = match value {
        Stated::One(one) => std::slice::from_ref(one),
        Stated::Many(many) if attribute.many => many,
        _ => return Err(format!("the attribute {name:?} is one {}", attribute.kind)),
    };
    if scalars.len() > MAX_LIST {
        return Err(format!("the attribute {name:?} has more than {MAX_LIST} values"));
    }
    for scalar in scalars {
        let Some(value) = scalar.read(attribute.kind) else {
            return Err(format!(
                "the attribute {name:?} is of type {}, and {} is not",
                attribute.kind,
                scalar.to_json()
            ));
        };
        if let Some(values) = attribute.values.as_ref().filter(|values| !values.contains(&value)) {
            let known: Vec<String> = values.iter().map(ToString::to_string).collect();
            return Err(format!("the attribute {name:?} is one of {}, not {value}", known.join(", ")));
        }
    }
    Ok(())
}

pub(super) fn fits_role(
    policy: &Policy,
    line: &GrantLine,
    holder: &str,
    place: Option<&str>,
) -> Result<(), String> {
    let model = policy.model();
    let Some(role) = policy.role(&line.role).map(|role| &model.roles[role.index()]) else {
        let known = model.roles.iter().map(|role| role.key.as_str());
        return Err(format!("unknown role {:?}{}", line.role, did_you_mean(&line.role, known)));
    };
    if !role.grantable {
        return Err(format!("{:?} is not granted (grantable = false)", role.key));
    }
    if let Some(kind) = policy.kind(holder).filter(|kind| kind.is_subject() && !role.held_by(*kind)) {
        return Err(format!("{:?} is not held by a {}", role.key, model.kinds[kind.index()].key));
    }
    let kind: Option<KindId> = place.and_then(|place| policy.kind(place));
    if role.held_at.as_ref().is_some_and(|held| !held.permits(kind)) {
        return Err(format!(
            "{:?} is not granted at {}",
            role.key,
            place.map_or_else(|| "everywhere".to_owned(), |place| format!("a {place}"))
        ));
    }
    for (name, kind) in &role.values {
        let Some((_, values)) = line.values.iter().find(|(known, _)| known == name) else {
            return Err(format!(
                "a grant of {:?} names its {name}: \"values\": {{\"{name}\": […]}}",
                role.key
            ));
        };
        if values.is_empty() || values.len() > crate::value::MAX_MEMBERS {
            return Err(format!("the value {name:?} names 1 to {} things", crate::value::MAX_MEMBERS));
        }
        if let Some(wrong) = values.iter().find(|value| value.read(*kind).is_none()) {
            return Err(format!("the value {name:?} is of type {kind}, and {} is not", wrong.to_json()));
        }
    }
    if let Some((name, _)) =
        line.values.iter().find(|(name, _)| !role.values.iter().any(|(known, _)| known == name))
    {
        let known = role.values.iter().map(|(name, _)| name.as_str());
        return Err(format!("grants of {:?} have no value {name:?}{}", role.key, did_you_mean(name, known)));
    }
    Ok(())
}

/// Whether tenants may put what a pattern stands for into roles of their own.
pub(in crate::register) fn fits_tenant_clauses(policy: &Policy, pattern: &str) -> Result<(), String> {
    let permissions = policy.expand(pattern);
    if permissions.is_empty() {
        let known = policy.model().permissions.iter().map(|permission| permission.text.as_str());
        return Err(format!("unknown permission {pattern:?}{}", did_you_mean(pattern, known)));
    }
    for permission in permissions {
        if policy.tenant_clauses(permission).is_empty() {
            let text = &policy.model().permissions[permission.index()].text;
            return Err(format!("the charter lets no tenant put {text:?} into a role of its own"));
        }
    }
    Ok(())
}

/// Whether a charter permits a grant that a register holds.
pub(in crate::register) fn grant_fits(
    policy: &Policy,
    register: &Register,
    grant: &Grant<'_>,
) -> Result<(), String> {
    let kind = |id: EntityId| register.text(register.kind(id)).to_owned();
    let place = match grant.at {
        PlaceOf::Everywhere => None,
        PlaceOf::At(id) => Some(kind(id)),
    };
    let role = register.text(grant.role).to_owned();
    if role.contains('/') {
        return Ok(());
    }
    let values =
        grant.terms.values.iter().map(|(name, values)| (register.text(*name).to_owned(), values.clone()));
    let line = GrantLine { role, values: values.collect(), ..GrantLine::default() };
    fits_role(policy, &line, &kind(grant.to), place.as_deref())
}

/// Whether a charter permits what a register says of an entity.
pub(in crate::register) fn entity_fits(
    policy: &Policy,
    register: &Register,
    id: EntityId,
) -> Result<(), String> {
    let kind = register.text(register.kind(id));
    let model = policy.model();
    let Some(declared) = policy.kind(kind).map(|kind| &model.kinds[kind.index()]) else {
        let known = model.kinds.iter().map(|kind| kind.key.as_str());
        return Err(format!("unknown type {kind:?}{}", did_you_mean(kind, known)));
    };
    for (name, value) in register.attributes(id) {
        let name = register.text(name);
        fits_attribute(declared_attribute(policy, kind, name)?, name, value)?;
    }
    let is_one_of = |target: EntityId, kinds: &[KindId]| {
        policy.kind(register.text(register.kind(target))).is_some_and(|kind| kinds.contains(&kind))
    };
    for (name, to) in register.relations(id) {
        let name = register.text(name);
        let relation = declared_relation(policy, kind, name)?;
        if !relation.many && to.len() > 1 {
            return Err(format!("{name:?} leads to one thing, not {}", to.len()));
        }
        if let Some(odd) = to.iter().find(|target| !is_one_of(**target, &relation.to)) {
            return Err(format!("{name:?} does not lead to {}", register.name(*odd)));
        }
    }
    match register.within(id) {
        Some(outer) if !is_one_of(outer, &declared.within) => {
            Err(format!("a {kind} does not lie within {}", register.name(outer)))
        }
        None if !declared.within.is_empty() => Err("it lies within nothing".to_owned()),
        _ => Ok(()),
    }
}
