use std::fmt;
use std::str::FromStr;

use thiserror::Error;

/// A door before which a proxy may stand that announces who calls.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum AnnouncedDoor {
    /// Encoders.
    Rtmp,
    /// Encoders over TLS.
    Rtmps,
    /// Console and API.
    Http,
    /// The same over TLS.
    Https,
    /// Viewers.
    Viewing,
    /// The same over TLS.
    ViewingHttps,
}

const NAMES: [(AnnouncedDoor, &str); 6] = [
    (AnnouncedDoor::Rtmp, "rtmp"),
    (AnnouncedDoor::Rtmps, "rtmps"),
    (AnnouncedDoor::Http, "http"),
    (AnnouncedDoor::Https, "https"),
    (AnnouncedDoor::Viewing, "viewing"),
    (AnnouncedDoor::ViewingHttps, "viewing_https"),
];

/// What is no door.
#[derive(Clone, Debug, PartialEq, Eq, Error)]
#[error(
    "`{0}` is no door of those that a proxy can announce callers at: rtmp, rtmps, http, https, viewing, viewing_https"
)]
pub struct NoDoor(String);

impl FromStr for AnnouncedDoor {
    type Err = NoDoor;

    fn from_str(text: &str) -> Result<Self, NoDoor> {
        let found = NAMES.iter().find(|(_, name)| *name == text).map(|(door, _)| *door);
        found.ok_or_else(|| NoDoor(text.to_owned()))
    }
}

impl fmt::Display for AnnouncedDoor {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(NAMES.iter().find(|(door, _)| door == self).map_or("", |(_, name)| name))
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn doors_have_the_names_of_their_settings() {
        for (door, name) in NAMES {
            assert_eq!((name.parse(), door.to_string().as_str()), (Ok(door), name));
        }
        assert!("srt".parse::<AnnouncedDoor>().unwrap_err().to_string().contains("`srt` is no door"));
    }
}
