//! How requests are read: an object is an object and never a list in its place, no key stands twice, nesting
//! is bounded, and what is not known is passed over only where a standard says so.

use ostrog_core::json::{self, Strict};
use serde::de::value::StrDeserializer;
use serde::de::{
    DeserializeOwned, DeserializeSeed, Deserializer, Error as _, IntoDeserializer as _, MapAccess, SeqAccess,
    Unexpected, Visitor,
};
use serde::{Deserialize, forward_to_deserialize_any};
use serde_json::{Error, Map, Value};

/// Reads JSON of a type.
///
/// # Errors
/// If it is no JSON, holds a key twice, nests too deep, or does not fit the type.
pub fn from_slice<T: DeserializeOwned>(bytes: &[u8]) -> Result<T, String> {
    let value = json::parse(bytes)?;
    from_value(value).map_err(|error| format!("it does not fit: {error}"))
}

/// Reads JSON that was parsed strictly, as a type.
///
/// # Errors
/// If it does not fit.
pub fn from_value<T: DeserializeOwned>(value: Value) -> Result<T, Error> {
    T::deserialize(Exact(value))
}

/// A value in which a list does not pass for an object.
struct Exact(Value);

impl<'de> Deserializer<'de> for Exact {
    type Error = Error;

    fn deserialize_any<V: Visitor<'de>>(self, visitor: V) -> Result<V::Value, Error> {
        match self.0 {
            Value::Array(items) => visitor.visit_seq(Items(items.into_iter())),
            Value::Object(members) => visitor.visit_map(Members { rest: members.into_iter(), value: None }),
            scalar => scalar.deserialize_any(visitor),
        }
    }

    fn deserialize_struct<V: Visitor<'de>>(
        self,
        _: &'static str,
        _: &'static [&'static str],
        visitor: V,
    ) -> Result<V::Value, Error> {
        match self.0 {
            Value::Object(_) => self.deserialize_any(visitor),
            Value::Array(_) => Err(Error::invalid_type(Unexpected::Seq, &"an object")),
            scalar => scalar.deserialize_any(visitor),
        }
    }

    fn deserialize_option<V: Visitor<'de>>(self, visitor: V) -> Result<V::Value, Error> {
        match self.0 {
            Value::Null => visitor.visit_none(),
            _ => visitor.visit_some(self),
        }
    }

    fn deserialize_newtype_struct<V: Visitor<'de>>(
        self,
        _: &'static str,
        visitor: V,
    ) -> Result<V::Value, Error> {
        visitor.visit_newtype_struct(self)
    }

    fn deserialize_enum<V: Visitor<'de>>(
        self,
        name: &'static str,
        variants: &'static [&'static str],
        visitor: V,
    ) -> Result<V::Value, Error> {
        self.0.deserialize_enum(name, variants, visitor)
    }

    fn deserialize_i64<V: Visitor<'de>>(self, visitor: V) -> Result<V::Value, Error> {
        self.0.deserialize_i64(visitor)
    }

    fn deserialize_u64<V: Visitor<'de>>(self, visitor: V) -> Result<V::Value, Error> {
        self.0.deserialize_u64(visitor)
    }

    forward_to_deserialize_any! {
        bool i8 i16 i32 i128 u8 u16 u32 u128 f32 f64 char str string bytes byte_buf unit unit_struct seq tuple
        tuple_struct map identifier ignored_any
    }
}

struct Items(std::vec::IntoIter<Value>);

impl<'de> SeqAccess<'de> for Items {
    type Error = Error;

    fn next_element_seed<S: DeserializeSeed<'de>>(&mut self, seed: S) -> Result<Option<S::Value>, Error> {
        self.0.next().map(|item| seed.deserialize(Exact(item))).transpose()
    }

    fn size_hint(&self) -> Option<usize> {
        Some(self.0.len())
    }
}

struct Members {
    rest: serde_json::map::IntoIter,
    value: Option<Value>,
}

impl<'de> MapAccess<'de> for Members {
    type Error = Error;

    fn next_key_seed<S: DeserializeSeed<'de>>(&mut self, seed: S) -> Result<Option<S::Value>, Error> {
        let Some((key, value)) = self.rest.next() else { return Ok(None) };
        self.value = Some(value);
        let key: StrDeserializer<'_, Error> = key.as_str().into_deserializer();
        seed.deserialize(key).map(Some)
    }

    fn next_value_seed<S: DeserializeSeed<'de>>(&mut self, seed: S) -> Result<S::Value, Error> {
        seed.deserialize(Exact(self.value.take().unwrap_or_default()))
    }
}

