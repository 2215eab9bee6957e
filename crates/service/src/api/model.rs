//! What a charter declares, for lists, pages and forms.

use crate::App;
use crate::body::Params;
use crate::caller::Operator;
use crate::node::State as NodeState;
use crate::problem::{Problem, Refused};
use axum::Json;
use axum::extract::{Path, State};
use ostrog_core::charter::grid::{Grid, grid as sheet};
use ostrog_core::charter::model::{
    Attribute, Clause, Condition, Confer, Kind, KindId, PermId, Relation, Role, RoleId, Rule, Separation,
    Stated, TenantClause,
};
use ostrog_core::charter::policy::Policy;
use ostrog_core::charter::syntax::{Effect, GivenTo, Source};
use serde::{Deserialize, Serialize};
use serde_json::Value;
use std::sync::Arc;
use utoipa::{IntoParams, ToSchema};

/// What a charter declares, for lists and pages.
#[derive(Debug, Serialize, ToSchema)]
#[serde(rename_all = "kebab-case")]
pub struct Model {
    /// Applications.
    applications: Vec<Named>,
    /// Resource types.
    types: Vec<TypeShown>,
    /// What users, services and tenants have, and what the context may carry.
    others: Vec<OtherShown>,
    /// Roles.
    roles: Vec<RoleShown>,
    /// Rules, by key.
    rules: Vec<RuleShown>,
    /// What relationships confer.
    confers: Vec<ConferShown>,
    /// Roles that nobody may hold two of.
    separations: Vec<SeparationShown>,
    /// What tenants may put into roles of their own.
    tenant_clauses: Vec<ClauseShown>,
    /// Keys of the groups that conditions name.
    groups: Vec<String>,
}

/// A role.
#[derive(Debug, Serialize, ToSchema)]
#[serde(rename_all = "kebab-case")]
pub struct RoleShown {
    /// Its key.
    key: String,
    /// Its name.
    name: String,
    /// For people.
    description: String,
    /// Roles it includes.
    includes: Vec<String>,
    /// Who may hold it: `user`, `service`.
    held_by: Vec<&'static str>,
    /// Where it may be granted; none stated: anywhere.
    held_at: Option<Vec<String>>,
    /// Whether it may be granted.
    grantable: bool,
    /// To whom it is given without a grant.
    given_to: Option<&'static str>,
    /// The values each grant names, and their types.
    values: Vec<ValueAsked>,
    /// What it gives by itself.
    permissions: Vec<String>,
    /// What it takes out of what it gives.
    except: Vec<String>,
    /// What guards all it gives.
    when: Option<String>,
    /// What it gives under conditions of their own, in the order they are written.
    clauses: Vec<ClauseShown>,
    /// On what terms its grants are activated.
    standby: Option<StandbyShown>,
}

/// Permissions under a condition.
#[derive(Debug, Serialize, ToSchema)]
pub struct ClauseShown {
    /// The permissions.
    permissions: Vec<String>,
    /// The condition; none: always.
    when: Option<String>,
}

/// A value that each grant of a role names.
#[derive(Debug, Serialize, ToSchema)]
pub struct ValueAsked {
    /// Its name.
    key: String,
    /// Its type.
    kind: String,
}

/// On what terms grants of a role are activated.
#[derive(Debug, Serialize, ToSchema)]
#[serde(rename_all = "kebab-case")]
pub struct StandbyShown {
    /// Longest time of one activation, in seconds.
    longest: i64,
    /// Whether it needs a reason.
    reason: bool,
    /// Whether its holder may activate it.
    by_self: bool,
    /// What must be so.
    when: Option<String>,
}

/// A rule.
#[derive(Debug, Serialize, ToSchema)]
#[serde(rename_all = "kebab-case")]
pub struct RuleShown {
    /// Its key.
    key: String,
    /// `allow` or `deny`.
    effect: &'static str,
    /// What it is about.
    permissions: Vec<String>,
    /// Its condition; none: always.
    when: Option<String>,
    /// For the person refused.
    message: Option<String>,
    /// Whether it reaches anyone, or only who is signed in.
    for_anyone: bool,
    /// Whether it reaches members of other tenants.
    across_tenants: bool,
}

/// What a relationship confers.
#[derive(Debug, Serialize, ToSchema)]
pub struct ConferShown {
    /// The type that confers.
    kind: String,
    /// The role.
    role: String,
    /// The relation, or path, from the resource.
    path: String,
    /// Whoever holds this role at its end; none: who stands there.
    holds: Option<String>,
    /// Its condition.
    when: Option<String>,
    /// All of it in one sentence.
    sentence: String,
}

