//! One decision, step by step: deny rules; roles by grant, as a gift and by conferral, less what
//! is separated; allow rules.

use super::bearer::Vouched;
use super::confer::Conferral;
use super::evaluate::Bound;
use super::question::{Question, Subject};
use super::rows::Sheet;
use super::site::{Holder, Holders, Link, Site};
use super::{
    Arrival, Arrived, Decision, Engine, Listener, Made, Named, Owner, Reason, Scratch, Silent, Tenant, Via,
};
use crate::charter::model::{KindId, Role, RoleId, Rule, RuleId};
use crate::charter::syntax::GivenTo;
use crate::register::{EntityId, Held, PlaceOf, Terms};
use crate::value::Truth;

/// One decision under way, seen from one site: the question's, or one that confers.
#[derive(Clone, Copy)]
pub(super) struct Walk<'e> {
    pub engine: Engine<'e>,
    pub question: &'e Question,
    /// The subject; none if it is anonymous.
    pub subject: Option<EntityId>,
    /// The subject's kind, if the charter declares it.
    pub kind: Option<KindId>,
    pub site: &'e Site,
    pub holders: &'e Holders,
    /// What relationships confer in this decision, worked out when it is first asked for.
    pub conferral: &'e Conferral,
    /// The number of the site in the conferral.
    pub at: u32,
    /// A grant on standby that is taken as active.
    pub assumed: Option<u32>,
    /// If it is about a row: which facts are columns.
    pub sheet: Option<&'e Sheet>,
}

impl<'e> Walk<'e> {
    pub fn new(engine: Engine<'e>, question: &'e Question, scratch: &'e mut Scratch) -> Walk<'e> {
        let subject = match question.subject {
            Subject::Entity(id) => Some(id),
            Subject::Anonymous => None,
        };
        scratch.site.find(engine, question);
        let vouched = question.vouched.as_deref();
        scratch.holders.find(engine.register, subject, vouched, scratch.site.tenant);
        scratch.conferral.forget();
        Walk {
            engine,
            question,
            subject,
            kind: subject.and_then(|subject| engine.kind(subject)),
            site: &scratch.site,
            holders: &scratch.holders,
            conferral: &scratch.conferral,
            at: 0,
            assumed: None,
            sheet: None,
        }
    }

    pub fn decide<L: Listener>(&self, listener: &mut L) -> Decision {
        if let Some(rule) = self.denies(listener) {
            if L::ON {
                self.candidates(listener);
            }
            return Decision::deny(Reason::Rule(rule));
        }
        let found = self.candidates(listener);
        match (found.role, found.rule) {
            (Some(role), _) => Decision { allowed: true, reason: Reason::Role(role) },
            (None, Some(rule)) => Decision { allowed: true, reason: Reason::Rule(rule) },
            (None, None) if found.separated => Decision::deny(Reason::Separated),
            (None, None) if found.undetermined => Decision::deny(Reason::Undetermined),
            (None, None) if found.condition => Decision::deny(Reason::Condition),
            (None, None) if self.on_standby().is_some() => Decision::deny(Reason::Standby),
            (None, None) => Decision::deny(Reason::NoRole),
        }
    }

    /// As [`Walk::decide`], without the reason.
    pub fn allows(&self) -> bool {
        if self.denies(&mut Silent).is_some() {
            return false;
        }
        let found = self.candidates(&mut Silent);
        found.role.is_some() || found.rule.is_some()
    }

    // -- rules ---------------------------------------------------------------------------------

    /// The first deny rule that applies: true or undetermined, or without a condition.
    fn denies<L: Listener>(&self, listener: &mut L) -> Option<RuleId> {
        let mut first = None;
        for id in self.engine.policy.denies(self.question.permission) {
            let rule = &self.engine.policy.model().rules[id.index()];
            let value = rule.when.as_ref().map_or(Truth::True, |when| {
                self.condition(Bound { condition: when, grant: None }, Owner::Rule(*id), listener)
            });
            listener.rule(*id, value, true);
            if value != Truth::False {
                first = first.or(Some(*id));
                if !L::ON {
                    break;
                }
            }
        }
        first
    }

    /// Whether an allow rule reaches this subject here at all.
    fn reaches(&self, rule: &Rule) -> bool {
        if self.subject.is_none() && !rule.for_anyone {
            return false;
        }
        rule.across_tenants
            || match self.site.tenant {
                Tenant::None => true,
                Tenant::Unknown => false,
                Tenant::Is(_) => self.is_member_of_tenant(),
            }
    }

    fn is_member_of_tenant(&self) -> bool {
        matches!(self.site.tenant, Tenant::Is(tenant) if self.is_member_of(tenant))
    }

    /// Whether the subject is a member of a tenant, by the register or by its token.
    pub fn is_member_of(&self, tenant: EntityId) -> bool {
        self.subject.is_some_and(|subject| self.engine.register.tenants(subject).contains(&tenant))
            || self.vouched().is_some_and(|vouched| vouched.tenants.contains(&tenant))
    }

    /// What a token vouches for beside the register.
    pub fn vouched(&self) -> Option<&'e Vouched> {
        self.question.vouched.as_deref().filter(|_| self.subject.is_some())
    }

