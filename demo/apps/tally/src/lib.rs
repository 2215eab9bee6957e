//! The port's old tally program: sheets on which clerks tally what a crane lifted. Its rules were written by hand, in it;
//! `docs/moving.md` moves them into a charter, step by step, and this is the program in the middle of that.
//!
//! - [`old`]: the rules as they were, which are deleted at the end;
//! - [`Tally`]: who is asked, by a switch: the old rules, both, or the charter.

#![forbid(unsafe_code)]

pub mod old;

use old::{Person, Sheet};
use ostrog_client::Client;
use ostrog_client::wire::access::{Action, Entity, EvaluationRequest};
use serde_json::{Value, json};
use std::sync::atomic::{AtomicU64, Ordering};

/// Whom the program believes.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Rules {
    /// Its own rules.
    Old,
    /// Its own rules; the charter is asked too, and where it says otherwise that is counted and logged.
    Both,
    /// The charter. Without an answer nobody may.
    Charter,
}

/// What the program asks.
#[derive(Debug)]
pub struct Tally {
    /// Whom it believes.
    pub rules: Rules,
    client: Client,
    differences: AtomicU64,
}

impl Tally {
    /// A program that asks by a client.
    pub fn new(rules: Rules, client: Client) -> Tally {
        Tally { rules, client, differences: AtomicU64::new(0) }
    }

    /// How often the two said different things.
    pub fn differences(&self) -> u64 {
        self.differences.load(Ordering::Relaxed)
    }

    /// Whether somebody may do something with a sheet.
    pub async fn may(&self, person: &Person, action: &str, sheet: &Sheet) -> bool {
        match self.rules {
            Rules::Old => old::may(person, action, sheet),
            Rules::Charter => self.ask(person, action, sheet).await.unwrap_or(false),
            Rules::Both => {
                let before = old::may(person, action, sheet);
                match self.ask(person, action, sheet).await {
                    Some(after) if after == before => {}
                    after => {
                        self.differences.fetch_add(1, Ordering::Relaxed);
                        tracing::warn!(
                            person = person.id,
                            action,
                            sheet = sheet.id,
                            before,
                            ?after,
                            "they differ"
                        );
                    }
                }
                before
            }
        }
    }

    async fn ask(&self, person: &Person, action: &str, sheet: &Sheet) -> Option<bool> {
        let subject = format!("user:{}", person.id);
        let resource = format!("tally-sheet:{}", sheet.id);
        let asked = self.client.evaluate(&subject, &format!("tally-sheet:{action}"), Some(&resource)).await;
        asked.map(|answer| answer.decision).ok()
    }
}

/// A decision of the old rules as a line of a record: the question as `POST /access/v1/evaluation` has it, and what
/// was answered.
pub fn recorded(person: &Person, action: &str, sheet: &Sheet) -> Value {
    let entity =
        |kind: &str, id: &str| Entity { kind: kind.to_owned(), id: Some(id.to_owned()), properties: None };
    let question = EvaluationRequest {
        subject: entity("user", &person.id),
        action: Action { name: action.to_owned() },
        resource: entity("tally-sheet", &sheet.id),
        context: None,
    };
    let mut line = json!(question);
    line["decision"] = old::may(person, action, sheet).into();
    line
}
