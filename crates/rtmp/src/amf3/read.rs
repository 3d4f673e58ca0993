use std::rc::Rc;

use super::{Amf3Error, marker};
use crate::amf_value::Value;
use crate::budget::{Budget, MAX_DEPTH};

/// Reads values until the bytes end.
#[cfg(test)]
pub(crate) fn decode_all(bytes: &[u8]) -> Result<Vec<Value>, Amf3Error> {
    Values::new(bytes).collect()
}

/// Reads one value that stands at `depth` in others; returns it with the bytes behind it.
pub(crate) fn decode_one<'a>(
    bytes: &'a [u8],
    depth: usize,
    budget: &mut Budget,
) -> Result<(Value, &'a [u8]), Amf3Error> {
    let mut reader = Reader::new(bytes, budget);
    let value = reader.value(depth)?;
    Ok((value, reader.rest))
}

/// The values of one message, each decoded when it is asked for. Ends with the bytes, or behind
/// the first error.
#[derive(Debug)]
pub(crate) struct Values<'a> {
    rest: &'a [u8],
    tables: Tables,
    budget: Budget,
}

impl<'a> Values<'a> {
    pub(crate) fn new(rest: &'a [u8]) -> Self {
        Self { rest, tables: Tables::default(), budget: Budget::new() }
    }
}

impl Iterator for Values<'_> {
    type Item = Result<Value, Amf3Error>;

    fn next(&mut self) -> Option<Self::Item> {
        if self.rest.is_empty() {
            return None;
        }
        let tables = std::mem::take(&mut self.tables);
        let mut reader = Reader { rest: self.rest, tables, budget: &mut self.budget };
        let value = reader.value(0);
        (self.rest, self.tables) = (reader.rest, reader.tables);
        if value.is_err() {
            self.rest = &[];
        }
        Some(value)
    }
}

/// Member names of a class.
///
/// Source: AMF3, 3.12
#[derive(Debug)]
struct Traits {
    members: Vec<Rc<str>>,
    dynamic: bool,
}

/// What can be referred to by its place.
#[derive(Debug, Default)]
struct Tables {
    strings: Vec<Rc<str>>,
    /// Objects, arrays, dates and others. One that is being read stands as null, so that it
    /// cannot hold itself.
    objects: Vec<Value>,
    traits: Vec<Rc<Traits>>,
}

struct Reader<'a, 'b> {
    rest: &'a [u8],
    tables: Tables,
    /// Everything that is kept is paid for, also what is kept only in the tables.
    budget: &'b mut Budget,
}

/// The number before most values: a length, or a place in a table.
enum Head {
    Inline(u32),
    Reference(u32),
}

impl<'a, 'b> Reader<'a, 'b> {
    fn new(rest: &'a [u8], budget: &'b mut Budget) -> Self {
        Self { rest, tables: Tables::default(), budget }
    }

