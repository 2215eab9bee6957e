//! Values compared, added and matched.

use super::*;
// -- values ------------------------------------------------------------------------------------

pub(super) fn borrow<'v>(value: &'v Value<'static>) -> Value<'v> {
    match value {
        Value::Text(text) => Value::Text(Cow::Borrowed(text)),
        other => other.clone(),
    }
}

pub(super) fn one_scalar<'v>(stated: &'v Stated, declared: &Attribute) -> Result<Value<'v>, Lack> {
    match stated {
        Stated::One(scalar) if !declared.many => typed(scalar, declared),
        _ => Err(Lack::IllTyped),
    }
}

/// The members of a list; if one is of the wrong type, so is the list.
pub(super) fn scalars<'v>(stated: &'v Stated, declared: &Attribute) -> Result<&'v [Scalar], Lack> {
    match stated {
        Stated::Many(scalars)
            if scalars.iter().take(MAX_MEMBERS).all(|scalar| typed(scalar, declared).is_ok()) =>
        {
            Ok(scalars)
        }
        _ => Err(Lack::IllTyped),
    }
}

pub(super) fn typed<'v>(scalar: &'v Scalar, declared: &Attribute) -> Result<Value<'v>, Lack> {
    let value = scalar.read(declared.kind).ok_or(Lack::IllTyped)?;
    match &declared.values {
        Some(values) if !values.contains(&value) => Err(Lack::IllTyped),
        _ => Ok(value),
    }
}

pub(super) fn visit_scalars<'e>(
    all: &'e [Scalar],
    declared: &Attribute,
    visit: &mut dyn FnMut(Result<Read<'e>, Lack>) -> bool,
) -> Whole {
    for scalar in all.iter().take(MAX_MEMBERS) {
        if !visit(typed(scalar, declared).map(Read::Value)) {
            return Whole::Yes;
        }
    }
    if all.len() > MAX_MEMBERS { Whole::No(Lack::Incomplete) } else { Whole::Yes }
}

pub(super) fn same_value(a: &Value<'_>, b: &Value<'_>) -> Truth {
    match (a, b) {
        (Value::Integer(_), Value::Decimal(_)) | (Value::Decimal(_), Value::Integer(_)) => {
            compare(a, b).map_or(Truth::Undetermined, |found| Truth::from(found == Ordering::Equal))
        }
        _ => Truth::from(a == b),
    }
}

pub(super) fn compare(a: &Value<'_>, b: &Value<'_>) -> Option<Ordering> {
    Some(match (a, b) {
        (Value::Integer(a), Value::Integer(b)) => a.cmp(b),
        (Value::Integer(_) | Value::Decimal(_), Value::Integer(_) | Value::Decimal(_)) => {
            decimal(a)?.cmp(&decimal(b)?)
        }
        (Value::Time(a), Value::Time(b)) => a.cmp(b),
        (Value::Duration(a), Value::Duration(b)) => a.cmp(b),
        _ => return None,
    })
}

pub(super) fn decimal(value: &Value<'_>) -> Option<rust_decimal::Decimal> {
    match value {
        Value::Integer(value) => Some((*value).into()),
        Value::Decimal(value) => Some(*value),
        _ => None,
    }
}

pub(super) fn plus<'v>(a: &Value<'v>, b: &Value<'v>) -> Result<Value<'v>, Lack> {
    let sum = match (a, b) {
        (Value::Integer(a), Value::Integer(b)) => a.checked_add(*b).map(Value::Integer),
        (Value::Duration(a), Value::Duration(b)) => a.checked_add(*b).map(Value::Duration),
        (Value::Time(time), Value::Duration(more)) | (Value::Duration(more), Value::Time(time)) => {
            time.checked_add(*more).ok().map(Value::Time)
        }
        _ => decimal(a).zip(decimal(b)).and_then(|(a, b)| a.checked_add(b)).map(Value::Decimal),
    };
    sum.ok_or(Lack::Overflow)
}

pub(super) fn minus<'v>(a: &Value<'v>, b: &Value<'v>) -> Result<Value<'v>, Lack> {
    let difference = match (a, b) {
        (Value::Integer(a), Value::Integer(b)) => a.checked_sub(*b).map(Value::Integer),
        (Value::Duration(a), Value::Duration(b)) => a.checked_sub(*b).map(Value::Duration),
        (Value::Time(time), Value::Duration(less)) => time.checked_sub(*less).ok().map(Value::Time),
        (Value::Time(a), Value::Time(b)) => Some(Value::Duration(a.duration_since(*b))),
        _ => decimal(a).zip(decimal(b)).and_then(|(a, b)| a.checked_sub(b)).map(Value::Decimal),
    };
    difference.ok_or(Lack::Overflow)
}

pub(super) fn weekday(day: jiff::civil::Weekday) -> &'static str {
    use jiff::civil::Weekday::{Friday, Monday, Saturday, Sunday, Thursday, Tuesday, Wednesday};
    match day {
        Monday => "monday",
        Tuesday => "tuesday",
        Wednesday => "wednesday",
        Thursday => "thursday",
        Friday => "friday",
        Saturday => "saturday",
        Sunday => "sunday",
    }
}

/// Whether a text is of a pattern: `*` any run, `?` one character. Takes time in the product of
/// the two lengths at the worst, and no memory.
pub(crate) fn fits(text: &str, pattern: &str) -> bool {
    let (mut text, mut pattern) = (text.chars(), pattern.chars());
    // Where the last star stands, and the text it has not swallowed yet.
    let mut star: Option<(std::str::Chars<'_>, std::str::Chars<'_>)> = None;
    loop {
        let before = text.clone();
        match (pattern.next(), text.next()) {
            (Some('*'), _) => {
                text = before;
                star = Some((pattern.clone(), text.clone()));
            }
            (Some('?'), Some(_)) => {}
            (Some(wanted), Some(found)) if wanted == found => {}
            (None, None) => return true,
            _ => {
                let Some((after, rest)) = &mut star else { return false };
                if rest.next().is_none() {
                    return false;
                }
                pattern = after.clone();
                text = rest.clone();
            }
        }
    }
}
