//! Values as Rust values, through serde: a struct is a struct, a choice the name of a unit variant, a set or a vector a sequence.

use std::fmt;

use serde::de::value::{MapDeserializer, SeqDeserializer, StrDeserializer};
use serde::de::{self, DeserializeOwned, IntoDeserializer, Visitor};
use serde::ser::{self, Impossible, SerializeMap, SerializeSeq, SerializeStruct, SerializeTuple, SerializeTupleStruct};
use serde::{Deserializer, Serialize, Serializer};

use crate::value::containers::Map;
use crate::value::{Finite, Value};

/// Describes why a Rust value and a value do not fit.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Misfit(pub String);

impl fmt::Display for Misfit {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(&self.0)
    }
}

impl std::error::Error for Misfit {}

impl de::Error for Misfit {
    fn custom<T: fmt::Display>(message: T) -> Misfit {
        Misfit(message.to_string())
    }
}

impl ser::Error for Misfit {
    fn custom<T: fmt::Display>(message: T) -> Misfit {
        Misfit(message.to_string())
    }
}

/// A value as a Rust value.
///
/// # Errors
/// What the Rust type does not take.
pub fn from_value<T: DeserializeOwned>(value: &Value) -> Result<T, Misfit> {
    T::deserialize(Reader(value))
}

/// A Rust value as a value, before a type says what its parts are: a struct is a map, a name a text.
///
/// # Errors
/// What has no shape in a spec.
pub fn to_value<T: Serialize + ?Sized>(value: &T) -> Result<Value, Misfit> {
    value.serialize(Writer)
}

#[derive(Clone, Copy)]
struct Reader<'v>(&'v Value);

impl<'de> IntoDeserializer<'de, Misfit> for Reader<'de> {
    type Deserializer = Self;

    fn into_deserializer(self) -> Self {
        self
    }
}

impl<'de> Deserializer<'de> for Reader<'de> {
    type Error = Misfit;

    fn deserialize_any<V: Visitor<'de>>(self, visitor: V) -> Result<V::Value, Misfit> {
        match self.0 {
            Value::Unfilled => visitor.visit_unit(),
            Value::Bool(bool) => visitor.visit_bool(*bool),
            Value::Int(int) => visitor.visit_i64(*int),
            Value::Float(float) => visitor.visit_f64(float.get()),
            Value::Text(text) => visitor.visit_borrowed_str(text),
            Value::Choice(chosen) => visitor.visit_borrowed_str(chosen.name()),
            Value::Bytes(bytes) => visitor.visit_borrowed_bytes(bytes),
            Value::Vec2(_) | Value::Vec3(_) => {
                visitor.visit_seq(SeqDeserializer::new(self.0.as_vector().iter().copied().map(Finite::get)))
            }
            Value::Struct(ty, members) => {
                let named = ty.members().map(super::types::Member::name).zip(members.iter().map(Reader));
                visitor.visit_map(MapDeserializer::new(named))
            }
            Value::List(list) => visitor.visit_seq(SeqDeserializer::new(list.iter().map(Reader))),
            Value::Set(set) => visitor.visit_seq(SeqDeserializer::new(set.iter().map(Reader))),
            Value::Map(map) => {
                visitor.visit_map(MapDeserializer::new(map.iter().map(|(key, value)| (&**key, Reader(value)))))
            }
        }
    }

    fn deserialize_option<V: Visitor<'de>>(self, visitor: V) -> Result<V::Value, Misfit> {
        if self.0.is_filled() { visitor.visit_some(self) } else { visitor.visit_none() }
    }

    fn deserialize_newtype_struct<V: Visitor<'de>>(self, _: &'static str, visitor: V) -> Result<V::Value, Misfit> {
        visitor.visit_newtype_struct(self)
    }

    fn deserialize_enum<V: Visitor<'de>>(
        self,
        _: &'static str,
        _: &'static [&'static str],
        visitor: V,
    ) -> Result<V::Value, Misfit> {
        match self.0 {
            Value::Text(_) | Value::Choice(_) => visitor.visit_enum(StrDeserializer::<Misfit>::new(self.0.as_text())),
            _ => self.deserialize_any(visitor),
        }
    }

    fn deserialize_seq<V: Visitor<'de>>(self, visitor: V) -> Result<V::Value, Misfit> {
        match self.0 {
            Value::Bytes(bytes) => visitor.visit_seq(SeqDeserializer::new(bytes.iter().copied())),
            _ => self.deserialize_any(visitor),
        }
    }

    serde::forward_to_deserialize_any! {
        bool i8 i16 i32 i64 i128 u8 u16 u32 u64 u128 f32 f64 char str string bytes byte_buf unit unit_struct tuple
        tuple_struct map struct identifier ignored_any
    }
}

