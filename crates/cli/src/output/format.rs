//! One formatter per unit.

use serde::Serialize;
use serde_json::Value;
use time::OffsetDateTime;

/// Megabits per second.
pub(crate) fn bitrate(bits_per_second: f64) -> String {
    format!("{:.2} Mbit/s", bits_per_second / 1e6)
}

/// Bytes in decimal units.
pub(crate) fn size(bytes: u64) -> String {
    match bytes as f64 {
        bytes if bytes < 1e6 => format!("{:.0} kB", bytes / 1e3),
        bytes if bytes < 1e9 => format!("{:.1} MB", bytes / 1e6),
        bytes => format!("{:.2} GB", bytes / 1e9),
    }
}

/// A length given in milliseconds; none is negative.
pub(crate) fn duration(millis: impl TryInto<u64>) -> String {
    let seconds = millis.try_into().unwrap_or(0) as f64 / 1000.0;
    if seconds < 60.0 {
        return format!("{seconds:.1} s");
    }
    let whole = std::time::Duration::from_secs_f64(seconds).as_secs();
    let (hours, minutes, seconds) = (whole / 3600, whole / 60 % 60, whole % 60);
    if hours > 0 { format!("{hours}:{minutes:02}:{seconds:02}") } else { format!("{minutes}:{seconds:02} min") }
}

/// A time, as UTC to the second.
pub(crate) fn moment(time: OffsetDateTime) -> String {
    let time = time.to_offset(time::UtcOffset::UTC);
    format!("{} {:02}:{:02}:{:02} UTC", time.date(), time.hour(), time.minute(), time.second())
}

/// A choice, by the word that the API has for it.
pub(crate) fn word(choice: impl Serialize) -> String {
    match serde_json::to_value(choice) {
        Ok(Value::String(word)) => word,
        _ => "-".to_owned(),
    }
}

/// Values as steps, each the mean of so many, the newest last.
pub(crate) fn sparkline_of(values: &[f64], in_a_step: usize) -> String {
    const STEPS: [char; 8] = ['▁', '▂', '▃', '▄', '▅', '▆', '▇', '█'];
    let most = values.iter().copied().fold(0.0, f64::max);
    if most <= 0.0 {
        return String::new();
    }
    let steps = values.rchunks(in_a_step).map(|values| {
        let share = values.iter().sum::<f64>() / values.len() as f64 / most;
        let step = (1..STEPS.len()).rev().find(|step| share * 7.0 >= *step as f64 - 0.5).unwrap_or(0);
        STEPS[step]
    });
    let steps: Vec<char> = steps.collect();
    steps.into_iter().rev().collect()
}

/// Values as steps over a width, from the lowest to the highest; a space where there is none.
pub(crate) fn trace_of(values: &[Option<f64>], width: usize) -> String {
    const STEPS: [char; 8] = ['▁', '▂', '▃', '▄', '▅', '▆', '▇', '█'];
    let there = || values.iter().flatten().copied();
    let (Some(low), Some(high)) = (there().reduce(f64::min), there().reduce(f64::max)) else { return String::new() };
    let step = |values: &[Option<f64>]| {
        let there: Vec<f64> = values.iter().flatten().copied().collect();
        if there.is_empty() {
            return ' ';
        }
        let mean = there.iter().sum::<f64>() / there.len() as f64;
        let share = if high > low { (mean - low) / (high - low) } else { 0.0 };
        let step = (1..STEPS.len()).rev().find(|step| share * 7.0 >= *step as f64 - 0.5).unwrap_or(0);
        STEPS[step]
    };
    values.chunks(values.len().div_ceil(width.max(1)).max(1)).map(step).collect()
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case(0, "0.0 s")]
    #[case(-5, "0.0 s")]
    #[case(59_940, "59.9 s")]
    #[case(61_000, "1:01 min")]
    #[case(3_661_000, "1:01:01")]
    fn durations(#[case] millis: i64, #[case] expected: &str) {
        assert_eq!(duration(millis), expected);
    }

    #[rstest]
    #[case(12_000, "12 kB")]
    #[case(1_250_000, "1.2 MB")]
    #[case(3_456_000_000, "3.46 GB")]
    fn sizes(#[case] bytes: u64, #[case] expected: &str) {
        assert_eq!(size(bytes), expected);
    }

    #[rstest]
    #[case(&[Some(-20.0), None, Some(-10.0), Some(-15.0)], 4, "▁ █▅")]
    #[case(&[Some(1.0), Some(3.0), None, None, Some(5.0)], 3, "▃ █")]
    #[case(&[Some(7.0), Some(7.0)], 10, "▁▁")]
    #[case(&[None, None], 10, "")]
    #[case(&[], 0, "")]
    fn traces(#[case] values: &[Option<f64>], #[case] width: usize, #[case] expected: &str) {
        assert_eq!(trace_of(values, width), expected);
    }

    #[test]
    fn times_are_utc() {
        assert_eq!(moment(time::macros::datetime!(2026-05-17 16:04:09.123 +2)), "2026-05-17 14:04:09 UTC");
    }
}
