//! Values of attributes, and how a scalar from JSON or TOML is read as one.
//!
//! The register keeps a [`Scalar`] as it was written; the charter's declaration turns it into a
//! typed [`Value`] when it is read. So a register does not depend on a revision, and a value of
//! the wrong type is seen as one under each revision that thinks so.

use ipnet::IpNet;
use jiff::{SignedDuration, Timestamp};
use rust_decimal::Decimal;
use std::borrow::Cow;
use std::fmt;

/// Longest text value, in bytes.
pub const MAX_TEXT_BYTES: usize = 4 << 10;
/// Most members read of one list.
pub const MAX_MEMBERS: usize = 1_000;

/// Kleene's three truth values.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub enum Truth {
    /// False.
    False,
    /// Something it needed was missing, ill-typed, over a bound or not computable.
    Undetermined,
    /// True.
    True,
}

impl Truth {
    /// The word for it.
    pub fn word(self) -> &'static str {
        match self {
            Truth::False => "false",
            Truth::Undetermined => "undetermined",
            Truth::True => "true",
        }
    }

    /// Kleene `and`.
    #[must_use]
    pub fn and(self, other: Truth) -> Truth {
        match (self, other) {
            (Truth::False, _) | (_, Truth::False) => Truth::False,
            (Truth::True, Truth::True) => Truth::True,
            _ => Truth::Undetermined,
        }
    }

    /// Kleene `or`.
    #[must_use]
    pub fn or(self, other: Truth) -> Truth {
        match (self, other) {
            (Truth::True, _) | (_, Truth::True) => Truth::True,
            (Truth::False, Truth::False) => Truth::False,
            _ => Truth::Undetermined,
        }
    }
}

/// Kleene `not`.
impl std::ops::Not for Truth {
    type Output = Truth;
    fn not(self) -> Truth {
        match self {
            Truth::False => Truth::True,
            Truth::Undetermined => Truth::Undetermined,
            Truth::True => Truth::False,
        }
    }
}

impl From<bool> for Truth {
    fn from(value: bool) -> Truth {
        if value { Truth::True } else { Truth::False }
    }
}

/// The types an attribute may have.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub enum ValueType {
    /// UTF-8 text.
    Text,
    /// 64-bit signed.
    Integer,
    /// 28 significant digits.
    Decimal,
    /// `true` or `false`.
    Boolean,
    /// A moment.
    Time,
    /// A stretch of time.
    Duration,
    /// An IP address or network.
    Address,
}

impl ValueType {
    /// All of them, by name.
    pub const ALL: [(&'static str, ValueType); 7] = [
        ("text", ValueType::Text),
        ("integer", ValueType::Integer),
        ("decimal", ValueType::Decimal),
        ("boolean", ValueType::Boolean),
        ("time", ValueType::Time),
        ("duration", ValueType::Duration),
        ("address", ValueType::Address),
    ];

    /// The type of a name.
    pub fn from_name(name: &str) -> Option<ValueType> {
        Self::ALL.iter().find(|(known, _)| *known == name).map(|(_, kind)| *kind)
    }

    /// Its name.
    pub fn name(self) -> &'static str {
        Self::ALL.iter().find(|(_, kind)| *kind == self).map_or("", |(name, _)| name)
    }

    /// Whether values of it stand in an order (`<` and its kin).
    pub fn is_ordered(self) -> bool {
        matches!(self, ValueType::Integer | ValueType::Decimal | ValueType::Time | ValueType::Duration)
    }
}

impl fmt::Display for ValueType {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(self.name())
    }
}

/// A value as JSON or TOML wrote it, before any declaration is consulted.
#[derive(Clone, Debug, PartialEq, Eq, Hash)]
pub enum Scalar {
    /// `true`, `false`.
    Boolean(bool),
    /// A whole number in 64 bits.
    Integer(i64),
    /// Any other number that 28 digits hold.
    Decimal(Decimal),
    /// Text.
    Text(Box<str>),
}

impl Scalar {
    /// Reads a JSON scalar; `None` for null, lists, objects, and numbers that nothing here holds.
    pub fn from_json(value: &serde_json::Value) -> Option<Scalar> {
        match value {
            serde_json::Value::Bool(value) => Some(Scalar::Boolean(*value)),
            serde_json::Value::Number(number) => Scalar::from_digits(&number.to_string()),
            serde_json::Value::String(text) => Some(Scalar::Text(text.as_str().into())),
            _ => None,
        }
    }

    /// Reads a number. A whole one in range is an integer, however it is written (`5.0`, `5e0`).
    pub fn from_digits(digits: &str) -> Option<Scalar> {
        if let Ok(whole) = digits.parse() {
            return Some(Scalar::Integer(whole));
        }
        let value = parse_decimal(digits)?;
        Some(match i64::try_from(value) {
            Ok(whole) if value.fract().is_zero() => Scalar::Integer(whole),
            // Equal numbers are one, however many noughts they end in.
            _ => Scalar::Decimal(value.normalize()),
        })
    }

