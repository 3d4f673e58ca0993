use thiserror::Error;

use crate::amf_value::Value;

/// Objects and arrays may nest this deep. Commands of real peers need 3.
pub(crate) const MAX_DEPTH: usize = 16;

/// One message may hold this many values. Metadata of real peers holds about 40.
pub(crate) const MAX_VALUES: usize = 4096;

/// One message may become this many bytes in memory when it is decoded, whatever it may be sent
/// in: four times what a peer may send before it is let in. Metadata of real peers becomes 5 KiB.
/// Text and names count by their length each time they are kept, references included.
pub(crate) const MAX_DECODED_BYTES: usize = 256 * 1024;

/// What decoding one message may still cost.
#[derive(Debug)]
pub(crate) struct Budget {
    values: usize,
    bytes: usize,
}

/// What of a budget is used up.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Error)]
#[non_exhaustive]
pub enum Exceeded {
    /// There are too many values, repeated references counted.
    #[error("more than {MAX_VALUES} values in one message")]
    Values,
    /// The values take too much memory, repeated references counted.
    #[error("one message becomes more than {MAX_DECODED_BYTES} bytes when it is decoded")]
    Bytes,
}

impl Budget {
    /// The budget of one message.
    pub(crate) fn new() -> Self {
        Self { values: MAX_VALUES, bytes: MAX_DECODED_BYTES }
    }

    /// Pays for one value, without the text or the values in it.
    pub(crate) fn value(&mut self) -> Result<(), Exceeded> {
        self.values = self.values.checked_sub(1).ok_or(Exceeded::Values)?;
        self.bytes(size_of::<Value>())
    }

    /// Pays for text, bytes or the name of a member, before they are copied.
    pub(crate) fn text(&mut self, length: usize) -> Result<(), Exceeded> {
        self.bytes(size_of::<String>() + length)
    }

    /// Pays for a copy of `value` and all that is in it, before it is made.
    pub(crate) fn copy(&mut self, value: &Value) -> Result<(), Exceeded> {
        self.value()?;
        match value {
            Value::Object(pairs) | Value::EcmaArray(pairs) => pairs.iter().try_for_each(|(name, value)| {
                self.text(name.len())?;
                self.copy(value)
            }),
            Value::StrictArray(elements) => elements.iter().try_for_each(|element| self.copy(element)),
            Value::String(text) | Value::Xml(text) => self.text(text.len()),
            Value::Bytes(bytes) => self.text(bytes.len()),
            _ => Ok(()),
        }
    }

    fn bytes(&mut self, count: usize) -> Result<(), Exceeded> {
        self.bytes = self.bytes.checked_sub(count).ok_or(Exceeded::Bytes)?;
        Ok(())
    }
}
