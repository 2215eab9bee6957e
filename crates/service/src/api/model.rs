//! What a charter declares, for lists, pages and forms.

use crate::body::{InPath, Params};
use crate::node::gate::Operator;
use crate::problem::{Problem, Refused};
use axum::Json;
use ostrog_core::charter::grid::{Grid, grid as sheet};
use ostrog_core::charter::model::{
    Affordance, Attribute, ClaimMeant, Clause, Condition, Confer, Issuer, Kind, KindId, Needs, PermId,
    Relation, Role, RoleId, Route, Rule, Separation, Stated, TenantClause,
};
use ostrog_core::charter::policy::Policy;
use ostrog_core::charter::syntax::{Effect, GivenTo, Source, Unregistered};
use ostrog_core::decide::explain::Word;
use ostrog_wire::charter::{
    AffordanceShown, ClaimMeant as Claim, ClauseShown, ConferShown, IssuerMeant, Model, Named, NamedShown,
    OtherShown, Property, RoleShown, RouteShown, RuleShown, SeparationShown, StandbyShown, TypeShown, Under,
    ValueAsked,
};
use serde_json::Value;
use std::sync::Arc;

/// Most routes that are named where one gives way to them.
const MAX_BEFORE: usize = 20;

/// The text that is asked about: a draft's, or what is live.
async fn policy(operator: &Operator, under: &Under) -> Result<Arc<Policy>, Problem> {
    let texts = operator.texts()?;
    match &under.draft {
        Some(id) => texts.compiled(texts.draft(id).await?.sources).await,
        None => {
            let none = || Problem::unavailable("No charter is live.");
            texts.live().map(|(_, policy)| Arc::clone(policy)).ok_or_else(none)
        }
    }
}

/// What a charter declares.
#[utoipa::path(get, path = "/api/v1/model", tag = "charter", params(Under),
    responses(
        (status = 200, description = "Applications, types, roles, rules", body = Model),
        Refused,
    ), security(("key" = [])))]
pub async fn model(operator: Operator, Params(under): Params<Under>) -> Result<Json<Model>, Problem> {
    Ok(Json(model_of(&*policy(&operator, &under).await?)))
}

/// The roles grid of one resource type.
#[utoipa::path(get, path = "/api/v1/types/{type}/grid", tag = "charter",
    params(("type" = String, Path, description = "A resource type"), Under),
    responses(
        (status = 200, description = "Roles from small to large, actions in order", body = Grid),
        Refused,
    ), security(("key" = [])))]
pub async fn grid(
    operator: Operator,
    InPath(kind): InPath<String>,
    Params(under): Params<Under>,
) -> Result<Json<Grid>, Problem> {
    let policy = policy(&operator, &under).await?;
    let id = policy.kind(&kind).filter(|kind| KindId::is_resource(*kind));
    let id = id.ok_or_else(|| Problem::not_found(format!("The charter declares no type {kind}.")))?;
    Ok(Json(sheet(&policy, id)))
}

fn attribute(policy: &Policy, one: &Attribute) -> Property {
    Property {
        key: policy.name(one.name).to_owned(),
        kind: one.kind.to_string(),
        many: one.many,
        from: word(one.from),
        values: one.values.as_ref().map(|values| values.iter().map(|value| value.to_json()).collect()),
        default: one.default.as_ref().map(Stated::to_json),
        across_tenants: false,
    }
}

fn relation(policy: &Policy, one: &Relation) -> Property {
    let to: Vec<&str> = one.to.iter().map(|to| policy.model().kinds[to.index()].key.as_str()).collect();
    Property {
        key: policy.name(one.name).to_owned(),
        kind: to.join(", "),
        many: one.many,
        from: word(one.from),
        values: None,
        default: one.default_empty.then(|| Value::Array(Vec::new())),
        across_tenants: one.across_tenants,
    }
}

fn word(from: Source) -> Word {
    match from {
        Source::Register => "register",
        Source::Request => "request",
        Source::Either => "either",
        Source::Token => "token",
        Source::RegisterOrToken => "register-or-token",
    }
    .into()
}

fn named(key: &str, name: &str, description: &str) -> Named {
    Named { key: key.to_owned(), name: name.to_owned(), description: description.to_owned() }
}

