//! Properties of MQTT 5.0 (§2.2.2): one typed struct for each place where they stand.
//!
//! [`properties!`] writes the struct, its decoder and its encoder from a list of fields and
//! identifiers. An `Option` field may stand once, a `Vec` field any number of times; any other
//! identifier in that place is an error.

use std::num::{NonZeroU16, NonZeroU32};

use bytes::{BufMut, Bytes, BytesMut};
use bytestring::ByteString;

use crate::{
    DecodeError, EncodeError,
    reader::{Reader, put_binary, put_string, put_variable_int, variable_int_size},
};

/// A name and a value that the standard gives no meaning to (§3.1.2.11.8). Order is kept.
#[derive(Clone, Debug, PartialEq, Eq, Hash)]
pub struct UserProperty {
    /// The name; the same name may stand more than once.
    pub name: ByteString,
    /// The value.
    pub value: ByteString,
}

/// A number from 1 to 268,435,455, written in one to four bytes (subscription identifiers).
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub struct VariableInt(pub NonZeroU32);

/// The type of one property's value.
pub(crate) trait Value: Sized {
    fn read(reader: &mut Reader, id: u32) -> Result<Self, DecodeError>;
    fn size(&self) -> usize;
    fn write(&self, out: &mut BytesMut) -> Result<(), EncodeError>;
}

/// A field of a property struct: how often a value may stand there.
pub(crate) trait Slot {
    fn accept(&mut self, reader: &mut Reader, id: u32, packet: &'static str) -> Result<(), DecodeError>;
    fn size(&self) -> usize;
    fn write(&self, id: u8, out: &mut BytesMut) -> Result<(), EncodeError>;
}

impl<V: Value> Slot for Option<V> {
    fn accept(&mut self, reader: &mut Reader, id: u32, packet: &'static str) -> Result<(), DecodeError> {
        if self.is_some() {
            return Err(DecodeError::PropertyTwice { packet, id });
        }
        *self = Some(V::read(reader, id)?);
        Ok(())
    }

    fn size(&self) -> usize {
        self.as_ref().map_or(0, |value| 1 + value.size())
    }

    fn write(&self, id: u8, out: &mut BytesMut) -> Result<(), EncodeError> {
        let Some(value) = self else { return Ok(()) };
        out.put_u8(id);
        value.write(out)
    }
}

impl<V: Value> Slot for Vec<V> {
    fn accept(&mut self, reader: &mut Reader, id: u32, _packet: &'static str) -> Result<(), DecodeError> {
        self.push(V::read(reader, id)?);
        Ok(())
    }

    fn size(&self) -> usize {
        self.iter().map(|value| 1 + value.size()).sum()
    }

    fn write(&self, id: u8, out: &mut BytesMut) -> Result<(), EncodeError> {
        for value in self {
            out.put_u8(id);
            value.write(out)?;
        }
        Ok(())
    }
}

impl Value for bool {
    fn read(reader: &mut Reader, id: u32) -> Result<Self, DecodeError> {
        match reader.u8("a property")? {
            0 => Ok(false),
            1 => Ok(true),
            _ => Err(DecodeError::PropertyValue { id }),
        }
    }

    fn size(&self) -> usize {
        1
    }

    fn write(&self, out: &mut BytesMut) -> Result<(), EncodeError> {
        out.put_u8(u8::from(*self));
        Ok(())
    }
}

impl Value for u16 {
    fn read(reader: &mut Reader, _id: u32) -> Result<Self, DecodeError> {
        reader.u16("a property")
    }

    fn size(&self) -> usize {
        2
    }

    fn write(&self, out: &mut BytesMut) -> Result<(), EncodeError> {
        out.put_u16(*self);
        Ok(())
    }
}

impl Value for u32 {
    fn read(reader: &mut Reader, _id: u32) -> Result<Self, DecodeError> {
        reader.u32("a property")
    }

    fn size(&self) -> usize {
        4
    }

    fn write(&self, out: &mut BytesMut) -> Result<(), EncodeError> {
        out.put_u32(*self);
        Ok(())
    }
}

/// Topic alias and receive maximum: zero is a protocol error.
impl Value for NonZeroU16 {
    fn read(reader: &mut Reader, id: u32) -> Result<Self, DecodeError> {
        Self::new(reader.u16("a property")?).ok_or(match id {
            0x23 => DecodeError::TopicAliasZero,
            id => DecodeError::PropertyValue { id },
        })
    }

