//! Lists of a service, all pages of them.

use ostrog_client::Client;
use ostrog_client::Result;
use ostrog_wire::register::{
    ActivationLine, ActivationQuery, EntityLine, EntityQuery, GrantLine, GrantQuery, TenantQuery,
    TenantRoleLine,
};

/// Items of a page.
const PAGE: usize = 1_000;

/// All grants that a query is about.
///
/// # Errors
/// If the service cannot be reached or refuses.
pub async fn grants(client: &Client, mut query: GrantQuery) -> Result<Vec<GrantLine>> {
    let mut all = Vec::new();
    query.limit = Some(PAGE);
    loop {
        let page = client.grants(&query).await?;
        all.extend(page.items);
        match page.next {
            Some(next) => query.after = next,
            None => return Ok(all),
        }
    }
}

/// Everything that is registered, in an order in which it can be loaded: each part is told as it comes.
///
/// # Errors
/// If the service cannot be reached or refuses.
pub async fn register(client: &Client, mut tell: impl FnMut(Line)) -> Result<()> {
    let mut query = EntityQuery { limit: Some(PAGE), ..EntityQuery::default() };
    loop {
        let page = client.entities(&query).await?;
        page.items.into_iter().map(Box::new).for_each(|line| tell(Line::Entity(line)));
        match page.next {
            Some(next) => query.after = next,
            None => break,
        }
    }
    let roles = client.tenant_roles(&TenantQuery::default()).await?;
    roles.items.into_iter().for_each(|line| tell(Line::TenantRole(line)));
    let mut query = GrantQuery { limit: Some(PAGE), ..GrantQuery::default() };
    loop {
        let page = client.grants(&query).await?;
        page.items.into_iter().for_each(|line| tell(Line::Grant(line)));
        match page.next {
            Some(next) => query.after = next,
            None => break,
        }
    }
    activations(client, ActivationQuery::default())
        .await?
        .into_iter()
        .for_each(|line| tell(Line::Activation(line)));
    Ok(())
}

/// All activations that a query is about.
///
/// # Errors
/// If the service cannot be reached or refuses.
pub async fn activations(client: &Client, mut query: ActivationQuery) -> Result<Vec<ActivationLine>> {
    let mut all = Vec::new();
    loop {
        let page = client.activations(&query).await?;
        all.extend(page.items);
        match page.next.and_then(|next| next.parse().ok()) {
            Some(next) => query.after = next,
            None => return Ok(all),
        }
    }
}

/// A line of a register.
#[derive(Debug, serde::Serialize)]
#[serde(untagged)]
pub enum Line {
    /// All that is said of an entity.
    Entity(Box<EntityLine>),
    /// A tenant's own role.
    TenantRole(TenantRoleLine),
    /// A grant.
    Grant(GrantLine),
    /// An activation.
    Activation(ActivationLine),
}
