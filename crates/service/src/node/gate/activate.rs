//! Who may activate a grant on standby, and under which condition.

use super::Scope;
use super::permission::Permission;
use crate::node::write::Condition;
use crate::problem::Problem;
use jiff::Timestamp;
use ostrog_core::charter::model::PermId;
use ostrog_core::decide::standby::may_begin;
use ostrog_core::prelude::World;
use ostrog_wire::register::ActivationRequest;
use serde_json::{Map, Value};

impl Scope {
    /// Refuses an application that may not activate this. Whether an operator may is asked of the change.
    ///
    /// # Errors
    /// If it may not.
    pub fn may_activate(&self, asked: &ActivationRequest) -> Result<(), Problem> {
        let Some(application) = self.application() else {
            return self.need_somewhere(Permission::RegisterActivate);
        };
        self.need(Permission::Activation)?;
        self.looks.up();
        if asked.session.is_some() && gives_its_own(&self.live()?.world, application, &asked.grant) {
            return Ok(());
        }
        Err(Problem::forbidden(
            "An application activates, for a session, only grants whose role says self = true and gives something of its own types.",
        ))
    }

    /// That the condition of the grant's role holds.
    pub fn condition_to_begin(
        &self,
        grant: String,
        subject: String,
        context: Map<String, Value>,
    ) -> Condition {
        let now = Timestamp::now();
        let scope = self.clone();
        Box::new(move |world: &World| {
            let may = may_begin(world.engine_in(&scope.sight), &grant, &subject, &context, now);
            may.map_err(|why| Problem::invalid(format!("{why}.")))
        })
    }
}

/// Whether a grant's role may be activated by its holders, and may give something of an application's types.
fn gives_its_own(world: &World, application: &str, grant: &str) -> bool {
    let policy = world.policy();
    let model = policy.model();
    let register = world.register();
    let role = register.grant_by_id(grant).and_then(|grant| policy.role(register.text(grant.role)));
    role.is_some_and(|role| {
        let own = model.kinds.iter().filter(|kind| {
            kind.application.is_some_and(|owner| model.applications[owner].key == application)
        });
        let mut permissions = own.flat_map(|kind| kind.permissions.clone()).map(|at| PermId::at(at as usize));
        model.roles[role.index()].standby.as_ref().is_some_and(|standby| standby.by_self)
            && permissions.any(|permission| policy.may_give(role, permission))
    })
}
