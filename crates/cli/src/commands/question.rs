//! What the question commands share: where a question is asked, and what is said along with it.

use super::Global;
use crate::exit::Failure;
use crate::files;
use crate::shell::Shell;
use jiff::Timestamp;
use ostrog_client::Client;
use ostrog_core::prelude::{Request, Sight, World};
use ostrog_core::value::parse_time;
use ostrog_wire::questions::{AskedOf, BlankAnswer, BlankOptions, QuestionRequest};
use serde_json::Value;
use std::path::PathBuf;

/// Where a question is asked.
#[derive(Debug, clap::Args)]
pub struct Where {
    /// Ask this charter, offline
    #[arg(long, value_name = "DIR")]
    pub charter: Option<PathBuf>,
    /// With the facts of this file, offline
    #[arg(long, value_name = "FILE", requires = "charter")]
    pub register: Option<PathBuf>,
    /// Ask the live facts under the text of a revision
    #[arg(long, value_name = "N", conflicts_with_all = ["charter", "draft"])]
    pub revision: Option<i64>,
    /// Ask the live facts under the text of a draft
    #[arg(long, value_name = "D", conflicts_with = "charter")]
    pub draft: Option<String>,
}

/// What is said along with a question.
#[derive(Debug, clap::Args)]
pub struct With {
    /// A context key: zone=quay
    #[arg(long, value_name = "K=V")]
    pub context: Vec<String>,
    /// A property: hazard=5 of the resource, subject.clearance=3 of the subject
    #[arg(long, value_name = "[resource.|subject.]K=V")]
    pub property: Vec<String>,
    /// Another moment than the present one
    #[arg(long, value_name = "T")]
    pub now: Option<String>,
    /// The session it is asked in
    #[arg(long, value_name = "ID")]
    pub session: Option<String>,
    /// Suppose that a fact holds
    #[arg(long, value_name = "FACT")]
    pub suppose: Vec<String>,
    /// Suppose that a fact does not hold
    #[arg(long, value_name = "FACT")]
    pub without: Vec<String>,
    /// Only an answer that includes this position
    #[arg(long, value_name = "N", conflicts_with = "charter")]
    pub min_position: Option<String>,
}

/// Where a question with a blank is asked: here, or of a service.
pub enum Asking {
    /// Of a charter and facts from files.
    Offline(Box<World>, Timestamp),
    /// Of a service.
    Live(Client),
}

impl Where {
    /// Where it is asked.
    ///
    /// # Errors
    /// If there is nobody to ask, or a file has errors.
    pub async fn asking(&self, with: &With, global: &Global, shell: &Shell) -> Result<Asking, Failure> {
        match &self.charter {
            Some(_) => {
                let now = with.moment()?.unwrap_or_else(Timestamp::now);
                Ok(Asking::Offline(Box::new(self.world(with, shell)?), now))
            }
            None => Ok(Asking::Live(with.at_position(global.client().await?))),
        }
    }

    /// A question as the service takes it.
    ///
    /// # Errors
    /// If the moment that was given is none.
    pub fn question(
        &self,
        request: &Request,
        beside: BlankOptions,
        with: &With,
    ) -> Result<QuestionRequest, Failure> {
        Ok(QuestionRequest {
            token: None,
            subject: request.subject.clone(),
            permission: request.permission.clone(),
            resource: request.resource.clone(),
            subject_properties: request.of_subject.clone(),
            resource_properties: request.of_resource.clone(),
            context: request.context.clone(),
            now: with.moment()?.map(|now| now.to_string()),
            suppose: with.suppose.clone(),
            without: with.without.clone(),
            revision: self.revision,
            draft: self.draft.clone(),
            would_take: false,
            beside,
        })
    }

    /// Tells what a service was asked of.
    pub fn asked_of(&self, of: &AskedOf, shell: &Shell) {
        let text = match &self.draft {
            Some(draft) => format!("draft {draft}"),
            None => format!("revision {}", of.revision),
        };
        shell.notice(&format!("live, {text}, position {}", of.position));
    }

