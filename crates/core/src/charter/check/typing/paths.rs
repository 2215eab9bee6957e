//! Paths: where they start, what each step may be, and for which types.

use super::*;

impl<'a> Typer<'a, '_> {
    pub(super) fn any_path(&mut self, expr: &'a Expr) -> Option<(PathId, Type)> {
        let ExprKind::Path(names) = &expr.kind else {
            if expr.kind != ExprKind::Error {
                self.error("not-a-path", expr.span, "expected a path, such as resource.declarant");
            }
            return None;
        };
        let ((root, root_span), steps) = names.split_first()?;
        if steps.len() > MAX_STEPS {
            self.error("over-a-bound", expr.span, format!("a path has at most {MAX_STEPS} steps"));
            return None;
        }
        let (path, kind) = match root.as_str() {
            "subject" => self.walk(Root::Subject, vec![KindId::USER, KindId::SERVICE], steps)?,
            "resource" if self.around.standby => {
                self.findings.push(errors::standby_reads::resource(*root_span));
                return None;
            }
            "resource" => self.walk(Root::Resource, self.around.kinds.to_vec(), steps)?,
            "context" => self.context_path(steps, expr.span)?,
            "grant" => self.grant_path(steps, expr.span)?,
            _ => {
                let finding = Finding::error("unknown-name", *root_span, format!("unknown name {root:?}"));
                let finding = finding.meant(root, ["subject", "resource", "context", "grant", "now"]);
                let help = "a path starts at subject, resource, context, grant or now";
                self.findings.push(finding.help(help));
                return None;
            }
        };
        Some((self.add_path(path, expr.span)?, kind))
    }

    pub(super) fn context_path(&mut self, steps: &[(String, Span)], span: Span) -> Option<(Path, Type)> {
        let [(name, place)] = steps else {
            self.error("unknown-name", span, "context.key names one thing an application may send along");
            return None;
        };
        let known = self.scope.names.find(name).map(NameId);
        let Some(index) = self.scope.context.iter().position(|a| Some(a.name) == known) else {
            let names = self.scope.context.iter().map(|a| self.scope.names.text(a.name.0));
            let finding = Finding::error("unknown-context", *place, format!("unknown context key {name:?}"));
            let help = "what may be sent along is declared in [context]";
            self.findings.push(finding.meant(name, names).help(help));
            return None;
        };
        let attribute = &self.scope.context[index];
        let path = Path { root: Root::Context(index), steps: Box::new([]), many: attribute.many };
        Some((path, Type::Value(attribute.kind)))
    }

    pub(super) fn grant_path(&mut self, steps: &[(String, Span)], span: Span) -> Option<(Path, Type)> {
        let Some(values) = self.around.grant else {
            self.error("grant-outside-role", span, "grant can be read in a role's conditions only");
            return None;
        };
        let [(name, place)] = steps else {
            self.error("unknown-name", span, "grant.key names one value of the grant at hand");
            return None;
        };
        let Some((_, kind)) = values.iter().find(|(key, _)| key == name) else {
            let known = values.iter().map(|(key, _)| key.as_str());
            let message = format!("this role's grants have no value {name:?}");
            let finding = Finding::error("unknown-name", *place, message).meant(name, known);
            self.findings.push(finding.help(format!("declare it: values = {{ {name} = \"text\" }}")));
            return None;
        };
        let id = NameId(self.scope.names.find(name)?);
        Some((Path { root: Root::Grant(id, *kind), steps: Box::new([]), many: true }, Type::Value(*kind)))
    }

    pub(super) fn walk(
        &mut self,
        root: Root,
        start: Vec<KindId>,
        names: &[(String, Span)],
    ) -> Option<(Path, Type)> {
        let mut kind = Type::Entity(start);
        let mut steps = Vec::new();
        let mut many = false;
        for (at, (name, span)) in names.iter().enumerate() {
            let Type::Entity(kinds) = &kind else {
                let message = format!("{} has nothing called {name:?}", self.shown(&kind));
                self.error("unknown-name", *span, message);
                return None;
            };
            let (step, step_many, next) = self.step(kinds.clone(), name, *span)?;
            if let Some((after, place)) = names.get(at + 1) {
                self.leads_on(kinds, name, after, *place)?;
            }
            if many && step_many {
                self.error("over-a-bound", *span, "a path has at most one step that leads to many");
                return None;
            }
            many |= step_many;
            steps.push(step);
            kind = next;
        }
        Some((Path { root, steps: steps.into(), many }, kind))
    }

    pub(super) fn step(&mut self, kinds: Vec<KindId>, name: &str, span: Span) -> Option<(Step, bool, Type)> {
        match name {
            "id" => return Some((Step::Id, false, Type::Value(ValueType::Text))),
            "type" => return Some((Step::Type, false, Type::Value(ValueType::Text))),
            _ => {}
        }
        let mut found: Option<(Step, bool, Type)> = None;
        let mut lacking = Vec::new();
        for kind in &kinds {
            match (self.step_from(*kind, name), &mut found) {
                (Some(step), None) => found = Some(step),
                (Some((step, many, Type::Entity(more))), Some((known, known_many, Type::Entity(all))))
                    if step == *known =>
                {
                    self.mixed |= many != *known_many || more.iter().any(|kind| !all.contains(kind));
                    self.mixed |= all.iter().any(|kind| !more.contains(kind));
                    *known_many |= many;
                    all.extend(more);
                }
                (Some(step), Some(known)) if step == *known => {}
                (Some(_), Some(_)) => {
                    let message = format!(
                        "{name:?} is not the same for every type this can meet: {}",
                        self.kinds(&kinds)
                    );
                    let help = format!("give each type {}", self.around.split);
                    self.error_help("types-differ", span, message, help);
                    return None;
                }
                (None, _) => lacking.push(*kind),
            }
        }
        // Of subjects it is enough that one kind declares it; for the others it is missing.
        lacking.retain(|kind| found.is_none() || kind.is_resource() || *kind == KindId::TENANT);
        match found {
            Some((step, many, Type::Entity(mut all))) if lacking.is_empty() => {
                all.sort_unstable();
                all.dedup();
                Some((step, many, Type::Entity(all)))
            }
            Some(step) if lacking.is_empty() => Some(step),
            _ => {
                self.unknown_step(name, span, &kinds, &lacking);
                None
            }
        }
    }

    /// Of subjects it is enough that one kind declares a name, but of those that one type's relation leads
    /// to: what another type's leads to is no help to it.
    fn leads_on(&mut self, kinds: &[KindId], name: &str, after: &str, place: Span) -> Option<()> {
        if matches!(after, "id" | "type") {
            return Some(());
        }
        let declares = |kind: &KindId| self.step_from(*kind, after).is_some();
        let ends = |kind: &KindId| match self.step_from(*kind, name) {
            Some((Step::Relation(_), _, Type::Entity(ends))) => ends,
            _ => Vec::new(),
        };
        let lost: Vec<KindId> = kinds
            .iter()
            .copied()
            .filter(|kind| {
                let ends = ends(kind);
                let cannot = |end: &KindId| !end.is_resource() && *end != KindId::TENANT && !declares(end);
                !ends.is_empty() && ends.iter().all(cannot)
            })
            .collect();
        if lost.is_empty() || lost.len() == kinds.len() {
            return Some(());
        }
        let ends: Vec<KindId> = lost.iter().flat_map(ends).collect();
        let message = format!(
            "of a {}, {name:?} is a {}, which has no {after:?}",
            self.kinds(&lost),
            self.kinds(&ends[..1])
        );
        let help = format!("give the permissions of {} {}", self.kinds(&lost), self.around.split);
        self.error_help("unknown-name", place, message, help);
        None
    }

    pub(super) fn step_from(&self, kind: KindId, name: &str) -> Option<(Step, bool, Type)> {
        let declared = &self.scope.kinds[kind.index()];
        match name {
            "tenant" if !kind.is_subject() => {
                return Some((Step::Tenant, false, Type::Entity(vec![KindId::TENANT])));
            }
            "detached" if kind.is_resource() => {
                return Some((Step::Detached, false, Type::Value(ValueType::Boolean)));
            }
            "within" if !declared.within.is_empty() => {
                return Some((Step::Within, false, Type::Entity(declared.within.clone())));
            }
            _ => {}
        }
        let id = NameId(self.scope.names.find(name)?);
        if let Some(attribute) = declared.attribute(id) {
            return Some((Step::Attribute(id), attribute.many, Type::Value(attribute.kind)));
        }
        let relation = declared.relation(id)?;
        Some((Step::Relation(id), relation.many, Type::Entity(relation.to.clone())))
    }

    pub(super) fn unknown_step(&mut self, name: &str, span: Span, kinds: &[KindId], lacking: &[KindId]) {
        let known: Vec<&str> = kinds
            .iter()
            .flat_map(|kind| {
                let kind = &self.scope.kinds[kind.index()];
                let attributes = kind.attributes.iter().map(|a| a.name);
                attributes.chain(kind.relations.iter().map(|r| r.name))
            })
            .map(|id| self.scope.names.text(id.0))
            .chain(["id", "type", "tenant", "within", "detached"])
            .collect();
        let whose = self.kinds(lacking);
        let finding = if lacking.len() < kinds.len() {
            let message = format!("{whose} declares no {name:?}, and this condition can meet it");
            Finding::error("unknown-name", span, message)
                .help(format!("give the permissions of {whose} {}", self.around.split))
        } else {
            Finding::error("unknown-name", span, format!("{whose} has no {name:?}")).meant(name, known)
        };
        self.findings.push(finding);
    }
}