struct Writer;

/// Items of a sequence that is being written.
struct Items(Vec<Value>);

/// Members or entries that are being written.
#[derive(Default)]
struct Named {
    entries: Map,
    key: Option<String>,
}

fn no_shape<T>(what: &str) -> Result<T, Misfit> {
    Err(Misfit(format!("{what} has no shape in a spec")))
}

fn int(number: impl TryInto<i64> + fmt::Display + Copy) -> Result<Value, Misfit> {
    number.try_into().map(Value::Int).map_err(|_| Misfit(format!("expected a signed 64-bit integer, found {number}")))
}

impl Serializer for Writer {
    type Ok = Value;
    type Error = Misfit;
    type SerializeSeq = Items;
    type SerializeTuple = Items;
    type SerializeTupleStruct = Items;
    type SerializeTupleVariant = Impossible<Value, Misfit>;
    type SerializeMap = Named;
    type SerializeStruct = Named;
    type SerializeStructVariant = Impossible<Value, Misfit>;

    fn serialize_bool(self, bool: bool) -> Result<Value, Misfit> {
        Ok(Value::Bool(bool))
    }
    fn serialize_i8(self, number: i8) -> Result<Value, Misfit> {
        int(number)
    }
    fn serialize_i16(self, number: i16) -> Result<Value, Misfit> {
        int(number)
    }
    fn serialize_i32(self, number: i32) -> Result<Value, Misfit> {
        int(number)
    }
    fn serialize_i64(self, number: i64) -> Result<Value, Misfit> {
        int(number)
    }
    fn serialize_i128(self, number: i128) -> Result<Value, Misfit> {
        int(number)
    }
    fn serialize_u8(self, number: u8) -> Result<Value, Misfit> {
        int(number)
    }
    fn serialize_u16(self, number: u16) -> Result<Value, Misfit> {
        int(number)
    }
    fn serialize_u32(self, number: u32) -> Result<Value, Misfit> {
        int(number)
    }
    fn serialize_u64(self, number: u64) -> Result<Value, Misfit> {
        int(number)
    }
    fn serialize_u128(self, number: u128) -> Result<Value, Misfit> {
        int(number)
    }
    fn serialize_f32(self, number: f32) -> Result<Value, Misfit> {
        self.serialize_f64(f64::from(number))
    }
    fn serialize_f64(self, number: f64) -> Result<Value, Misfit> {
        if number.is_finite() {
            Ok(Value::float(number))
        } else {
            Err(Misfit(format!("expected a finite number, found {number}")))
        }
    }
    fn serialize_char(self, char: char) -> Result<Value, Misfit> {
        Ok(Value::text(char.to_string()))
    }
    fn serialize_str(self, text: &str) -> Result<Value, Misfit> {
        Ok(Value::text(text))
    }
    fn serialize_bytes(self, bytes: &[u8]) -> Result<Value, Misfit> {
        Ok(Value::bytes(bytes))
    }
    fn serialize_none(self) -> Result<Value, Misfit> {
        Ok(Value::Unfilled)
    }
    fn serialize_some<T: Serialize + ?Sized>(self, value: &T) -> Result<Value, Misfit> {
        value.serialize(self)
    }
    fn serialize_unit(self) -> Result<Value, Misfit> {
        no_shape("`()`")
    }
    fn serialize_unit_struct(self, name: &'static str) -> Result<Value, Misfit> {
        no_shape(&format!("the unit struct `{name}`"))
    }
    fn serialize_unit_variant(self, _: &'static str, _: u32, variant: &'static str) -> Result<Value, Misfit> {
        Ok(Value::text(variant))
    }
    fn serialize_newtype_struct<T: Serialize + ?Sized>(self, _: &'static str, value: &T) -> Result<Value, Misfit> {
        value.serialize(self)
    }
    fn serialize_newtype_variant<T: Serialize + ?Sized>(
        self,
        name: &'static str,
        _: u32,
        _: &'static str,
        _: &T,
    ) -> Result<Value, Misfit> {
        no_shape(&format!("a variant of `{name}` that holds something"))
    }
    fn serialize_seq(self, _: Option<usize>) -> Result<Items, Misfit> {
        Ok(Items(Vec::new()))
    }
    fn serialize_tuple(self, _: usize) -> Result<Items, Misfit> {
        Ok(Items(Vec::new()))
    }
    fn serialize_tuple_struct(self, _: &'static str, _: usize) -> Result<Items, Misfit> {
        Ok(Items(Vec::new()))
    }
    fn serialize_tuple_variant(
        self,
        name: &'static str,
        _: u32,
        _: &'static str,
        _: usize,
    ) -> Result<Self::SerializeTupleVariant, Misfit> {
        no_shape(&format!("a variant of `{name}` that holds something"))
    }
    fn serialize_map(self, _: Option<usize>) -> Result<Named, Misfit> {
        Ok(Named::default())
    }
    fn serialize_struct(self, _: &'static str, _: usize) -> Result<Named, Misfit> {
        Ok(Named::default())
    }
    fn serialize_struct_variant(
        self,
        name: &'static str,
        _: u32,
        _: &'static str,
        _: usize,
    ) -> Result<Self::SerializeStructVariant, Misfit> {
        no_shape(&format!("a variant of `{name}` that holds something"))
    }
}

