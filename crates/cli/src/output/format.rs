//! One formatter per unit.

use time::OffsetDateTime;
use time::format_description::well_known::Rfc3339;

/// Megabits per second.
pub(crate) fn bitrate(bits_per_second: f64) -> String {
    format!("{:.2} Mbit/s", bits_per_second / 1e6)
}

/// Bytes in decimal units.
pub(crate) fn size(bytes: f64) -> String {
    match bytes {
        bytes if bytes < 1e6 => format!("{:.0} kB", bytes / 1e3),
        bytes if bytes < 1e9 => format!("{:.1} MB", bytes / 1e6),
        bytes => format!("{:.2} GB", bytes / 1e9),
    }
}

/// A length given in milliseconds.
pub(crate) fn duration(millis: f64) -> String {
    let seconds = (millis / 1000.0).max(0.0);
    if seconds < 60.0 {
        return format!("{seconds:.1} s");
    }
    let whole = std::time::Duration::from_secs_f64(seconds).as_secs();
    let (hours, minutes, seconds) = (whole / 3600, whole / 60 % 60, whole % 60);
    if hours > 0 { format!("{hours}:{minutes:02}:{seconds:02}") } else { format!("{minutes}:{seconds:02} min") }
}

/// A time of the API, as UTC to the second.
pub(crate) fn ago(text: &str) -> String {
    match OffsetDateTime::parse(text, &Rfc3339) {
        Ok(time) => {
            let time = time.to_offset(time::UtcOffset::UTC);
            format!("{} {:02}:{:02}:{:02} UTC", time.date(), time.hour(), time.minute(), time.second())
        }
        Err(_) => text.to_owned(),
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case(0.0, "0.0 s")]
    #[case(59_940.0, "59.9 s")]
    #[case(61_000.0, "1:01 min")]
    #[case(3_661_000.0, "1:01:01")]
    fn durations(#[case] millis: f64, #[case] expected: &str) {
        assert_eq!(duration(millis), expected);
    }

    #[rstest]
    #[case(12_000.0, "12 kB")]
    #[case(1_250_000.0, "1.2 MB")]
    #[case(3_456_000_000.0, "3.46 GB")]
    fn sizes(#[case] bytes: f64, #[case] expected: &str) {
        assert_eq!(size(bytes), expected);
    }

    #[test]
    fn times_are_utc() {
        assert_eq!(ago("2026-05-17T16:04:09.123+02:00"), "2026-05-17 14:04:09 UTC");
    }
}