    /// The answer of a service to a question with a blank; tells what it was asked of.
    pub fn told<T>(&self, answer: BlankAnswer<T>, shell: &Shell) -> T {
        self.asked_of(&answer.of, shell);
        answer.answer
    }

    /// The charter and the facts to ask offline, with what is supposed.
    ///
    /// # Errors
    /// If there is no charter to ask, or it or the facts have errors.
    pub fn world(&self, with: &With, shell: &Shell) -> Result<World, Failure> {
        let Some(charter) = &self.charter else {
            return Err(Failure::misused("offline questions need --charter DIR"));
        };
        let mut world = files::world(charter, self.register.as_deref(), shell)?;
        world.suppose(&with.suppose, &with.without, &Sight::Everything).map_err(|wrong| {
            let told: Vec<String> = wrong.iter().map(ToString::to_string).collect();
            Failure::input(told.join("\n"))
        })?;
        shell.notice(&format!("offline, {}", charter.display()));
        Ok(world)
    }
}

impl With {
    /// The moment asked about, if it is not the present one.
    ///
    /// # Errors
    /// If what was given is none.
    pub fn moment(&self) -> Result<Option<Timestamp>, Failure> {
        self.now.as_deref().map(moment).transpose()
    }

    /// A request for all the parts that a command names, and what is said along with it.
    ///
    /// # Errors
    /// If something that is said does not read.
    pub fn request(
        &self,
        subject: &str,
        permission: &str,
        resource: Option<&str>,
    ) -> Result<Request, Failure> {
        let mut request = Request {
            subject: subject.to_owned(),
            permission: permission.to_owned(),
            resource: resource.map(str::to_owned),
            ..Request::default()
        };
        self.fill(&mut request)?;
        Ok(request)
    }

    /// A client that takes no answer from before the position asked for.
    pub fn at_position(&self, client: Client) -> Client {
        match &self.min_position {
            Some(position) => client.at_least(position, None),
            None => client,
        }
    }

    /// How many facts are supposed.
    pub fn supposed(&self) -> usize {
        self.suppose.len() + self.without.len()
    }

    /// Adds what is said along with it to a request.
    ///
    /// # Errors
    /// If it does not read.
    pub fn fill(&self, request: &mut Request) -> Result<(), Failure> {
        for pair in &self.context {
            let (key, value) = pair_of(pair, "--context")?;
            request.context.insert(key.to_owned(), value);
        }
        if let Some(session) = &self.session {
            request.context.insert("session".to_owned(), session.as_str().into());
        }
        for pair in &self.property {
            let (key, value) = pair_of(pair, "--property")?;
            match key.split_once('.') {
                Some(("subject", key)) => request.of_subject.insert(key.to_owned(), value),
                Some(("resource", key)) => request.of_resource.insert(key.to_owned(), value),
                Some((whose, _)) => {
                    return Err(Failure::misused(format!(
                        "--property is of resource or subject, not of {whose:?}"
                    )));
                }
                None => request.of_resource.insert(key.to_owned(), value),
            };
        }
        Ok(())
    }
}

/// `k=v`: a number, boolean or list where it reads as one, else a text; quotes keep it a text.
///
/// # Errors
/// If there is no `=` in it.
pub fn pair_of<'a>(pair: &'a str, option: &str) -> Result<(&'a str, Value), Failure> {
    let (key, text) = pair
        .split_once('=')
        .ok_or_else(|| Failure::misused(format!("{option} takes key=value, not {pair:?}")))?;
    let quoted = text.strip_prefix('\'').and_then(|rest| rest.strip_suffix('\''));
    let value = match quoted {
        Some(text) => Value::from(text),
        None => serde_json::from_str(text).unwrap_or_else(|_| Value::from(text)),
    };
    Ok((key, value))
}

/// A moment that was given.
///
/// # Errors
/// If it is none.
pub fn moment(text: &str) -> Result<Timestamp, Failure> {
    let message = || Failure::misused(format!("--now {text:?} is no moment such as 2026-11-23T09:00:00Z"));
    parse_time(text).ok_or_else(message)
}
