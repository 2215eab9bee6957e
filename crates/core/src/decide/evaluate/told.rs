//! The parts of a condition with what was read, for the explanation.

use super::*;

impl<'e> Walk<'e> {
    /// Every part of a condition with its value: the smallest tests, in the order written.
    pub(in crate::decide) fn parts(&self, bound: Bound<'e>) -> Vec<Part> {
        let condition = bound.condition;
        let mut parts: Vec<Part> = condition
            .tests
            .iter()
            .enumerate()
            .filter(|(_, test)| !matches!(test, Test::Not(_) | Test::All(_) | Test::Any(_)))
            .map(|(at, _)| {
                let span = condition.test_spans[at];
                Part { span, value: self.test(bound, TestId::at(at)), reads: self.reads(bound, span) }
            })
            .collect();
        parts.sort_by_key(|part| part.span);
        parts
    }

    /// The part that made a condition what it is: of an `and`, the first that did; of an `or` that
    /// is not false, likewise.
    pub(in crate::decide) fn culprit(&self, bound: Bound<'e>, value: Truth) -> Part {
        let mut id = bound.condition.root;
        loop {
            let parts = match &bound.condition.tests[id.index()] {
                Test::All(parts) => parts,
                Test::Any(parts) if value != Truth::False => parts,
                _ => break,
            };
            match parts.iter().find(|part| self.test(bound, **part) == value) {
                Some(part) => id = *part,
                None => break,
            }
        }
        let span = bound.condition.test_spans[id.index()];
        Part { span, value, reads: self.reads(bound, span) }
    }

    /// The paths that stand within a place, with what they give.
    pub(super) fn reads(&self, bound: Bound<'e>, place: Span) -> Vec<(Span, String)> {
        let mut reads = Vec::new();
        for (path, span) in bound.condition.paths.iter().zip(&bound.condition.path_spans) {
            if span.file == place.file && span.start >= place.start && span.end <= place.end {
                reads.push((*span, self.shown(bound, path)));
            }
        }
        for (operand, span) in bound.condition.operands.iter().zip(&bound.condition.operand_spans) {
            if *operand == Operand::Now && span.start >= place.start && span.end <= place.end {
                reads.push((*span, self.question.now.to_string()));
            }
        }
        reads.sort_by_key(|(span, _)| *span);
        reads
    }

    pub(super) fn shown(&self, bound: Bound<'e>, path: &'e Path) -> String {
        /// Longer lists are told by their beginning.
        const SHOWN: usize = 8;
        let mut items = Vec::new();
        let whole = self.each_or_lack(bound, path, &mut |item| {
            items.push(match item {
                Ok(Read::Value(value)) => value.to_string(),
                Ok(Read::Thing(thing, _)) => self.shown_thing(thing),
                Err(lack) => self.lack_told(path, lack),
            });
            items.len() <= SHOWN
        });
        if items.len() > SHOWN {
            items.truncate(SHOWN);
            items.push("…".to_owned());
        }
        match (path.many, whole) {
            (false, _) => items.pop().unwrap_or_default(),
            (true, Whole::Yes) => format!("[{}]", items.join(", ")),
            (true, Whole::No(lack)) if items.is_empty() => self.lack_told(path, lack),
            (true, Whole::No(_)) => format!("[{}, and not all could be read]", items.join(", ")),
        }
    }

    /// Why nothing could be read; of what is stated and cannot be, what is stated.
    fn lack_told(&self, path: &'e Path, lack: Lack) -> String {
        match self.misfit(path).filter(|_| lack == Lack::IllTyped) {
            Some((stated, declared)) => {
                let shown = stated.to_json().to_string();
                let is_typed = match stated {
                    Stated::One(scalar) => !declared.many && scalar.read(declared.kind).is_some(),
                    Stated::Many(all) => {
                        declared.many && all.iter().all(|one| one.read(declared.kind).is_some())
                    }
                    Stated::Unfit => false,
                };
                match &declared.values {
                    Some(values) if is_typed => {
                        let all: Vec<String> = values.iter().map(ToString::to_string).collect();
                        format!("{shown}, which is not one of {}", all.join(", "))
                    }
                    _ if declared.many => format!("{shown}, which is no list of {}s", declared.kind.name()),
                    _ => format!("{shown}, which is no {}", declared.kind.name()),
                }
            }
            None => lack.word().to_owned(),
        }
    }

    /// What is stated of the attribute at a path's end, and how it is declared.
    fn misfit(&self, path: &'e Path) -> Option<(&'e Stated, &'e Attribute)> {
        if let Root::Context(index) = path.root {
            let stated = self.question.context[index].as_ref()?;
            return Some((stated, &self.engine.policy.model().context[index]));
        }
        let (Step::Attribute(name), before) = path.steps.split_last()? else { return None };
        let Read::Thing(thing, _) = self.steps(self.root(path.root).ok()?, before).ok()? else { return None };
        let declared = self.kind_of(thing)?.attribute(*name)?;
        Some((self.stated(thing, declared).ok()?, declared))
    }

    pub(super) fn shown_thing(&self, thing: Thing<'_>) -> String {
        match thing {
            Thing::Registered(id) => self.engine.register.name(id).to_owned(),
            Thing::Named(name) => name.to_owned(),
            Thing::Own => self.own_name().map_or_else(|| "a new one".to_owned(), str::to_owned),
        }
    }
}