    // -- candidates ----------------------------------------------------------------------------

    fn candidates<L: Listener>(&self, listener: &mut L) -> Found {
        let mut found = Found { taken: self.taken(), ..Found::default() };
        self.by_grant(&mut found, listener);
        self.by_gift(&mut found, listener);
        self.by_conferral(&mut found, listener);
        if found.role.is_none() || L::ON {
            self.by_rule(&mut found, listener);
        }
        found
    }

    /// The separated roles that the subject possibly holds here together with one that they are
    /// separated from: what includes them gives nothing.
    fn taken(&self) -> Vec<RoleId> {
        let mut taken = Vec::new();
        for (a, b) in self.engine.policy.separated(self.question.permission) {
            if self.holds(*a) != Truth::False && self.holds(*b) != Truth::False {
                taken.extend([*a, *b]);
            }
        }
        taken
    }

    fn by_grant<L: Listener>(&self, found: &mut Found, listener: &mut L) {
        let permission = self.question.permission;
        for (holder, found_as) in self.holders.list.iter().enumerate() {
            let stands = found_as.stands();
            for held in self.engine.register.held_in(found_as.held) {
                // Most of what is held is held elsewhere.
                let Some(place) = self.place(held) else { continue };
                let named = self.engine.link.roles[held.role.0 as usize];
                let via =
                    Via::Grant { grant: held.grant(), holder: u32::try_from(holder).unwrap_or(u32::MAX) };
                match named {
                    Some(Named::Role(role)) => {
                        if found.is_settled::<L>(Arrived::Role(role), self.engine)
                            || !self.engine.policy.may_give(role, permission)
                        {
                            continue;
                        }
                        let Some(terms) = self.counts_at(found_as, held, role, place) else { continue };
                        let gives = self.gives(role, Some(terms), listener);
                        self.arrived(found, listener, Arrived::Role(role), via, stands, gives);
                    }
                    Some(Named::Made(at)) => {
                        let made = &self.engine.link.made[at as usize];
                        // Without a clause the revision lets no tenant's role give it.
                        let gives = made.permissions.binary_search(&permission).is_ok()
                            && !self.engine.policy.tenant_clauses(permission).is_empty();
                        if gives && self.made_counts(held, made) {
                            let gives = self.made_gives(listener);
                            self.arrived(found, listener, Arrived::Made(made.key), via, stands, gives);
                        }
                    }
                    None => {}
                }
            }
        }
    }

    fn by_gift<L: Listener>(&self, found: &mut Found, listener: &mut L) {
        for role in self.engine.policy.given() {
            if found.is_settled::<L>(Arrived::Role(*role), self.engine)
                || !self.engine.policy.may_give(*role, self.question.permission)
            {
                continue;
            }
            let Some(given) = self.gift(*role) else { continue };
            let gives = self.gives(*role, None, listener);
            self.arrived(found, listener, Arrived::Role(*role), Via::Given(given), Truth::True, gives);
        }
    }

