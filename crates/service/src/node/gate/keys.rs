//! Keys: which there are, and making, replacing and ending them. Nobody gives more than they have.

use super::Scope;
use super::permission::Permission;
use crate::operators::{self, Rights};
use crate::problem::Problem;
use jiff::{SignedDuration, Timestamp};
use ostrog_core::charter::model::Attribute;
use ostrog_core::names::Near;
use ostrog_core::value::ValueType;
use ostrog_store::key::{Key, KeyKind, KeyText, Making, Right};
use std::collections::BTreeSet;
use std::sync::Arc;

/// Which keys there are.
#[derive(Clone, Copy, Debug)]
pub struct KeyRing<'s>(&'s Scope);

/// Making, replacing and ending them.
#[derive(Clone, Copy, Debug)]
pub struct KeyKeeping<'s>(&'s Scope);

impl Scope {
    /// Which keys there are.
    ///
    /// # Errors
    /// If the caller may not see them.
    pub fn keys(&self) -> Result<KeyRing<'_>, Problem> {
        self.need(Permission::KeysRead).map(|()| KeyRing(self))
    }

    /// Making and ending keys.
    ///
    /// # Errors
    /// If the caller may not.
    pub fn key_keeping(&self) -> Result<KeyKeeping<'_>, Problem> {
        self.need(Permission::KeysKeep).map(|()| KeyKeeping(self))
    }
}

impl Scope {
    /// Refuses what is no application that a live charter declares.
    pub(super) fn is_application(&self, application: &str) -> Result<(), Problem> {
        let worlds = self.live()?.in_force.worlds();
        let all = worlds.iter().flat_map(|world| world.policy().model().applications.iter());
        let all: BTreeSet<&str> = all.map(|known| known.key.as_str()).collect();
        if all.contains(application) {
            return Ok(());
        }
        let near = Near::of(application, all);
        Err(Problem::invalid(format!("There is no application {application:?}{near}.")))
    }
}

impl KeyRing<'_> {
    /// All that count, oldest first, as the database has them: with when they were last used.
    ///
    /// # Errors
    /// If it cannot be reached.
    pub async fn all(&self) -> Result<Vec<Key>, Problem> {
        self.0.looks.up();
        let now = Timestamp::now();
        Ok(self.0.node.store.keys().await?.into_iter().filter(|key| key.counts(now)).collect())
    }
}

