//! What operators may do: their keys are services of a small charter of its own, which the same
//! core decides about.

use crate::problem::Problem;
use jiff::Timestamp;
use ostrog_core::charter;
use ostrog_core::prelude::{Policy, Register, Request, Sources, World, decide, line, with_scratch};
use ostrog_store::key::{Key, Right};
use serde_json::json;
use std::collections::BTreeSet;
use std::sync::{Arc, LazyLock};

static CHARTER: LazyLock<Arc<Policy>> = LazyLock::new(|| {
    let sources = Sources::single("operators.toml", include_str!("operators.toml"));
    Arc::new(charter::read(&sources).policy.expect("the built-in charter has no errors"))
});

/// The rights of one operator.
#[derive(Debug)]
pub struct Rights {
    world: World,
    subject: String,
}

impl Rights {
    /// The rights that a key has.
    pub fn of(key: &Key) -> Rights {
        Rights::new(&key.id, &key.making.rights)
    }

    fn new(id: &str, rights: &[Right]) -> Rights {
        let subject = format!("service:{id}");
        let mut world = World::new(Arc::clone(&CHARTER), Register::default());
        let tenants: BTreeSet<&str> =
            rights.iter().map(|right| right.at.as_str()).filter(|at| *at != "everywhere").collect();
        let mut lines = vec![json!({ "entity": subject })];
        lines.extend(tenants.iter().map(|tenant| json!({ "entity": tenant })));
        for right in rights {
            lines.push(json!({ "grant": { "role": right.role, "to": subject, "at": right.at } }));
        }
        let changes: Result<Vec<_>, String> = lines.iter().map(line::from_json).collect();
        // Rights that make no sense are no rights.
        if !changes.is_ok_and(|changes| world.apply(&changes).is_ok()) {
            tracing::error!(key = id, "the rights of a key cannot be read; it has none");
        }
        Rights { world, subject }
    }

    /// Whether a permission is held for what lies in a tenant, or in none.
    pub fn may(&self, permission: &str, tenant: Option<&str>) -> bool {
        let kind = permission.split(':').next().unwrap_or_default();
        let engine = self.world.engine();
        let known = tenant.filter(|tenant| engine.register.registered(tenant).is_some());
        let request = Request {
            subject: self.subject.clone(),
            permission: permission.to_owned(),
            resource: None,
            of_resource: known
                .filter(|_| kind == "register")
                .map(|tenant| ("within".to_owned(), tenant.into()))
                .into_iter()
                .collect(),
            ..Request::default()
        };
        let asked = request.resolve(engine, Timestamp::UNIX_EPOCH);
        let question = asked.ok().and_then(|asked| asked.question.ok());
        question.is_some_and(|question| with_scratch(|scratch| decide(engine, &question, scratch)).allowed)
    }

    /// Refuses unless a permission is held.
    ///
    /// # Errors
    /// With what is missing.
    pub fn need(&self, permission: &str, tenant: Option<&str>) -> Result<(), Problem> {
        if self.may(permission, tenant) {
            return Ok(());
        }
        let at = tenant.unwrap_or("everywhere");
        Err(Problem::forbidden(format!("This needs {permission} at {at}, which this key does not hold.")))
    }

    /// Whether every permission of some rights is held here too.
    pub fn cover(&self, rights: &[Right]) -> bool {
        let others = Rights::new("k-other", rights);
        let places = rights.iter().map(|right| Some(right.at.as_str()).filter(|at| *at != "everywhere"));
        places.chain([None]).all(|place| {
            let all = CHARTER.model().permissions.iter();
            all.filter(|permission| others.may(&permission.text, place))
                .all(|permission| self.may(&permission.text, place))
        })
    }
}

/// Why rights cannot be given, if they cannot.
pub fn wrong(rights: &[Right]) -> Option<String> {
    let roles = &CHARTER.model().roles;
    rights.iter().find_map(|right| {
        let Some(role) = CHARTER.role(&right.role).map(|role| &roles[role.index()]) else {
            let near =
                ostrog_core::names::did_you_mean(&right.role, roles.iter().map(|role| role.key.as_str()));
            return Some(format!("there is no operator's role {:?}{near}", right.role));
        };
        let everywhere = right.at == "everywhere";
        if !everywhere && !right.at.starts_with("tenant:") {
            return Some(format!("{:?} is no place of a right: everywhere, or tenant:id", right.at));
        }
        let only = role.held_at.as_ref().is_some() && !everywhere;
        only.then(|| format!("{:?} is held everywhere, not at {}", right.role, right.at))
    })
}

/// Whether some rights make an owner.
pub fn is_owner(rights: &[Right]) -> bool {
    rights.iter().any(|right| right.role == "owner")
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    fn rights(all: &[(&str, &str)]) -> Vec<Right> {
        all.iter().map(|(role, at)| Right { role: (*role).to_owned(), at: (*at).to_owned() }).collect()
    }

    #[rstest]
    #[case(&[("owner", "everywhere")], "keys:keep", None, true)]
    #[case(&[("reader", "everywhere")], "register:read", Some("tenant:north"), true)]
    #[case(&[("reader", "everywhere")], "register:entities", None, false)]
    #[case(&[("grant-editor", "tenant:north")], "register:grants", Some("tenant:north"), true)]
    #[case(&[("grant-editor", "tenant:north")], "register:grants", Some("tenant:south"), false)]
    #[case(&[("grant-editor", "tenant:north")], "register:grants", None, false)]
    #[case(&[("grant-editor", "tenant:north")], "register:entities", Some("tenant:north"), false)]
    #[case(&[("key-keeper", "everywhere")], "charter:release", None, false)]
    #[case(&[], "register:read", None, false)]
    fn rights_reach_as_far_as_their_place(
        #[case] held: &[(&str, &str)],
        #[case] permission: &str,
        #[case] tenant: Option<&str>,
        #[case] may: bool,
    ) {
        assert_eq!(Rights::new("k-1", &rights(held)).may(permission, tenant), may);
    }

    #[test]
    fn nobody_covers_more_than_they_hold() {
        let keeper = Rights::new("k-1", &rights(&[("key-keeper", "everywhere")]));
        assert!(keeper.cover(&rights(&[("reader", "tenant:north")])));
        assert!(keeper.cover(&rights(&[("key-keeper", "everywhere")])));
        assert!(!keeper.cover(&rights(&[("owner", "everywhere")])));
        assert!(!keeper.cover(&rights(&[("grant-editor", "tenant:north")])));
        let north = Rights::new("k-2", &rights(&[("register-editor", "tenant:north")]));
        assert!(north.cover(&rights(&[("grant-editor", "tenant:north")])));
        assert!(!north.cover(&rights(&[("grant-editor", "tenant:south")])));
        assert!(!north.cover(&rights(&[("grant-editor", "everywhere")])));
    }

    #[test]
    fn rights_that_make_no_sense_are_told_and_give_nothing() {
        let wrong = |role, at| super::wrong(&rights(&[(role, at)]));
        assert_eq!(
            wrong("raeder", "everywhere").as_deref(),
            Some("there is no operator's role \"raeder\"; did you mean \"reader\"?")
        );
        assert_eq!(
            wrong("reader", "vessel:a").as_deref(),
            Some("\"vessel:a\" is no place of a right: everywhere, or tenant:id")
        );
        assert_eq!(
            wrong("owner", "tenant:north").as_deref(),
            Some("\"owner\" is held everywhere, not at tenant:north")
        );
        assert!(!Rights::new("k-1", &rights(&[("owner", "tenant:north")])).may("register:read", None));
    }
}
