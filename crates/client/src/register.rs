//! Facts: read and written.

use crate::{Client, Result, answer};
use ostrog_wire::register::{
    ActivationLine, ActivationQuery, ActivationRequest, DeleteQuery, EntityLine, EntityQuery, EntityShown,
    Facts, Grant, GrantLine, GrantQuery, LoadQuery, NoteQuery, Page, TenantQuery, TenantRole, TenantRoleLine,
    Written,
};
use reqwest::Method;

impl Client {
    /// Entities by name: one page.
    ///
    /// # Errors
    /// If the service cannot be reached or refuses.
    pub async fn entities(&self, query: &EntityQuery) -> Result<Page<EntityLine>> {
        self.get(&["entities"], query).await
    }

    /// All that is known of an entity.
    ///
    /// # Errors
    /// If it is not registered, or the service cannot be reached.
    pub async fn entity(&self, name: &str) -> Result<EntityShown> {
        self.get(&["entities", name], &()).await
    }

    /// Writes all that is said of an entity; with the `tag` that was read, only if it is still so.
    ///
    /// # Errors
    /// What is wrong with it; or that it has changed since.
    pub async fn put_entity(&self, line: &EntityLine, tag: Option<&str>) -> Result<Written> {
        let mut request = self.managing(Method::PUT, &["entities", &line.entity])?.json(line);
        if let Some(tag) = tag {
            request = request.header("if-match", tag);
        }
        answer(request).await
    }

    /// Deletes an entity, and every fact that names it.
    ///
    /// # Errors
    /// If it is not registered, or something lies within it that is not to be deleted too.
    pub async fn delete_entity(&self, name: &str, query: &DeleteQuery) -> Result<Written> {
        self.delete(&["entities", name], query).await
    }

    /// Grants by id: one page.
    ///
    /// # Errors
    /// If the service cannot be reached or refuses.
    pub async fn grants(&self, query: &GrantQuery) -> Result<Page<GrantLine>> {
        self.get(&["grants"], query).await
    }

    /// Gives a role.
    ///
    /// # Errors
    /// What is wrong with it.
    pub async fn give_grant(&self, grant: &Grant) -> Result<Written> {
        self.post(&["grants"], grant).await
    }

    /// Ends a grant, for a reason that is kept.
    ///
    /// # Errors
    /// If there is none of this id, or the service cannot be reached.
    pub async fn end_grant(&self, id: &str, note: Option<&str>) -> Result<Written> {
        self.delete(&["grants", id], &noted(note)).await
    }

    /// Activations, soonest end first.
    ///
    /// # Errors
    /// If the service cannot be reached or refuses.
    pub async fn activations(&self, query: &ActivationQuery) -> Result<Page<ActivationLine>> {
        self.get(&["activations"], query).await
    }

    /// Activates a grant on standby.
    ///
    /// # Errors
    /// If it may not be.
    pub async fn activate(&self, activation: &ActivationRequest) -> Result<Written> {
        self.post(&["activations"], activation).await
    }

    /// Ends an activation.
    ///
    /// # Errors
    /// If there is none of this id.
    pub async fn deactivate(&self, id: &str, note: Option<&str>) -> Result<Written> {
        self.delete(&["activations", id], &noted(note)).await
    }

    /// Roles that tenants made.
    ///
    /// # Errors
    /// If the service cannot be reached or refuses.
    pub async fn tenant_roles(&self, query: &TenantQuery) -> Result<Page<TenantRoleLine>> {
        self.get(&["tenant-roles"], query).await
    }

    /// Makes a tenant's own role, or makes it anew.
    ///
    /// # Errors
    /// What is wrong with it.
    pub async fn put_tenant_role(&self, role: &TenantRole) -> Result<Written> {
        self.put(&["tenant-roles"], role).await
    }

    /// Ends a tenant's own role, and the grants of it.
    ///
    /// # Errors
    /// If there is none.
    pub async fn end_tenant_role(&self, tenant: &str, key: &str, note: Option<&str>) -> Result<Written> {
        self.delete(&["tenant-roles", tenant, key], &noted(note)).await
    }

    /// Sets and removes facts, all or none.
    ///
    /// # Errors
    /// What is wrong with them.
    pub async fn set_facts(&self, facts: &Facts) -> Result<Written> {
        self.post(&["facts"], facts).await
    }

    /// Loads register lines, all or none.
    ///
    /// # Errors
    /// What is wrong, line by line; or that the service cannot be reached.
    pub async fn load(&self, lines: String, query: &LoadQuery) -> Result<Written> {
        let request = self.managing(Method::POST, &["register"])?.query(query);
        answer(request.header("content-type", "application/x-ndjson").body(lines)).await
    }
}

fn noted(note: Option<&str>) -> NoteQuery {
    NoteQuery { note: note.map(str::to_owned) }
}
