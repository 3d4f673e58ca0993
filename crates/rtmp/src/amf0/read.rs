use crate::amf3;
use crate::budget::{Budget, MAX_DEPTH};

use super::{Amf0Error, marker};
use crate::amf_value::Value;

/// Reads values until the bytes end.
#[cfg(test)]
pub(crate) fn decode_all(bytes: &[u8]) -> Result<Vec<Value>, Amf0Error> {
    Values::new(bytes).collect()
}

/// The values of one message, each decoded when it is asked for. Ends with the bytes, or behind
/// the first error.
#[derive(Debug)]
pub(crate) struct Values<'a> {
    rest: &'a [u8],
    budget: Budget,
}

impl Iterator for Values<'_> {
    type Item = Result<Value, Amf0Error>;

    fn next(&mut self) -> Option<Self::Item> {
        if self.rest.is_empty() {
            return None;
        }
        let value = self.value(0);
        if value.is_err() {
            self.rest = &[];
        }
        Some(value)
    }
}

impl<'a> Values<'a> {
    pub(crate) fn new(rest: &'a [u8]) -> Self {
        Self { rest, budget: Budget::new() }
    }

    fn take(&mut self, count: usize) -> Result<&'a [u8], Amf0Error> {
        let (head, rest) = self.rest.split_at_checked(count).ok_or(Amf0Error::Truncated)?;
        self.rest = rest;
        Ok(head)
    }

    fn array<const N: usize>(&mut self) -> Result<[u8; N], Amf0Error> {
        let (head, rest) = self.rest.split_first_chunk::<N>().ok_or(Amf0Error::Truncated)?;
        self.rest = rest;
        Ok(*head)
    }

    fn u8(&mut self) -> Result<u8, Amf0Error> {
        self.array::<1>().map(|[byte]| byte)
    }

    fn number(&mut self) -> Result<f64, Amf0Error> {
        self.array().map(f64::from_be_bytes)
    }

    fn text(&mut self, length: usize) -> Result<String, Amf0Error> {
        let bytes = self.take(length)?;
        self.budget.text(length)?;
        std::str::from_utf8(bytes).map(str::to_owned).map_err(|_| Amf0Error::NotUtf8)
    }

    fn short_text(&mut self) -> Result<String, Amf0Error> {
        let length = u16::from_be_bytes(self.array()?);
        self.text(length.into())
    }

    fn long_text(&mut self) -> Result<String, Amf0Error> {
        let length = u32::from_be_bytes(self.array()?);
        self.text(usize::try_from(length).map_err(|_| Amf0Error::Truncated)?)
    }

    fn value(&mut self, depth: usize) -> Result<Value, Amf0Error> {
        if depth > MAX_DEPTH {
            return Err(Amf0Error::TooDeep);
        }
        self.budget.value()?;
        Ok(match self.u8()? {
            marker::NUMBER => Value::Number(self.number()?),
            marker::BOOLEAN => Value::Boolean(self.u8()? != 0),
            marker::STRING => Value::String(self.short_text()?),
            marker::LONG_STRING => Value::String(self.long_text()?),
            marker::XML => Value::Xml(self.long_text()?),
            marker::OBJECT => Value::Object(self.pairs(depth)?),
            marker::TYPED_OBJECT => {
                self.short_text()?;
                Value::Object(self.pairs(depth)?)
            }
            marker::ECMA_ARRAY => {
                // The count is a hint only; the end marker decides.
                self.take(4)?;
                Value::EcmaArray(self.pairs(depth)?)
            }
            marker::STRICT_ARRAY => Value::StrictArray(self.elements(depth)?),
            marker::DATE => {
                let millis = self.number()?;
                self.take(2)?; // time zone, reserved
                Value::Date(millis)
            }
            marker::REFERENCE => Value::Reference(u16::from_be_bytes(self.array()?)),
            marker::AMF3 => {
                let (value, rest) = amf3::decode_one(self.rest, depth, &mut self.budget)?;
                self.rest = rest;
                value
            }
            marker::NULL => Value::Null,
            marker::UNDEFINED | marker::UNSUPPORTED => Value::Undefined,
            other => return Err(Amf0Error::Marker(other)),
        })
    }

    fn pairs(&mut self, depth: usize) -> Result<Vec<(String, Value)>, Amf0Error> {
        let mut pairs = Vec::new();
        loop {
            let name = self.short_text()?;
            if name.is_empty() && self.rest.first() == Some(&marker::OBJECT_END) {
                self.take(1)?;
                return Ok(pairs);
            }
            pairs.push((name, self.value(depth + 1)?));
        }
    }

    fn elements(&mut self, depth: usize) -> Result<Vec<Value>, Amf0Error> {
        let count = u32::from_be_bytes(self.array()?);
        // No space is reserved by a number from the wire; MAX_VALUES ends a lie.
        let mut elements = Vec::new();
        for _ in 0..count {
            elements.push(self.value(depth + 1)?);
        }
        Ok(elements)
    }
}
