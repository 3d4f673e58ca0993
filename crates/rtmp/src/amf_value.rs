//! A value of commands and metadata, whichever format it was sent in.

/// A value.
#[derive(Clone, Debug, PartialEq)]
#[non_exhaustive]
pub enum Value {
    /// A number.
    Number(f64),
    /// True or false.
    Boolean(bool),
    /// Text, in the short or the long form by its length.
    String(String),
    /// Named values in the order they came. A class name, if there was one, is not kept.
    Object(Vec<(String, Self)>),
    /// Named values written as an associative array.
    EcmaArray(Vec<(String, Self)>),
    /// Values by place.
    StrictArray(Vec<Self>),
    /// Bytes; AMF0 has none and is sent text in their place.
    Bytes(Vec<u8>),
    /// Milliseconds since 1970 UTC.
    Date(f64),
    /// An XML document.
    Xml(String),
    /// A place in the list of objects sent before.
    Reference(u16),
    /// Nothing.
    Null,
    /// Not defined; also what the sender marks as unsupported.
    Undefined,
}

impl Value {
    /// The text of a string.
    pub fn as_str(&self) -> Option<&str> {
        match self {
            Self::String(text) => Some(text),
            _ => None,
        }
    }

    /// The number of a number.
    pub fn as_number(&self) -> Option<f64> {
        match self {
            Self::Number(number) => Some(*number),
            _ => None,
        }
    }

    /// The named values of an object or associative array.
    pub fn as_pairs(&self) -> Option<&[(String, Self)]> {
        match self {
            Self::Object(pairs) | Self::EcmaArray(pairs) => Some(pairs),
            _ => None,
        }
    }

    /// The value under `name` in an object or associative array.
    pub fn field(&self, name: &str) -> Option<&Self> {
        self.as_pairs()?.iter().find(|(key, _)| key == name).map(|(_, value)| value)
    }
}

impl From<&str> for Value {
    fn from(text: &str) -> Self {
        Self::String(text.to_owned())
    }
}

impl From<f64> for Value {
    fn from(number: f64) -> Self {
        Self::Number(number)
    }
}
