use bytes::Bytes;

use crate::amf_value::Value;
use crate::amf0::{self, Amf0Error, encode_all};
use crate::amf3;
use crate::wire::{Message, message_type};

/// Names of commands are cut to this many bytes; no command has such a long one.
const MAX_NAME: usize = 48;

/// A remote call: name, transaction, command object, further arguments.
///
/// Source: RTMP 1.0, 7.2
#[derive(Clone, Debug, PartialEq)]
pub(crate) struct Command {
    pub(crate) name: String,
    /// 0 where no answer is expected.
    pub(crate) transaction: f64,
    pub(crate) object: Value,
    pub(crate) arguments: Vec<Value>,
}

impl Command {
    pub(crate) fn new(name: &str, transaction: f64, object: Value, arguments: Vec<Value>) -> Self {
        Self { name: name.to_owned(), transaction, object, arguments }
    }

    /// Reads a command message, in AMF0 or in the AMF3 framing that holds AMF0 values. None if
    /// the message is no command, or has no name. `admit` sees the name before anything else is
    /// decoded: who may not ask for something is not to make work by its arguments.
    pub(crate) fn decode<E: From<Amf0Error>>(
        message: &Message,
        admit: impl FnOnce(&str) -> Result<(), E>,
    ) -> Result<Option<Self>, E> {
        let Some(mut values) = amf_values(message, message_type::COMMAND_AMF0, message_type::COMMAND_AMF3) else {
            return Ok(None);
        };
        let Some(Value::String(mut name)) = values.next().transpose()? else { return Ok(None) };
        name.truncate(name.floor_char_boundary(MAX_NAME));
        admit(&name)?;
        let transaction = values.next().transpose()?.and_then(|value| value.as_number()).unwrap_or(0.0);
        let object = values.next().transpose()?.unwrap_or(Value::Null);
        let arguments = values.collect::<Result<_, _>>()?;
        Ok(Some(Self { name, transaction, object, arguments }))
    }

    pub(crate) fn encode(&self) -> Bytes {
        let mut values = vec![Value::from(self.name.as_str()), self.transaction.into(), self.object.clone()];
        values.extend(self.arguments.iter().cloned());
        encode_all(&values).into()
    }

    /// The first argument that is text: the stream name of `publish`, `releaseStream` and others.
    pub(crate) fn first_text(&self) -> Option<&str> {
        self.arguments.first().and_then(Value::as_str)
    }

    /// Text under `field` of the command object.
    pub(crate) fn object_text(&self, field: &str) -> Option<&str> {
        self.object.field(field).and_then(Value::as_str)
    }
}

/// A status report to the peer.
///
/// Source: RTMP 1.0, 7.2.2 (onStatus)
pub(crate) fn on_status(level: &str, code: &str, description: &str) -> Command {
    Command::new("onStatus", 0.0, Value::Null, vec![status_object(level, code, description)])
}

/// The information object of answers and status reports.
pub(crate) fn status_object(level: &str, code: &str, description: &str) -> Value {
    let pair = |name: &str, text: &str| (name.to_owned(), Value::from(text));
    Value::Object(vec![pair("level", level), pair("code", code), pair("description", description)])
}

/// The number of a stream, which travels as a floating point number.
pub(crate) fn stream_number(number: f64) -> Option<u32> {
    (0..1024).find(|stream| f64::from(*stream) == number)
}

/// Named values of a metadata message, if `message` is one.
pub(crate) fn decode_metadata(message: &Message) -> Result<Option<Vec<(String, Value)>>, Amf0Error> {
    let Some(values) = amf_values(message, message_type::DATA_AMF0, message_type::DATA_AMF3) else {
        return Ok(None);
    };
    let values = values.collect::<Result<Vec<_>, _>>()?;
    let is_metadata = values.iter().take(2).any(|value| value.as_str() == Some("onMetaData"));
    let pairs = values.into_iter().find_map(|value| match value {
        Value::Object(pairs) | Value::EcmaArray(pairs) => Some(pairs),
        _ => None,
    });
    Ok(pairs.filter(|_| is_metadata))
}

/// The values of one message, decoded one by one in either format.
enum AmfValues<'a> {
    Amf0(amf0::Values<'a>),
    Amf3(amf3::Values<'a>),
}

impl Iterator for AmfValues<'_> {
    type Item = Result<Value, Amf0Error>;

    fn next(&mut self) -> Option<Self::Item> {
        match self {
            Self::Amf0(values) => values.next(),
            Self::Amf3(values) => values.next().map(|value| value.map_err(Amf0Error::from)),
        }
    }
}

/// The values of a message of either framing. In AMF3 framing a zero byte stands before values
/// that are AMF0 all the same, but for those that are marked as AMF3. Some peers leave out the
/// byte, and some write AMF3 all along: then the name is a string of that format.
fn amf_values(message: &Message, amf0: u8, amf3: u8) -> Option<AmfValues<'_>> {
    const AMF3_STRING: u8 = 6;
    if message.message_type == amf0 {
        return Some(AmfValues::Amf0(amf0::Values::new(&message.payload)));
    }
    if message.message_type != amf3 {
        return None;
    }
    let values = message.payload.strip_prefix(&[0]).unwrap_or(&message.payload);
    if values.first() == Some(&AMF3_STRING) {
        return Some(AmfValues::Amf3(amf3::Values::new(values)));
    }
    Some(AmfValues::Amf0(amf0::Values::new(values)))
}