    fn by_conferral<L: Listener>(&self, found: &mut Found, listener: &mut L) {
        for role in self.engine.policy.conferred_roots(self.question.permission) {
            if found.is_settled::<L>(Arrived::Role(*role), self.engine)
                || !self.engine.policy.may_give(*role, self.question.permission)
            {
                continue;
            }
            let arrives = self.conferred(*role);
            if arrives == Truth::False {
                continue;
            }
            if L::ON {
                self.tell_conferral(*role, listener);
            }
            let gives = self.gives(*role, None, listener);
            self.arrived(found, listener, Arrived::Role(*role), Via::Conferred, arrives, gives);
        }
    }

    fn arrived<L: Listener>(
        &self,
        found: &mut Found,
        listener: &mut L,
        role: Arrived,
        via: Via,
        arrives: Truth,
        gives: Truth,
    ) {
        let policy = self.engine.policy;
        let separated = match role {
            Arrived::Role(role) => found.taken.iter().any(|taken| policy.includes(role, *taken)),
            Arrived::Made(_) => false,
        };
        listener.arrival(Arrival { role, via, arrives, gives, separated });
        match (arrives.and(gives), separated) {
            (Truth::True, true) => found.separated = true,
            (_, true) => {}
            (Truth::True, false) => {
                let first = found.role.filter(|first| !role.before(*first, self.engine));
                found.role = Some(first.unwrap_or(role));
            }
            (Truth::Undetermined, false) => found.undetermined = true,
            (Truth::False, false) => found.condition |= arrives == Truth::True,
        }
    }

    fn by_rule<L: Listener>(&self, found: &mut Found, listener: &mut L) {
        for id in self.engine.policy.allows(self.question.permission) {
            let rule = &self.engine.policy.model().rules[id.index()];
            let reaches = self.reaches(rule);
            if !reaches && !L::ON {
                continue;
            }
            // The check refuses an allow rule without a condition; should one come, it is shut.
            let value = rule.when.as_ref().map_or(Truth::False, |when| {
                self.condition(Bound { condition: when, grant: None }, Owner::Rule(*id), listener)
            });
            listener.rule(*id, value, reaches);
            if !reaches {
                continue;
            }
            match value {
                Truth::True => found.rule = found.rule.or(Some(*id)),
                Truth::Undetermined => found.undetermined = true,
                Truth::False => found.condition = true,
            }
            if !L::ON && found.rule.is_some() {
                return;
            }
        }
    }

    // -- arriving ------------------------------------------------------------------------------

    /// All that was granted to one of the holders, and to which.
    pub fn held(&self) -> impl Iterator<Item = (&'e Holder, &'e Held)> {
        let list = self.holders.list.iter();
        list.flat_map(|holder| {
            self.engine.register.held_in(holder.held).iter().map(move |held| (holder, held))
        })
    }

