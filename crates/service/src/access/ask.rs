//! How one question of a caller is answered: its parts are read, each once however many questions share
//! it, and then asked.

use super::tokens::{TOKEN, Tokens};
use crate::App;
use crate::asked::Short;
use crate::measures::word;
use crate::node::gate::{Decisions, Scope};
use crate::problem::Problem;
use jiff::Timestamp;
use ostrog_core::charter::model::{KindId, PermId};
use ostrog_core::decide::bearer::Bearer;
use ostrog_core::decide::question::{ContextPart, Reader, ResourcePart, SubjectPart};
use ostrog_core::decide::told::NotTold;
use ostrog_core::names::is_key;
use ostrog_core::prelude::{Asked, Decision, Engine, Policy, Reason, Request, decide, explain, with_scratch};
use ostrog_store::key::Detail;
use ostrog_wire::access::{Action, Entity, Evaluation, EvaluationContext, EvaluationRequest};
use ostrog_wire::strict::Object;
use serde_json::{Map, Value};
use std::borrow::Cow;
use std::sync::Arc;

/// The key of the context that asks for an explanation: how much to say is not a fact of the question.
const EXPLAIN: &str = "explain";

/// A caller's questions at one position and one moment.
#[derive(Clone, Copy)]
pub struct Asker<'a> {
    app: &'a App,
    scope: &'a Scope,
    decisions: Decisions<'a>,
    tokens: &'a Arc<Tokens>,
    now: Timestamp,
}

/// Who asks, read.
#[derive(Clone)]
pub struct Who {
    /// `user:ines`
    pub name: String,
    /// None: a token stands for them that does not count.
    part: Option<SubjectPart>,
    /// Who bears the token that stands for them.
    pub bearer: Option<Arc<Bearer>>,
}

impl Who {
    /// Whether a token stands for them that does not count.
    pub fn is_refused(&self) -> bool {
        self.part.is_none()
    }

    /// By name, if a token tells it.
    pub fn told(&self) -> Option<String> {
        self.bearer.as_ref().map(|bearer| bearer.name.clone())
    }
}

/// With what, read: the same for every action of its type.
#[derive(Clone)]
pub struct What {
    kind: String,
    /// `type:id`; a new resource has none.
    pub name: Option<String>,
    /// None: the type is not the caller's to ask about, or declares nothing; both answer alike.
    part: Option<ResourcePart>,
    /// What was said of it, where it may have to be read anew.
    said: Option<(PermId, Map<String, Value>)>,
    /// What was said of it that the caller cannot vouch for, and does not count.
    pub unvouched: bool,
}

/// The surroundings, read.
#[derive(Clone)]
pub struct Surroundings {
    part: ContextPart,
    /// Whether an explanation is asked for, and may be told.
    pub explains: bool,
}

