use std::path::PathBuf;

use time::OffsetDateTime;
use time::macros::format_description;

use crate::ChannelName;

/// Where a take lies within the recordings folder: `CHANNEL/DATE_TIME_sSESSION_take-N.mp4`.
///
/// The time is UTC. The session number keeps two takes of one second apart.
pub fn take_path(channel: &ChannelName, started_at: OffsetDateTime, session_id: u64, number: u32) -> PathBuf {
    let format = format_description!("[year]-[month]-[day]_[hour][minute][second]");
    let stamp = started_at.to_offset(time::UtcOffset::UTC).format(format).unwrap_or_default();
    PathBuf::from(channel.as_str()).join(format!("{stamp}_s{session_id}_take-{number}.mp4"))
}

#[cfg(test)]
mod tests {
    use time::macros::datetime;

    use super::*;

    #[test]
    fn the_path_tells_channel_time_session_and_take() {
        let channel: ChannelName = "finish-line".parse().unwrap();
        let path = take_path(&channel, datetime!(2026-05-17 16:04:09 +2), 12, 3);
        assert_eq!(path, PathBuf::from("finish-line/2026-05-17_140409_s12_take-3.mp4"));
    }
}