    /// The terms of a grant of a role to one of the holders, if it counts here.
    fn counts(&self, holder: &Holder, held: &Held, role: RoleId) -> Option<&'e Terms> {
        self.counts_at(holder, held, role, self.place(held)?)
    }

    fn counts_at(
        &self,
        holder: &Holder,
        held: &Held,
        role: RoleId,
        place: Option<EntityId>,
    ) -> Option<&'e Terms> {
        let declared = &self.engine.policy.model().roles[role.index()];
        let permitted = declared.grantable
            && self.may_hold(role)
            && declared.held_at.as_ref().is_none_or(|held_at| {
                let kind = place.map(|id| self.engine.kind(id));
                // A place of a type this charter does not declare is no place it permits.
                kind != Some(None) && held_at.permits(kind.flatten())
            });
        let terms = self.engine.register.terms_of(held).filter(|terms| permitted && self.is_live(terms))?;
        self.is_active(holder, held.grant(), declared).then_some(terms)
    }

    /// The place of a grant, if that is here or around here; `Some(None)` is everywhere.
    fn place(&self, held: &Held) -> Option<Option<EntityId>> {
        match held.at() {
            PlaceOf::Everywhere => Some(None),
            PlaceOf::At(id) if self.site.places.contains(&id) => Some(Some(id)),
            PlaceOf::At(_) => None,
        }
    }

    fn is_live(&self, terms: &Terms) -> bool {
        terms.is_live(self.question.now)
    }

    /// Whether a grant needs no activation, or has one for this subject and session that counts. What a
    /// token vouches for cannot be activated.
    fn is_active(&self, holder: &Holder, grant: u32, role: &'e Role) -> bool {
        let Some(standby) = &role.standby else { return true };
        if holder.link != Link::Registered {
            return false;
        }
        let activated = || {
            self.engine.register.activations_of(grant).any(|activation| {
                let session = activation.session.as_deref();
                Some(activation.subject) == self.subject
                    && (session.is_none() || session == self.question.session.as_deref())
                    && activation.is_live(self.question.now, standby.longest)
            })
        };
        (self.assumed == Some(grant) || activated())
            && standby.when.as_ref().is_none_or(|when| {
                self.test(Bound { condition: when, grant: None }, when.root) == Truth::True
            })
    }

    /// Whether a grant of just this role to one of the holders counts, of those that are `meant`.
    pub fn is_granted(&self, role: RoleId, meant: &dyn Fn(&Held) -> bool) -> bool {
        self.held().any(|(holder, held)| {
            let named = self.engine.link.roles[held.role.0 as usize];
            meant(held)
                && holder.stands() == Truth::True
                && matches!(named, Some(Named::Role(found)) if found == role)
                && self.counts(holder, held, role).is_some()
        })
    }

    /// A grant of a tenant's own role: to users, and for what lies in that tenant.
    pub fn made_counts(&self, held: &Held, made: &Made) -> bool {
        let is_user = self.kind == Some(KindId::USER);
        is_user
            && self.site.tenant == Tenant::Is(made.tenant)
            && self.place(held).is_some()
            && self.engine.register.terms_of(held).is_some_and(|terms| self.is_live(terms))
    }

    /// Whether subjects of this subject's kind may hold a role.
    pub fn may_hold(&self, role: RoleId) -> bool {
        self.kind.is_some_and(|kind| self.engine.policy.model().roles[role.index()].held_by(kind))
    }

    /// How a role arrives without a grant, if it does.
    fn gift(&self, role: RoleId) -> Option<GivenTo> {
        let given = self.engine.policy.model().roles[role.index()].given_to?;
        let arrives = match given {
            GivenTo::Anyone => self.subject.is_none() || self.may_hold(role),
            GivenTo::SignedIn => self.may_hold(role),
            GivenTo::Members => self.may_hold(role) && self.is_member_of_tenant(),
        };
        arrives.then_some(given)
    }

    // -- holding -------------------------------------------------------------------------------

    /// Whether some role that is `role` or includes it arrives here, whatever it gives.
    pub fn holds(&self, role: RoleId) -> Truth {
        let mut held = self.holds_by_grant(role);
        if held == Truth::True {
            return held;
        }
        for outer in self.engine.policy.conferred_including(role) {
            held = held.or(self.conferred(*outer));
            if held == Truth::True {
                break;
            }
        }
        held
    }

    /// As [`Walk::holds`], by grants and gifts alone.
    pub fn holds_by_grant(&self, role: RoleId) -> Truth {
        let policy = self.engine.policy;
        if policy.given().iter().any(|outer| policy.includes(*outer, role) && self.gift(*outer).is_some()) {
            return Truth::True;
        }
        // Those that surely stand for the subject come first.
        let held = self.held().find(|(holder, held)| {
            matches!(self.engine.link.roles[held.role.0 as usize], Some(Named::Role(outer))
                if policy.includes(outer, role) && self.counts(holder, held, outer).is_some())
        });
        held.map_or(Truth::False, |(holder, _)| holder.stands())
    }

    /// Every role that surely arrives, whatever it gives: what an explanation can say of a subject
    /// that holds something else.
    pub fn arrivals(&self) -> Vec<(Arrived, Via)> {
        let mut all = Vec::new();
        let surely =
            self.holders.list.iter().enumerate().filter(|(_, holder)| holder.stands() == Truth::True);
        for (holder, found_as) in surely {
            let holder = u32::try_from(holder).unwrap_or(u32::MAX);
            for held in self.engine.register.held_in(found_as.held) {
                let role = match self.engine.link.roles[held.role.0 as usize] {
                    Some(Named::Role(role)) => self.counts(found_as, held, role).map(|_| Arrived::Role(role)),
                    Some(Named::Made(at)) => {
                        let made = &self.engine.link.made[at as usize];
                        self.made_counts(held, made).then_some(Arrived::Made(made.key))
                    }
                    None => None,
                };
                all.extend(role.map(|role| (role, Via::Grant { grant: held.grant(), holder })));
            }
        }
        for role in self.engine.policy.given() {
            all.extend(self.gift(*role).map(|given| (Arrived::Role(*role), Via::Given(given))));
        }
        all
    }

    /// The first grant on standby, begun and not ended, that would make a candidate if it were
    /// active. Tried one by one, each as a decision of its own.
    pub fn on_standby(&self) -> Option<u32> {
        if !self.engine.policy.has_standby() {
            return None;
        }
        let register = self.engine.register;
        for holder in register.holders_of(self.subject?) {
            for held in register.held(holder) {
                let Some(Named::Role(role)) = self.engine.link.roles[held.role.0 as usize] else { continue };
                let on_standby = self.engine.policy.model().roles[role.index()].standby.is_some();
                if !on_standby || !register.terms_of(held).is_some_and(|terms| self.is_live(terms)) {
                    continue;
                }
                let conferral = Conferral::default();
                let supposed = Walk { assumed: Some(held.grant()), conferral: &conferral, ..*self };
                let found = supposed.candidates(&mut Silent);
                if found.role.is_some() || found.rule.is_some() {
                    return Some(held.grant());
                }
            }
        }
        None
    }

    // -- giving --------------------------------------------------------------------------------

    /// Whether an arriving role gives the permission.
    fn gives<L: Listener>(&self, role: RoleId, grant: Option<&'e Terms>, listener: &mut L) -> Truth {
        let permission = self.question.permission;
        let policy = self.engine.policy;
        if !policy.may_give(role, permission) {
            return Truth::False;
        }
        if policy.surely_gives(role, permission) && !L::ON {
            return Truth::True;
        }
        let declared = &policy.model().roles[role.index()];
        let guard = declared.when.as_ref().map_or(Truth::True, |when| {
            self.condition(Bound { condition: when, grant }, Owner::Role(role), listener)
        });
        if guard == Truth::False && !L::ON {
            return Truth::False;
        }
        let mut given = Truth::from(declared.permissions.binary_search(&permission).is_ok());
        for (at, clause) in declared.clauses.iter().enumerate() {
            if (given == Truth::True && !L::ON) || clause.permissions.binary_search(&permission).is_err() {
                continue;
            }
            let owner = Owner::Clause(role, u32::try_from(at).unwrap_or(u32::MAX));
            given = given.or(self.condition(Bound { condition: &clause.when, grant }, owner, listener));
        }
        for inner in &declared.includes {
            if given == Truth::True && !L::ON {
                break;
            }
            given = given.or(self.gives(*inner, grant, listener));
        }
        guard.and(given)
    }

    /// Whether a tenant's own role gives the permission, under what the charter lets it.
    fn made_gives<L: Listener>(&self, listener: &mut L) -> Truth {
        let mut given = Truth::False;
        for at in self.engine.policy.tenant_clauses(self.question.permission) {
            let clause = &self.engine.policy.model().tenant_clauses[*at as usize];
            given = given.or(clause.when.as_ref().map_or(Truth::True, |when| {
                self.condition(Bound { condition: when, grant: None }, Owner::TenantClause(*at), listener)
            }));
        }
        given
    }

    pub fn condition<L: Listener>(&self, bound: Bound<'e>, owner: Owner, listener: &mut L) -> Truth {
        let value = self.test(bound, bound.condition.root);
        if L::ON {
            listener.condition(owner, value, self.culprit(bound, value), self.parts(bound));
        }
        value
    }
}

/// What the candidates came to.
#[derive(Debug, Default)]
struct Found {
    /// Separated roles, held together with what they are separated from.
    taken: Vec<RoleId>,
    role: Option<Arrived>,
    rule: Option<RuleId>,
    separated: bool,
    undetermined: bool,
    condition: bool,
}

impl Found {
    /// Whether a role cannot change the answer any more.
    fn is_settled<L: Listener>(&self, role: Arrived, engine: Engine<'_>) -> bool {
        !L::ON && self.role.is_some_and(|first| !role.before(first, engine))
    }
}