/// What a compiled charter declares.
pub fn model_of(policy: &Policy) -> Model {
    let model = policy.model();
    let key = |id: &RoleId| model.roles[id.index()].key.clone();
    let separation = |one: &Separation| SeparationShown {
        key: one.key.clone(),
        name: one.name.clone(),
        roles: one.roles.iter().map(key).collect(),
    };
    Model {
        applications: model.applications.iter().map(|a| named(&a.key, &a.name, &a.description)).collect(),
        types: model.kinds.iter().filter_map(|kind| resource_type(policy, kind)).collect(),
        roles: model.roles.iter().map(|one| role(policy, one)).collect(),
        others: others(policy),
        rules: model.rules.iter().map(|one| rule(policy, one)).collect(),
        confers: model.confers.iter().map(|one| confer(policy, one)).collect(),
        separations: model.separations.iter().map(separation).collect(),
        tenant_clauses: model.tenant_clauses.iter().map(|one| tenant_clause(policy, one)).collect(),
        groups: model.groups.clone(),
        conditions: model
            .named
            .iter()
            .map(|one| NamedShown { key: one.key.clone(), when: one.text.clone() })
            .collect(),
        routes: model.routes.iter().map(|one| route(policy, one)).collect(),
        affordances: model.affordances.iter().map(|one| affordance(policy, one)).collect(),
        issuers: model.issuers.iter().map(|one| issuer(policy, one)).collect(),
    }
}

fn route(policy: &Policy, one: &Route) -> RouteShown {
    let model = policy.model();
    let (needs, of) = one.needs.told(model);
    let application = model.applications[one.application].key.clone();
    let refused = one.needs == Needs::Refused;
    let before = |other: &Route| {
        let (theirs, own) = (other.method.as_str(), one.method.as_str());
        (theirs == own || (theirs == "HEAD" && own == "GET"))
            && (other.precedence(one).is_lt() || (theirs != own && other.precedence(one).is_eq()))
    };
    let mut gives_way_to: Vec<String> = Vec::new();
    model.paths[one.application].meeting(&one.segments, &mut |other| {
        let other = &model.routes[other];
        if before(other) {
            gives_way_to.push(format!("{} {}", other.method, other.path()));
        }
        (gives_way_to.len() >= MAX_BEFORE).then_some(())
    });
    RouteShown { gives_way_to, application, method: one.method.clone(), path: one.path(), needs, of, refused }
}

fn issuer(policy: &Policy, one: &Issuer) -> IssuerMeant {
    let model = policy.model();
    let claim = |ClaimMeant { claim, about, words }| Claim { claim, about, words };
    IssuerMeant {
        key: one.key.clone(),
        name: one.name.clone(),
        applications: one.applications.iter().map(|at| model.applications[*at].key.clone()).collect(),
        claims: one.meant(model).into_iter().map(claim).collect(),
        signed_in: one.unregistered == Unregistered::SignedIn,
    }
}

fn affordance(policy: &Policy, one: &Affordance) -> AffordanceShown {
    let model = policy.model();
    let permission = |id: PermId| model.permissions[id.index()].text.clone();
    AffordanceShown {
        application: model.applications[one.application].key.clone(),
        key: one.key.clone(),
        name: one.name.clone(),
        visible: permission(one.visible),
        enabled: permission(one.enabled),
        under: one.under.map(|at| model.affordances[at].key.clone()),
    }
}

fn others(policy: &Policy) -> Vec<OtherShown> {
    let model = policy.model();
    let kinds = [KindId::USER, KindId::SERVICE, KindId::TENANT].map(|kind| &model.kinds[kind.index()]);
    let all = kinds.into_iter().map(|kind| OtherShown {
        key: kind.key.clone(),
        attributes: kind.attributes.iter().map(|one| attribute(policy, one)).collect(),
        relations: kind.relations.iter().map(|one| relation(policy, one)).collect(),
    });
    let context = OtherShown {
        key: "context".to_owned(),
        attributes: model.context.iter().map(|one| attribute(policy, one)).collect(),
        relations: Vec::new(),
    };
    all.chain([context]).collect()
}

fn permissions(policy: &Policy, ids: &[PermId]) -> Vec<String> {
    ids.iter().map(|id| policy.model().permissions[id.index()].text.clone()).collect()
}