/// Roles that nobody may hold two of.
#[derive(Debug, Serialize, ToSchema)]
pub struct SeparationShown {
    /// Its key.
    key: String,
    /// Its name.
    name: String,
    /// The roles.
    roles: Vec<String>,
}

/// Something with a key and a name.
#[derive(Debug, Serialize, ToSchema)]
pub struct Named {
    /// Its key.
    key: String,
    /// Its name.
    name: String,
    /// For people.
    description: String,
}

/// A resource type.
#[derive(Debug, Serialize, ToSchema)]
pub struct TypeShown {
    /// Its key.
    key: String,
    /// Its name.
    name: String,
    /// The application that owns it.
    application: String,
    /// What it may lie within.
    within: Vec<String>,
    /// Its actions.
    actions: Vec<Named>,
    /// Its attributes.
    attributes: Vec<Property>,
    /// Its relations.
    relations: Vec<Property>,
}

/// What something has that is no resource.
#[derive(Debug, Serialize, ToSchema)]
pub struct OtherShown {
    /// `user`, `service`, `tenant` or `context`.
    key: String,
    /// Its attributes; of the context, its keys.
    attributes: Vec<Property>,
    /// Its relations.
    relations: Vec<Property>,
}

/// An attribute or a relation.
#[derive(Debug, Serialize, ToSchema)]
#[serde(rename_all = "kebab-case")]
pub struct Property {
    /// Its name.
    key: String,
    /// The type of its value, or the types it leads to.
    kind: String,
    /// Whether there can be several.
    many: bool,
    /// Where it is read from: `register`, `request` or `either`.
    from: &'static str,
    /// The only values it may have.
    values: Option<Vec<Value>>,
    /// What it is where nothing states it.
    default: Option<Value>,
    /// Whether it may lead into another tenant.
    across_tenants: bool,
}

impl Property {
    fn of(policy: &Policy, one: &Attribute) -> Property {
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

    fn to(policy: &Policy, one: &Relation) -> Property {
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
}

fn word(from: Source) -> &'static str {
    match from {
        Source::Register => "register",
        Source::Request => "request",
        Source::Either => "either",
    }
}

fn live(state: &NodeState) -> Result<&crate::node::Live, Problem> {
    state.live.as_ref().ok_or_else(|| Problem::unavailable("No charter is live."))
}

/// Under which text.
#[derive(Debug, Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
#[serde(deny_unknown_fields)]
pub struct Under {
    /// A draft, `D-1`; none: what is live.
    draft: Option<String>,
}

impl Under {
    async fn policy(&self, app: &App) -> Result<Arc<Policy>, Problem> {
        match &self.draft {
            Some(id) => app.texts.compiled(&super::draft::find(app, id).await?.sources),
            None => Ok(Arc::clone(live(&app.node.state())?.world.policy())),
        }
    }
}

/// What a charter declares.
#[utoipa::path(get, path = "/api/v1/model", tag = "charter", params(Under),
    responses(
        (status = 200, description = "Applications, types, roles, rules", body = Model),
        Refused,
    ), security(("key" = [])))]
pub async fn model(
    State(app): State<App>,
    operator: Operator,
    Params(under): Params<Under>,
) -> Result<Json<Model>, Problem> {
    operator.needs("charter:read")?;
    let policy = under.policy(&app).await?;
    Ok(Json(Model::of(&policy)))
}

fn named(key: &str, name: &str, description: &str) -> Named {
    Named { key: key.to_owned(), name: name.to_owned(), description: description.to_owned() }
}

impl Model {
    /// Of a compiled charter.
    pub fn of(policy: &Policy) -> Model {
        let model = policy.model();
        let role = |id: &RoleId| model.roles[id.index()].key.clone();
        let separation = |one: &Separation| SeparationShown {
            key: one.key.clone(),
            name: one.name.clone(),
            roles: one.roles.iter().map(role).collect(),
        };
        Model {
            applications: model.applications.iter().map(|a| named(&a.key, &a.name, &a.description)).collect(),
            types: model.kinds.iter().filter_map(|kind| TypeShown::of(policy, kind)).collect(),
            roles: model.roles.iter().map(|role| RoleShown::of(policy, role)).collect(),
            others: others(policy),
            rules: model.rules.iter().map(|rule| RuleShown::of(policy, rule)).collect(),
            confers: model.confers.iter().map(|confer| ConferShown::of(policy, confer)).collect(),
            separations: model.separations.iter().map(separation).collect(),
            tenant_clauses: model
                .tenant_clauses
                .iter()
                .map(|one| ClauseShown::of_tenants(policy, one))
                .collect(),
            groups: model.groups.clone(),
        }
    }
}

