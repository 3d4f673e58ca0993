//! What a stream id says.

use thiserror::Error;

/// What begins a stream id with fields (access control guideline of the public draft, appendix B).
const MARK: &str = "#!::";

/// What a caller wants to do.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Hash)]
pub enum Mode {
    /// Receive.
    #[default]
    Request,
    /// Send.
    Publish,
    /// Both.
    Bidirectional,
}

/// A stream id, taken apart. One without fields is a name only, and says no mode.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct StreamId {
    /// Which stream: `r`, or the whole text.
    pub resource: String,
    /// Who calls: `u`.
    pub user: Option<String>,
    /// The host that is meant: `h`.
    pub host: Option<String>,
    /// The caller's own session number: `s`.
    pub session: Option<String>,
    /// What is sent: `t`.
    pub kind: Option<String>,
    /// What the caller wants: `m`. None where nothing is said.
    pub mode: Option<Mode>,
    /// Fields that the guideline leaves to applications, by name.
    pub others: Vec<(String, String)>,
}

/// Why a stream id cannot be understood.
#[derive(Clone, Debug, PartialEq, Eq, Error)]
#[non_exhaustive]
pub enum StreamIdError {
    /// A field without `=`.
    #[error("the stream id has a field without a value; fields are written as in `#!::r=name,m=publish`")]
    Field,
    /// A mode that is none.
    #[error("the stream id asks for a mode that there is not; `request`, `publish` and `bidirectional` are")]
    Mode,
    /// Nested fields, which nobody uses.
    #[error("the stream id has nested fields; write `#!::` and fields without braces")]
    Nested,
}

impl StreamId {
    /// # Errors
    /// [`StreamIdError`] if it begins like one with fields and is none.
    pub fn parse(text: &str) -> Result<Self, StreamIdError> {
        if text.starts_with("#!:{") {
            return Err(StreamIdError::Nested);
        }
        let Some(fields) = text.strip_prefix(MARK) else {
            return Ok(Self { resource: text.to_owned(), ..Self::default() });
        };
        let mut id = Self::default();
        for field in fields.split(',').filter(|field| !field.is_empty()) {
            let (name, value) = field.split_once('=').ok_or(StreamIdError::Field)?;
            let value = value.to_owned();
            match name {
                "r" => id.resource = value,
                "u" => id.user = Some(value),
                "h" => id.host = Some(value),
                "s" => id.session = Some(value),
                "t" => id.kind = Some(value),
                "m" => id.mode = Some(parse_mode(&value)?),
                _ => id.others.push((name.to_owned(), value)),
            }
        }
        id.mode.get_or_insert_default();
        Ok(id)
    }
}

fn parse_mode(value: &str) -> Result<Mode, StreamIdError> {
    match value {
        "request" => Ok(Mode::Request),
        "publish" => Ok(Mode::Publish),
        "bidirectional" => Ok(Mode::Bidirectional),
        _ => Err(StreamIdError::Mode),
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[test]
    fn a_plain_id_is_a_name() {
        let id = StreamId::parse("abcdefg-secret").unwrap();
        assert_eq!((id.resource.as_str(), id.mode), ("abcdefg-secret", None));
    }

    #[test]
    fn fields_are_read() {
        let id = StreamId::parse("#!::u=van,r=abcdefg-secret,m=publish,t=stream,x=y,h=relay.test,s=7").unwrap();
        assert_eq!(id.resource, "abcdefg-secret");
        assert_eq!(id.mode, Some(Mode::Publish));
        assert_eq!(id.user.as_deref(), Some("van"));
        assert_eq!(id.others, [("x".to_owned(), "y".to_owned())]);
        assert_eq!((id.host.as_deref(), id.session.as_deref()), (Some("relay.test"), Some("7")));
    }

    /// Appendix B: without a mode it is a request.
    #[test]
    fn fields_without_a_mode_ask() {
        assert_eq!(StreamId::parse("#!::r=boathouse").unwrap().mode, Some(Mode::Request));
    }

    #[rstest]
    #[case::no_value("#!::r", StreamIdError::Field)]
    #[case::wrong_mode("#!::r=a,m=listen", StreamIdError::Mode)]
    #[case::nested("#!:{r=a}", StreamIdError::Nested)]
    fn faults_are_told(#[case] text: &str, #[case] error: StreamIdError) {
        assert_eq!(StreamId::parse(text), Err(error));
    }
}
