//! What has a truth value: logic, comparisons, functions that ask.

use super::*;

impl<'a> Typer<'a, '_> {
    pub(super) fn test(&mut self, expr: &'a Expr) -> Option<TestId> {
        self.deeper(expr.span, |typer| typer.test_here(expr))
    }

    pub(super) fn test_here(&mut self, expr: &'a Expr) -> Option<TestId> {
        let span = expr.span;
        match &expr.kind {
            ExprKind::Error => None,
            ExprKind::Literal(Scalar::Boolean(value)) => self.add_test(Test::Constant(*value), span),
            ExprKind::Not(inner) => {
                let inner = self.test(inner)?;
                self.add_test(Test::Not(inner), span)
            }
            ExprKind::All(parts) => {
                let parts = self.tests(parts)?;
                self.add_test(Test::All(parts), span)
            }
            ExprKind::Any(parts) => {
                let parts = self.tests(parts)?;
                self.add_test(Test::Any(parts), span)
            }
            ExprKind::Binary(Operator::Plus | Operator::Minus, ..)
            | ExprKind::Literal(_)
            | ExprKind::List(_) => {
                self.error("not-a-condition", span, "this is a value, not a condition");
                None
            }
            ExprKind::Binary(operator, left, right) => self.comparison(*operator, left, right, span),
            ExprKind::Path(_) => {
                let (operand, kind) = self.operand(expr)?;
                match kind {
                    Type::Value(ValueType::Boolean) => self.add_test(Test::Holds(operand), span),
                    Type::Wrong => None,
                    other => {
                        let message = format!("{} is not a condition", self.shown(&other));
                        self.error_help("not-a-condition", span, message, "compare it, or ask known(…)");
                        None
                    }
                }
            }
            ExprKind::Call(name, at, arguments) => self.call_test(name, *at, arguments, span),
        }
    }

    /// All parts are typed, so that all mistakes are told, even if one has none.
    pub(super) fn tests(&mut self, parts: &'a [Expr]) -> Option<Box<[TestId]>> {
        let typed: Vec<_> = parts.iter().map(|part| self.test(part)).collect();
        typed.into_iter().collect()
    }

    pub(super) fn comparison(
        &mut self,
        operator: Operator,
        left: &'a Expr,
        right: &'a Expr,
        span: Span,
    ) -> Option<TestId> {
        match operator {
            Operator::Equal => self.equal(left, right, span),
            Operator::NotEqual => {
                let inner = self.equal(left, right, span)?;
                self.add_test(Test::Not(inner), span)
            }
            Operator::Less => self.order(Order::Less, left, right, span),
            Operator::AtMost => self.order(Order::AtMost, left, right, span),
            Operator::Greater => self.order(Order::Greater, left, right, span),
            Operator::AtLeast => self.order(Order::AtLeast, left, right, span),
            Operator::In => self.membership(left, right, span),
            Operator::NotIn => {
                let inner = self.membership(left, right, span)?;
                self.add_test(Test::Not(inner), span)
            }
            Operator::Overlaps => {
                let a = self.list(left);
                let b = self.list(right);
                let ((a, a_kind), (b, b_kind)) = (a?, b?);
                self.comparable("overlaps", &a_kind, &b_kind, left, right, span)?;
                self.add_test(
                    match a_kind {
                        Type::Value(ValueType::Address) => Test::OverlapNetworks(a, b),
                        _ => Test::Overlaps(a, b),
                    },
                    span,
                )
            }
            Operator::Plus | Operator::Minus => None,
        }
    }

    pub(super) fn equal(&mut self, left: &'a Expr, right: &'a Expr, span: Span) -> Option<TestId> {
        if is_list(left) || is_list(right) {
            self.error_help("list-compared", span, "lists are not compared".into(), "write in, or overlaps");
            return None;
        }
        let a = self.operand(left);
        let b = self.operand(right);
        let ((a, a_kind), (b, b_kind)) = (a?, b?);
        self.comparable("==", &a_kind, &b_kind, left, right, span)?;
        self.doubt_text(left, right);
        self.doubt_text(right, left);
        self.add_test(Test::Equal(a, b), span)
    }

    pub(super) fn order(
        &mut self,
        order: Order,
        left: &'a Expr,
        right: &'a Expr,
        span: Span,
    ) -> Option<TestId> {
        let a = self.operand(left);
        let b = self.operand(right);
        let ((a, a_kind), (b, b_kind)) = (a?, b?);
        self.comparable("<", &a_kind, &b_kind, left, right, span)?;
        match a_kind {
            Type::Value(kind) if kind.is_ordered() => self.add_test(Test::Order(order, a, b), span),
            other => {
                let message = format!("there is no order on {}", self.shown(&other));
                let help = "texts are compared with ==, !=, in, starts, ends, contains and fits";
                match other {
                    Type::Value(ValueType::Text) => self.error_help("no-order", span, message, help),
                    _ => self.error("no-order", span, message),
                }
                None
            }
        }
    }

    pub(super) fn membership(&mut self, left: &'a Expr, right: &'a Expr, span: Span) -> Option<TestId> {
        let (needle, needle_kind) = self.operand(left)?;
        if needle_kind == Type::Value(ValueType::Address) {
            let list = self.networks(right)?;
            return self.add_test(Test::InNetwork(needle, list), span);
        }
        let (list, list_kind) = self.list(right)?;
        self.comparable("in", &needle_kind, &list_kind, left, right, span)?;
        self.doubt_text(left, right);
        self.add_test(Test::In(needle, list), span)
    }

    /// What an address is compared with: one network, or a list of them.
    pub(super) fn networks(&mut self, right: &'a Expr) -> Option<List> {
        if matches!(right.kind, ExprKind::Call(..)) {
            let (operand, kind) = self.operand(right)?;
            if let Operand::Value(value @ Value::Address(_)) = &self.made.operands[operand.index()] {
                return Some(List::Values(Box::new([value.clone()])));
            }
            let message = format!("{} is not a network", self.shown(&kind));
            self.error("types-differ", right.span, message);
            return None;
        }
        let (list, kind) = self.list_or_one(right)?;
        match kind {
            Type::Value(ValueType::Address) => Some(list),
            Type::Wrong => None,
            other => {
                let message =
                    format!("an address is in a network or a list of them, not in {}", self.shown(&other));
                let help = "write address('10.0.0.0/8') for each";
                match other {
                    Type::Value(ValueType::Text) => {
                        self.error_help("types-differ", right.span, message, help);
                    }
                    _ => self.error("types-differ", right.span, message),
                }
                None
            }
        }
    }

    /// Says if two sides cannot be compared; gives their common type's existence as `Some`.
    pub(super) fn comparable(
        &mut self,
        operator: &str,
        a: &Type,
        b: &Type,
        left: &Expr,
        right: &Expr,
        span: Span,
    ) -> Option<()> {
        use ValueType::{Decimal, Integer};
        match (a, b) {
            (Type::Wrong, _) | (_, Type::Wrong) => None,
            (Type::Value(a), Type::Value(b)) if a == b => Some(()),
            (Type::Value(Integer), Type::Value(Decimal)) | (Type::Value(Decimal), Type::Value(Integer)) => {
                Some(())
            }
            (Type::Entity(a_kinds), Type::Entity(b_kinds)) => {
                if !a_kinds.iter().any(|kind| b_kinds.contains(kind)) {
                    let message = format!("{} is never {}", self.shown(a), self.shown(b));
                    self.error("types-differ", span, message);
                    return None;
                }
                // A group is never the subject itself; who means its members must say so.
                for (side, kinds, other) in [(left, b_kinds, right), (right, a_kinds, left)] {
                    if is_subject(side) && kinds.contains(&KindId::GROUP) {
                        let path = self.scope.text(other.span).to_owned();
                        self.findings.push(errors::group_compared::told(span, &path, operator));
                        return None;
                    }
                }
                Some(())
            }
            _ => {
                let mut finding = Finding::error(
                    "types-differ",
                    span,
                    format!("{} is compared with {}", self.shown(a), self.shown(b)),
                );
                for (kind, side) in [(a, right), (b, left)] {
                    if let (Type::Value(kind), ExprKind::Literal(Scalar::Text(text))) = (kind, &side.kind) {
                        finding = match kind {
                            ValueType::Time | ValueType::Duration | ValueType::Address => {
                                finding.help(format!("write {kind}('{text}')"))
                            }
                            ValueType::Integer | ValueType::Decimal => {
                                finding.help("numbers stand without quotes")
                            }
                            _ => finding,
                        };
                    } else if let (Type::Entity(_), ExprKind::Literal(Scalar::Text(text))) =
                        (kind, &side.kind)
                    {
                        finding = finding.help(format!("write entity('{text}')"));
                    } else if let (Type::Entity(_), Some(itself)) =
                        (kind, self.scope.text(side.span).strip_suffix(".id"))
                    {
                        finding = finding.help(format!("compare with {itself} itself, without .id"));
                    }
                }
                self.findings.push(finding);
                None
            }
        }
    }

    /// A text that the attribute beside it can never be is most likely misspelt.
    pub(super) fn doubt_text(&mut self, side: &Expr, other: &Expr) {
        let Some(attribute) = self.attribute_of(side) else { return };
        let Some(values) = &attribute.values else { return };
        let known: Vec<&str> = values
            .iter()
            .filter_map(|value| match value {
                Value::Text(text) => Some(text.as_ref()),
                _ => None,
            })
            .collect();
        let literals: Vec<&Expr> = match &other.kind {
            ExprKind::List(items) => items.iter().collect(),
            _ => vec![other],
        };
        for literal in literals {
            if let ExprKind::Literal(Scalar::Text(text)) = &literal.kind
                && !known.contains(&text.as_ref())
            {
                let message = format!("{} is never '{text}'", self.scope.text(side.span));
                let finding = Finding::warning("value-never-taken", literal.span, message);
                let finding = finding.meant(text, known.iter().copied());
                self.findings.push(finding.help(format!("its values are: {}", known.join(", "))));
            }
        }
    }

    /// The declaration a path of one attribute step ends in, if it is the same for all types.
    pub(super) fn attribute_of(&self, expr: &Expr) -> Option<&'a crate::charter::model::Attribute> {
        let ExprKind::Path(names) = &expr.kind else { return None };
        let [(root, _), (name, _)] = names.as_slice() else { return None };
        let name = NameId(self.scope.names.find(name)?);
        if root == "context" {
            return self.scope.context.iter().find(|attribute| attribute.name == name);
        }
        let kinds: &[KindId] = match root.as_str() {
            "resource" => self.around.kinds,
            "subject" => &[KindId::USER, KindId::SERVICE],
            _ => return None,
        };
        kinds.iter().find_map(|kind| self.scope.kinds[kind.index()].attribute(name))
    }

    pub(super) fn call_test(
        &mut self,
        name: &str,
        at: Span,
        arguments: &'a [Expr],
        span: Span,
    ) -> Option<TestId> {
        match name {
            "holds" if self.around.standby => {
                self.findings.push(errors::standby_reads::holding(span));
                None
            }
            "holds" => {
                let (key, place) = self.one_text(name, arguments, span)?;
                let role = self.role(key, place)?;
                self.add_test(Test::HoldsRole(role), span)
            }
            "member" => {
                let (key, place) = self.one_text(name, arguments, span)?;
                let group = self.group(key, place)?;
                self.add_test(Test::Member(group), span)
            }
            "among" => {
                let [subject, path] = self.arguments(name, arguments, span)?;
                if !is_subject(subject) {
                    self.error(
                        "wrong-argument",
                        subject.span,
                        "among asks about subject: among(subject, path)",
                    );
                    return None;
                }
                let (path, kind) = self.any_path(path)?;
                match kind {
                    Type::Entity(kinds) if kinds.iter().any(|k| k.is_subject() || *k == KindId::GROUP) => {
                        self.add_test(Test::Among(path), span)
                    }
                    Type::Wrong => None,
                    other => {
                        let message = format!("subject is never among {}", self.shown(&other));
                        self.error("types-differ", span, message);
                        None
                    }
                }
            }
            "known" => {
                let [path] = self.arguments(name, arguments, span)?;
                let (path, _) = self.any_path(path)?;
                self.add_test(Test::Known(path), span)
            }
            "starts" | "ends" | "contains" => {
                let [a, b] = self.arguments(name, arguments, span)?;
                let a = self.value_of(a, ValueType::Text);
                let b = self.value_of(b, ValueType::Text);
                let (a, b) = (a?, b?);
                let test = match name {
                    "starts" => Test::Starts(a, b),
                    "ends" => Test::Ends(a, b),
                    _ => Test::Contains(a, b),
                };
                self.add_test(test, span)
            }
            "fits" => {
                let [text, pattern] = self.arguments(name, arguments, span)?;
                let text = self.value_of(text, ValueType::Text);
                let (pattern, _) = self.literal_text(pattern, "a pattern")?;
                self.add_test(Test::Fits(text?, pattern.into()), span)
            }
            "meets" => {
                let (key, place) = self.one_text(name, arguments, span)?;
                self.inline(key, place)
            }
            "time" | "duration" | "address" | "entity" | "lower" | "clock" | "hour" | "weekday" | "count" => {
                let message = format!("{name}(…) is a value, not a condition");
                self.error_help("not-a-condition", span, message, "compare it");
                None
            }
            _ => {
                self.unknown_function(name, at);
                None
            }
        }
    }

    pub(super) fn unknown_function(&mut self, name: &str, at: Span) {
        const KNOWN: [&str; 19] = [
            "holds", "member", "among", "known", "starts", "ends", "contains", "fits", "lower", "meets",
            "clock", "hour", "weekday", "count", "time", "duration", "address", "entity", "not",
        ];
        let finding = Finding::error("unknown-function", at, format!("unknown function {name:?}"));
        // A longer word for it.
        let longer = KNOWN.iter().find(|known| known.len() > 3 && name.starts_with(**known));
        self.findings.push(match longer {
            Some(known) => finding.meant_surely(name, known),
            None => finding.meant(name, KNOWN),
        });
    }

    pub(super) fn inline(&mut self, key: &'a str, place: Span) -> Option<TestId> {
        let Some(named) = self.scope.conditions.iter().find(|named| named.key.value == key) else {
            let known = self.scope.conditions.iter().map(|named| named.key.value.as_str());
            let finding = Finding::error("unknown-condition", place, format!("unknown condition {key:?}"));
            self.findings.push(finding.meant(key, known));
            return None;
        };
        if self.inlining.contains(&key) {
            let message =
                format!("the condition {key:?} meets itself: {} -> {key}", self.inlining.join(" -> "));
            self.error("condition-loop", place, message);
            return None;
        }
        self.inlining.push(key);
        let outer = std::mem::replace(&mut self.regardless, named.regardless);
        let made = named.when.as_ref().and_then(|expr| self.test(expr));
        self.regardless = outer;
        self.inlining.pop();
        made
    }

    pub(super) fn role(&mut self, key: &str, place: Span) -> Option<RoleId> {
        let Some(role) = self.scope.role(key) else {
            let known = self.scope.roles.iter().map(|role| role.key.value.as_str());
            let finding = Finding::error("unknown-role", place, format!("unknown role {key:?}"));
            self.findings.push(finding.meant(key, known));
            return None;
        };
        unguarded(self.scope, role, place, self.regardless, self.findings).then_some(role)
    }

    pub(super) fn group(&mut self, key: &str, place: Span) -> Option<GroupId> {
        let at = self.scope.groups.iter().position(|group| group == key);
        if at.is_none() {
            let known = self.scope.groups.iter().map(String::as_str);
            let finding = Finding::error("unknown-group", place, format!("unknown group {key:?}"));
            let help = format!("groups that conditions name are declared: [group.{key}]");
            self.findings.push(finding.meant(key, known).help(help));
        }
        at.map(GroupId::at)
    }
    pub(super) fn arguments<const N: usize>(
        &mut self,
        name: &str,
        given: &'a [Expr],
        span: Span,
    ) -> Option<[&'a Expr; N]> {
        let all: Vec<&Expr> = given.iter().collect();
        all.try_into().ok().or_else(|| {
            let things = if N == 1 { "thing" } else { "things" };
            self.error("wrong-argument", span, format!("{name} takes {N} {things}, not {}", given.len()));
            None
        })
    }

    pub(super) fn literal_text(&mut self, expr: &'a Expr, what: &str) -> Option<(&'a str, Span)> {
        match &expr.kind {
            ExprKind::Literal(Scalar::Text(text)) => Some((text, expr.span)),
            ExprKind::Error => None,
            _ => {
                let message = format!("{what} is a text in single quotes");
                // A name without its quotes.
                let written = self.scope.text(expr.span);
                if written.chars().all(|c| c.is_ascii_lowercase() || c == '-') {
                    let help = format!("write '{written}'");
                    self.error_help("wrong-argument", expr.span, message, help);
                } else {
                    self.error("wrong-argument", expr.span, message);
                }
                None
            }
        }
    }

    pub(super) fn one_text(&mut self, name: &str, given: &'a [Expr], span: Span) -> Option<(&'a str, Span)> {
        let [key] = self.arguments(name, given, span)?;
        self.literal_text(key, &format!("what {name} names"))
    }

    pub(super) fn value_of(&mut self, expr: &'a Expr, wanted: ValueType) -> Option<OperandId> {
        let (operand, kind) = self.operand(expr)?;
        match kind {
            Type::Value(kind) if kind == wanted => Some(operand),
            Type::Wrong => None,
            other => {
                let message = format!("expected {}, found {}", article(wanted), self.shown(&other));
                self.error("types-differ", expr.span, message);
                None
            }
        }
    }
}
