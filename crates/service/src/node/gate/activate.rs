//! Who may activate a grant on standby, and under which condition.

use super::Scope;
use super::permission::Permission;
use crate::node::write::Condition;
use crate::problem::Problem;
use jiff::Timestamp;
use ostrog_core::charter::model::PermId;
use ostrog_core::decide::standby::may_begin;
use ostrog_core::prelude::{InForce, World};
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
        let live = &self.live()?.in_force;
        let own = live.of_application(application).unwrap_or(0);
        if asked.session.is_some() && gives_its_own(live.world(own), application, &asked.grant) {
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
        Box::new(move |in_force: &InForce| {
            // As the caller's own charter has it, or the first that declares the role.
            let own = scope.application().and_then(|application| in_force.of_application(application));
            let role = in_force.register().grant_by_id(&grant).map(|grant| grant.role);
            let role = role.map(|role| in_force.register().text(role));
            let knows = |world: &&World| role.is_some_and(|role| world.policy().role(role).is_some());
            let own = own.map(|at| in_force.world(at)).filter(knows);
            let any = || in_force.worlds().iter().find(knows).unwrap_or(in_force.last());
            let world = own.unwrap_or_else(any);
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
