use waverant_relay::TurnAwayReason;
use waverant_srt::RejectReason;

/// What a caller is told in the handshake.
pub(super) fn reject_reason(reason: TurnAwayReason) -> RejectReason {
    match reason {
        TurnAwayReason::NoKey | TurnAwayReason::Malformed => RejectReason::BAD_REQUEST,
        TurnAwayReason::UnknownKey | TurnAwayReason::WrongPassword => RejectReason::UNAUTHORIZED,
        TurnAwayReason::ExpiredKey
        | TurnAwayReason::RetiredKey
        | TurnAwayReason::EarlyKey(_)
        | TurnAwayReason::OutOfHours(_)
        | TurnAwayReason::ProtocolNotAllowed
        | TurnAwayReason::AddressNotAllowed
        | TurnAwayReason::Declined
        | TurnAwayReason::Blocked(_)
        | TurnAwayReason::WayClosed => RejectReason::FORBIDDEN,
        TurnAwayReason::ViewKey | TurnAwayReason::PublishKey => RejectReason::BAD_MODE,
        TurnAwayReason::ChannelBusy | TurnAwayReason::KeyInUse => RejectReason::CONFLICT,
        TurnAwayReason::Stopping | TurnAwayReason::Undecided => RejectReason::UNAVAILABLE,
        TurnAwayReason::TooManyFromAddress
        | TurnAwayReason::TooManyConnections
        | TurnAwayReason::TooManyTries
        | TurnAwayReason::NoSeat(_) => RejectReason::OVERLOAD,
        TurnAwayReason::WrongPassphrase => RejectReason::BAD_SECRET,
        TurnAwayReason::PassphraseDiffers => RejectReason::UNSECURE,
        _ => RejectReason::ROGUE,
    }
}