impl KeyKeeping<'_> {
    /// A key that counts.
    ///
    /// # Errors
    /// If there is none.
    pub fn find(&self, id: &str) -> Result<Key, Problem> {
        self.0.looks.up();
        let known = self.0.view.keys.counting(id, Timestamp::now());
        let missing = || Problem::not_found(format!("There is no key {id}, or it has ended."));
        known.map(|known| known.key.clone()).ok_or_else(missing)
    }

    /// Makes a key.
    ///
    /// # Errors
    /// If it would give what its maker has not, or is for an application that is not declared.
    pub async fn make(&self, mut making: Making) -> Result<(KeyText, Key), Problem> {
        match &making.kind {
            KeyKind::Operator => {
                self.covers(&making.rights)?;
                self.is_on_record(making.person.as_deref())?;
            }
            KeyKind::Application(application) => {
                self.is_declared(application)?;
                if making.staging {
                    self.0.need(Permission::CharterTry)?;
                }
                let activation = Permission::Activation;
                let activates = self.0.may(activation.for_operators());
                if making.endpoints.is_empty() {
                    let all = Permission::OF_APPLICATIONS.iter();
                    let given = all.filter(|endpoint| activates || **endpoint != activation);
                    making.endpoints = given.map(|endpoint| endpoint.name().to_owned()).collect();
                }
                if !activates && making.endpoints.iter().any(|endpoint| endpoint == activation.name()) {
                    return Err(Problem::forbidden(format!(
                        "A key that activates grants is made by whoever holds {} everywhere.",
                        activation.for_operators()
                    )));
                }
            }
            KeyKind::Proxy(proxied) => {
                for one in &proxied.applications {
                    self.is_declared(&one.application)?;
                }
                self.is_field(proxied.address_as.as_deref())?;
            }
        }
        self.0.node.new_key(making, self.0.who()).await
    }

    fn is_declared(&self, application: &str) -> Result<(), Problem> {
        self.0.is_application(application)
    }

    /// Refuses somebody who is no operator on record.
    fn is_on_record(&self, person: Option<&str>) -> Result<(), Problem> {
        let people = &self.0.view.settings.settings.operators.people;
        match person {
            Some(person) if !people.contains_key(person) => {
                let near = Near::of(person, people.keys().map(String::as_str));
                Err(Problem::invalid(format!(
                    "Nobody called {person:?} is on record{near}: the settings name them, in [operators.people]."
                )))
            }
            _ => Ok(()),
        }
    }

    /// Refuses what is no field of the context that an address can fill.
    fn is_field(&self, name: Option<&str>) -> Result<(), Problem> {
        let Some(name) = name else { return Ok(()) };
        let model = self.0.live()?.world().policy().model();
        let fits = |field: &&Attribute| {
            matches!(field.kind, ValueType::Address | ValueType::Text)
                && !field.many
                && field.from.may_be_stated()
        };
        let mut all = model.context.iter().filter(fits).map(|field| model.names.text(field.name.0));
        if all.clone().any(|known| known == name) {
            return Ok(());
        }
        let near = Near::of(name, &mut all);
        Err(Problem::invalid(format!(
            "{name:?} is no field of the context of the type address or text{near}."
        )))
    }

    /// Refuses rights of which the caller does not have all.
    fn covers(&self, rights: &[Right]) -> Result<(), Problem> {
        if self.0.rights().cover(&Rights::of(rights)) {
            return Ok(());
        }
        Err(Problem::forbidden("A key gives no right that its maker has not."))
    }

    /// Refuses a key that the caller could not have made: whoever may not give a right may not take it
    /// away, or have it in another key, either.
    fn could_make(&self, key: &Key) -> Result<(), Problem> {
        match key.making.kind {
            KeyKind::Operator => self.covers(&key.making.rights),
            KeyKind::Application(_) | KeyKind::Proxy(_) => Ok(()),
        }
    }

    /// Makes a key in place of another, which goes on counting for a while.
    ///
    /// # Errors
    /// If there is none, or the caller could not have made it.
    pub async fn replace(&self, id: &str, overlap: SignedDuration) -> Result<(KeyText, Key), Problem> {
        let old = self.find(id)?;
        self.could_make(&old)?;
        let activation = Permission::Activation;
        if old.making.endpoints.iter().any(|endpoint| endpoint == activation.name())
            && !self.0.may(activation.for_operators())
        {
            return Err(Problem::forbidden(format!(
                "A key that activates grants is replaced by whoever holds {} everywhere.",
                activation.for_operators()
            )));
        }
        let (id, who) = (id.to_owned(), self.0.who());
        let record = self.0.node.record(move |write, now| {
            Box::pin(async move {
                let mut by = who.by(now);
                let actor = by.actor.clone();
                // It counts as whoever made the one before, too.
                by.counts_as.extend(old.made_by.iter().cloned());
                let (key, text) = Key::new(old.making, &by);
                write.add_key(&key, &actor).await?;
                let until = now.checked_add(overlap).unwrap_or(now);
                if !write.end_key(&id, Some(until), &actor, now).await? {
                    return Err(ended_meanwhile());
                }
                Ok((text, key))
            })
        });
        record.await
    }

    /// Ends a key, at once.
    ///
    /// # Errors
    /// If there is none, the caller could not have made it, or it is the last owner's without an end.
    pub async fn end(&self, id: &str) -> Result<Key, Problem> {
        let key = self.find(id)?;
        self.could_make(&key)?;
        let (id, actor, node) = (id.to_owned(), self.0.key_id().to_owned(), Arc::clone(&self.0.node));
        let lasting = is_lasting_owner(&key);
        let record = self.0.node.record(move |write, now| {
            Box::pin(async move {
                // Looked at while nobody else writes: two owners who end each other's keys at once do not
                // both succeed.
                let owners = node.view().keys.all().filter(|known| is_lasting_owner(&known.key)).count();
                if lasting && owners == 1 {
                    return Err(Problem::conflict(
                        "This is the last owner's key without an end; make another first.",
                    ));
                }
                match write.end_key(&id, None, &actor, now).await? {
                    true => Ok(()),
                    false => Err(ended_meanwhile()),
                }
            })
        });
        record.await.map(|()| key)
    }
}

fn is_lasting_owner(key: &Key) -> bool {
    operators::is_owner(&key.making.rights) && key.making.until.is_none()
}

fn ended_meanwhile() -> Problem {
    Problem::conflict("The key has ended meanwhile.")
}
