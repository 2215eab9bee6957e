//! Types a condition's tree into a [`Condition`], or says why it has none.
//!
//! A condition is typed once for the whole set of resource types it can meet, so one typed form
//! serves all of them; what only some of them declare is an error here, not a surprise later.

use super::Scope;
use crate::charter::model::{
    Condition, GroupId, KindId, List, NameId, Operand, OperandId, Order, Path, PathId, RoleId, Root, Step,
    Test, TestId,
};
use crate::charter::syntax::condition::{Expr, ExprKind, MAX_NESTING, Operator};
use crate::names::did_you_mean;
use crate::source::{Finding, Span};
use crate::value::{Scalar, Value, ValueType, parse_address, parse_duration, parse_time};
use jiff::tz::TimeZone;
use std::borrow::Cow;

/// Longest path, in steps.
pub const MAX_STEPS: usize = 8;
/// Most nodes of one condition, named conditions inlined; what keeps inlining from exploding.
const MAX_NODES: usize = 4_096;

/// What an operand is.
#[derive(Clone, Debug, PartialEq)]
enum Type {
    /// A value.
    Value(ValueType),
    /// An entity of one of these kinds.
    Entity(Vec<KindId>),
    /// A finding has been made; nothing more is said about it.
    Wrong,
}

/// What a condition may refer to, besides what the charter declares.
#[derive(Clone, Copy, Debug)]
pub struct Surroundings<'a> {
    /// The resource types it can meet.
    pub kinds: &'a [KindId],
    /// The values of the role's grants; `None` outside roles.
    pub grant: Option<&'a [(String, ValueType)]>,
    /// Whether `holds` may name a guarded role.
    pub regardless: bool,
    /// What to split off if the types differ, e.g. `a clause of its own`.
    pub split: &'static str,
}

/// Types `expr`.
pub fn condition(
    scope: &Scope<'_>,
    around: Surroundings<'_>,
    expr: &Expr,
    findings: &mut Vec<Finding>,
) -> Option<Condition> {
    let before = findings.len();
    let empty = Condition {
        tests: Vec::new(),
        operands: Vec::new(),
        paths: Vec::new(),
        test_spans: Vec::new(),
        operand_spans: Vec::new(),
        path_spans: Vec::new(),
        root: TestId(0),
    };
    let mut typer = Typer {
        scope,
        around,
        regardless: around.regardless,
        made: empty,
        findings,
        depth: 0,
        inlining: Vec::new(),
        full: false,
    };
    let root = typer.test(expr);
    let mut made = typer.made;
    made.root = root?;
    let whole = findings[before..].iter().all(|f| f.severity != crate::source::Severity::Error);
    whole.then_some(made)
}

struct Typer<'a, 'f> {
    scope: &'a Scope<'a>,
    around: Surroundings<'a>,
    regardless: bool,
    made: Condition,
    findings: &'f mut Vec<Finding>,
    depth: usize,
    inlining: Vec<&'a str>,
    full: bool,
}

