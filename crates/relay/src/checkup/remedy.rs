use std::time::Duration;

use waverant_media::TrackId;

/// Something that the house can do about a finding. It is offered, and done only when somebody asks for it.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Remedy {
    /// Silence is added for the destination while the show has no sound.
    AddSilence,
    /// The destination gets this track of pictures, which is within its limits, and no other.
    SendTrack(TrackId),
    /// The latency of the line to the destination.
    LegLatency(Duration),
    /// The latency that the channel asks of encoders over SRT, from their next connection on.
    ChannelLatency(Duration),
}

impl Remedy {
    /// The stable word.
    pub fn word(self) -> &'static str {
        match self {
            Self::AddSilence => "add_silence",
            Self::SendTrack(_) => "send_track",
            Self::LegLatency(_) => "leg_latency",
            Self::ChannelLatency(_) => "channel_latency",
        }
    }

    /// What would be done for `destination`, and what it costs.
    pub fn text(self, destination: &str) -> String {
        match self {
            Self::AddSilence => {
                format!("add silence for {destination} whenever a show has no sound; its connection is not made anew")
            }
            Self::SendTrack(track) => format!(
                "send {destination} the {} track of pictures alone, which is within its limits; its picture begins anew \
                 with the next keyframe",
                ordinal(track.place() + 1)
            ),
            Self::LegLatency(latency) => {
                format!("set the latency for {destination} to {} ms; it is dialed anew at once", latency.as_millis())
            }
            Self::ChannelLatency(latency) => format!(
                "set the latency that this channel asks of encoders to {} ms; it holds from their next connection on",
                latency.as_millis()
            ),
        }
    }
}

fn ordinal(number: u8) -> String {
    match number {
        1 => "first".to_owned(),
        2 => "second".to_owned(),
        3 => "third".to_owned(),
        number => format!("{number}th"),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_would_be_done_is_said_beforehand() {
        let text = Remedy::SendTrack(TrackId(2)).text("Tindrel");
        assert!(text.starts_with("send Tindrel the second track of pictures alone"), "{text}");
        let text = Remedy::LegLatency(Duration::from_millis(760)).text("clubhouse");
        assert!(text.contains("clubhouse to 760 ms; it is dialed anew"), "{text}");
        assert_eq!(ordinal(5), "5th");
    }
}