    /// What it takes beyond its own place, in bytes.
    pub fn size_bytes(&self) -> usize {
        match self {
            Scalar::Text(text) => text.len(),
            _ => 0,
        }
    }

    /// The same as JSON.
    pub fn to_json(&self) -> serde_json::Value {
        match self {
            Scalar::Boolean(value) => (*value).into(),
            Scalar::Integer(value) => (*value).into(),
            Scalar::Decimal(value) => {
                value.to_string().parse().map_or_else(|_| value.to_string().into(), serde_json::Value::Number)
            }
            Scalar::Text(text) => text.as_ref().into(),
        }
    }

    /// What it is under a declared type; `None` if it is not of that type.
    pub fn read(&self, kind: ValueType) -> Option<Value<'_>> {
        Some(match (kind, self) {
            (ValueType::Text, Scalar::Text(text)) if text.len() <= MAX_TEXT_BYTES => {
                Value::Text(Cow::Borrowed(text))
            }
            (ValueType::Integer, Scalar::Integer(value)) => Value::Integer(*value),
            (ValueType::Decimal, Scalar::Integer(value)) => Value::Decimal(Decimal::from(*value)),
            (ValueType::Decimal, Scalar::Decimal(value)) => Value::Decimal(*value),
            (ValueType::Decimal, Scalar::Text(text)) => Value::Decimal(parse_decimal(text)?),
            (ValueType::Boolean, Scalar::Boolean(value)) => Value::Boolean(*value),
            (ValueType::Time, Scalar::Text(text)) => Value::Time(parse_time(text)?),
            (ValueType::Duration, Scalar::Text(text)) => Value::Duration(parse_duration(text)?),
            (ValueType::Address, Scalar::Text(text)) => Value::Address(parse_address(text)?),
            _ => return None,
        })
    }
}

/// A typed value, borrowed where it is text.
#[derive(Clone, Debug, PartialEq)]
pub enum Value<'a> {
    /// Text.
    Text(Cow<'a, str>),
    /// Integer.
    Integer(i64),
    /// Decimal.
    Decimal(Decimal),
    /// Boolean.
    Boolean(bool),
    /// Moment.
    Time(Timestamp),
    /// Stretch of time.
    Duration(SignedDuration),
    /// Address or network.
    Address(IpNet),
}

impl Value<'_> {
    /// Detached from what it was read from.
    pub fn into_owned(self) -> Value<'static> {
        match self {
            Value::Text(text) => Value::Text(Cow::Owned(text.into_owned())),
            Value::Integer(value) => Value::Integer(value),
            Value::Decimal(value) => Value::Decimal(value),
            Value::Boolean(value) => Value::Boolean(value),
            Value::Time(value) => Value::Time(value),
            Value::Duration(value) => Value::Duration(value),
            Value::Address(value) => Value::Address(value),
        }
    }
}

impl Value<'_> {
    /// The same as JSON: numbers and booleans as such, all else as a text that reads as it again.
    pub fn to_json(&self) -> serde_json::Value {
        match self {
            Value::Text(text) => text.as_ref().into(),
            Value::Integer(value) => (*value).into(),
            Value::Decimal(value) => Scalar::Decimal(*value).to_json(),
            Value::Boolean(value) => (*value).into(),
            other => other.to_string().into(),
        }
    }
}

/// As it would be written in a condition, without the word around it.
impl fmt::Display for Value<'_> {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Value::Text(text) => write!(f, "'{}'", text.replace('\'', "''")),
            Value::Integer(value) => write!(f, "{value}"),
            Value::Decimal(value) => write!(f, "{value}"),
            Value::Boolean(value) => write!(f, "{value}"),
            Value::Time(value) => write!(f, "{value}"),
            Value::Duration(value) => f.write_str(&format_duration(*value)),
            Value::Address(value) if value.prefix_len() == value.max_prefix_len() => {
                write!(f, "{}", value.addr())
            }
            Value::Address(value) => write!(f, "{value}"),
        }
    }
}

/// A decimal of at most 28 digits, exactly; `None` if it does not fit.
pub fn parse_decimal(text: &str) -> Option<Decimal> {
    if text.len() > 64 {
        return None;
    }
    match text.split_once(['e', 'E']) {
        None => Decimal::from_str_exact(text).ok(),
        Some(_) => Decimal::from_scientific(text).ok(),
    }
}