/// The members of an object of the caller's own: no key twice, of a bounded depth.
#[derive(Clone, Debug, Default, PartialEq, serde::Serialize)]
pub struct Object(pub Map<String, Value>);

impl<'de> Deserialize<'de> for Object {
    fn deserialize<D: Deserializer<'de>>(deserializer: D) -> Result<Self, D::Error> {
        match Strict::deserialize(deserializer)? {
            Strict(Value::Object(members)) => Ok(Object(members)),
            Strict(_) => Err(D::Error::custom("an object is expected")),
        }
    }
}

/// Writes the reading of an object straight from its bytes: a list in its place is refused, a key that is
/// known may stand once, and what is not known is read strictly and passed over. `null` is as if it were
/// not there.
macro_rules! read_object {
    ($name:ident { $($field:ident: $key:literal $need:ident,)* }) => {
        impl<'de> serde::Deserialize<'de> for $name {
            fn deserialize<D: serde::Deserializer<'de>>(deserializer: D) -> Result<Self, D::Error> {
                struct Reader;
                impl<'de> serde::de::Visitor<'de> for Reader {
                    type Value = $name;

                    fn expecting(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
                        f.write_str("an object")
                    }

                    fn visit_map<A: serde::de::MapAccess<'de>>(self, mut map: A) -> Result<$name, A::Error> {
                        use serde::de::Error as _;
                        // Whether it was met, and what it was.
                        $(let mut $field = (false, None);)*
                        let mut others: Vec<String> = Vec::new();
                        while let Some(key) = map.next_key::<std::borrow::Cow<'de, str>>()? {
                            match &*key {
                                $($key => {
                                    if std::mem::replace(&mut $field.0, true) {
                                        let twice = concat!("the key ", stringify!($key), " stands twice");
                                        return Err(A::Error::custom(twice));
                                    }
                                    $field.1 = map.next_value()?;
                                })*
                                _ => {
                                    if others.iter().any(|other| *other == *key) {
                                        return Err(A::Error::custom(format!("the key {key:?} stands twice")));
                                    }
                                    others.push(key.into_owned());
                                    map.next_value::<ostrog_core::json::Strict>()?;
                                }
                            }
                        }
                        Ok($name { $($field: $crate::strict::read_object!(@$need $field $key A),)* })
                    }
                }
                deserializer.deserialize_map(Reader)
            }
        }
    };
    (@must $field:ident $key:literal $access:ident) => {
        $field.1.ok_or_else(|| $access::Error::custom(concat!($key, " is missing")))?
    };
    (@may $field:ident $key:literal $access:ident) => { $field.1 };
    (@default $field:ident $key:literal $access:ident) => { $field.1.unwrap_or_default() };
}
pub(crate) use read_object;

#[cfg(test)]
mod tests {
    use super::*;

    #[derive(Debug, PartialEq, Deserialize)]
    #[serde(deny_unknown_fields)]
    struct Outer {
        name: String,
        inner: Option<Inner>,
        #[serde(default)]
        all: Vec<Inner>,
    }

    #[derive(Debug, PartialEq, Deserialize)]
    struct Inner {
        number: i64,
    }

    #[test]
    fn an_object_is_an_object() {
        let read = |text: &str| from_slice::<Outer>(text.as_bytes());
        let inner = |number| Inner { number };
        assert_eq!(
            read(r#"{"name":"a","inner":{"number":9007199254740993},"all":[{"number":1}]}"#),
            Ok(Outer {
                name: "a".to_owned(),
                inner: Some(inner(9_007_199_254_740_993)),
                all: vec![inner(1)]
            })
        );
        for wrong in [
            r#"["a",null,[]]"#,
            r#"{"name":"a","inner":[1]}"#,
            r#"{"name":"a","all":[[1]]}"#,
            r#"{"name":"a","name":"b"}"#,
            r#"{"name":"a","more":1}"#,
            r#"{"name":1}"#,
            r#"{"name":"a","inner":{"number":1.5}}"#,
            r#"{"name":"a"} x"#,
        ] {
            assert!(read(wrong).is_err(), "{wrong}");
        }
    }
}
