//! The roles grid: what each role gives of one resource type, action by action, in words.

use super::model::{Condition, KindId, PermId, RoleId};
use super::policy::Policy;
use serde::{Deserialize, Serialize};
use std::borrow::Cow;

/// One resource type's sheet.
#[derive(Clone, Debug, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(rename_all = "kebab-case")]
pub struct Grid {
    /// The type's key.
    pub kind: String,
    /// Its name.
    pub name: String,
    /// Its actions, in the order they were declared.
    pub actions: Vec<Column>,
    /// The roles that give any of them, from small to large.
    pub roles: Vec<Row>,
}

/// An action.
#[derive(Clone, Debug, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(rename_all = "kebab-case")]
pub struct Column {
    /// `type:action`.
    pub permission: String,
    /// The action.
    pub action: String,
    /// For people.
    pub description: String,
    /// The deny rules above it.
    pub denies: Vec<String>,
    /// The allow rules beside the roles.
    pub allows: Vec<String>,
}

/// A role.
#[derive(Clone, Debug, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(rename_all = "kebab-case")]
pub struct Row {
    /// Its key.
    pub role: String,
    /// Its name.
    pub name: String,
    /// For people.
    pub description: String,
    /// To whom it is given without a grant.
    #[serde(skip_serializing_if = "Option::is_none")]
    #[cfg_attr(feature = "schema", schema(value_type = Option<String>))]
    pub given_to: Option<Cow<'static, str>>,
    /// The roles it includes.
    pub includes: Vec<String>,
    /// One cell an action.
    pub cells: Vec<Cell>,
}

/// What a role does about an action.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(rename_all = "kebab-case")]
pub enum How {
    /// Nothing.
    Nothing,
    /// Gives it.
    Gives,
    /// Gives it through a role it includes.
    Included,
    /// Gives it under a condition.
    When,
    /// Takes it out of what it would give.
    TakenOut,
}

/// A cell.
#[derive(Clone, Debug, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(rename_all = "kebab-case")]
pub struct Cell {
    /// What it says.
    pub how: How,
    /// The whole of it in words.
    pub text: String,
    /// The included roles it comes through.
    pub through: Vec<String>,
    /// The conditions on it, as written.
    pub conditions: Vec<String>,
}

/// The sheet of a resource type.
pub fn grid(policy: &Policy, kind: KindId) -> Grid {
    let model = policy.model();
    let declared = &model.kinds[kind.index()];
    let permissions: Vec<PermId> = declared.permissions.clone().map(PermId).collect();
    let rule_keys = |rules: &[super::model::RuleId]| {
        rules.iter().map(|rule| model.rules[rule.index()].key.clone()).collect()
    };
    let actions = permissions
        .iter()
        .map(|id| {
            let permission = &model.permissions[id.index()];
            Column {
                permission: permission.text.clone(),
                action: permission.action.clone(),
                description: permission.description.clone(),
                denies: rule_keys(policy.denies(*id)),
                allows: rule_keys(policy.allows(*id)),
            }
        })
        .collect();
    let mut roles: Vec<(usize, RoleId)> = (0..model.roles.len())
        .map(RoleId::at)
        .map(|role| (permissions.iter().filter(|p| policy.may_give(role, **p)).count(), role))
        .filter(|(count, role)| {
            *count > 0 || permissions.iter().any(|p| model.roles[role.index()].except.contains(p))
        })
        .collect();
    roles.sort_unstable();
    let roles = roles.into_iter().map(|(_, role)| row(policy, role, &permissions)).collect();
    Grid { kind: declared.key.clone(), name: declared.name.clone(), actions, roles }
}

fn row(policy: &Policy, id: RoleId, permissions: &[PermId]) -> Row {
    let model = policy.model();
    let role = &model.roles[id.index()];
    Row {
        role: role.key.clone(),
        name: role.name.clone(),
        description: role.description.clone(),
        given_to: role.given_to.map(|given| given.text().into()),
        includes: role.includes.iter().map(|inner| model.roles[inner.index()].key.clone()).collect(),
        cells: permissions.iter().map(|permission| cell(policy, id, *permission)).collect(),
    }
}

fn cell(policy: &Policy, id: RoleId, permission: PermId) -> Cell {
    let model = policy.model();
    let role = &model.roles[id.index()];
    let (name, what) = (&role.name, &model.permissions[permission.index()].text);
    let mut conditions = Vec::new();
    let mut through = Vec::new();
    if role.except.contains(&permission) {
        let text = format!("{name} takes {what} out of what it would give");
        return Cell { how: How::TakenOut, text, through, conditions };
    }
    if !policy.may_give(id, permission) {
        return Cell { how: How::Nothing, text: format!("{name} does not give {what}"), through, conditions };
    }
    let own = role.permissions.contains(&permission)
        || role.clauses.iter().any(|clause| clause.permissions.contains(&permission));
    let givers = role.includes.iter().filter(|inner| policy.may_give(**inner, permission));
    through.extend(givers.map(|inner| model.roles[inner.index()].key.clone()));
    if policy.surely_gives(id, permission) {
        let direct = role.permissions.contains(&permission);
        let text = if direct {
            format!("{name} gives {what}")
        } else {
            format!("{name} gives {what} through {}", through.join(", "))
        };
        return Cell { how: if direct { How::Gives } else { How::Included }, text, through, conditions };
    }
    collect_conditions(policy, id, permission, &mut conditions);
    let by =
        if own || through.is_empty() { String::new() } else { format!(" through {}", through.join(", ")) };
    let text = format!("{name} gives {what}{by} only when {}", conditions.join("; "));
    Cell { how: How::When, text, through, conditions }
}

fn collect_conditions(policy: &Policy, id: RoleId, permission: PermId, into: &mut Vec<String>) {
    let role = &policy.model().roles[id.index()];
    let text = |condition: &Condition| {
        policy.sources().text(condition.span()).split_whitespace().collect::<Vec<_>>().join(" ")
    };
    let clauses = role.clauses.iter().filter(|clause| clause.permissions.contains(&permission));
    let own = role.when.iter().chain(clauses.map(|clause| &clause.when));
    for condition in own.map(text) {
        if !into.contains(&condition) {
            into.push(condition);
        }
    }
    for inner in role.includes.iter().filter(|inner| policy.may_give(**inner, permission)) {
        collect_conditions(policy, *inner, permission, into);
    }
}