    fn take(&mut self, count: u32) -> Result<&'a [u8], Amf3Error> {
        let count = usize::try_from(count).map_err(|_| Amf3Error::Truncated)?;
        let (head, rest) = self.rest.split_at_checked(count).ok_or(Amf3Error::Truncated)?;
        self.rest = rest;
        Ok(head)
    }

    fn array<const N: usize>(&mut self) -> Result<[u8; N], Amf3Error> {
        let (head, rest) = self.rest.split_first_chunk::<N>().ok_or(Amf3Error::Truncated)?;
        self.rest = rest;
        Ok(*head)
    }

    fn u8(&mut self) -> Result<u8, Amf3Error> {
        self.array::<1>().map(|[byte]| byte)
    }

    fn double(&mut self) -> Result<f64, Amf3Error> {
        self.array().map(f64::from_be_bytes)
    }

    /// A number of up to 29 bits: seven in each of three bytes, eight in the fourth.
    ///
    /// Source: AMF3, 1.3.1
    fn u29(&mut self) -> Result<u32, Amf3Error> {
        let mut value = 0u32;
        for _ in 0..3 {
            let byte = self.u8()?;
            value = value << 7 | u32::from(byte & 0x7f);
            if byte & 0x80 == 0 {
                return Ok(value);
            }
        }
        Ok(value << 8 | u32::from(self.u8()?))
    }

    fn head(&mut self) -> Result<Head, Amf3Error> {
        let number = self.u29()?;
        Ok(if number & 1 == 1 { Head::Inline(number >> 1) } else { Head::Reference(number >> 1) })
    }

    fn text(&mut self, length: u32) -> Result<&'a str, Amf3Error> {
        let bytes = self.take(length)?;
        self.budget.text(bytes.len())?;
        std::str::from_utf8(bytes).map_err(|_| Amf3Error::NotUtf8)
    }

    /// Source: AMF3, 1.3.2: the empty string is never sent by reference.
    fn string(&mut self) -> Result<Rc<str>, Amf3Error> {
        match self.head()? {
            Head::Reference(found) => {
                let known = self.tables.strings.len();
                let string = usize::try_from(found).ok().and_then(|place| self.tables.strings.get(place));
                string.cloned().ok_or(Amf3Error::Reference { found, known })
            }
            Head::Inline(0) => Ok(Rc::from("")),
            Head::Inline(length) => {
                let text: Rc<str> = self.text(length)?.into();
                self.tables.strings.push(text.clone());
                Ok(text)
            }
        }
    }

    /// A string of the tables as part of a value, which is a copy.
    fn owned(&mut self, text: &str) -> Result<String, Amf3Error> {
        self.budget.text(text.len())?;
        Ok(text.to_owned())
    }

    fn value(&mut self, depth: usize) -> Result<Value, Amf3Error> {
        if depth > MAX_DEPTH {
            return Err(Amf3Error::TooDeep);
        }
        self.budget.value()?;
        Ok(match self.u8()? {
            marker::UNDEFINED => Value::Undefined,
            marker::NULL => Value::Null,
            marker::FALSE => Value::Boolean(false),
            marker::TRUE => Value::Boolean(true),
            // 29 bits with a sign.
            marker::INTEGER => Value::Number(f64::from((self.u29()? << 3).cast_signed() >> 3)),
            marker::DOUBLE => Value::Number(self.double()?),
            marker::STRING => {
                let text = self.string()?;
                Value::String(self.owned(&text)?)
            }
            known @ (marker::XML_DOCUMENT | marker::XML | marker::BYTE_ARRAY) => self.blob(known)?,
            known @ (marker::DATE | marker::ARRAY | marker::OBJECT | marker::DICTIONARY) => {
                self.referable(|reader, length| reader.composite(known, length, depth))?
            }
            known @ (marker::VECTOR_INT | marker::VECTOR_UINT | marker::VECTOR_DOUBLE | marker::VECTOR_OBJECT) => {
                self.referable(|reader, length| reader.vector(known, length, depth))?
            }
            other => return Err(Amf3Error::Marker(other)),
        })
    }

    /// A value that may be a reference to one sent before.
    fn referable(&mut self, read: impl FnOnce(&mut Self, u32) -> Result<Value, Amf3Error>) -> Result<Value, Amf3Error> {
        match self.head()? {
            Head::Reference(found) => {
                let known = self.tables.objects.len();
                let object = usize::try_from(found).ok().and_then(|place| self.tables.objects.get(place));
                let object = object.ok_or(Amf3Error::Reference { found, known })?;
                self.budget.copy(object)?;
                Ok(object.clone())
            }
            Head::Inline(length) => {
                let place = self.tables.objects.len();
                self.budget.value()?;
                self.tables.objects.push(Value::Null);
                let value = read(self, length)?;
                self.budget.copy(&value)?;
                self.tables.objects[place] = value.clone();
                Ok(value)
            }
        }
    }

    fn blob(&mut self, kind: u8) -> Result<Value, Amf3Error> {
        self.referable(|reader, length| {
            if kind == marker::BYTE_ARRAY {
                let bytes = reader.take(length)?;
                reader.budget.text(bytes.len())?;
                return Ok(Value::Bytes(bytes.to_vec()));
            }
            reader.text(length).map(|text| Value::Xml(text.to_owned()))
        })
    }

    fn composite(&mut self, kind: u8, length: u32, depth: usize) -> Result<Value, Amf3Error> {
        match kind {
            marker::DATE => self.double().map(Value::Date),
            marker::ARRAY => self.list(length, depth),
            marker::DICTIONARY => {
                self.u8()?; // weak keys
                let mut pairs = Vec::new();
                for _ in 0..length {
                    self.budget.value()?;
                    let key = self.value(depth + 1)?;
                    let value = self.value(depth + 1)?;
                    pairs.push(Value::StrictArray(vec![key, value]));
                }
                Ok(Value::StrictArray(pairs))
            }
            _ => self.object(length, depth),
        }
    }

    /// Named values first, then those by place.
    ///
    /// Source: AMF3, 3.11
    fn list(&mut self, length: u32, depth: usize) -> Result<Value, Amf3Error> {
        let mut pairs = self.named(depth)?;
        let mut elements = Vec::new();
        for _ in 0..length {
            elements.push(self.value(depth + 1)?);
        }
        if pairs.is_empty() {
            return Ok(Value::StrictArray(elements));
        }
        for (place, value) in elements.into_iter().enumerate() {
            let name = self.owned(&place.to_string())?;
            pairs.push((name, value));
        }
        Ok(Value::EcmaArray(pairs))
    }

    fn named(&mut self, depth: usize) -> Result<Vec<(String, Value)>, Amf3Error> {
        let mut pairs = Vec::new();
        loop {
            let name = self.string()?;
            if name.is_empty() {
                return Ok(pairs);
            }
            let name = self.owned(&name)?;
            pairs.push((name, self.value(depth + 1)?));
        }
    }

    /// Source: AMF3, 3.12
    fn object(&mut self, head: u32, depth: usize) -> Result<Value, Amf3Error> {
        let traits = if head & 1 == 0 {
            let (found, known) = (head >> 1, self.tables.traits.len());
            let traits = usize::try_from(found).ok().and_then(|place| self.tables.traits.get(place));
            traits.cloned().ok_or(Amf3Error::Reference { found, known })?
        } else if head & 2 != 0 {
            return Err(Amf3Error::Externalizable);
        } else {
            self.string()?; // class name
            let mut members = Vec::new();
            for _ in 0..head >> 3 {
                self.budget.text(0)?;
                members.push(self.string()?);
            }
            let traits = Rc::new(Traits { members, dynamic: head & 4 != 0 });
            self.budget.text(0)?;
            self.tables.traits.push(traits.clone());
            traits
        };
        let mut pairs = Vec::new();
        for name in &traits.members {
            let name = self.owned(name)?;
            pairs.push((name, self.value(depth + 1)?));
        }
        if traits.dynamic {
            pairs.extend(self.named(depth)?);
        }
        Ok(Value::Object(pairs))
    }

    /// Source: AMF3, 3.15
    fn vector(&mut self, kind: u8, length: u32, depth: usize) -> Result<Value, Amf3Error> {
        self.u8()?; // fixed length
        if kind == marker::VECTOR_OBJECT {
            self.string()?; // class name
        }
        let mut elements = Vec::new();
        for _ in 0..length {
            if kind != marker::VECTOR_OBJECT {
                self.budget.value()?;
            }
            elements.push(match kind {
                marker::VECTOR_INT => Value::Number(i32::from_be_bytes(self.array()?).into()),
                marker::VECTOR_UINT => Value::Number(u32::from_be_bytes(self.array()?).into()),
                marker::VECTOR_DOUBLE => Value::Number(self.double()?),
                _ => self.value(depth + 1)?,
            });
        }
        Ok(Value::StrictArray(elements))
    }
}
