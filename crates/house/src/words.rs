//! The words of the API and those of the core for the same things.

use waverant_model as model;
use waverant_relay::{
    Audience, BetweenShows, KeyRight, Nearness, Protocol, RecordingMode, Role, Severity, SlateChoice, Takeover, Way,
    WhenOver,
};

/// What becomes of a second publisher.
pub(crate) fn takeover_of(word: model::Takeover) -> Takeover {
    match word {
        model::Takeover::Refuse => Takeover::Refuse,
        model::Takeover::Replace => Takeover::Replace,
    }
}

/// What becomes of a second publisher, as it is told.
pub fn takeover_word(takeover: Takeover) -> model::Takeover {
    match takeover {
        Takeover::Refuse => model::Takeover::Refuse,
        Takeover::Replace => model::Takeover::Replace,
    }
}

/// What is sent while a session holds.
pub(crate) fn slate_of(word: model::SlateChoice) -> SlateChoice {
    match word {
        model::SlateChoice::None => SlateChoice::None,
        model::SlateChoice::BuiltIn => SlateChoice::BuiltIn,
        model::SlateChoice::Uploaded => SlateChoice::Uploaded,
    }
}

/// What is sent while a session holds, as it is told.
pub fn slate_word(slate: SlateChoice) -> model::SlateChoice {
    match slate {
        SlateChoice::None => model::SlateChoice::None,
        SlateChoice::BuiltIn => model::SlateChoice::BuiltIn,
        SlateChoice::Uploaded => model::SlateChoice::Uploaded,
    }
}

/// What a key opens.
pub(crate) fn right_of(word: model::KeyRight) -> KeyRight {
    match word {
        model::KeyRight::Publish => KeyRight::Publish,
        model::KeyRight::View => KeyRight::View,
    }
}

/// What a key opens, as it is told.
pub fn right_word(right: KeyRight) -> model::KeyRight {
    match right {
        KeyRight::Publish => model::KeyRight::Publish,
        KeyRight::View => model::KeyRight::View,
    }
}

/// A protocol.
pub(crate) fn protocol_of(word: model::Protocol) -> Protocol {
    match word {
        model::Protocol::Rtmp => Protocol::Rtmp,
        model::Protocol::Rtmps => Protocol::Rtmps,
        model::Protocol::Srt => Protocol::Srt,
    }
}

/// A protocol, as it is told.
pub fn protocol_word(protocol: Protocol) -> model::Protocol {
    match protocol {
        Protocol::Rtmp => model::Protocol::Rtmp,
        Protocol::Rtmps => model::Protocol::Rtmps,
        Protocol::Srt => model::Protocol::Srt,
    }
}

/// What becomes of a show.
pub(crate) fn when_over_of(word: model::ShowThen) -> WhenOver {
    match word {
        model::ShowThen::Ends => WhenOver::ShowEnds,
        model::ShowThen::GoesOn => WhenOver::ShowGoesOn,
    }
}

/// What becomes of a show, as it is told.
pub fn when_over_word(when_over: WhenOver) -> model::ShowThen {
    match when_over {
        WhenOver::ShowEnds => model::ShowThen::Ends,
        WhenOver::ShowGoesOn => model::ShowThen::GoesOn,
    }
}

/// When sessions are recorded.
pub(crate) fn mode_of(word: model::RecordingWhen) -> RecordingMode {
    match word {
        model::RecordingWhen::Always => RecordingMode::Always,
        model::RecordingWhen::ByHand => RecordingMode::ByHand,
        model::RecordingWhen::Off => RecordingMode::Off,
    }
}

/// When sessions are recorded, as it is told.
pub fn mode_word(mode: RecordingMode) -> model::RecordingWhen {
    match mode {
        RecordingMode::Always => model::RecordingWhen::Always,
        RecordingMode::ByHand => model::RecordingWhen::ByHand,
        RecordingMode::Off => model::RecordingWhen::Off,
    }
}

/// Who may watch.
pub(crate) fn audience_of(word: model::Audience) -> Audience {
    match word {
        model::Audience::Nobody => Audience::Nobody,
        model::Audience::ByLink => Audience::ByLink,
        model::Audience::Everybody => Audience::Everybody,
    }
}

/// Who may watch, as it is told.
pub fn audience_word(audience: Audience) -> model::Audience {
    match audience {
        Audience::Nobody => model::Audience::Nobody,
        Audience::ByLink => model::Audience::ByLink,
        Audience::Everybody => model::Audience::Everybody,
    }
}

/// How near to the moment.
pub(crate) fn nearness_of(word: model::Nearness) -> Nearness {
    match word {
        model::Nearness::Nearest => Nearness::Nearest,
        model::Nearness::Near => Nearness::Near,
        model::Nearness::Steady => Nearness::Steady,
    }
}

/// How near to the moment, as it is told.
pub fn nearness_word(nearness: Nearness) -> model::Nearness {
    match nearness {
        Nearness::Nearest => model::Nearness::Nearest,
        Nearness::Near => model::Nearness::Near,
        Nearness::Steady => model::Nearness::Steady,
    }
}

/// What players get while no show is on.
pub(crate) fn between_of(word: model::BetweenShows) -> BetweenShows {
    match word {
        model::BetweenShows::Silence => BetweenShows::Silence,
        model::BetweenShows::Picture => BetweenShows::Picture,
    }
}

/// What players get while no show is on, as it is told.
pub fn between_word(between: BetweenShows) -> model::BetweenShows {
    match between {
        BetweenShows::Silence => model::BetweenShows::Silence,
        BetweenShows::Picture => model::BetweenShows::Picture,
    }
}

/// A way of watching.
pub(crate) fn way_of(word: model::WayOfWatching) -> Way {
    match word {
        model::WayOfWatching::Segments => Way::Segments,
        model::WayOfWatching::Pictures => Way::Pictures,
        model::WayOfWatching::Stream => Way::Stream,
        model::WayOfWatching::Rtmp => Way::Rtmp,
        model::WayOfWatching::Srt => Way::Srt,
    }
}

/// A way of watching, as it is told.
pub fn way_word(way: Way) -> model::WayOfWatching {
    match way {
        Way::Segments => model::WayOfWatching::Segments,
        Way::Pictures => model::WayOfWatching::Pictures,
        Way::Stream => model::WayOfWatching::Stream,
        Way::Rtmp => model::WayOfWatching::Rtmp,
        Way::Srt => model::WayOfWatching::Srt,
    }
}

/// How bad a finding is, as it is told.
pub fn severity_word(severity: Severity) -> model::Severity {
    match severity {
        Severity::Note => model::Severity::Note,
        Severity::Warning => model::Severity::Warning,
        Severity::Alarm => model::Severity::Alarm,
    }
}

/// A role.
pub fn role_of(word: model::Role) -> Role {
    match word {
        model::Role::Observer => Role::Observer,
        model::Role::Operator => Role::Operator,
        model::Role::Engineer => Role::Engineer,
        model::Role::Administrator => Role::Administrator,
    }
}

/// A role, as it is told.
pub fn role_word(role: Role) -> model::Role {
    match role {
        Role::Observer => model::Role::Observer,
        Role::Operator => model::Role::Operator,
        Role::Engineer => model::Role::Engineer,
        Role::Administrator => model::Role::Administrator,
    }
}
