use bytes::Bytes;

use crate::amf0::{Amf0Error, Value, decode_all, encode_all};
use crate::amf3;
use crate::wire::{Message, message_type};

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
    /// the message is no command, or has no name.
    pub(crate) fn decode(message: &Message) -> Result<Option<Self>, Amf0Error> {
        let Some(values) = amf0_values(message, message_type::COMMAND_AMF0, message_type::COMMAND_AMF3)? else {
            return Ok(None);
        };
        let mut values = values.into_iter();
        let Some(Value::String(name)) = values.next() else { return Ok(None) };
        let transaction = values.next().and_then(|value| value.as_number()).unwrap_or(0.0);
        let object = values.next().unwrap_or(Value::Null);
        Ok(Some(Self { name, transaction, object, arguments: values.collect() }))
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
    let Some(values) = amf0_values(message, message_type::DATA_AMF0, message_type::DATA_AMF3)? else {
        return Ok(None);
    };
    let is_metadata = values.iter().take(2).any(|value| value.as_str() == Some("onMetaData"));
    let pairs = values.into_iter().find_map(|value| match value {
        Value::Object(pairs) | Value::EcmaArray(pairs) => Some(pairs),
        _ => None,
    });
    Ok(pairs.filter(|_| is_metadata))
}

/// The values of a message of either framing. In AMF3 framing a zero byte stands before values
/// that are AMF0 all the same, but for those that are marked as AMF3. Some peers leave out the
/// byte, and some write AMF3 all along: then the name is a string of that format.
fn amf0_values(message: &Message, amf0: u8, amf3: u8) -> Result<Option<Vec<Value>>, Amf0Error> {
    const AMF3_STRING: u8 = 6;
    if message.message_type == amf0 {
        return decode_all(&message.payload).map(Some);
    }
    if message.message_type != amf3 {
        return Ok(None);
    }
    let values = message.payload.strip_prefix(&[0]).unwrap_or(&message.payload);
    if values.first() == Some(&AMF3_STRING) {
        return Ok(Some(amf3::decode_all(values)?));
    }
    decode_all(values).map(Some)
}