impl<'a> Typer<'a, '_> {
    fn error(&mut self, code: &'static str, span: Span, message: impl Into<String>) {
        self.findings.push(Finding::error(code, span, message));
    }

    fn error_help(&mut self, code: &'static str, span: Span, message: String, help: impl Into<String>) {
        self.findings.push(Finding::error(code, span, message).help(help));
    }

    fn room(&mut self, span: Span) -> bool {
        if self.made.tests.len() + self.made.operands.len() + self.made.paths.len() < MAX_NODES {
            return true;
        }
        if !self.full {
            self.full = true;
            self.error(
                "over-a-bound",
                span,
                format!("more than {MAX_NODES} parts, named conditions inlined"),
            );
        }
        false
    }

    fn add_test(&mut self, test: Test, span: Span) -> Option<TestId> {
        self.room(span).then(|| {
            self.made.tests.push(test);
            self.made.test_spans.push(span);
            TestId::at(self.made.tests.len() - 1)
        })
    }

    fn add_operand(&mut self, operand: Operand, span: Span) -> Option<OperandId> {
        self.room(span).then(|| {
            self.made.operands.push(operand);
            self.made.operand_spans.push(span);
            OperandId::at(self.made.operands.len() - 1)
        })
    }

    fn add_path(&mut self, path: Path, span: Span) -> Option<PathId> {
        self.room(span).then(|| {
            self.made.paths.push(path);
            self.made.path_spans.push(span);
            PathId::at(self.made.paths.len() - 1)
        })
    }

    /// Runs a rule one level down in the tree.
    fn deeper<T>(&mut self, span: Span, rule: impl FnOnce(&mut Self) -> Option<T>) -> Option<T> {
        if self.depth >= MAX_NESTING {
            if !self.full {
                self.full = true;
                self.error_help(
                    "over-a-bound",
                    span,
                    format!("nested deeper than {MAX_NESTING}, named conditions inlined"),
                    "say it in two rules or clauses",
                );
            }
            return None;
        }
        self.depth += 1;
        let done = rule(self);
        self.depth -= 1;
        done
    }

    // -- tests ---------------------------------------------------------------------------------

    fn test(&mut self, expr: &'a Expr) -> Option<TestId> {
        self.deeper(expr.span, |typer| typer.test_here(expr))
    }

    fn test_here(&mut self, expr: &'a Expr) -> Option<TestId> {
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
    fn tests(&mut self, parts: &'a [Expr]) -> Option<Box<[TestId]>> {
        let typed: Vec<_> = parts.iter().map(|part| self.test(part)).collect();
        typed.into_iter().collect()
    }

    fn comparison(
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
                self.add_test(Test::Overlaps(a, b), span)
            }
            Operator::Plus | Operator::Minus => None,
        }
    }

    fn equal(&mut self, left: &'a Expr, right: &'a Expr, span: Span) -> Option<TestId> {
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

    fn order(&mut self, order: Order, left: &'a Expr, right: &'a Expr, span: Span) -> Option<TestId> {
        let a = self.operand(left);
        let b = self.operand(right);
        let ((a, a_kind), (b, b_kind)) = (a?, b?);
        self.comparable("<", &a_kind, &b_kind, left, right, span)?;
        match a_kind {
            Type::Value(kind) if kind.is_ordered() => self.add_test(Test::Order(order, a, b), span),
            other => {
                let message = format!("there is no order on {}", self.shown(&other));
                self.error("no-order", span, message);
                None
            }
        }
    }

    fn membership(&mut self, left: &'a Expr, right: &'a Expr, span: Span) -> Option<TestId> {
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
    fn networks(&mut self, right: &'a Expr) -> Option<List> {
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
                self.error("types-differ", right.span, message);
                None
            }
        }
    }

    /// Says if two sides cannot be compared; gives their common type's existence as `Some`.
    fn comparable(
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
                        self.error_help(
                            "group-compared",
                            span,
                            format!("{path} may be a group, and subject {operator} it would leave out the group's members"),
                            format!("write among(subject, {path})"),
                        );
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
                    }
                }
                self.findings.push(finding);
                None
            }
        }
    }

    /// A text that the attribute beside it can never be is most likely misspelt.
    fn doubt_text(&mut self, side: &Expr, other: &Expr) {
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
                let near = did_you_mean(text, known.iter().copied());
                let message = format!("{} is never '{text}'{near}", self.scope.text(side.span));
                let finding = Finding::warning("value-never-taken", literal.span, message);
                self.findings.push(finding.help(format!("its values are: {}", known.join(", "))));
            }
        }
    }

    /// The declaration a path of one attribute step ends in, if it is the same for all types.
    fn attribute_of(&self, expr: &Expr) -> Option<&'a crate::charter::model::Attribute> {
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

    fn call_test(&mut self, name: &str, at: Span, arguments: &'a [Expr], span: Span) -> Option<TestId> {
        match name {
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

    fn unknown_function(&mut self, name: &str, at: Span) {
        const KNOWN: [&str; 19] = [
            "holds", "member", "among", "known", "starts", "ends", "contains", "fits", "lower", "meets",
            "clock", "hour", "weekday", "count", "time", "duration", "address", "entity", "not",
        ];
        let message = format!("unknown function {name:?}{}", did_you_mean(name, KNOWN));
        self.error("unknown-function", at, message);
    }

    fn inline(&mut self, key: &'a str, place: Span) -> Option<TestId> {
        let Some(named) = self.scope.conditions.iter().find(|named| named.key.value == key) else {
            let known = self.scope.conditions.iter().map(|named| named.key.value.as_str());
            let message = format!("unknown condition {key:?}{}", did_you_mean(key, known));
            self.error("unknown-condition", place, message);
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

    fn role(&mut self, key: &str, place: Span) -> Option<RoleId> {
        let Some(role) = self.scope.role(key) else {
            let known = self.scope.roles.iter().map(|role| role.key.value.as_str());
            let message = format!("unknown role {key:?}{}", did_you_mean(key, known));
            self.error("unknown-role", place, message);
            return None;
        };
        if let Some(guarded) = self.scope.guarded_through(role).filter(|_| !self.regardless) {
            let through = self.scope.roles[guarded.index()].key.value.clone();
            let why = if guarded == role {
                format!("{key:?} has a when or values of its own, and holds looks at neither")
            } else {
                format!(
                    "{key:?} is included in {through:?}, which has a when or values that holds does not look at"
                )
            };
            self.error_help(
                "holds-guarded",
                place,
                why,
                "if that is meant, write regardless = true beside this when",
            );
            return None;
        }
        Some(role)
    }

    fn group(&mut self, key: &str, place: Span) -> Option<GroupId> {
        let at = self.scope.groups.iter().position(|group| group == key);
        if at.is_none() {
            let known = self.scope.groups.iter().map(String::as_str);
            let message = format!("unknown group {key:?}{}", did_you_mean(key, known));
            self.error_help(
                "unknown-group",
                place,
                message,
                format!("groups that conditions name are declared: [group.{key}]"),
            );
        }
        at.map(GroupId::at)
    }

    // -- arguments -----------------------------------------------------------------------------

    fn arguments<const N: usize>(
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

    fn literal_text(&mut self, expr: &'a Expr, what: &str) -> Option<(&'a str, Span)> {
        match &expr.kind {
            ExprKind::Literal(Scalar::Text(text)) => Some((text, expr.span)),
            ExprKind::Error => None,
            _ => {
                self.error("wrong-argument", expr.span, format!("{what} is a text in single quotes"));
                None
            }
        }
    }

    fn one_text(&mut self, name: &str, given: &'a [Expr], span: Span) -> Option<(&'a str, Span)> {
        let [key] = self.arguments(name, given, span)?;
        self.literal_text(key, &format!("what {name} names"))
    }

    fn value_of(&mut self, expr: &'a Expr, wanted: ValueType) -> Option<OperandId> {
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

    // -- operands ------------------------------------------------------------------------------

    fn operand(&mut self, expr: &'a Expr) -> Option<(OperandId, Type)> {
        self.deeper(expr.span, |typer| typer.operand_here(expr))
    }

    fn operand_here(&mut self, expr: &'a Expr) -> Option<(OperandId, Type)> {
        let span = expr.span;
        match &expr.kind {
            ExprKind::Error => None,
            ExprKind::Literal(scalar) => {
                let value = literal(scalar);
                let kind = Type::Value(type_of(&value));
                Some((self.add_operand(Operand::Value(value), span)?, kind))
            }
            ExprKind::List(_) => {
                self.error(
                    "list-compared",
                    span,
                    "a list stands only right of in, beside overlaps, or in count",
                );
                None
            }
            ExprKind::Path(names) if names.len() == 1 && names[0].0 == "now" => {
                Some((self.add_operand(Operand::Now, span)?, Type::Value(ValueType::Time)))
            }
            ExprKind::Path(_) => {
                let (path, kind) = self.any_path(expr)?;
                if self.made.paths[path.index()].many {
                    let text = self.scope.text(span).to_owned();
                    self.error_help(
                        "list-compared",
                        span,
                        format!("{text} is a list"),
                        format!("write … in {text}, count({text}), or overlaps"),
                    );
                    return None;
                }
                Some((self.add_operand(Operand::Path(path), span)?, kind))
            }
            ExprKind::Binary(operator @ (Operator::Plus | Operator::Minus), left, right) => {
                self.sum(*operator, left, right, span)
            }
            ExprKind::Call(name, at, arguments) => self.call_value(name, *at, arguments, expr),
            ExprKind::Not(_) | ExprKind::All(_) | ExprKind::Any(_) | ExprKind::Binary(..) => {
                let test = self.test_here(expr)?;
                Some((self.add_operand(Operand::Test(test), span)?, Type::Value(ValueType::Boolean)))
            }
        }
    }

    fn sum(
        &mut self,
        operator: Operator,
        left: &'a Expr,
        right: &'a Expr,
        span: Span,
    ) -> Option<(OperandId, Type)> {
        use ValueType::{Decimal, Duration, Integer, Time};
        let a = self.operand(left);
        let b = self.operand(right);
        let ((a, a_kind), (b, b_kind)) = (a?, b?);
        let (Type::Value(left_type), Type::Value(right_type)) = (&a_kind, &b_kind) else {
            if a_kind != Type::Wrong && b_kind != Type::Wrong {
                self.error("types-differ", span, "entities are not added");
            }
            return None;
        };
        let minus = operator == Operator::Minus;
        let kind = match (left_type, right_type) {
            (Integer, Integer) => Integer,
            (Integer | Decimal, Integer | Decimal) => Decimal,
            (Duration, Duration) => Duration,
            (Time, Duration) => Time,
            (Duration, Time) if !minus => Time,
            (Time, Time) if minus => Duration,
            _ => {
                let message = format!(
                    "{} {} {} has no meaning",
                    article(*left_type),
                    operator.text(),
                    article(*right_type)
                );
                self.error("types-differ", span, message);
                return None;
            }
        };
        let operand = if minus { Operand::Minus(a, b) } else { Operand::Plus(a, b) };
        Some((self.add_operand(operand, span)?, Type::Value(kind)))
    }

    fn call_value(
        &mut self,
        name: &str,
        at: Span,
        arguments: &'a [Expr],
        expr: &'a Expr,
    ) -> Option<(OperandId, Type)> {
        let span = expr.span;
        let (operand, kind) = match name {
            "time" | "duration" | "address" => {
                let (text, place) = self.one_text(name, arguments, span)?;
                let value = match name {
                    "time" => parse_time(text).map(Value::Time),
                    "duration" => parse_duration(text).map(Value::Duration),
                    _ => parse_address(text).map(Value::Address),
                };
                let Some(value) = value else {
                    let help = match name {
                        "time" => "such as 2026-11-23T08:00:00Z",
                        "duration" => "such as 90m, 2h30m, 1d: units d h m s, the larger first",
                        _ => "such as 10.0.0.7 or 10.0.0.0/8, with zeros behind the prefix",
                    };
                    self.error_help(
                        "not-a-value",
                        place,
                        format!("{text:?} is not {}", article_of(name)),
                        help,
                    );
                    return None;
                };
                let kind = type_of(&value);
                (Operand::Value(value), kind)
            }
            "entity" => {
                let (text, place) = self.one_text(name, arguments, span)?;
                let kind = self.entity_kind(text, place)?;
                let operand = self.add_operand(Operand::Entity(text.into()), span)?;
                return Some((operand, Type::Entity(vec![kind])));
            }
            "lower" => {
                let [text] = self.arguments(name, arguments, span)?;
                (Operand::Lower(self.value_of(text, ValueType::Text)?), ValueType::Text)
            }
            "clock" | "hour" | "weekday" => {
                let [time, zone] = self.arguments(name, arguments, span)?;
                let time = self.value_of(time, ValueType::Time);
                let (zone_name, place) = self.literal_text(zone, "a time zone")?;
                let zone = self.zone(zone_name, place)?;
                let (time, zone) = (time?, Box::new(zone));
                match name {
                    "clock" => (Operand::Clock(time, zone), ValueType::Duration),
                    "hour" => (Operand::Hour(time, zone), ValueType::Integer),
                    _ => (Operand::Weekday(time, zone), ValueType::Text),
                }
            }
            "count" => {
                let [list] = self.arguments(name, arguments, span)?;
                (Operand::Count(self.list(list)?.0), ValueType::Integer)
            }
            "holds" | "member" | "among" | "known" | "starts" | "ends" | "contains" | "fits" | "meets" => {
                let test = self.test_here(expr)?;
                (Operand::Test(test), ValueType::Boolean)
            }
            _ => {
                self.unknown_function(name, at);
                return None;
            }
        };
        Some((self.add_operand(operand, span)?, Type::Value(kind)))
    }

    fn zone(&mut self, name: &str, place: Span) -> Option<TimeZone> {
        let database = jiff::tz::TimeZoneDatabase::bundled();
        // The database knows names in any case; a charter is read by people, so it takes one.
        let exact = database.available().any(|known| known.as_str() == name);
        let zone = database.get(name).ok().filter(|_| exact);
        if zone.is_none() {
            let known: Vec<String> = database.available().map(|zone| zone.as_str().to_owned()).collect();
            let same = known.iter().find(|zone| zone.eq_ignore_ascii_case(name));
            let near = same.map_or_else(
                || did_you_mean(name, known.iter().map(String::as_str)),
                |zone| format!("; did you mean {zone:?}?"),
            );
            self.error("unknown-zone", place, format!("unknown time zone {name:?}{near}"));
        }
        zone
    }

    fn entity_kind(&mut self, text: &str, place: Span) -> Option<KindId> {
        match crate::names::split_entity(text) {
            Ok((kind, _)) => {
                let found = self.scope.kind(kind);
                if found.is_none() {
                    let known = self.scope.kinds.iter().map(|kind| kind.key.as_str());
                    let message = format!("unknown type {kind:?}{}", did_you_mean(kind, known));
                    self.error("unknown-type", place, message);
                }
                found
            }
            Err(message) => {
                self.error("not-an-entity", place, message);
                None
            }
        }
    }

    // -- lists ---------------------------------------------------------------------------------

    fn list(&mut self, expr: &'a Expr) -> Option<(List, Type)> {
        let (list, kind) = self.list_or_one(expr)?;
        if let List::Path(path) = &list
            && !self.made.paths[path.index()].many
        {
            let text = self.scope.text(expr.span).to_owned();
            self.error_help(
                "not-a-list",
                expr.span,
                format!("{text} is not a list"),
                "write == to compare with one value",
            );
            return None;
        }
        Some((list, kind))
    }

    fn list_or_one(&mut self, expr: &'a Expr) -> Option<(List, Type)> {
        match &expr.kind {
            ExprKind::List(items) => self.literal_list(items, expr.span),
            ExprKind::Path(_) => {
                let (path, kind) = self.any_path(expr)?;
                Some((List::Path(path), kind))
            }
            ExprKind::Error => None,
            _ => {
                self.error("not-a-list", expr.span, "expected a list, or a path that gives one");
                None
            }
        }
    }

    fn literal_list(&mut self, items: &'a [Expr], span: Span) -> Option<(List, Type)> {
        let mut values = Vec::new();
        let mut entities: Vec<Box<str>> = Vec::new();
        let mut kinds = Vec::new();
        let mut value_type = None;
        for item in items {
            let (operand, kind) = self.operand(item)?;
            match (self.made.operands[operand.index()].clone(), kind) {
                (Operand::Value(value), Type::Value(kind)) => {
                    let first = *value_type.get_or_insert(kind);
                    if first != kind || !kinds.is_empty() {
                        let message = format!("a list of {first} holds {}", article(kind));
                        self.error("types-differ", item.span, message);
                        return None;
                    }
                    values.push(value);
                }
                (Operand::Entity(name), Type::Entity(kind)) if values.is_empty() => {
                    kinds.extend(kind);
                    entities.push(name);
                }
                _ => {
                    self.error("not-a-literal", item.span, "a list in brackets holds literals only");
                    return None;
                }
            }
        }
        match value_type {
            Some(kind) => Some((List::Values(values.into()), Type::Value(kind))),
            None if !entities.is_empty() => Some((List::Entities(entities.into()), Type::Entity(kinds))),
            None => {
                self.error("empty-list", span, "an empty list holds nothing");
                None
            }
        }
    }

    // -- paths ---------------------------------------------------------------------------------

    fn any_path(&mut self, expr: &'a Expr) -> Option<(PathId, Type)> {
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
            "resource" => self.walk(Root::Resource, self.around.kinds.to_vec(), steps)?,
            "context" => self.context_path(steps, expr.span)?,
            "grant" => self.grant_path(steps, expr.span)?,
            _ => {
                let near = did_you_mean(root, ["subject", "resource", "context", "grant", "now"]);
                let message = format!("unknown name {root:?}{near}");
                self.error_help(
                    "unknown-name",
                    *root_span,
                    message,
                    "a path starts at subject, resource, context, grant or now",
                );
                return None;
            }
        };
        Some((self.add_path(path, expr.span)?, kind))
    }

    fn context_path(&mut self, steps: &[(String, Span)], span: Span) -> Option<(Path, Type)> {
        let [(name, place)] = steps else {
            self.error("unknown-name", span, "context.key names one thing an application may send along");
            return None;
        };
        let known = self.scope.names.find(name).map(NameId);
        let Some(index) = self.scope.context.iter().position(|a| Some(a.name) == known) else {
            let names = self.scope.context.iter().map(|a| self.scope.names.text(a.name.0));
            let message = format!("unknown context key {name:?}{}", did_you_mean(name, names));
            self.error_help(
                "unknown-context",
                *place,
                message,
                "what may be sent along is declared in [context]",
            );
            return None;
        };
        let attribute = &self.scope.context[index];
        let path = Path { root: Root::Context(index), steps: Box::new([]), many: attribute.many };
        Some((path, Type::Value(attribute.kind)))
    }

    fn grant_path(&mut self, steps: &[(String, Span)], span: Span) -> Option<(Path, Type)> {
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
            let message = format!("this role's grants have no value {name:?}{}", did_you_mean(name, known));
            self.error_help(
                "unknown-name",
                *place,
                message,
                format!("declare it: values = {{ {name} = \"text\" }}"),
            );
            return None;
        };
        let id = NameId(self.scope.names.find(name)?);
        Some((Path { root: Root::Grant(id, *kind), steps: Box::new([]), many: true }, Type::Value(*kind)))
    }

    fn walk(&mut self, root: Root, start: Vec<KindId>, names: &[(String, Span)]) -> Option<(Path, Type)> {
        let mut kind = Type::Entity(start);
        let mut steps = Vec::new();
        let mut many = false;
        for (name, span) in names {
            let Type::Entity(kinds) = &kind else {
                let message = format!("{} has nothing called {name:?}", self.shown(&kind));
                self.error("unknown-name", *span, message);
                return None;
            };
            let (step, step_many, next) = self.step(kinds.clone(), name, *span)?;
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

    fn step(&mut self, kinds: Vec<KindId>, name: &str, span: Span) -> Option<(Step, bool, Type)> {
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
                    if step == *known && many == *known_many =>
                {
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

    fn step_from(&self, kind: KindId, name: &str) -> Option<(Step, bool, Type)> {
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

    fn unknown_step(&mut self, name: &str, span: Span, kinds: &[KindId], lacking: &[KindId]) {
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
            let message = format!("{whose} has no {name:?}{}", did_you_mean(name, known));
            Finding::error("unknown-name", span, message)
        };
        self.findings.push(finding);
    }

    // -- words ---------------------------------------------------------------------------------

    fn kinds(&self, kinds: &[KindId]) -> String {
        let names: Vec<_> = kinds.iter().map(|kind| self.scope.kinds[kind.index()].key.as_str()).collect();
        names.join(" or ")
    }

    fn shown(&self, kind: &Type) -> String {
        match kind {
            Type::Value(kind) => article(*kind),
            Type::Entity(kinds) => format!("a {}", self.kinds(kinds)),
            Type::Wrong => "this".to_owned(),
        }
    }
}

fn article(kind: ValueType) -> String {
    article_of(kind.name())
}

fn article_of(name: &str) -> String {
    let article = if name.starts_with(['a', 'i']) { "an" } else { "a" };
    format!("{article} {name}")
}

fn is_subject(expr: &Expr) -> bool {
    matches!(&expr.kind, ExprKind::Path(names) if names.len() == 1 && names[0].0 == "subject")
}

fn is_list(expr: &Expr) -> bool {
    matches!(expr.kind, ExprKind::List(_))
}

/// A literal's value is of the type it is written as: 5.0 is a decimal, 5 an integer.
fn literal(scalar: &Scalar) -> Value<'static> {
    match scalar {
        Scalar::Boolean(value) => Value::Boolean(*value),
        Scalar::Integer(value) => Value::Integer(*value),
        Scalar::Decimal(value) => Value::Decimal(*value),
        Scalar::Text(text) => Value::Text(Cow::Owned(text.to_string())),
    }
}

fn type_of(value: &Value<'_>) -> ValueType {
    match value {
        Value::Text(_) => ValueType::Text,
        Value::Integer(_) => ValueType::Integer,
        Value::Decimal(_) => ValueType::Decimal,
        Value::Boolean(_) => ValueType::Boolean,
        Value::Time(_) => ValueType::Time,
        Value::Duration(_) => ValueType::Duration,
        Value::Address(_) => ValueType::Address,
    }
}
