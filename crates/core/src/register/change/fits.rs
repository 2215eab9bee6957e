//! What a charter says of a fact.

use super::*;

pub(super) fn declared_attribute<'p>(
    policy: &'p Policy,
    kind: &str,
    name: &str,
) -> Result<&'p Attribute, Wrong> {
    let model = policy.model();
    let declared = &policy.kind(kind).map_or(&[][..], |kind| &model.kinds[kind.index()].attributes);
    declared.iter().find(|attribute| policy.name(attribute.name) == name).ok_or_else(|| {
        let known = declared.iter().map(|attribute| policy.name(attribute.name));
        match declared_relation(policy, kind, name) {
            Ok(_) => Wrong::IsARelation { kind: kind.into(), name: name.into() },
            Err(_) => {
                let near = Near::of(name, known);
                Wrong::UnknownAttribute { kind: kind.into(), name: name.into(), near }
            }
        }
    })
}

pub(super) fn declared_relation<'p>(
    policy: &'p Policy,
    kind: &str,
    name: &str,
) -> Result<&'p Relation, Wrong> {
    let model = policy.model();
    let declared = &policy.kind(kind).map_or(&[][..], |kind| &model.kinds[kind.index()].relations);
    declared.iter().find(|relation| policy.name(relation.name) == name).ok_or_else(|| {
        let near = Near::of(name, declared.iter().map(|relation| policy.name(relation.name)));
        Wrong::UnknownRelation { kind: kind.into(), name: name.into(), near }
    })
}

pub(super) fn fits_attribute(attribute: &Attribute, name: &str, value: &Stated) -> Result<(), Wrong> {
    let kind = attribute.kind;
    let scalars = match value {
        Stated::One(one) => std::slice::from_ref(one),
        Stated::Many(many) if attribute.many => many,
        _ => return Err(Wrong::NotOne { name: name.into(), kind }),
    };
    if scalars.len() > MAX_LIST {
        return Err(Wrong::TooManyValues { name: name.into(), most: MAX_LIST });
    }
    for scalar in scalars {
        let Some(value) = scalar.read(kind) else {
            let value = scalar.to_json().to_string().into();
            return Err(Wrong::WrongType { name: name.into(), kind, value });
        };
        if let Some(values) = attribute.values.as_ref().filter(|values| !values.contains(&value)) {
            let values = values.iter().map(ToString::to_string).collect::<Vec<_>>().join(", ").into();
            return Err(Wrong::NotAmongValues { name: name.into(), values, value: value.to_string().into() });
        }
    }
    Ok(())
}

pub(super) fn declared_role<'p>(policy: &'p Policy, key: &str) -> Result<&'p Role, Wrong> {
    let model = policy.model();
    policy.role(key).map(|role| &model.roles[role.index()]).ok_or_else(|| {
        let near = Near::of(key, model.roles.iter().map(|role| role.key.as_str()));
        Wrong::UnknownRole { role: key.into(), near }
    })
}

pub(super) fn fits_role(
    policy: &Policy,
    declared: &Role,
    line: &GrantLine,
    holder: &str,
    place: Option<&str>,
) -> Result<(), Wrong> {
    let model = policy.model();
    let role = || line.role.as_str().into();
    if !declared.grantable {
        return Err(Wrong::NotGrantable { role: role() });
    }
    if let Some(kind) = policy.kind(holder).filter(|kind| kind.is_subject() && !declared.held_by(*kind)) {
        let kind = model.kinds[kind.index()].key.as_str().into();
        return Err(Wrong::NotHeldBy { role: role(), kind });
    }
    let kind: Option<KindId> = place.and_then(|place| policy.kind(place));
    if declared.held_at.as_ref().is_some_and(|held| !held.permits(kind)) {
        let place = place.map_or_else(|| "everywhere".to_owned(), |place| format!("a {place}"));
        return Err(Wrong::NotHeldAt { role: role(), place: place.into() });
    }
    for (name, kind) in &declared.values {
        let named = || name.as_str().into();
        let Some((_, values)) = line.values.iter().find(|(known, _)| known == name) else {
            return Err(Wrong::ValueNotNamed { role: role(), name: named() });
        };
        if values.is_empty() || values.len() > crate::value::MAX_MEMBERS {
            return Err(Wrong::ValueCount { name: named(), most: crate::value::MAX_MEMBERS });
        }
        if let Some(wrong) = values.iter().find(|value| value.read(*kind).is_none()) {
            let value = wrong.to_json().to_string().into();
            return Err(Wrong::ValueWrongType { name: named(), kind: *kind, value });
        }
    }
    let odd = line.values.iter().find(|(name, _)| !declared.values.iter().any(|(known, _)| known == name));
    if let Some((name, _)) = odd {
        let near = Near::of(name, declared.values.iter().map(|(name, _)| name.as_str()));
        return Err(Wrong::UnknownValue { role: role(), name: name.as_str().into(), near });
    }
    Ok(())
}