fn others(policy: &Policy) -> Vec<OtherShown> {
    let model = policy.model();
    let kinds = [KindId::USER, KindId::SERVICE, KindId::TENANT].map(|kind| &model.kinds[kind.index()]);
    let all = kinds.into_iter().map(|kind| OtherShown {
        key: kind.key.clone(),
        attributes: kind.attributes.iter().map(|one| Property::of(policy, one)).collect(),
        relations: kind.relations.iter().map(|one| Property::to(policy, one)).collect(),
    });
    let context = OtherShown {
        key: "context".to_owned(),
        attributes: model.context.iter().map(|one| Property::of(policy, one)).collect(),
        relations: Vec::new(),
    };
    all.chain([context]).collect()
}

fn permissions(policy: &Policy, ids: &[PermId]) -> Vec<String> {
    ids.iter().map(|id| policy.model().permissions[id.index()].text.clone()).collect()
}

impl ClauseShown {
    fn of(policy: &Policy, one: &Clause) -> ClauseShown {
        ClauseShown {
            permissions: permissions(policy, &one.permissions),
            when: Some(condition(policy, &one.when)),
        }
    }

    fn of_tenants(policy: &Policy, one: &TenantClause) -> ClauseShown {
        ClauseShown {
            permissions: permissions(policy, &one.permissions),
            when: one.when.as_ref().map(|when| condition(policy, when)),
        }
    }
}

/// A condition as it is written, on one line.
fn condition(policy: &Policy, condition: &Condition) -> String {
    policy.sources().text(condition.span()).split_whitespace().collect::<Vec<_>>().join(" ")
}

impl TypeShown {
    fn of(policy: &Policy, kind: &Kind) -> Option<TypeShown> {
        let model = policy.model();
        let owner = kind.application?;
        let permissions = kind.permissions.clone().map(|at| &model.permissions[at as usize]);
        Some(TypeShown {
            key: kind.key.clone(),
            name: kind.name.clone(),
            application: model.applications[owner].key.clone(),
            within: kind.within.iter().map(|outer| model.kinds[outer.index()].key.clone()).collect(),
            actions: permissions.map(|p| named(&p.action, &p.action, &p.description)).collect(),
            attributes: kind.attributes.iter().map(|one| Property::of(policy, one)).collect(),
            relations: kind.relations.iter().map(|one| Property::to(policy, one)).collect(),
        })
    }
}

impl RoleShown {
    fn of(policy: &Policy, role: &Role) -> RoleShown {
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
            held_by: holders.into_iter().filter(|(may, _)| *may).map(|(_, kind)| kind).collect(),
            held_at,
            grantable: role.grantable,
            given_to: role.given_to.map(GivenTo::text),
            values: role
                .values
                .iter()
                .map(|(key, kind)| ValueAsked { key: key.clone(), kind: kind.to_string() })
                .collect(),
            permissions: permissions(policy, &role.permissions),
            except: permissions(policy, &role.except),
            when: role.when.as_ref().map(|when| condition(policy, when)),
            clauses: role.clauses.iter().map(|one| ClauseShown::of(policy, one)).collect(),
            standby: role.standby.as_ref().map(|standby| StandbyShown {
                longest: standby.longest.as_secs(),
                reason: standby.reason,
                by_self: standby.by_self,
                when: standby.when.as_ref().map(|when| condition(policy, when)),
            }),
        }
    }
}

impl RuleShown {
    fn of(policy: &Policy, rule: &Rule) -> RuleShown {
        RuleShown {
            key: rule.key.clone(),
            effect: if rule.effect == Effect::Deny { "deny" } else { "allow" },
            permissions: permissions(policy, &rule.permissions),
            when: rule.when.as_ref().map(|when| condition(policy, when)),
            message: rule.message.clone(),
            for_anyone: rule.for_anyone,
            across_tenants: rule.across_tenants,
        }
    }
}

impl ConferShown {
    fn of(policy: &Policy, confer: &Confer) -> ConferShown {
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
}

/// The roles grid of one resource type.
#[utoipa::path(get, path = "/api/v1/types/{type}/grid", tag = "charter",
    params(("type" = String, Path, description = "A resource type"), Under),
    responses(
        (status = 200, description = "Roles from small to large, actions in order", body = Grid),
        Refused,
    ), security(("key" = [])))]
pub async fn grid(
    State(app): State<App>,
    operator: Operator,
    Path(kind): Path<String>,
    Params(under): Params<Under>,
) -> Result<Json<Grid>, Problem> {
    operator.needs("charter:read")?;
    let policy = under.policy(&app).await?;
    let id = policy.kind(&kind).filter(|kind| KindId::is_resource(*kind));
    let id = id.ok_or_else(|| Problem::not_found(format!("The charter declares no type {kind}.")))?;
    Ok(Json(sheet(&policy, id)))
}
