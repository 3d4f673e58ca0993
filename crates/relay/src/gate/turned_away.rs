use std::fmt;

use thiserror::Error;
use time::OffsetDateTime;

use crate::NoRoom;

/// Why a publisher was not let in.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Error)]
#[non_exhaustive]
pub enum TurnAwayReason {
    /// No stream name was sent.
    #[error("No stream key was sent. Put the key into the encoder's key field.")]
    NoKey,
    /// The name has not the form of a key.
    #[error("This is not a stream key of this server. Copy the key anew, without spaces, into the key field.")]
    Malformed,
    /// No such key.
    #[error("The stream key is not known here. Copy it anew, or ask for a new one.")]
    UnknownKey,
    /// The key's time is over.
    #[error("The stream key has expired. Ask for a new one.")]
    ExpiredKey,
    /// The key was retired.
    #[error("The stream key was retired. Ask for the one that took its place.")]
    RetiredKey,
    /// The key's time has not come.
    #[error("The stream key opens from {} on. Come back then, or ask for its begin to be changed.", clock(*.0))]
    EarlyKey(OffsetDateTime),
    /// It is none of the key's hours.
    #[error("It is none of the hours at which this stream key opens.{}", next_hours(*.0))]
    OutOfHours(Option<OffsetDateTime>),
    /// The key is not for this protocol.
    #[error("This key does not open over this protocol. The page that it was given with tells over which it does.")]
    ProtocolNotAllowed,
    /// As many use the key as it is for.
    #[error("This key is in use, as often at once as it may be. Stop the other, or ask for a key of your own.")]
    KeyInUse,
    /// The key is for watching, and is used to publish.
    #[error("This key is for watching only. Publishing needs a stream key of the channel.")]
    ViewKey,
    /// The key is for publishing, and is used to watch.
    #[error("This key is for publishing. Watching needs a viewing key of the channel.")]
    PublishKey,
    /// The key is not to be used from this address.
    #[error("This key may not be used from this address. Ask for it to be allowed, or use one that is made for it.")]
    AddressNotAllowed,
    /// The password is not that of the user.
    #[error(
        "User name and password do not go together. The user is the first part of the key, the password the whole key."
    )]
    WrongPassword,
    /// Wrong keys came from the address, one after the other.
    #[error(
        "Too many wrong keys came from this address. Wait half a minute, then send the right one once; a key that was \
         made by this server is taken at any time."
    )]
    TooManyTries,
    /// The address is blocked for a time.
    #[error(
        "This address is blocked{}, as too many wrong keys came from it. A key that was made by this server is taken all \
         the same; whoever runs the server can release the address.", until_clock(*.0)
    )]
    Blocked(Option<OffsetDateTime>),
    /// A sign-in with a wrong name or password.
    #[error("A wrong name or password was sent.")]
    WrongSignIn,
    /// A link or a one-time code that opens nothing.
    #[error("A link or a one-time code was sent that opens nothing here.")]
    WrongLink,
    /// A token that opens nothing.
    #[error("A token was sent that opens nothing here.")]
    WrongToken,
    /// Another publisher is on the channel.
    #[error("Another encoder is already on this channel. Stop it first, or let newcomers replace it.")]
    ChannelBusy,
    /// The peer did not speak the protocol.
    #[error("The connection was not understood.")]
    NotUnderstood,
    /// The peer connected and did not publish in time.
    #[error("The encoder connected but did not publish in time.")]
    TooSlow,
    /// The service is stopping.
    #[error("The server is stopping.")]
    Stopping,
    /// The passphrase is not the channel's.
    #[error("The passphrase is not that of the channel. Copy it anew from the channel's page.")]
    WrongPassphrase,
    /// One end has a passphrase and the other has none.
    #[error("The encoder and the channel must both have a passphrase, or neither. Compare the channel's page.")]
    PassphraseDiffers,
    /// The channel is not watched by this protocol.
    #[error("This channel is not watched this way. Its page in the console tells which ways are open.")]
    WayClosed,
    /// No more may watch.
    #[error("No seat: {0}.")]
    NoSeat(NoRoom),
    /// More connections from one address than the service takes.
    #[error("Too many connections from this address at once.")]
    TooManyFromAddress,
    /// More connections than the service takes.
    #[error("Too many connections at once.")]
    TooManyConnections,
    /// Another system of the house said no.
    #[error("The house does not let this caller in. Ask whoever runs the channel.")]
    Declined,
    /// Another system of the house did not answer.
    #[error("It was not decided in time whether this caller may come in. Try again.")]
    Undecided,
    /// All places were taken, and somebody else came before the peer was let in.
    #[error("All places were taken, and the caller made room for another before it showed a key.")]
    MadeRoom,
}

impl TurnAwayReason {
    /// True for what a guesser or a prober does, if the key is not known.
    pub fn is_wrong_try(self) -> bool {
        matches!(
            self,
            Self::NoKey
                | Self::Malformed
                | Self::UnknownKey
                | Self::WrongPassword
                | Self::TooManyTries
                | Self::NotUnderstood
                | Self::TooSlow
                | Self::Declined
                | Self::Blocked(_)
                | Self::WrongSignIn
                | Self::WrongLink
                | Self::WrongToken
        )
    }