impl SerializeSeq for Items {
    type Ok = Value;
    type Error = Misfit;

    fn serialize_element<T: Serialize + ?Sized>(&mut self, value: &T) -> Result<(), Misfit> {
        self.0.push(to_value(value)?);
        Ok(())
    }
    fn end(self) -> Result<Value, Misfit> {
        Ok(Value::List(self.0.into()))
    }
}

impl SerializeTuple for Items {
    type Ok = Value;
    type Error = Misfit;

    fn serialize_element<T: Serialize + ?Sized>(&mut self, value: &T) -> Result<(), Misfit> {
        SerializeSeq::serialize_element(self, value)
    }
    fn end(self) -> Result<Value, Misfit> {
        SerializeSeq::end(self)
    }
}

impl SerializeTupleStruct for Items {
    type Ok = Value;
    type Error = Misfit;

    fn serialize_field<T: Serialize + ?Sized>(&mut self, value: &T) -> Result<(), Misfit> {
        SerializeSeq::serialize_element(self, value)
    }
    fn end(self) -> Result<Value, Misfit> {
        SerializeSeq::end(self)
    }
}

impl SerializeMap for Named {
    type Ok = Value;
    type Error = Misfit;

    fn serialize_key<T: Serialize + ?Sized>(&mut self, key: &T) -> Result<(), Misfit> {
        match to_value(key)? {
            Value::Text(key) => self.key = Some(key.to_string()),
            other => return Err(Misfit(format!("expected a text as the key of a map, found {other}"))),
        }
        Ok(())
    }
    fn serialize_value<T: Serialize + ?Sized>(&mut self, value: &T) -> Result<(), Misfit> {
        let key = self.key.take().unwrap_or_default();
        self.entries.insert(key, to_value(value)?);
        Ok(())
    }
    fn end(self) -> Result<Value, Misfit> {
        Ok(Value::Map(self.entries))
    }
}

impl SerializeStruct for Named {
    type Ok = Value;
    type Error = Misfit;

    fn serialize_field<T: Serialize + ?Sized>(&mut self, name: &'static str, value: &T) -> Result<(), Misfit> {
        self.entries.insert(name, to_value(value)?);
        Ok(())
    }
    fn end(self) -> Result<Value, Misfit> {
        Ok(Value::Map(self.entries))
    }
}
