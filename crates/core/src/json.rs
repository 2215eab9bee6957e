//! JSON as this product reads it: duplicate keys are an error, numbers keep their digits, and
//! depth is bounded.

use serde::de::{Deserialize, DeserializeSeed, Deserializer, Error, MapAccess, SeqAccess, Visitor};
use serde_json::{Map, Value};
use std::fmt;

/// Deepest nesting of a JSON text that is read.
pub const MAX_DEPTH: usize = 32;

/// A JSON value in which no object had a key twice.
#[derive(Clone, Debug, PartialEq)]
pub struct Strict(pub Value);

/// Reads one JSON text.
///
/// # Errors
/// Broken syntax, a key that stands twice in one object, U+0000 in a text, or nesting beyond
/// [`MAX_DEPTH`].
pub fn parse(text: &[u8]) -> Result<Value, String> {
    let Strict(value) = serde_json::from_slice(text).map_err(|e| e.to_string())?;
    Ok(value)
}

/// What reads a value as [`parse`] does, of whatever form, but nested down to a depth of its own.
pub(crate) fn nested_to(depth: usize) -> impl for<'de> DeserializeSeed<'de, Value = Value> {
    Nested { depth: 0, most: depth }
}

impl<'de> Deserialize<'de> for Strict {
    fn deserialize<D: Deserializer<'de>>(deserializer: D) -> Result<Self, D::Error> {
        Nested { depth: 0, most: MAX_DEPTH }.deserialize(deserializer).map(Strict)
    }
}

/// The value at one depth.
#[derive(Clone, Copy)]
struct Nested {
    depth: usize,
    most: usize,
}

impl Nested {
    fn inner<E: Error>(self) -> Result<Nested, E> {
        if self.depth >= self.most {
            return Err(E::custom(format!("nested deeper than {}", self.most)));
        }
        Ok(Nested { depth: self.depth + 1, ..self })
    }
}

impl<'de> DeserializeSeed<'de> for Nested {
    type Value = Value;
    fn deserialize<D: Deserializer<'de>>(self, deserializer: D) -> Result<Value, D::Error> {
        deserializer.deserialize_any(self)
    }
}

/// How `serde_json` hands over a number whose digits are kept.
const NUMBER_TOKEN: &str = "$serde_json::private::Number";

impl<'de> Visitor<'de> for Nested {
    type Value = Value;

    fn expecting(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str("a JSON value")
    }
    fn visit_bool<E>(self, value: bool) -> Result<Value, E> {
        Ok(Value::Bool(value))
    }
    fn visit_i64<E>(self, value: i64) -> Result<Value, E> {
        Ok(Value::from(value))
    }
    fn visit_u64<E>(self, value: u64) -> Result<Value, E> {
        Ok(Value::from(value))
    }
    fn visit_f64<E>(self, value: f64) -> Result<Value, E> {
        Ok(Value::from(value))
    }
    fn visit_str<E: Error>(self, value: &str) -> Result<Value, E> {
        keepable(value)?;
        Ok(Value::from(value))
    }
    fn visit_string<E: Error>(self, value: String) -> Result<Value, E> {
        keepable(&value)?;
        Ok(Value::from(value))
    }
    fn visit_unit<E>(self) -> Result<Value, E> {
        Ok(Value::Null)
    }
    fn visit_none<E>(self) -> Result<Value, E> {
        Ok(Value::Null)
    }
    fn visit_some<D: Deserializer<'de>>(self, deserializer: D) -> Result<Value, D::Error> {
        deserializer.deserialize_any(self)
    }

    fn visit_seq<A: SeqAccess<'de>>(self, mut seq: A) -> Result<Value, A::Error> {
        let inner = self.inner()?;
        let mut items = Vec::new();
        while let Some(item) = seq.next_element_seed(inner)? {
            items.push(item);
        }
        Ok(Value::Array(items))
    }

    fn visit_map<A: MapAccess<'de>>(self, mut map: A) -> Result<Value, A::Error> {
        let inner = self.inner()?;
        let mut object = Map::new();
        while let Some(key) = map.next_key::<String>()? {
            keepable(&key)?;
            if key == NUMBER_TOKEN {
                let digits: String = map.next_value()?;
                return digits
                    .parse()
                    .map(Value::Number)
                    .map_err(|_| A::Error::custom(format!("{digits:?} is not a number")));
            }
            let value = map.next_value_seed(inner)?;
            if object.insert(key.clone(), value).is_some() {
                return Err(A::Error::custom(format!("the key {key:?} stands twice")));
            }
        }
        Ok(Value::Object(object))
    }
}

/// No database keeps U+0000 in a text, and no name or value has a use for it.
fn keepable<E: Error>(text: &str) -> Result<(), E> {
    if text.contains('\0') { Err(E::custom("a text holds U+0000")) } else { Ok(()) }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case::twice(r#"{"a":1,"b":{"c":1,"c":1}}"#, "the key \"c\" stands twice")]
    #[case::twice_by_escape(r#"{"a":1,"\u0061":1}"#, "the key \"a\" stands twice")]
    #[case::broken(r#"{"a":"#, "EOF")]
    #[case::nothing(r#"["a\u0000b"]"#, "U+0000")]
    #[case::nothing_in_a_key(r#"{"\u0000":1}"#, "U+0000")]
    #[case::trailing(r#"{} x"#, "trailing")]
    fn refuses(#[case] text: &str, #[case] says: &str) {
        let error = parse(text.as_bytes()).expect_err("is refused");
        assert!(error.contains(says), "{error}");
    }

    #[test]
    fn depth_is_bounded() {
        let deep = |n| format!("{}1{}", "[".repeat(n), "]".repeat(n));
        assert!(parse(deep(MAX_DEPTH).as_bytes()).is_ok());
        assert!(parse(deep(MAX_DEPTH + 1).as_bytes()).is_err());
        assert!(parse(deep(1_000_000).as_bytes()).is_err());
    }

    #[test]
    fn numbers_keep_their_digits() {
        let long = "0.1234567890123456789012345678";
        assert_eq!(parse(long.as_bytes()).expect("a number").to_string(), long);
    }
}