impl<'a> Asker<'a> {
    /// Of a caller, now.
    pub fn new(
        app: &'a App,
        scope: &'a Scope,
        decisions: Decisions<'a>,
        tokens: &'a Arc<Tokens>,
    ) -> Asker<'a> {
        Asker::at(app, scope, decisions, tokens, Timestamp::now())
    }

    /// The same at another moment.
    pub fn at(
        app: &'a App,
        scope: &'a Scope,
        decisions: Decisions<'a>,
        tokens: &'a Arc<Tokens>,
        now: Timestamp,
    ) -> Asker<'a> {
        Asker { app, scope, decisions, tokens, now }
    }

    /// Answers a question.
    ///
    /// # Errors
    /// If it is malformed.
    pub fn ask(&self, request: &EvaluationRequest) -> Result<Evaluation, Problem> {
        let surroundings = self.surroundings(request.context.as_ref())?;
        let tells = surroundings.explains;
        let who = self.who(&request.subject, tells)?;
        let what = self.what(&request.resource, tells)?;
        let answer = self.answer(&who, &request.action, &what, &surroundings)?;
        let parts = (&request.subject, &request.action, &request.resource, request.context.as_ref());
        self.beside(parts, &answer);
        Ok(answer)
    }

    /// Answers a question and notes nothing of it; tells whom it is about, too.
    pub fn quietly(&self, request: &EvaluationRequest) -> Result<(Evaluation, String), Problem> {
        let mut surroundings = self.surroundings(request.context.as_ref())?;
        surroundings.explains = false;
        let who = self.who(&request.subject, false)?;
        let what = self.what(&request.resource, false)?;
        let permission = permission(&what.kind, &request.action.name)?;
        let (answer, _) = self.decided(&who, &permission, &what, &surroundings)?;
        Ok((answer, who.name))
    }

    /// Hands a question on that is to be answered once more, in a shadow.
    pub fn beside(&self, parts: (&Entity, &Action, &Entity, Option<&Object>), answer: &Evaluation) {
        if !self.scope.has_shadows() {
            return;
        }
        let owner = self.owner(&parts.2.kind);
        let running = owner.and_then(|owner| self.scope.shadow_of(owner, self.now));
        if let Some(running) = running {
            self.app.shadows.offer(self.app, (self.scope, running, self.tokens), parts, (answer, self.now));
        }
    }

    /// Whether an explanation is asked for, and may be told.
    pub fn explains(&self, context: Option<&Object>) -> bool {
        self.scope.detail() == Detail::Full
            && context.is_some_and(|context| context.0.get(EXPLAIN) == Some(&Value::Bool(true)))
    }

    /// The same under the charter that answers about a type.
    pub fn about(&self, kind: &str) -> Asker<'a> {
        Asker { decisions: self.decisions.about(kind), ..*self }
    }

    /// What is asked of: which charter it is.
    pub fn decisions(&self) -> Decisions<'a> {
        self.decisions
    }

    fn reader(&self, tells: bool) -> Reader<'a> {
        self.reader_under(self.decisions.engine(), tells)
    }

    fn reader_under<'e>(&self, engine: Engine<'e>, tells: bool) -> Reader<'e> {
        Reader { engine, now: self.now, tells, vouched: false }
    }

    /// What somebody's questions are asked of: of a bearer who is not registered and counts as signed in, the
    /// register with them in it.
    pub fn engine_for<'w>(&self, who: &'w Who) -> Engine<'w>
    where
        'a: 'w,
    {
        let live = self.decisions.world();
        let world = who.bearer.as_ref().map_or(live, |bearer| bearer.world(live));
        world.engine_in(self.decisions.sight())
    }

    /// Reads who asks; `tells`: with what of it does not count.
    ///
    /// # Errors
    /// If it is no subject.
    pub fn who(&self, subject: &Entity, tells: bool) -> Result<Who, Problem> {
        is_type(&subject.kind)?;
        let name = match (subject.kind.as_str(), &subject.id) {
            ("anonymous", _) => "anonymous".to_owned(),
            (TOKEN, Some(token)) => return self.bearer(token, subject, tells),
            (kind, Some(id)) => format!("{kind}:{id}"),
            (_, None) => {
                return Err(Problem::malformed(
                    "The subject has no id; an anonymous one has the type anonymous.",
                ));
            }
        };
        let part = self.reader(tells).subject(&name, members(subject.properties.as_ref()).as_ref());
        Ok(Who { part: Some(part.map_err(malformed)?), name, bearer: None })
    }

    fn bearer(&self, token: &str, subject: &Entity, tells: bool) -> Result<Who, Problem> {
        let refused = Who { name: TOKEN.to_owned(), part: None, bearer: None };
        let under = self.decisions.world();
        let Ok(bearer) = self.tokens.bearer(self.scope, under, token) else { return Ok(refused) };
        let world = bearer.world(under);
        let reader = self.reader_under(world.engine_in(self.decisions.sight()), tells);
        let part =
            reader.bearer(&bearer, members(subject.properties.as_ref()).as_ref()).map_err(malformed)?;
        Ok(match part {
            Ok(part) => Who { name: bearer.name.clone(), part: Some(part), bearer: Some(bearer) },
            Err(_) => refused,
        })
    }

    /// Reads with what; `tells`: with what of it does not count.
    ///
    /// # Errors
    /// If it is no resource.
    pub fn what(&self, resource: &Entity, tells: bool) -> Result<What, Problem> {
        is_type(&resource.kind)?;
        let kind = resource.kind.clone();
        let name = resource.id.as_ref().map(|id| format!("{kind}:{id}"));
        let mut properties = members(resource.properties.as_ref());
        // Where an unregistered resource lies is the word of the application that owns its type.
        let vouches = self.scope.application().is_none() || self.owns(&kind);
        let unvouched = !vouches && properties.contains_key("within");
        if unvouched {
            properties.to_mut().remove("within");
        }
        let any = self.any_permission(&kind).filter(|_| self.may_ask_about(&kind));
        let part = match any {
            None => None,
            Some(any) => {
                let part = self.reader(tells).resource(any, name.as_deref(), properties.as_ref());
                Some(part.map_err(malformed)?)
            }
        };
        let said = any.filter(|_| !self.tokens.is_empty()).map(|any| (any, properties.into_owned()));
        Ok(What { kind, name, part, said, unvouched })
    }

    /// Reads the surroundings.
    ///
    /// # Errors
    /// If there are too many.
    pub fn surroundings(&self, context: Option<&Object>) -> Result<Surroundings, Problem> {
        let explains = self.explains(context);
        let mut context = members(context);
        if explains {
            context.to_mut().remove(EXPLAIN);
        }
        let part = self.reader(explains).context(context.as_ref()).map_err(malformed)?;
        Ok(Surroundings { part, explains })
    }

    /// What is asked of all that is registered, or may be: with a blank.
    ///
    /// # Errors
    /// If a part cannot be read.
    pub fn request(
        &self,
        who: &Who,
        (subject, resource): (&Entity, Option<&Entity>),
        permission: String,
        context: Option<&Object>,
    ) -> Result<Request, Problem> {
        let mut request = Request {
            subject: who.name.clone(),
            bearer: who.bearer.clone().map(Ok),
            permission,
            of_subject: members(subject.properties.as_ref()).into_owned(),
            context: members(context).into_owned(),
            ..Request::default()
        };
        if let Some(resource) = resource {
            let what = self.what(resource, false)?;
            request.resource = what.name;
            request.of_resource = members(resource.properties.as_ref()).into_owned();
            if what.unvouched {
                request.of_resource.remove("within");
            }
        }
        Ok(request)
    }

    /// Answers the question that the parts make.
    ///
    /// # Errors
    /// If the action is not one of the resource's type.
    pub fn answer(
        &self,
        who: &Who,
        action: &Action,
        what: &What,
        surroundings: &Surroundings,
    ) -> Result<Evaluation, Problem> {
        let begun = std::time::Instant::now();
        let permission = permission(&what.kind, &action.name)?;
        let (mut answer, reason) = self.decided(who, &permission, what, surroundings)?;
        answer.context.subject = who.told();
        self.app.measures.took(begun);
        self.noted(who, permission, what, (answer.decision, reason));
        Ok(answer)
    }

    fn decided(
        &self,
        who: &Who,
        permission: &str,
        what: &What,
        surroundings: &Surroundings,
    ) -> Result<(Evaluation, Reason), Problem> {
        let engine = self.engine_for(who);
        let Some(subject) = &who.part else {
            let reason = Reason::TokenRefused;
            return Ok((self.told(false, reason.code(engine)), reason));
        };
        let Some(resource) = &what.part else {
            let reason = Reason::UnknownType;
            return Ok((self.told(false, reason.code(engine)), reason));
        };
        let reader = self.reader_under(engine, surroundings.explains);
        // To a bearer who is in no other register something may lead.
        let own = match (&who.bearer, &what.said) {
            (Some(bearer), Some((any, said))) if !bearer.registered => {
                Some(reader.resource(*any, what.name.as_deref(), said).map_err(malformed)?)
            }
            _ => None,
        };
        let resource = own.as_ref().unwrap_or(resource);
        let known = reader.permission(permission, what.name.as_deref()).map_err(malformed)?;
        let mut asked = match known {
            Ok(permission) => reader.asked(permission, subject, resource, &surroundings.part),
            Err(unknown) => reader.denied(unknown, subject),
        };
        if surroundings.explains {
            let told = "resource.within: the key is not one of the application that owns the type";
            asked.ignored.extend(what.unvouched.then(|| told.to_owned()));
            return Ok(self.explained(engine, &asked));
        }
        Ok(match &asked.question {
            Err(reason) => (self.told(false, reason.code(engine)), *reason),
            Ok(question) => {
                let decision = with_scratch(|scratch| decide(engine, question, scratch));
                (self.with_message(decision.reason.code(engine), decision), decision.reason)
            }
        })
    }

    fn explained(&self, engine: Engine<'_>, asked: &Asked) -> (Evaluation, Reason) {
        let (decision, explanation) = with_scratch(|scratch| explain(engine, asked, scratch));
        let mut answer = self.with_message(explanation.reason.clone(), decision);
        answer.context.explanation = Some(Box::new(explanation));
        (answer, decision.reason)
    }

    fn told(&self, decision: bool, reason: String) -> Evaluation {
        let reason = (self.scope.detail() != Detail::None).then_some(reason);
        let tried = self.scope.tried();
        Evaluation { decision, context: EvaluationContext { reason, tried, ..EvaluationContext::default() } }
    }

    /// An answer with what the rule that denies says.
    fn with_message(&self, code: String, decision: Decision) -> Evaluation {
        let mut answer = self.told(decision.allowed, code);
        if let (false, Reason::Rule(rule)) = (decision.allowed, decision.reason)
            && self.scope.detail() != Detail::None
        {
            let rule = &self.decisions.policy().model().rules[rule.index()];
            answer.context.message.clone_from(&rule.message);
            let advice =
                || rule.advice.iter().map(|(key, text)| (key.clone(), text.as_str().into())).collect();
            answer.context.advice = (!rule.advice.is_empty()).then(advice);
        }
        answer
    }

    // -- whose types ---------------------------------------------------------------------------

    fn policy(&self) -> &'a Policy {
        self.decisions.policy()
    }

    /// A permission of a type, if there is one: what is read of a resource depends on its type alone.
    fn any_permission(&self, kind: &str) -> Option<PermId> {
        let kind = self.policy().kind(kind).filter(|kind| KindId::is_resource(*kind))?;
        let first = self.policy().model().kinds[kind.index()].permissions.clone().next()?;
        Some(PermId::at(first as usize))
    }

    /// Whether a type is the caller's application's.
    fn owns(&self, kind: &str) -> bool {
        self.owner(kind).is_some_and(|owner| self.scope.application() == Some(owner))
    }

    /// The application that owns a type.
    fn owner(&self, kind: &str) -> Option<&'a str> {
        let model = self.policy().model();
        let owner = self.policy().kind(kind).and_then(|kind| model.kinds[kind.index()].application)?;
        Some(model.applications[owner].key.as_str())
    }

    /// Whether the caller asks about a type: an application's key about those of its application, and
    /// those that are listed for it.
    pub fn may_ask_about(&self, kind: &str) -> bool {
        self.scope.application().is_none()
            || self.owns(kind)
            || self.scope.types().iter().any(|listed| listed == kind)
    }

    /// Whether there is such a type that the caller asks about: what is not theirs and what is not there are one.
    pub fn knows(&self, kind: &str) -> bool {
        self.any_permission(kind).is_some() && self.may_ask_about(kind)
    }

    /// Remembers what operators want to see of what applications ask.
    fn noted(&self, who: &Who, permission: String, what: &What, (allowed, reason): (bool, Reason)) {
        // What is tried ahead counts nowhere.
        if self.scope.tried().is_some() {
            return;
        }
        let application = self.scope.application().unwrap_or("operator");
        self.app.measures.decided(application, allowed, word(reason));
        let unknown = matches!(reason, Reason::UnknownType | Reason::UnknownPermission);
        if unknown && self.policy().permission(&permission).is_none() {
            self.app.asked.unknown(application, &permission, self.now);
        }
        self.app.asked.note(application, self.now, allowed, || Short {
            subject: who.name.clone(),
            permission,
            resource: what.name.clone(),
            allowed,
            reason: reason.code(self.decisions.engine()),
            at: self.now,
        });
    }
}

