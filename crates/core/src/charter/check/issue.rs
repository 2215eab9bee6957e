//! What tokens mean: whose they are, and which claims count for what.

use super::connect::application;
use super::{Scope, errors};
use crate::charter::model::{Application, Attribute, GroupClaim, Issuer, KindId, TenantClaim};
use crate::charter::syntax::{self, Tree, Unregistered};
use crate::names::split_entity;
use crate::source::{At, Finding};

/// All issuers, by key.
pub fn issuers(
    scope: &Scope<'_>,
    tree: &Tree,
    applications: &[Application],
    findings: &mut Vec<Finding>,
) -> Vec<Issuer> {
    let mut written: Vec<&syntax::Issuer> = tree.issuers.iter().collect();
    written.sort_by(|a, b| a.key.value.cmp(&b.key.value));
    written.dedup_by(|a, b| a.key.value == b.key.value);
    for (at, one) in written.iter().enumerate() {
        let prefix =
            |issuer: &syntax::Issuer| issuer.prefix.as_ref().map_or("", |text| &text.value).to_owned();
        let alike = |other: &&&syntax::Issuer| {
            prefix(other) == prefix(one) && !(other.same_people && one.same_people)
        };
        if let Some(other) = written[..at].iter().find(alike) {
            let place = one.prefix.as_ref().map_or(one.key.span, |prefix| prefix.span);
            findings.push(errors::issuers_alike::told(place, &one.key.value, &other.key));
        }
    }
    written.into_iter().map(|issuer| self::issuer(scope, issuer, applications, findings)).collect()
}

fn issuer(
    scope: &Scope<'_>,
    written: &syntax::Issuer,
    applications: &[Application],
    findings: &mut Vec<Finding>,
) -> Issuer {
    let claim =
        |text: Option<&At<String>>, findings: &mut Vec<Finding>| text.map(|text| self::claim(text, findings));
    if let Some(prefix) = &written.prefix
        && !prefix.value.is_empty()
        && let Err(wrong) = split_entity(&format!("user:{}", prefix.value))
    {
        findings.push(Finding::error("wrong-shape", prefix.span, wrong.to_string()));
    }
    let mut of: Vec<usize> = written
        .applications
        .iter()
        .filter_map(|key| application(Some(key), applications, findings))
        .collect();
    of.sort_unstable();
    of.dedup();
    Issuer {
        key: written.key.value.clone(),
        name: written.name.as_ref().unwrap_or(&written.key).value.clone(),
        applications: of,
        subject: claim(written.subject.as_ref(), findings).unwrap_or_else(|| "sub".to_owned()),
        prefix: written.prefix.as_ref().map_or_else(String::new, |prefix| prefix.value.clone()),
        same_people: written.same_people,
        lower_case: written.lower_case,
        services: written.services.as_ref().map(|services| {
            let is = services.is.iter().map(|value| value.value.clone()).collect();
            (self::claim(&services.claim, findings), is)
        }),
        session: claim(written.session.as_ref(), findings),
        unregistered: written.unregistered.as_ref().map_or(Unregistered::Anonymous, |word| word.value),
        tenants: written.tenants.as_ref().map(|tenants| TenantClaim {
            claim: self::claim(&tenants.claim, findings),
            only: tenants
                .only
                .as_ref()
                .map(|only| only.iter().filter_map(|id| named(id, "tenant", findings)).collect()),
        }),
        attributes: attributes(scope, &written.attributes, findings),
        context: context(scope, &written.context, findings),
        groups: written.groups.iter().map(|group| groups(group, findings)).collect(),
        span: written.key.span,
    }
}

/// A claim has a name.
fn claim(text: &At<String>, findings: &mut Vec<Finding>) -> String {
    if text.value.is_empty() {
        findings.push(Finding::error("wrong-shape", text.span, "a claim has a name"));
    }
    text.value.clone()
}

/// `night` or `group:night`, whole.
fn named(text: &At<String>, kind: &str, findings: &mut Vec<Finding>) -> Option<String> {
    let bare = text.value.strip_prefix(&format!("{kind}:")).unwrap_or(&text.value);
    let name = format!("{kind}:{bare}");
    match split_entity(&name) {
        Ok(_) => Some(name),
        Err(wrong) => {
            findings.push(Finding::error("wrong-shape", text.span, wrong.to_string()));
            None
        }
    }
}

fn attributes(
    scope: &Scope<'_>,
    written: &[(At<String>, At<String>)],
    findings: &mut Vec<Finding>,
) -> Vec<(crate::charter::model::NameId, String)> {
    let declared =
        || [KindId::USER, KindId::SERVICE].iter().flat_map(|kind| &scope.kinds[kind.index()].attributes);
    let key = |attribute: &Attribute| scope.names.text(attribute.name.0);
    let mut all = Vec::new();
    for (name, from) in written {
        let from = claim(from, findings);
        match declared().find(|attribute| key(attribute) == name.value) {
            Some(attribute) => all.push((attribute.name, from)),
            None => {
                let message = format!("neither users nor services declare the attribute {:?}", name.value);
                let finding = Finding::error("unknown-name", name.span, message);
                findings.push(finding.meant(&name.value, declared().map(key)));
            }
        }
    }
    all
}

fn context(
    scope: &Scope<'_>,
    written: &[(At<String>, At<String>)],
    findings: &mut Vec<Finding>,
) -> Vec<(usize, String)> {
    let key = |attribute: &Attribute| scope.names.text(attribute.name.0);
    let mut all = Vec::new();
    for (name, from) in written {
        let from = claim(from, findings);
        match scope.context.iter().position(|attribute| key(attribute) == name.value) {
            Some(at) => all.push((at, from)),
            None => {
                let message = format!("the context declares no {:?}", name.value);
                let finding = Finding::error("unknown-context", name.span, message);
                findings.push(finding.meant(&name.value, scope.context.iter().map(key)));
            }
        }
    }
    all
}

fn groups(written: &syntax::GroupClaim, findings: &mut Vec<Finding>) -> GroupClaim {
    let map = written
        .map
        .iter()
        .filter_map(|(value, group)| Some((value.value.clone(), named(group, "group", findings)?)));
    GroupClaim {
        map: map.collect(),
        claim: claim(&written.claim, findings),
        by_name: written.by_name.as_ref().is_some_and(|by_name| by_name.value),
        stale_ok: written.stale_ok,
        span: written.span,
    }
}