/// An RFC 3339 moment, or a date alone, which is its midnight in UTC.
pub fn parse_time(text: &str) -> Option<Timestamp> {
    if text.len() == 10 {
        let date: jiff::civil::Date = text.parse().ok()?;
        return date.to_zoned(jiff::tz::TimeZone::UTC).ok().map(|zoned| zoned.timestamp());
    }
    // jiff reads more than RFC 3339 does, such as a zone in brackets.
    let plain = text.bytes().all(|b| b.is_ascii_digit() || b"-:.+TtZz ".contains(&b));
    (text.len() > 10 && plain).then(|| text.parse().ok()).flatten()
}

/// `90m`, `2h30m`, `1d`: units d h m s, each at most once, in this order; `-` before all.
pub fn parse_duration(text: &str) -> Option<SignedDuration> {
    let (negative, mut rest) = match text.strip_prefix('-') {
        Some(rest) => (true, rest),
        None => (false, text),
    };
    if rest.is_empty() {
        return None;
    }
    let mut seconds = 0i64;
    let mut units = [('d', 86_400i64), ('h', 3_600), ('m', 60), ('s', 1)].iter();
    while !rest.is_empty() {
        let digits = rest.bytes().take_while(u8::is_ascii_digit).count();
        let amount: i64 = rest[..digits].parse().ok()?;
        let unit = rest[digits..].chars().next()?;
        let (_, size) = units.find(|(name, _)| *name == unit)?;
        seconds = seconds.checked_add(amount.checked_mul(*size)?)?;
        rest = &rest[digits + 1..];
    }
    Some(SignedDuration::from_secs(if negative { -seconds } else { seconds }))
}

/// The way back from [`parse_duration`]; parts of a second are shown with a point.
pub fn format_duration(duration: SignedDuration) -> String {
    use fmt::Write as _;
    let mut out = String::from(if duration.is_negative() { "-" } else { "" });
    let mut seconds = duration.as_secs().unsigned_abs();
    let start = out.len();
    for (unit, size) in [('d', 86_400), ('h', 3_600), ('m', 60)] {
        if seconds >= size {
            let _ = write!(out, "{}{unit}", seconds / size);
            seconds %= size;
        }
    }
    match duration.subsec_nanos().unsigned_abs() {
        0 if seconds == 0 && out.len() > start => {}
        0 => {
            let _ = write!(out, "{seconds}s");
        }
        nanos => {
            let fraction = format!("{nanos:09}");
            let _ = write!(out, "{seconds}.{}s", fraction.trim_end_matches('0'));
        }
    }
    out
}

/// An address, or a network whose host bits are zero.
pub fn parse_address(text: &str) -> Option<IpNet> {
    if text.contains('/') {
        let network: IpNet = text.parse().ok()?;
        return (network.addr() == network.network()).then_some(network);
    }
    text.parse::<std::net::IpAddr>().ok().map(IpNet::from)
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case("90m", Some(5_400))]
    #[case("2h30m", Some(9_000))]
    #[case("1d", Some(86_400))]
    #[case("-1h", Some(-3_600))]
    #[case("0s", Some(0))]
    #[case("30m2h", None)]
    #[case("1h1h", None)]
    #[case("90", None)]
    #[case("m", None)]
    #[case("", None)]
    #[case("-", None)]
    #[case("99999999999999999999d", None)]
    #[case("1µ", None)]
    fn durations(#[case] text: &str, #[case] seconds: Option<i64>) {
        assert_eq!(parse_duration(text).map(|d| d.as_secs()), seconds);
        if let Some(duration) = parse_duration(text) {
            assert_eq!(parse_duration(&format_duration(duration)), Some(duration));
        }
    }

    #[rstest]
    #[case("2026-11-23T08:00:00Z", true)]
    #[case("2026-11-23T08:00:00.5+01:00", true)]
    #[case("2026-11-23", true)]
    #[case("2026-11-23T08:00:00+00:00[Europe/Lisbon]", false)]
    #[case("2026-02-30", false)]
    #[case("yesterday!!", false)]
    fn times(#[case] text: &str, #[case] is_one: bool) {
        assert_eq!(parse_time(text).is_some(), is_one);
    }

    #[rstest]
    #[case("5", Scalar::Integer(5))]
    #[case("5.0", Scalar::Integer(5))]
    #[case("5e2", Scalar::Integer(500))]
    #[case("-0.5", Scalar::Decimal(Decimal::new(-5, 1)))]
    fn numbers(#[case] digits: &str, #[case] scalar: Scalar) {
        assert_eq!(Scalar::from_digits(digits), Some(scalar));
    }

    #[rstest]
    #[case("10.0.0.7", true)]
    #[case("10.0.0.0/8", true)]
    #[case("10.0.0.7/8", false)]
    #[case("::1", true)]
    #[case("10.0.0", false)]
    fn addresses(#[case] text: &str, #[case] is_one: bool) {
        assert_eq!(parse_address(text).is_some(), is_one);
    }
}
