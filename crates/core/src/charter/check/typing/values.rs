//! What has a value: literals, sums, functions that give one, and lists.

use super::*;

impl<'a> Typer<'a, '_> {
    pub(super) fn operand(&mut self, expr: &'a Expr) -> Option<(OperandId, Type)> {
        self.deeper(expr.span, |typer| typer.operand_here(expr))
    }

    pub(super) fn operand_here(&mut self, expr: &'a Expr) -> Option<(OperandId, Type)> {
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

    pub(super) fn sum(
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

    pub(super) fn call_value(
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

    pub(super) fn zone(&mut self, name: &str, place: Span) -> Option<TimeZone> {
        let database = jiff::tz::TimeZoneDatabase::bundled();
        // The database knows names in any case; a charter is read by people, so it takes one.
        let exact = database.available().any(|known| known.as_str() == name);
        let zone = database.get(name).ok().filter(|_| exact);
        if zone.is_none() {
            let known: Vec<String> = database.available().map(|zone| zone.as_str().to_owned()).collect();
            let same = known.iter().find(|zone| zone.eq_ignore_ascii_case(name));
            let finding = Finding::error("unknown-zone", place, format!("unknown time zone {name:?}"));
            self.findings.push(match same {
                Some(zone) => finding.meant_surely(name, zone),
                // A city without its region.
                None if let Some(zone) = known.iter().find(|zone| zone.ends_with(&format!("/{name}"))) => {
                    finding.meant_surely(name, zone)
                }
                None => finding.meant(name, known.iter().map(String::as_str)),
            });
        }
        zone
    }

    pub(super) fn entity_kind(&mut self, text: &str, place: Span) -> Option<KindId> {
        match crate::names::split_entity(text) {
            Ok((kind, _)) => {
                let found = self.scope.kind(kind);
                if found.is_none() {
                    let known = self.scope.kinds.iter().map(|kind| kind.key.as_str());
                    let finding = Finding::error("unknown-type", place, format!("unknown type {kind:?}"));
                    self.findings.push(finding.meant(kind, known));
                }
                found
            }
            Err(message) => {
                self.error("not-an-entity", place, message);
                None
            }
        }
    }
    pub(super) fn list(&mut self, expr: &'a Expr) -> Option<(List, Type)> {
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

    pub(super) fn list_or_one(&mut self, expr: &'a Expr) -> Option<(List, Type)> {
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

    pub(super) fn literal_list(&mut self, items: &'a [Expr], span: Span) -> Option<(List, Type)> {
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
}
