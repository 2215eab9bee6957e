//! Issuers of tokens: which there are, how they stand, and setting them up. Only owners do.

use super::Scope;
use super::permission::Permission;
use crate::node::Node;
use crate::problem::Problem;
use jiff::Timestamp;
use ostrog_core::decide::bearer::{Bearer, NotBorne, Token};
use ostrog_core::prelude::World;
use ostrog_store::issuer::Issuer as Kept;
use ostrog_tokens::issuers::Step;
use ostrog_tokens::keys::KeyTold;
use ostrog_tokens::{Issuer, Refused, Verified};
use std::collections::BTreeMap;
use std::sync::Arc;

/// Which issuers there are.
#[derive(Clone, Copy, Debug)]
pub struct IssuerList<'s>(&'s Scope);

/// Setting them up and ending them.
#[derive(Clone, Copy, Debug)]
pub struct IssuerKeeping<'s>(&'s Scope);

impl Scope {
    /// Which issuers there are.
    ///
    /// # Errors
    /// If the caller may not see them.
    pub fn issuers(&self) -> Result<IssuerList<'_>, Problem> {
        self.need(Permission::IssuersRead).map(|()| IssuerList(self))
    }

    /// Setting issuers up and ending them.
    ///
    /// # Errors
    /// If the caller may not.
    pub fn issuer_keeping(&self) -> Result<IssuerKeeping<'_>, Problem> {
        self.need(Permission::IssuersKeep).map(|()| IssuerKeeping(self))
    }

    /// Holds a token against its issuer, for the caller's application; for an operator, for any.
    ///
    /// # Errors
    /// Why it does not count.
    pub async fn verified(&self, token: &str, now: Timestamp) -> Result<Arc<Verified>, Refused> {
        self.node.issuers.verify(token, self.application(), now).await
    }

    /// Who bears a token in a question of an application's, as if it asked.
    ///
    /// # Errors
    /// Within, in words, why it stands for nobody; or if nothing is live.
    pub async fn bearer_for(
        &self,
        token: &str,
        application: &str,
        now: Timestamp,
    ) -> Result<Result<(Arc<Bearer>, Token), String>, Problem> {
        let verified = match self.node.issuers.verify(token, Some(application), now).await {
            Ok(verified) => verified,
            Err(why) => return Ok(Err(why.to_string())),
        };
        self.looks.up();
        let token = Token { issuer: verified.issuer.clone(), claims: verified.claims.clone() };
        let live = &self.live()?.in_force;
        let own = live.of_application(application).unwrap_or(0);
        let bearer = Bearer::of(live.world(own), &token, Some(application));
        Ok(bearer.map(|bearer| (Arc::new(bearer), token)).map_err(|why| why.to_string()))
    }

    /// Whom a verified token names, under a charter that is live.
    ///
    /// # Errors
    /// If it names nobody.
    pub fn bearer(&self, verified: &Verified, under: &World) -> Result<Arc<Bearer>, NotBorne> {
        let token = Token { issuer: verified.issuer.clone(), claims: verified.claims.clone() };
        self.bearer_of(&token, under)
    }

    /// Whom claims name that are taken as verified, under a charter that is live.
    ///
    /// # Errors
    /// If they name nobody.
    pub fn bearer_of(&self, token: &Token, under: &World) -> Result<Arc<Bearer>, NotBorne> {
        self.looks.up();
        Bearer::of(under, token, self.application()).map(Arc::new)
    }
}

impl IssuerList<'_> {
    /// All of them, each with how it stands here.
    pub fn all(&self) -> Vec<(Kept, Option<Arc<Issuer>>)> {
        self.0.looks.up();
        let issuers = &self.0.node.issuers;
        self.0.view.issuers.iter().map(|kept| (kept.clone(), issuers.find(&kept.key))).collect()
    }

    /// Whether the live charter says what its tokens mean.
    pub fn is_in_charter(&self, key: &str) -> bool {
        let Ok(live) = self.0.live() else { return false };
        let mut models = live.in_force.worlds().iter().map(|world| world.policy().model());
        models.any(|model| model.issuers.iter().any(|issuer| issuer.key == key))
    }

    /// Finds its keys step by step; keeps nothing of it.
    ///
    /// # Errors
    /// If there is none.
    pub async fn attempt(&self, key: &str) -> Result<(Vec<Step>, Vec<KeyTold>), Problem> {
        self.0.looks.up();
        let issuers = &self.0.node.issuers;
        let issuer = issuers.find(key).ok_or_else(|| missing(key))?;
        Ok(issuers.attempt(&issuer).await)
    }
}

impl IssuerKeeping<'_> {
    /// Sets one up. Operators sign in with it only once another has approved that, where the settings in force say
    /// so: it says who somebody is.
    ///
    /// # Errors
    /// If its key or its address is taken, or it names an application that is not declared.
    pub async fn add(&self, mut issuer: Kept) -> Result<Kept, Problem> {
        self.are_declared(&issuer.audiences)?;
        issuer.persons = self.0.who().counts_as;
        let node = Arc::clone(&self.0.node);
        let record = self.0.node.record(move |write, _| {
            Box::pin(async move {
                issuer.waits = issuer.client.is_some() && node.is_approved_by_another(&issuer.persons);
                if write.add_issuer(&issuer).await? {
                    return Ok(issuer);
                }
                Err(Problem::conflict(
                    "There is an issuer of this key or this address already; end it first.",
                ))
            })
        });
        record.await
    }

    fn are_declared(&self, audiences: &BTreeMap<String, Vec<String>>) -> Result<(), Problem> {
        audiences.keys().try_for_each(|application| self.0.is_application(application))
    }

    /// Ends one: its tokens count no more, at once.
    ///
    /// # Errors
    /// If there is none.
    pub async fn end(&self, key: &str) -> Result<Kept, Problem> {
        self.0.looks.up();
        let known = self.0.view.issuers.iter().find(|kept| kept.key == key).cloned();
        let known = known.ok_or_else(|| missing(key))?;
        let (key, actor, node) = (key.to_owned(), self.0.key_id().to_owned(), Arc::clone(&self.0.node));
        let record = self.0.node.record(move |write, now| {
            Box::pin(async move {
                if !write.end_issuer(&key, &actor, now).await? {
                    return Err(missing(&key));
                }
                Node::sign_out_who_lost_all(write, &node.view().settings.settings, now).await?;
                Ok(known)
            })
        });
        record.await
    }
}

fn missing(key: &str) -> Problem {
    Problem::not_found(format!("There is no issuer {key:?}."))
}
