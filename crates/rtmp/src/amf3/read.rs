use std::rc::Rc;

use super::{Amf3Error, marker};
use crate::amf0::{MAX_DEPTH, MAX_VALUES, Value};

/// Reads values until the bytes end.
pub(crate) fn decode_all(bytes: &[u8]) -> Result<Vec<Value>, Amf3Error> {
    let mut reader = Reader::new(bytes);
    let mut values = Vec::new();
    while !reader.rest.is_empty() {
        values.push(reader.value(0)?);
    }
    Ok(values)
}

/// Reads one value; returns it with the bytes behind it.
pub(crate) fn decode_one(bytes: &[u8]) -> Result<(Value, &[u8]), Amf3Error> {
    let mut reader = Reader::new(bytes);
    let value = reader.value(0)?;
    Ok((value, reader.rest))
}

/// Member names of a class.
///
/// Source: AMF3, 3.12
#[derive(Debug)]
struct Traits {
    members: Vec<String>,
    dynamic: bool,
}

struct Reader<'a> {
    rest: &'a [u8],
    strings: Vec<String>,
    /// Objects, arrays, dates and other things that can be referred to. One that is being read
    /// stands as null, so that it cannot hold itself.
    objects: Vec<Value>,
    traits: Vec<Rc<Traits>>,
    values: usize,
}

/// The number before most values: a length, or a place in a table.
enum Head {
    Inline(u32),
    Reference(u32),
}

impl<'a> Reader<'a> {
    fn new(rest: &'a [u8]) -> Self {
        Self { rest, strings: Vec::new(), objects: Vec::new(), traits: Vec::new(), values: 0 }
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

    fn count(&mut self, values: usize) -> Result<(), Amf3Error> {
        self.values = self.values.saturating_add(values);
        if self.values > MAX_VALUES { Err(Amf3Error::TooMany) } else { Ok(()) }
    }

    fn text(&mut self, length: u32) -> Result<String, Amf3Error> {
        let bytes = self.take(length)?;
        std::str::from_utf8(bytes).map(str::to_owned).map_err(|_| Amf3Error::NotUtf8)
    }

    /// Source: AMF3, 1.3.2: the empty string is never sent by reference.
    fn string(&mut self) -> Result<String, Amf3Error> {
        match self.head()? {
            Head::Reference(found) => {
                let known = self.strings.len();
                let string = usize::try_from(found).ok().and_then(|place| self.strings.get(place));
                string.cloned().ok_or(Amf3Error::Reference { found, known })
            }
            Head::Inline(0) => Ok(String::new()),
            Head::Inline(length) => {
                let text = self.text(length)?;
                self.count(1)?;
                self.strings.push(text.clone());
                Ok(text)
            }
        }
    }

    fn value(&mut self, depth: usize) -> Result<Value, Amf3Error> {
        if depth > MAX_DEPTH {
            return Err(Amf3Error::TooDeep);
        }
        self.count(1)?;
        Ok(match self.u8()? {
            marker::UNDEFINED => Value::Undefined,
            marker::NULL => Value::Null,
            marker::FALSE => Value::Boolean(false),
            marker::TRUE => Value::Boolean(true),
            // 29 bits with a sign.
            marker::INTEGER => Value::Number(f64::from((self.u29()? << 3).cast_signed() >> 3)),
            marker::DOUBLE => Value::Number(self.double()?),
            marker::STRING => Value::String(self.string()?),
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
                let known = self.objects.len();
                let object = usize::try_from(found).ok().and_then(|place| self.objects.get(place));
                let object = object.cloned().ok_or(Amf3Error::Reference { found, known })?;
                // A few bytes may stand for a large value; so it counts whole.
                self.count(weight(&object))?;
                Ok(object)
            }
            Head::Inline(length) => {
                let place = self.objects.len();
                self.objects.push(Value::Null);
                let value = read(self, length)?;
                self.objects[place] = value.clone();
                Ok(value)
            }
        }
    }

    fn blob(&mut self, kind: u8) -> Result<Value, Amf3Error> {
        self.referable(|reader, length| {
            if kind == marker::BYTE_ARRAY {
                return Ok(Value::Bytes(reader.take(length)?.to_vec()));
            }
            reader.text(length).map(Value::Xml)
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
        pairs.extend(elements.into_iter().enumerate().map(|(place, value)| (place.to_string(), value)));
        Ok(Value::EcmaArray(pairs))
    }

    fn named(&mut self, depth: usize) -> Result<Vec<(String, Value)>, Amf3Error> {
        let mut pairs = Vec::new();
        loop {
            let name = self.string()?;
            if name.is_empty() {
                return Ok(pairs);
            }
            pairs.push((name, self.value(depth + 1)?));
        }
    }

    /// Source: AMF3, 3.12
    fn object(&mut self, head: u32, depth: usize) -> Result<Value, Amf3Error> {
        let traits = if head & 1 == 0 {
            let (found, known) = (head >> 1, self.traits.len());
            let traits = usize::try_from(found).ok().and_then(|place| self.traits.get(place));
            traits.cloned().ok_or(Amf3Error::Reference { found, known })?
        } else if head & 2 != 0 {
            return Err(Amf3Error::Externalizable);
        } else {
            self.string()?; // class name
            let mut members = Vec::new();
            for _ in 0..head >> 3 {
                self.count(1)?;
                members.push(self.string()?);
            }
            let traits = Rc::new(Traits { members, dynamic: head & 4 != 0 });
            self.traits.push(traits.clone());
            traits
        };
        let mut pairs = Vec::new();
        for name in &traits.members {
            pairs.push((name.clone(), self.value(depth + 1)?));
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
            self.count(1)?;
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

/// How many values a value holds, itself included.
fn weight(value: &Value) -> usize {
    match value {
        Value::Object(pairs) | Value::EcmaArray(pairs) => {
            1 + pairs.iter().map(|(_, value)| weight(value)).sum::<usize>()
        }
        Value::StrictArray(elements) => 1 + elements.iter().map(weight).sum::<usize>(),
        Value::Bytes(bytes) => 1 + bytes.len() / 64,
        Value::Xml(text) | Value::String(text) => 1 + text.len() / 64,
        _ => 1,
    }
}