    /// A stable word for programs.
    pub fn code(self) -> &'static str {
        match self {
            Self::NoKey => "no_key",
            Self::Malformed => "malformed_key",
            Self::UnknownKey => "unknown_key",
            Self::ExpiredKey => "expired_key",
            Self::RetiredKey => "retired_key",
            Self::EarlyKey(_) => "early_key",
            Self::OutOfHours(_) => "out_of_hours",
            Self::ProtocolNotAllowed => "protocol_not_allowed",
            Self::KeyInUse => "key_in_use",
            Self::TooManyTries => "too_many_tries",
            Self::Blocked(_) => "blocked",
            Self::WrongSignIn => "wrong_sign_in",
            Self::WrongLink => "wrong_link",
            Self::WrongToken => "wrong_token",
            Self::ChannelBusy => "channel_busy",
            Self::NotUnderstood => "not_understood",
            Self::TooSlow => "too_slow",
            Self::Stopping => "stopping",
            Self::WrongPassphrase => "wrong_passphrase",
            Self::PassphraseDiffers => "passphrase_differs",
            Self::WayClosed => "way_closed",
            Self::NoSeat(_) => "no_seat",
            Self::ViewKey => "view_key",
            Self::PublishKey => "publish_key",
            Self::AddressNotAllowed => "address_not_allowed",
            Self::WrongPassword => "wrong_password",
            Self::TooManyFromAddress => "too_many_from_address",
            Self::TooManyConnections => "too_many_connections",
            Self::MadeRoom => "made_room",
            Self::Declined => "declined",
            Self::Undecided => "undecided",
        }
    }
}

/// A publisher who may not come in, with what is known about the key without giving it away.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct TurnAway {
    /// Why.
    pub reason: TurnAwayReason,
    /// The public part of the key that was presented, if it has the form of one.
    pub key_prefix: Option<String>,
    /// The channel, if the key is one of its keys.
    pub channel_id: Option<u64>,
    /// The key's number, if it is known.
    pub key_id: Option<u64>,
    /// What else there is to say.
    pub said: Option<Box<Said>>,
}

/// What there is to say beside a reason.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Said {
    /// What the caller is told instead of the reason's own words.
    pub told: Option<String>,
    /// What the house is told besides.
    pub detail: Option<String>,
}

impl TurnAway {
    /// Somebody of whom nothing is known but the reason.
    pub fn of_stranger(reason: TurnAwayReason) -> Self {
        Self { reason, key_prefix: None, channel_id: None, key_id: None, said: None }
    }

    /// What the caller is told.
    pub fn words(&self) -> String {
        let told = self.said.as_ref().and_then(|said| said.told.clone());
        told.unwrap_or_else(|| self.reason.to_string())
    }

    /// What the house is told besides.
    pub fn detail(&self) -> Option<&str> {
        self.said.as_ref()?.detail.as_deref()
    }

    /// The same with something else to say: to the caller, and to the house.
    #[must_use]
    pub fn saying(self, told: Option<String>, detail: Option<String>) -> Self {
        Self { said: Some(Box::new(Said { told, detail })), ..self }
    }
}

/// Why a key does not open any more.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum KeyFault {
    /// There is no such key any more.
    Withdrawn,
    /// It was retired.
    Retired,
    /// Its time is over.
    Expired,
    /// Its hours are over.
    OutOfHours,
}

impl KeyFault {
    /// As the end of a session and its publisher are told.
    pub const fn for_publisher(self) -> &'static str {
        match self {
            Self::Withdrawn => "the stream key was withdrawn",
            Self::Retired => "the stream key was retired",
            Self::Expired => "the stream key has expired",
            Self::OutOfHours => "the hours of the stream key are over",
        }
    }

    /// As a player is told.
    pub const fn for_player(self) -> &'static str {
        match self {
            Self::Withdrawn => "The viewing key was withdrawn.",
            Self::Retired => "The viewing key was retired.",
            Self::Expired => "The viewing key has expired.",
            Self::OutOfHours => "The hours of the viewing key are over.",
        }
    }
}

/// A moment, to the minute, as its offset has it.
fn clock(at: OffsetDateTime) -> impl fmt::Display {
    let (hours, minutes, _) = at.offset().as_hms();
    let sign = if at.offset().is_negative() { '-' } else { '+' };
    let offset = format!("{sign}{:02}:{:02}", hours.unsigned_abs(), minutes.unsigned_abs());
    format!("{} {:02}:{:02} {offset}", at.date(), at.hour(), at.minute())
}

fn until_clock(at: Option<OffsetDateTime>) -> String {
    at.map_or_else(String::new, |at| format!(" until {}", clock(at)))
}

fn next_hours(at: Option<OffsetDateTime>) -> String {
    at.map_or_else(String::new, |at| format!(" The next begin at {}.", clock(at)))
}

#[cfg(test)]
mod tests {
    use time::macros::datetime;

    use super::*;

    #[test]
    fn who_comes_at_the_wrong_time_hears_when_to_come() {
        let next = datetime!(2026-11-30 08:00 -02:30);
        let told = TurnAwayReason::OutOfHours(Some(next)).to_string();
        assert_eq!(
            told,
            "It is none of the hours at which this stream key opens. The next begin at 2026-11-30 08:00 -02:30."
        );
        let told = TurnAwayReason::EarlyKey(datetime!(2026-11-30 08:05 UTC)).to_string();
        assert!(told.starts_with("The stream key opens from 2026-11-30 08:05 +00:00 on."), "{told}");
    }
}
