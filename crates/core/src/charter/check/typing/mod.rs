//! Types a condition's tree into a [`Condition`], or says why it has none.
//!
//! A condition is typed for the whole set of resource types it can meet, so one typed form serves all of
//! them; what only some of them declare is an error here, not a surprise later. Where they declare one name
//! differently it must make sense for each of them, too: it is typed again for every one by itself.

mod paths;
mod truths;
mod values;

use super::{Scope, errors};
use crate::charter::model::{
    Condition, GroupId, KindId, List, NameId, Operand, OperandId, Order, Path, PathId, RoleId, Root, Step,
    Test, TestId,
};
use crate::charter::syntax::condition::{Expr, ExprKind, MAX_NESTING, Operator};
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
    /// Whether it is the `when` of a standby, which is about no resource.
    pub standby: bool,
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
    let mut typer = Typer::new(scope, around, findings);
    let root = typer.test(expr);
    let (mut made, mixed) = (typer.made, typer.mixed);
    made.root = root?;
    let is_error = |finding: &Finding| finding.severity == crate::source::Severity::Error;
    if mixed && !findings[before..].iter().any(is_error) {
        for kind in around.kinds {
            let mut own = Vec::new();
            Typer::new(scope, Surroundings { kinds: &[*kind], ..around }, &mut own).test(expr);
            let key = &scope.kinds[kind.index()].key;
            findings.extend(
                own.into_iter().filter(is_error).map(|finding| on_one_type(finding, key, around.split)),
            );
        }
    }
    let whole = !findings[before..].iter().any(is_error);
    whole.then_some(made)
}

/// What is wrong for one of the types that a condition can meet.
fn on_one_type(mut finding: Finding, kind: &str, split: &str) -> Finding {
    finding.message = format!("{}, where this meets a {kind}", finding.message);
    let apart = format!("give the permissions of {kind} {split}");
    finding.help = Some(match finding.help {
        Some(help) => format!("{help}; or {apart}"),
        None => apart,
    });
    finding
}

/// Whether holding a role may be asked about: it says nothing of a `when` or `values`, so a role
/// that has them, or is included in one that has, is refused unless that is meant.
pub fn unguarded(
    scope: &Scope<'_>,
    role: RoleId,
    place: Span,
    regardless: bool,
    findings: &mut Vec<Finding>,
) -> bool {
    let Some(guarded) = scope.guarded_through(role).filter(|_| !regardless) else { return true };
    let key = &scope.roles[role.index()].key.value;
    let through = &scope.roles[guarded.index()].key.value;
    findings.push(errors::holds_guarded::told(place, key, through));
    false
}

/// Types a path from a resource of one type, and gives the kinds it ends in.
pub fn path_from(
    scope: &Scope<'_>,
    kind: KindId,
    written: &Expr,
    findings: &mut Vec<Finding>,
) -> Option<(Path, Vec<KindId>)> {
    let around = Surroundings {
        kinds: &[kind],
        grant: None,
        regardless: false,
        standby: false,
        split: "a confer of its own",
    };
    let mut typer = Typer::new(scope, around, findings);
    let (path, ends) = typer.any_path(written)?;
    let path = typer.made.paths.swap_remove(path.index());
    match ends {
        Type::Entity(kinds) => Some((path, kinds)),
        Type::Wrong => None,
        Type::Value(value) => {
            let message = format!("this path ends in {}, not in an entity", article(value));
            findings.push(Finding::error("types-differ", written.span, message));
            None
        }
    }
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
    /// Whether types that are met declare one name differently.
    mixed: bool,
}

impl<'a, 'f> Typer<'a, 'f> {
    fn new(scope: &'a Scope<'a>, around: Surroundings<'a>, findings: &'f mut Vec<Finding>) -> Self {
        let made = Condition {
            tests: Vec::new(),
            operands: Vec::new(),
            paths: Vec::new(),
            test_spans: Vec::new(),
            operand_spans: Vec::new(),
            path_spans: Vec::new(),
            root: TestId(0),
        };
        let regardless = around.regardless;
        Typer {
            scope,
            around,
            regardless,
            made,
            findings,
            depth: 0,
            inlining: Vec::new(),
            full: false,
            mixed: false,
        }
    }
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

    // -- words

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