    fn size(&self) -> usize {
        2
    }

    fn write(&self, out: &mut BytesMut) -> Result<(), EncodeError> {
        self.get().write(out)
    }
}

/// Maximum packet size: zero is a protocol error.
impl Value for NonZeroU32 {
    fn read(reader: &mut Reader, id: u32) -> Result<Self, DecodeError> {
        Self::new(reader.u32("a property")?).ok_or(DecodeError::PropertyValue { id })
    }

    fn size(&self) -> usize {
        4
    }

    fn write(&self, out: &mut BytesMut) -> Result<(), EncodeError> {
        self.get().write(out)
    }
}

impl Value for VariableInt {
    fn read(reader: &mut Reader, id: u32) -> Result<Self, DecodeError> {
        NonZeroU32::new(reader.variable_int("a property")?).map(Self).ok_or(DecodeError::PropertyValue { id })
    }

    fn size(&self) -> usize {
        variable_int_size(self.0.get() as usize)
    }

    fn write(&self, out: &mut BytesMut) -> Result<(), EncodeError> {
        put_variable_int(out, self.0.get())
    }
}

impl Value for Bytes {
    fn read(reader: &mut Reader, _id: u32) -> Result<Self, DecodeError> {
        reader.binary("a property")
    }

    fn size(&self) -> usize {
        2 + self.len()
    }

    fn write(&self, out: &mut BytesMut) -> Result<(), EncodeError> {
        put_binary(out, self)
    }
}

impl Value for ByteString {
    fn read(reader: &mut Reader, _id: u32) -> Result<Self, DecodeError> {
        reader.string("a property")
    }

    fn size(&self) -> usize {
        2 + self.len()
    }

    fn write(&self, out: &mut BytesMut) -> Result<(), EncodeError> {
        put_string(out, self)
    }
}

impl Value for UserProperty {
    fn read(reader: &mut Reader, _id: u32) -> Result<Self, DecodeError> {
        Ok(Self { name: reader.string("a user property")?, value: reader.string("a user property")? })
    }

    fn size(&self) -> usize {
        self.name.size() + self.value.size()
    }

    fn write(&self, out: &mut BytesMut) -> Result<(), EncodeError> {
        put_string(out, &self.name)?;
        put_string(out, &self.value)
    }
}

/// Declares a property struct: `Name in "PACKET" { field: Option<T> | Vec<T> = identifier, … }`.
macro_rules! properties {
    (
        $(#[$outer:meta])*
        $name:ident in $packet:literal {
            $( $(#[$inner:meta])* $field:ident : $ty:ty = $id:literal, )*
        }
    ) => {
        $(#[$outer])*
        #[derive(Clone, Debug, Default, PartialEq, Eq)]
        pub struct $name {
            $( $(#[$inner])* pub $field: $ty, )*
        }

        impl $name {
            /// Whether no property is set.
            pub fn is_empty(&self) -> bool {
                self.body_size() == 0
            }

            fn body_size(&self) -> usize {
                0 $( + $crate::property::Slot::size(&self.$field) )*
            }

            /// Bytes on the wire, length prefix included.
            pub fn size(&self) -> usize {
                let body = self.body_size();
                $crate::reader::variable_int_size(body) + body
            }

            pub(crate) fn decode(reader: &mut $crate::reader::Reader) -> Result<Self, $crate::DecodeError> {
                let mut properties = Self::default();
                let mut block = reader.block("the properties")?;
                while !block.is_empty() {
                    match block.variable_int("a property identifier")? {
                        $( $id => $crate::property::Slot::accept(&mut properties.$field, &mut block, $id, $packet)?, )*
                        id => return Err($crate::DecodeError::PropertyNotAllowed { packet: $packet, id }),
                    }
                }
                Ok(properties)
            }

            pub(crate) fn encode(&self, out: &mut bytes::BytesMut) -> Result<(), $crate::EncodeError> {
                let body = self.body_size();
                let length = u32::try_from(body).map_err(|_| $crate::EncodeError::PacketTooLong { length: body })?;
                $crate::reader::put_variable_int(out, length)?;
                $( $crate::property::Slot::write(&self.$field, $id, out)?; )*
                Ok(())
            }
        }
    };
}
pub(crate) use properties;
