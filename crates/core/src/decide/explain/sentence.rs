//! The sentence of an answer: what came nearest is told first.

use super::*;
use crate::decide::Tenant;
use crate::register::Grant;

impl Teller<'_> {
    pub(super) fn sentence(&self, decision: Decision, out: &Explanation) -> String {
        match decision.reason {
            Reason::Role(role) => {
                let arrival = self.allowing(|of| of == role);
                arrival.map_or_else(String::new, |(arrival, _)| {
                    format!("{} {}", self.key(role), self.how(role, arrival.via))
                })
            }
            Reason::Rule(rule) => self.rule_sentence(rule, decision.allowed, out),
            Reason::Undetermined => self.near_miss(Truth::Undetermined, out),
            Reason::Condition => self.near_miss(Truth::False, out),
            Reason::Separated => self.separated(),
            Reason::Standby => self.on_standby(),
            Reason::NoRole => self.no_role(out),
            _ => String::new(),
        }
    }

    fn rule_sentence(&self, rule: RuleId, allowed: bool, out: &Explanation) -> String {
        let declared = &self.walk.engine.policy.model().rules[rule.index()];
        if allowed {
            return format!("the rule {} allows it", declared.key);
        }
        let told = out.rules.iter().find(|told| told.key == declared.key);
        let why = told.and_then(|told| told.conditions.first());
        let why = why
            .map_or_else(String::new, |condition| format!(" ({} is {})", condition.because, condition.value));
        match &declared.message {
            Some(message) => format!("{message}: the rule {}{why}", declared.key),
            None => format!("the rule {} denies it{why}", declared.key),
        }
    }

    /// What would have allowed it had a condition been true.
    fn near_miss(&self, value: Truth, out: &Explanation) -> String {
        let near = |(arrival, _): &(crate::decide::Arrival, _)| {
            let both = arrival.arrives.and(arrival.gives);
            !arrival.separated && both == value && (value != Truth::False || arrival.arrives == Truth::True)
        };
        if let Some(at) = self.record.arrivals.iter().position(near) {
            let arrival = &self.record.arrivals[at].0;
            let (key, how) = (self.key(arrival.role), self.how(arrival.role, arrival.via));
            if arrival.arrives == Truth::Undetermined {
                return format!(
                    "whether {key} arrives {how} is undetermined: {}",
                    self.unsettled(arrival.role)
                );
            }
            let conditions = &out.arrivals[at].conditions;
            let why = conditions.iter().find(|condition| condition.value == value.word());
            let why = why.map_or_else(String::new, |c| format!(", but {} is {}", c.because, c.value));
            return format!("{key} holds {how}{why}");
        }
        if let Some(cut) = self.cut_off(out) {
            return cut;
        }
        let rule = out
            .rules
            .iter()
            .find(|rule| rule.effect == "allow" && rule.reaches && rule.value == value.word());
        rule.map_or_else(String::new, |rule| {
            let why = rule.conditions.first().map_or("", |condition| condition.because.as_str());
            format!("the rule {} would allow it, but {why} is {}", rule.key, rule.value)
        })
    }

    /// The first arrival that would allow, of a role that fits.
    pub(super) fn allowing(
        &self,
        fits: impl Fn(Arrived) -> bool,
    ) -> Option<&(crate::decide::Arrival, Vec<Evaluated>)> {
        self.record.arrivals.iter().find(|(arrival, _)| {
            fits(arrival.role) && !arrival.separated && arrival.arrives.and(arrival.gives) == Truth::True
        })
    }

    fn separated(&self) -> String {
        let arrival = self
            .record
            .arrivals
            .iter()
            .find(|(arrival, _)| arrival.separated && arrival.arrives.and(arrival.gives) == Truth::True);
        let Some((arrival, _)) = arrival else { return String::new() };
        let Arrived::Role(role) = arrival.role else { return String::new() };
        let policy = self.walk.engine.policy;
        let model = policy.model();
        let held = |role: RoleId| self.walk.holds(role) != Truth::False;
        for separation in &model.separations {
            let own = separation
                .roles
                .iter()
                .find(|separated| policy.includes(role, **separated) && held(**separated));
            let other =
                own.and_then(|own| separation.roles.iter().find(|other| *other != own && held(**other)));
            if let (Some(_), Some(other)) = (own, other) {
                return format!(
                    "{} holds {}, but also {} here, and the separation {} lets nobody use both",
                    self.key(arrival.role),
                    self.how(arrival.role, arrival.via),
                    self.key(Arrived::Role(*other)),
                    separation.key
                );
            }
        }
        String::new()
    }

    fn on_standby(&self) -> String {
        let grant = self.walk.on_standby().and_then(|at| self.walk.engine.register.grant(at));
        grant.map_or_else(String::new, |grant| {
            let register = self.walk.engine.register;
            let place = self.place(grant.at);
            let at = if place == "everywhere" { place } else { format!("at {place}") };
            let through = if Some(grant.to) == self.walk.subject {
                String::new()
            } else {
                format!(", through {}", register.name(grant.to))
            };
            format!("{} {at}{through} is on standby and not active ({})", register.text(grant.role), grant.id)
        })
    }

    /// What keeps a conferral from being told.
    fn unsettled(&self, role: Arrived) -> String {
        let Arrived::Role(role) = role else { return String::new() };
        if self.walk.conferral.is_too_much() {
            return format!("it depends on more than {} roles at resources", crate::decide::MAX_PAIRS);
        }
        let model = self.walk.engine.policy.model();
        let confer = model.confers.iter().find(|confer| confer.role == role);
        confer.map_or_else(String::new, |confer| {
            let kind = &model.kinds[confer.kind.index()].key;
            format!("what {} of the {kind} leads to, or its condition, cannot be read", confer.path_text)
        })
    }

    /// What would have let them in, and was cut off: by what is detached, by the seal, or by the tenant that an
    /// allow rule keeps to.
    fn cut_off(&self, out: &Explanation) -> Option<String> {
        let rule =
            out.rules.iter().find(|rule| rule.effect == "allow" && !rule.reaches && rule.value == "true");
        self.stopped_on_the_way().or_else(|| self.sealed_group()).or_else(|| {
            let register = self.walk.engine.register;
            Some(match (self.walk.subject, self.walk.site.tenant, rule?) {
                (None, _, rule) => format!("the rule {} allows it to those who are signed in", rule.key),
                (Some(_), Tenant::Is(tenant), rule) => format!(
                    "the rule {} does not reach across tenants: {} is no member of {}",
                    rule.key,
                    self.subject(),
                    register.name(tenant)
                ),
                (Some(_), _, rule) => {
                    format!("the rule {} does not reach what lies in no tenant that is known", rule.key)
                }
            })
        })
    }

    /// A role that was granted further out than something detached.
    fn stopped_on_the_way(&self) -> Option<String> {
        let register = self.walk.engine.register;
        let mut next = match self.question.resource {
            Resource::Registered(id) => Some(id),
            Resource::Stated { within, .. } => within,
        };
        let mut detached = None;
        while let Some(place) = next {
            if let Some(cut) = detached
                && let Some(role) = self.granted(|grant| grant.at == PlaceOf::At(place))
            {
                let (cut, place) = (register.name(cut), register.name(place));
                return Some(format!("{cut} is detached, so {role} at {place} stops at it"));
            }
            detached = detached.or(Some(place).filter(|place| register.is_detached(*place)));
            next = register.within(place);
        }
        None
    }

    /// A role that was granted to a group of another tenant.
    fn sealed_group(&self) -> Option<String> {
        let register = self.walk.engine.register;
        let here = |grant: &Grant<'_>| match grant.at {
            PlaceOf::Everywhere => true,
            PlaceOf::At(place) => self.walk.site.places.contains(&place),
        };
        let mut sealed = None;
        let role = self.granted(|grant| {
            let of = register.group_tenant(grant.to).filter(|of| self.walk.site.tenant != Tenant::Is(*of));
            sealed = of.filter(|_| here(grant)).map(|of| (grant.to, of));
            sealed.is_some()
        })?;
        let (group, of) = sealed?;
        Some(format!(
            "{role} was granted to {}, a group of {}, which stands for nobody at {}",
            register.name(group),
            register.name(of),
            self.resource()
        ))
    }

    /// A role that gives the permission, and that was granted to the subject or a group of theirs, for now and so.
    fn granted(&self, mut so: impl FnMut(&Grant<'_>) -> bool) -> Option<String> {
        let (register, policy) = (self.walk.engine.register, self.walk.engine.policy);
        let now = self.question.now;
        for holder in register.holders_of(self.walk.subject?) {
            for (_, grant) in register.grants_to(holder) {
                let key = register.text(grant.role);
                let gives =
                    policy.role(key).is_some_and(|role| policy.may_give(role, self.question.permission));
                let is_live = grant.terms.from.is_none_or(|from| from <= now)
                    && grant.terms.until.is_none_or(|until| now < until);
                if gives && is_live && so(&grant) {
                    return Some(key.to_owned());
                }
            }
        }
        None
    }

    fn no_role(&self, out: &Explanation) -> String {
        if let Some(cut) = self.cut_off(out) {
            return cut;
        }
        let permission = &self.walk.engine.policy.model().permissions[self.question.permission.index()].text;
        let who = self.subject();
        match out.also_held.as_slice() {
            [] => format!("{who} holds no role here"),
            [one] => format!("{who} holds {one}, which does not give {permission}"),
            [one, more @ ..] => {
                format!("{who} holds {one} and {} more, none of which gives {permission}", more.len())
            }
        }
    }
}
