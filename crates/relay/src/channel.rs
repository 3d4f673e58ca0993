use std::time::Duration;

use waverant_srt::Passphrase;

use crate::{ChannelName, Keeping, RecordingRules, SlateChoice, Takeover, ViewingRules};

/// A channel as shows, doors and the library need it.
#[derive(Clone, Debug)]
pub struct ChannelRules {
    /// The channel's number.
    pub id: u64,
    /// Its name in addresses.
    pub name: ChannelName,
    /// What people read.
    pub title: String,
    /// How long a session waits for a lost publisher.
    pub hold: Duration,
    /// What is recorded, and how.
    pub recording: RecordingRules,
    /// How long takes stay on the disk.
    pub keeping: Keeping,
    /// Where finished takes are copied to.
    pub depot: Option<String>,
    /// Whether a take leaves the disk once it is copied.
    pub removes_copied: bool,
    /// What becomes of a second publisher.
    pub takeover: Takeover,
    /// What is sent while a session holds.
    pub slate: SlateChoice,
    /// The loudness that its sound is to have, in LUFS; none if nobody chose one.
    pub loudness: Option<i8>,
    /// How long what is lost over SRT is waited for.
    pub srt_latency: Duration,
    /// What both ends must know over SRT.
    pub passphrase: Option<Passphrase>,
    /// Who may watch it, and how.
    pub viewing: ViewingRules,
}

impl ChannelRules {
    /// The rules of a channel of which nothing but its name is settled: it holds nobody, records all, and keeps it.
    pub fn new(id: u64, name: ChannelName) -> Self {
        Self {
            id,
            title: name.to_string(),
            name,
            hold: Duration::ZERO,
            recording: RecordingRules::default(),
            keeping: Keeping::default(),
            depot: None,
            removes_copied: false,
            takeover: Takeover::default(),
            slate: SlateChoice::default(),
            loudness: None,
            srt_latency: Duration::from_millis(500),
            passphrase: None,
            viewing: ViewingRules::default(),
        }
    }
}
