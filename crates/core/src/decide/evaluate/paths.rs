//! Paths: steps, sources of attributes, and the tenant seal.

use super::*;

impl<'e> Walk<'e> {
    pub(super) fn one(&self, bound: Bound<'e>, path: &'e Path) -> Result<Read<'e>, Lack> {
        match path.root {
            Root::Subject | Root::Resource => self.steps(self.root(path.root)?, &path.steps),
            Root::Context(index) => self.context(index).map(Read::Value),
            Root::Grant(name, kind) => {
                let mut first = Err(Lack::Missing);
                self.each_granted(bound, name, kind, &mut |item| {
                    first = item;
                    false
                });
                first
            }
        }
    }

    /// A key of the context.
    pub(in crate::decide) fn context(&self, index: usize) -> Result<Value<'e>, Lack> {
        let declared = &self.engine.policy.model().context[index];
        let stated = self.question.context[index].as_ref().or(declared.default.as_ref());
        one_scalar(stated.ok_or(Lack::Missing)?, declared)
    }

    pub(in crate::decide) fn root(&self, root: Root) -> Result<Read<'e>, Lack> {
        let thing = match root {
            Root::Subject => Thing::Registered(self.subject.ok_or(Lack::Missing)?),
            _ => self.site.thing.map_or(Thing::Own, Thing::Registered),
        };
        Ok(Read::Thing(thing, DIRECTLY))
    }

    pub(super) fn steps(&self, mut read: Read<'e>, steps: &[Step]) -> Result<Read<'e>, Lack> {
        for step in steps {
            let Read::Thing(thing, _) = read else { return Err(Lack::IllTyped) };
            read = self.step(thing, *step)?;
        }
        Ok(read)
    }

    pub(in crate::decide) fn step(&self, thing: Thing<'e>, step: Step) -> Result<Read<'e>, Lack> {
        let register = self.engine.register;
        let value = match step {
            Step::Id | Step::Type => {
                let name = match thing {
                    Thing::Registered(id) => Some(register.name(id)),
                    Thing::Named(name) => Some(name),
                    Thing::Own => self.own_name(),
                };
                if step == Step::Type {
                    let kind = match name {
                        Some(name) => name.split_once(':').map(|(kind, _)| kind),
                        None => Some(self.engine.policy.model().kinds[self.own_kind().index()].key.as_str()),
                    };
                    Value::Text(Cow::Borrowed(kind.ok_or(Lack::Missing)?))
                } else {
                    let id = name.and_then(|name| name.split_once(':')).map(|(_, id)| id);
                    Value::Text(Cow::Borrowed(id.ok_or(Lack::Missing)?))
                }
            }
            Step::Detached => match thing {
                Thing::Registered(id) => Value::Boolean(register.is_detached(id)),
                _ => return Err(Lack::Missing),
            },
            Step::Tenant => {
                return match self.tenant_of(thing) {
                    Tenant::Is(id) => {
                        Ok(Read::Thing(Thing::Registered(id), Reached { from: Some(thing), across: false }))
                    }
                    _ => Err(Lack::Missing),
                };
            }
            Step::Within => return self.within(thing),
            Step::Attribute(name) => return self.attribute(thing, name).map(Read::Value),
            Step::Relation(_) => {
                return match self.source(thing, step)? {
                    Source::Things([only], relation) => self.follow(thing, *only, relation),
                    _ => Err(Lack::IllTyped),
                };
            }
        };
        Ok(Read::Value(value))
    }

    pub(in crate::decide) fn own_kind(&self) -> KindId {
        self.engine.policy.model().permissions[self.question.permission.index()].kind
    }

    pub(super) fn kind_of(&self, thing: Thing<'e>) -> Option<&'e crate::charter::model::Kind> {
        let kind = match thing {
            Thing::Registered(id) => self.engine.kind(id)?,
            Thing::Own => self.own_kind(),
            Thing::Named(_) => return None,
        };
        Some(&self.engine.policy.model().kinds[kind.index()])
    }

    pub(super) fn is_many(&self, thing: Thing<'e>, step: Step) -> bool {
        self.kind_of(thing).is_some_and(|kind| match step {
            Step::Attribute(name) => kind.attribute(name).is_some_and(|attribute| attribute.many),
            Step::Relation(name) => kind.relation(name).is_some_and(|relation| relation.many),
            _ => false,
        })
    }

    pub(in crate::decide) fn tenant_of(&self, thing: Thing<'_>) -> Tenant {
        match thing {
            Thing::Registered(id) => self.engine.tenant(id),
            // Only the question's own site leads to it.
            Thing::Own => self.site.tenant,
            Thing::Named(_) => Tenant::Unknown,
        }
    }

    pub(super) fn within(&self, thing: Thing<'e>) -> Result<Read<'e>, Lack> {
        let outer = match thing {
            Thing::Registered(id) => self.engine.register.within(id),
            Thing::Own => match self.question.resource {
                Resource::Stated { within, .. } => within,
                Resource::Registered(_) => None,
            },
            Thing::Named(_) => None,
        };
        let outer = outer.ok_or(Lack::Missing)?;
        if self.tenant_of(thing) == Tenant::Unknown {
            return Err(Lack::Sealed);
        }
        let declared = self.kind_of(thing).zip(self.engine.kind(outer));
        if declared.is_some_and(|(kind, outer)| kind.within.contains(&outer)) {
            Ok(Read::Thing(Thing::Registered(outer), Reached { from: Some(thing), across: false }))
        } else {
            Err(Lack::IllTyped)
        }
    }

    /// The step from a thing to what a relation of it names, if type and seal let it.
    pub(super) fn follow(
        &self,
        from: Thing<'e>,
        to: EntityId,
        relation: &Relation,
    ) -> Result<Read<'e>, Lack> {
        if !self.engine.kind(to).is_some_and(|kind| relation.to.contains(&kind)) {
            return Err(Lack::IllTyped);
        }
        if !relation.across_tenants && !self.step_counts(from, to) {
            return Err(Lack::Sealed);
        }
        Ok(Read::Thing(Thing::Registered(to), Reached { from: Some(from), across: relation.across_tenants }))
    }

    /// The tenant seal: a step from a resource counts only to what has no tenant or the same one.
    /// Steps from a subject are not sealed.
    pub(super) fn step_counts(&self, from: Thing<'e>, to: EntityId) -> bool {
        if let Thing::Registered(id) = from
            && matches!(self.engine.register.kind(id), Sym::USER | Sym::SERVICE)
        {
            return true;
        }
        let of = self.tenant_of(from);
        let at = self.engine.tenant(to);
        of != Tenant::Unknown && (at == Tenant::None || (at == of && at != Tenant::Unknown))
    }

    /// What the request said of a thing: only the question's subject and resource have that.
    pub(super) fn said(&self, thing: Thing<'e>) -> Option<&'e Said> {
        let own = match (&self.question.resource, thing) {
            (Resource::Registered(id), Thing::Registered(thing)) => *id == thing,
            (Resource::Stated { .. }, Thing::Own) => true,
            _ => false,
        };
        if own {
            return Some(&self.question.of_resource);
        }
        match (self.subject, thing) {
            (Some(subject), Thing::Registered(thing)) if subject == thing => Some(&self.question.of_subject),
            _ => None,
        }
    }

    pub(super) fn attribute(&self, thing: Thing<'e>, name: NameId) -> Result<Value<'e>, Lack> {
        // A subject of a kind that does not declare it simply has none.
        let declared = self.kind_of(thing).and_then(|kind| kind.attribute(name)).ok_or(Lack::Missing)?;
        one_scalar(self.stated(thing, declared)?, declared)
    }

    /// The first source that states an attribute hides those behind it.
    pub(super) fn stated(&self, thing: Thing<'e>, declared: &'e Attribute) -> Result<&'e Stated, Lack> {
        let registered = || match thing {
            Thing::Registered(id) => {
                let sym = self.engine.link.names[declared.name.index()]?;
                self.engine.register.attribute(id, sym)
            }
            _ => None,
        };
        let requested = || {
            let said = self.said(thing)?;
            said.attributes.iter().find(|(name, _)| *name == declared.name).map(|(_, stated)| stated)
        };
        let from = declared.from;
        let found = Some(()).filter(|()| from.reads_register()).and_then(|()| registered());
        let found = found.or_else(|| Some(()).filter(|()| from.reads_request()).and_then(|()| requested()));
        found.or(declared.default.as_ref()).ok_or(Lack::Missing)
    }

    /// Everything an attribute or relation states, as a list.
    pub(super) fn source(&self, thing: Thing<'e>, step: Step) -> Result<Source<'e>, Lack> {
        let kind = self.kind_of(thing).ok_or(Lack::Missing)?;
        match step {
            Step::Attribute(name) => {
                let declared = kind.attribute(name).ok_or(Lack::Missing)?;
                scalars(self.stated(thing, declared)?, declared).map(|all| Source::Scalars(all, declared))
            }
            Step::Relation(name) => {
                let relation = kind.relation(name).ok_or(Lack::Missing)?;
                self.related(thing, relation).map(|all| Source::Things(all, relation))
            }
            _ => Err(Lack::IllTyped),
        }
    }

    pub(super) fn related(&self, thing: Thing<'e>, relation: &'e Relation) -> Result<&'e [EntityId], Lack> {
        if let (true, Thing::Registered(id)) = (relation.from.reads_register(), thing)
            && let Some(sym) = self.engine.link.names[relation.name.index()]
            && let Some(to) = self.engine.register.relation(id, sym)
        {
            return Ok(to);
        }
        if relation.from.reads_request()
            && let Some(said) = self.said(thing)
            && let Some((_, to)) = said.relations.iter().find(|(name, _)| *name == relation.name)
        {
            return to.as_deref().ok_or(Lack::IllTyped);
        }
        if relation.default_empty { Ok(&[]) } else { Err(Lack::Missing) }
    }

    /// Visits the ends of a conferral's path that can be reached, with the step that led there.
    /// Where the path would lead out of what is detached, it ends without one.
    pub(in crate::decide) fn confer_ends(
        &self,
        confer: &'e Confer,
        visit: &mut dyn FnMut(EntityId, Reached<'e>),
    ) -> Ends {
        match self.root(Root::Resource) {
            Ok(Read::Thing(thing, reached)) => {
                self.confer_steps(confer, thing, reached, &confer.path.steps, visit)
            }
            _ => Ends::Some,
        }
    }

    fn confer_steps(
        &self,
        confer: &'e Confer,
        thing: Thing<'e>,
        reached: Reached<'e>,
        steps: &'e [Step],
        visit: &mut dyn FnMut(EntityId, Reached<'e>),
    ) -> Ends {
        let Some((step, rest)) = steps.split_first() else {
            if let Thing::Registered(id) = thing {
                visit(id, reached);
                return Ends::All;
            }
            return Ends::Some;
        };
        if let (Some(sheet), Step::Relation(name)) = (self.sheet, step)
            && self.at == 0
            && sheet.is_relation(*name)
            && reached.from.is_none()
        {
            sheet.refuse(format!("what {} confers goes on from a column", confer.path_text));
            return Ends::Some;
        }
        if *step == Step::Within && !confer.through_detached && self.is_detached(thing) {
            return Ends::All;
        }
        if !self.is_many(thing, *step) {
            return match self.step(thing, *step) {
                Ok(Read::Thing(next, reached)) => self.confer_steps(confer, next, reached, rest, visit),
                _ => Ends::Some,
            };
        }
        let Ok(Source::Things(targets, relation)) = self.source(thing, *step) else { return Ends::Some };
        let mut ends = if targets.len() > MAX_MEMBERS { Ends::Some } else { Ends::All };
        for target in targets.iter().take(MAX_MEMBERS) {
            let found = match self.follow(thing, *target, relation) {
                Ok(Read::Thing(next, reached)) => self.confer_steps(confer, next, reached, rest, visit),
                _ => Ends::Some,
            };
            if found == Ends::Some {
                ends = Ends::Some;
            }
        }
        ends
    }

    fn is_detached(&self, thing: Thing<'_>) -> bool {
        matches!(thing, Thing::Registered(id) if self.engine.register.is_detached(id))
    }
}
