//! What may be done, by whomever: one list for operators and applications.

use std::fmt;

/// Something that may be done.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub enum Permission {
    /// Operators: read facts, and ask questions about them.
    RegisterRead,
    /// Operators: write entities.
    RegisterEntities,
    /// Operators: give and end grants.
    RegisterGrants,
    /// Operators: activate grants on standby.
    RegisterActivate,
    /// Operators: make tenants' own roles.
    RegisterRoles,
    /// Operators: read texts.
    CharterRead,
    /// Operators: save and discard drafts, and rehearse.
    CharterDraft,
    /// Operators: approve and return what others wrote.
    CharterApprove,
    /// Operators: put live, and go back.
    CharterRelease,
    /// Operators: put live what nobody approved.
    CharterUrgent,
    /// Operators: answer live questions beside, under a revision that is not live.
    CharterShadow,
    /// Operators: let applications ask ahead.
    CharterTry,
    /// Operators: read settings, and who operates.
    SettingsRead,
    /// Operators: change settings.
    SettingsKeep,
    /// Operators: see which keys there are.
    KeysRead,
    /// Operators: make, replace and end keys.
    KeysKeep,
    /// Operators: see which issuers of tokens there are.
    IssuersRead,
    /// Operators: set issuers up and end them.
    IssuersKeep,
    /// Operators: read what happened.
    LogRead,
    /// Operators: read what is measured.
    MetricsRead,
    /// Applications: ask one question.
    Evaluation,
    /// Applications: ask several.
    Evaluations,
    /// Applications: search.
    Search,
    /// Applications: row filters.
    Rows,
    /// Applications: what their interface shows and enables.
    Affordances,
    /// Applications: follow the position that answers are of.
    Position,
    /// Applications: activate grants on standby for their sessions.
    Activation,
    /// Reverse proxies: ask about a request.
    RouteCheck,
}

impl Permission {
    /// What operators may do; the built-in charter declares the same.
    pub const OF_OPERATORS: [Permission; 20] = [
        Permission::RegisterRead,
        Permission::RegisterEntities,
        Permission::RegisterGrants,
        Permission::RegisterActivate,
        Permission::RegisterRoles,
        Permission::CharterRead,
        Permission::CharterDraft,
        Permission::CharterApprove,
        Permission::CharterRelease,
        Permission::CharterUrgent,
        Permission::CharterShadow,
        Permission::CharterTry,
        Permission::SettingsRead,
        Permission::SettingsKeep,
        Permission::KeysRead,
        Permission::KeysKeep,
        Permission::IssuersRead,
        Permission::IssuersKeep,
        Permission::LogRead,
        Permission::MetricsRead,
    ];

    /// What applications may do; their keys are kept to some of these.
    pub const OF_APPLICATIONS: [Permission; 7] = [
        Permission::Evaluation,
        Permission::Evaluations,
        Permission::Search,
        Permission::Rows,
        Permission::Affordances,
        Permission::Position,
        Permission::Activation,
    ];

    /// Its stable name.
    pub fn name(self) -> &'static str {
        match self {
            Permission::RegisterRead => "register:read",
            Permission::RegisterEntities => "register:entities",
            Permission::RegisterGrants => "register:grants",
            Permission::RegisterActivate => "register:activate",
            Permission::RegisterRoles => "register:roles",
            Permission::CharterRead => "charter:read",
            Permission::CharterDraft => "charter:draft",
            Permission::CharterApprove => "charter:approve",
            Permission::CharterRelease => "charter:release",
            Permission::CharterUrgent => "charter:urgent",
            Permission::CharterShadow => "charter:shadow",
            Permission::CharterTry => "charter:try",
            Permission::SettingsRead => "settings:read",
            Permission::SettingsKeep => "settings:keep",
            Permission::KeysRead => "keys:read",
            Permission::KeysKeep => "keys:keep",
            Permission::IssuersRead => "issuers:read",
            Permission::IssuersKeep => "issuers:keep",
            Permission::LogRead => "log:read",
            Permission::MetricsRead => "metrics:read",
            Permission::Evaluation => "evaluation",
            Permission::Evaluations => "evaluations",
            Permission::Search => "search",
            Permission::Rows => "rows",
            Permission::Affordances => "affordances",
            Permission::Position => "position",
            Permission::Activation => "activation",
            Permission::RouteCheck => "route-check",
        }
    }

    /// What an operator needs to do what an application does.
    pub fn for_operators(self) -> Permission {
        match self {
            Permission::Evaluation
            | Permission::Evaluations
            | Permission::Search
            | Permission::Rows
            | Permission::Affordances
            | Permission::Position => Permission::RegisterRead,
            Permission::Activation => Permission::RegisterActivate,
            own => own,
        }
    }
}

impl fmt::Display for Permission {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(self.name())
    }
}

/// Some of them.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct Permissions(u32);

impl Permissions {
    /// Whether one is among them.
    pub fn has(self, permission: Permission) -> bool {
        self.0 & (1 << permission as u32) != 0
    }

    /// Whether all of others are among them.
    pub fn cover(self, others: Permissions) -> bool {
        others.0 & !self.0 == 0
    }
}

impl FromIterator<Permission> for Permissions {
    fn from_iter<I: IntoIterator<Item = Permission>>(all: I) -> Self {
        Permissions(all.into_iter().fold(0, |set, one| set | 1 << one as u32))
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn keys_are_kept_to_what_there_is() {
        assert_eq!(Permission::OF_APPLICATIONS.map(Permission::name), ostrog_wire::keys::ENDPOINTS);
    }
}