/// What a pattern stands for.
pub(super) fn declared_permissions(policy: &Policy, pattern: &str) -> Result<Vec<PermId>, Wrong> {
    let permissions = policy.expand(pattern);
    if permissions.is_empty() {
        let known = policy.model().permissions.iter().map(|permission| permission.text.as_str());
        return Err(Wrong::UnknownPermission { pattern: pattern.into(), near: Near::of(pattern, known) });
    }
    Ok(permissions)
}

/// Whether tenants may put what a pattern stands for into roles of their own.
pub(in crate::register) fn fits_tenant_clauses(policy: &Policy, pattern: &str) -> Result<(), Wrong> {
    for_tenants(policy, &declared_permissions(policy, pattern)?)
}

/// Whether tenants may put permissions into roles of their own.
pub(super) fn for_tenants(policy: &Policy, permissions: &[PermId]) -> Result<(), Wrong> {
    for permission in permissions {
        let permission = *permission;
        if policy.tenant_clauses(permission).is_empty() {
            let text = &policy.model().permissions[permission.index()].text;
            return Err(Wrong::NotForTenants { permission: text.as_str().into() });
        }
    }
    Ok(())
}

/// Whether a charter permits a grant that a register holds.
pub(in crate::register) fn grant_fits(
    policy: &Policy,
    register: &Register,
    grant: &Grant<'_>,
) -> Result<(), Wrong> {
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
    fits_role(policy, declared_role(policy, &line.role)?, &line, &kind(grant.to), place.as_deref())
}

/// Whether a charter permits what a register says of an entity; `whole`: whether it must declare all of it.
pub(in crate::register) fn entity_fits(
    policy: &Policy,
    register: &Register,
    id: EntityId,
    whole: bool,
) -> Result<(), Wrong> {
    let kind = register.text(register.kind(id));
    let model = policy.model();
    let Some(declared) = policy.kind(kind).map(|kind| &model.kinds[kind.index()]) else {
        let known = model.kinds.iter().map(|kind| kind.key.as_str());
        let unknown = Wrong::UnknownType { kind: kind.into(), near: Near::of(kind, known) };
        return if whole { Err(unknown) } else { Ok(()) };
    };
    for (name, value) in register.attributes(id) {
        let name = register.text(name);
        match declared_attribute(policy, kind, name) {
            Ok(attribute) => fits_attribute(attribute, name, value)?,
            Err(why) if whole => return Err(why),
            Err(_) => {}
        }
    }
    let is_one_of = |target: EntityId, kinds: &[KindId]| {
        policy.kind(register.text(register.kind(target))).is_some_and(|kind| kinds.contains(&kind))
    };
    for (name, to) in register.relations(id) {
        let name = register.text(name);
        let relation = match declared_relation(policy, kind, name) {
            Ok(relation) => relation,
            Err(why) if whole => return Err(why),
            Err(_) => continue,
        };
        if !relation.many && to.len() > 1 {
            return Err(Wrong::LedToOne { name: name.into(), count: to.len() });
        }
        if let Some(odd) = to.iter().find(|target| !is_one_of(**target, &relation.to)) {
            return Err(Wrong::DoesNotLeadTo { name: name.into(), target: register.name(*odd).into() });
        }
    }
    match register.within(id) {
        Some(outer) if !is_one_of(outer, &declared.within) => {
            Err(Wrong::NotWithin { kind: kind.into(), outer: register.name(outer).into() })
        }
        None if !declared.within.is_empty() => Err(Wrong::LiesWithinNothing),
        _ => Ok(()),
    }
}
