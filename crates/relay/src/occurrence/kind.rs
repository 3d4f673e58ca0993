use serde::{Deserialize, Deserializer, Serialize, Serializer};

macro_rules! kinds {
    ($($(#[doc = $doc:literal])+ $name:ident = $word:literal,)+) => {
        /// What happened. Its word is stable.
        #[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
        pub enum OccurrenceKind {
            $($(#[doc = $doc])+ $name,)+
        }

        impl OccurrenceKind {
            /// All of them that happen by themselves, with what each is in words.
            pub const ALL: &[(Self, &'static str)] = &[$((Self::$name, concat!($($doc,)+))),+];

            /// The stable word.
            pub fn word(self) -> &'static str {
                match self {
                    $(Self::$name => $word,)+
                }
            }
        }
    };
}

kinds! {
    /// A session begins.
    SessionBegins = "session.begins",
    /// The encoder of a session is lost, and the session waits for it.
    SessionHolds = "session.holds",
    /// The encoder of a session that waited is back.
    SessionIsBack = "session.is_back",
    /// A session is over.
    SessionIsOver = "session.is_over",
    /// A stream key let somebody in.
    KeyUsed = "key.used",
    /// A destination takes the show.
    LegCarries = "leg.carries",
    /// The connection to a destination is lost, or could not be made, and is tried again.
    LegRedials = "leg.redials",
    /// A destination said no.
    LegRefused = "leg.refused",
    /// A destination takes the show again.
    LegRecovered = "leg.recovered",
    /// A recording is ended, and can be played.
    TakeReady = "take.ready",
    /// A recording is copied to its depot.
    TakeCopied = "take.copied",
    /// A copy of a recording failed; it is tried again.
    TakeNotCopied = "take.not_copied",
    /// The disk lasts for less than two hours, or is full.
    DiskLow = "disk.low",
    /// Somebody was not let in; those of a minute that are alike are told once.
    TurnedAway = "turned_away",
    /// A finding stands.
    FindingRaised = "finding.raised",
    /// A finding stands no more.
    FindingCleared = "finding.cleared",
    /// The certificate is near its end, or over.
    CertificateNearEnd = "certificate.near_end",
    /// More or fewer watch than a minute before.
    ViewersChanged = "viewers.changed",
    /// Somebody tries whether calls arrive.
    Test = "test",
}

impl OccurrenceKind {
    /// What has this word.
    pub fn named(word: &str) -> Option<Self> {
        Self::ALL.iter().find(|(kind, _)| kind.word() == word).map(|(kind, _)| *kind)
    }

    /// True for what a target can be told of; a test comes to each that is tried.
    pub fn can_be_chosen(self) -> bool {
        self != Self::Test
    }
}

impl Serialize for OccurrenceKind {
    fn serialize<S: Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        serializer.serialize_str(self.word())
    }
}

impl<'de> Deserialize<'de> for OccurrenceKind {
    fn deserialize<D: Deserializer<'de>>(deserializer: D) -> Result<Self, D::Error> {
        let word = String::deserialize(deserializer)?;
        Self::named(&word).ok_or_else(|| serde::de::Error::custom(format!("`{word}` is no kind of occurrence")))
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn words_are_known_again() {
        for (kind, told) in OccurrenceKind::ALL {
            assert_eq!(OccurrenceKind::named(kind.word()), Some(*kind));
            assert!(told.trim().ends_with('.'), "{told}");
        }
        assert_eq!(OccurrenceKind::named("session"), None);
    }
}