fn clause(policy: &Policy, one: &Clause) -> ClauseShown {
    ClauseShown {
        permissions: permissions(policy, &one.permissions),
        when: Some(condition(policy, &one.when)),
    }
}

fn tenant_clause(policy: &Policy, one: &TenantClause) -> ClauseShown {
    ClauseShown {
        permissions: permissions(policy, &one.permissions),
        when: one.when.as_ref().map(|when| condition(policy, when)),
    }
}

/// A condition as it is written, on one line.
fn condition(policy: &Policy, condition: &Condition) -> String {
    policy.sources().text(condition.span()).split_whitespace().collect::<Vec<_>>().join(" ")
}

fn resource_type(policy: &Policy, kind: &Kind) -> Option<TypeShown> {
    let model = policy.model();
    let owner = kind.application?;
    let permissions = kind.permissions.clone().map(|at| &model.permissions[at as usize]);
    Some(TypeShown {
        key: kind.key.clone(),
        name: kind.name.clone(),
        application: model.applications[owner].key.clone(),
        within: kind.within.iter().map(|outer| model.kinds[outer.index()].key.clone()).collect(),
        actions: permissions.map(|p| named(&p.action, &p.action, &p.description)).collect(),
        attributes: kind.attributes.iter().map(|one| attribute(policy, one)).collect(),
        relations: kind.relations.iter().map(|one| relation(policy, one)).collect(),
    })
}

fn role(policy: &Policy, role: &Role) -> RoleShown {
    let model = policy.model();
    let held_at = role.held_at.as_ref().map(|held| {
        let kinds = held.kinds.iter().map(|kind| model.kinds[kind.index()].key.clone());
        kinds.chain(held.everywhere.then(|| "everywhere".to_owned())).collect()
    });
    let holders = [(role.held_by_users, "user"), (role.held_by_services, "service")];
    RoleShown {
        key: role.key.clone(),
        name: role.name.clone(),
        description: role.description.clone(),
        includes: role.includes.iter().map(|inner| model.roles[inner.index()].key.clone()).collect(),
        held_by: holders.into_iter().filter(|(may, _)| *may).map(|(_, kind)| kind.into()).collect(),
        held_at,
        grantable: role.grantable,
        given_to: role.given_to.map(|given_to| GivenTo::text(given_to).into()),
        values: role
            .values
            .iter()
            .map(|(key, kind)| ValueAsked { key: key.clone(), kind: kind.to_string() })
            .collect(),
        permissions: permissions(policy, &role.permissions),
        except: permissions(policy, &role.except),
        when: role.when.as_ref().map(|when| condition(policy, when)),
        clauses: role.clauses.iter().map(|one| clause(policy, one)).collect(),
        standby: role.standby.as_ref().map(|standby| StandbyShown {
            longest: standby.longest.as_secs(),
            reason: standby.reason,
            by_self: standby.by_self,
            when: standby.when.as_ref().map(|when| condition(policy, when)),
        }),
    }
}

fn rule(policy: &Policy, rule: &Rule) -> RuleShown {
    RuleShown {
        key: rule.key.clone(),
        effect: if rule.effect == Effect::Deny { "deny" } else { "allow" }.into(),
        permissions: permissions(policy, &rule.permissions),
        when: rule.when.as_ref().map(|when| condition(policy, when)),
        message: rule.message.clone(),
        for_anyone: rule.for_anyone,
        across_tenants: rule.across_tenants,
    }
}

fn confer(policy: &Policy, confer: &Confer) -> ConferShown {
    let model = policy.model();
    let role = |id: RoleId| model.roles[id.index()].key.clone();
    let kind = model.kinds[confer.kind.index()].key.clone();
    let when = confer.when.as_ref().map(|when| condition(policy, when));
    let path = confer.path_text.clone();
    let whom = match (confer.holds, path.as_str()) {
        (Some(held), "within") => format!("whoever holds {} where it lies", role(held)),
        (Some(held), path) => format!("whoever holds {} at its {path}", role(held)),
        (None, path) => format!("its {path}"),
    };
    let end = when.as_ref().map_or(String::new(), |when| format!(", when {when}"));
    ConferShown {
        sentence: format!("A {kind} makes {whom} its {}{end}.", role(confer.role)),
        role: role(confer.role),
        holds: confer.holds.map(role),
        kind,
        path,
        when,
    }
}