/// The whole permission that an action of a resource's type is.
pub fn permission(kind: &str, action: &str) -> Result<String, Problem> {
    match action.split_once(':') {
        None => Ok(format!("{kind}:{action}")),
        Some((of, _)) if of == kind => Ok(action.to_owned()),
        Some((of, _)) => {
            Err(Problem::malformed(format!("The action {action} is of {of}, and the resource is a {kind}.")))
        }
    }
}

/// A type with a colon in it could pass for another type's id.
fn is_type(kind: &str) -> Result<(), Problem> {
    if is_key(kind) {
        return Ok(());
    }
    Err(Problem::malformed(format!("{kind:?} is not a type.")))
}

/// Why a question with a blank has no answer.
pub fn not_told(why: NotTold) -> Problem {
    match why {
        NotTold::BrokenOff => Problem::timeout(format!("{why}.")),
        why => Problem::invalid(format!("{why}.")),
    }
}

pub fn malformed(malformed: impl std::fmt::Display) -> Problem {
    Problem::malformed(format!("{malformed}."))
}

/// The members of an object, if there is one.
fn members(object: Option<&Object>) -> Cow<'_, Map<String, Value>> {
    object.map_or_else(|| Cow::Owned(Map::new()), |object| Cow::Borrowed(&object.0))
}
