use std::collections::BTreeSet;
use std::fmt;
use std::str::FromStr;

use jiff::Timestamp;
use jiff::civil::{Date, Time, Weekday};
use jiff::tz::TimeZone;
use thiserror::Error;
use time::{OffsetDateTime, UtcOffset};

/// The most windows of a week.
const MAX_WINDOWS: usize = 14;

/// The longest text that is repeated in an error.
const MAX_TEXT: usize = 48;

const DAYS: [(&str, Weekday); 7] = [
    ("mon", Weekday::Monday),
    ("tue", Weekday::Tuesday),
    ("wed", Weekday::Wednesday),
    ("thu", Weekday::Thursday),
    ("fri", Weekday::Friday),
    ("sat", Weekday::Saturday),
    ("sun", Weekday::Sunday),
];

/// Minutes of a day.
const DAY: u16 = 24 * 60;

/// Hours of a week in a time zone, as people read them off the clock on their wall: where a clock is put forward or
/// back, they follow it.
#[derive(Clone, Debug, PartialEq)]
pub struct OpenHours {
    zone: TimeZone,
    windows: Vec<Window>,
}

/// The same hours of some days of a week, as in `mon-fri 08:00-18:00`. One that ends before it begins goes on into the
/// next day.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
struct Window {
    /// A bit for each day, Monday being the lowest.
    days: u8,
    /// In minutes from midnight.
    from: u16,
    until: u16,
}

/// Why a text says no hours.
#[derive(Clone, Debug, PartialEq, Eq, Error)]
#[non_exhaustive]
pub enum HoursError {
    /// No such time zone.
    #[error("`{0}` is no time zone; one of the IANA names was expected, as in `Europe/Lisbon` or `UTC`")]
    Zone(String),
    /// No such window.
    #[error(
        "`{0}` says no hours; days and hours were expected, as in `mon-fri 08:00-18:00` or `sat,sun 22:00-02:00`, the day \
         ending at `24:00`"
    )]
    Window(String),
    /// There is none, or too many.
    #[error("{0} windows were found; between 1 and {MAX_WINDOWS} were expected")]
    Count(usize),
}

impl OpenHours {
    /// Hours in the time zone of an IANA name.
    ///
    /// # Errors
    /// [`HoursError`], with what was found.
    pub fn new<S: AsRef<str>>(zone: &str, windows: &[S]) -> Result<Self, HoursError> {
        let known = TimeZone::get(zone).map_err(|_| HoursError::Zone(zone.chars().take(MAX_TEXT).collect()))?;
        if windows.is_empty() || windows.len() > MAX_WINDOWS {
            return Err(HoursError::Count(windows.len()));
        }
        let windows = windows.iter().map(|text| text.as_ref().parse()).collect::<Result<Vec<Window>, _>>()?;
        Ok(Self { zone: known, windows })
    }

    /// The time zone's IANA name.
    pub fn zone(&self) -> &str {
        self.zone.iana_name().unwrap_or("UTC")
    }

    /// The windows, as they are written.
    pub fn windows(&self) -> impl Iterator<Item = String> {
        self.windows.iter().map(ToString::to_string)
    }

    /// True if `at` is in one of the windows.
    pub fn is_open(&self, at: OffsetDateTime) -> bool {
        let Some(local) = timestamp(at).map(|at| at.to_zoned_datetime(self.zone.clone())) else { return false };
        let minute = u16::try_from(i16::from(local.hour()) * 60 + i16::from(local.minute())).unwrap_or_default();
        self.windows.iter().any(|window| window.has(local.weekday(), minute))
    }

    /// When the hours that `at` is in end; none if it is in none, or if they never do.
    pub fn closes_after(&self, at: OffsetDateTime) -> Option<OffsetDateTime> {
        if !self.is_open(at) {
            return None;
        }
        self.turn_after(at)
    }

    /// When the next hours begin; none if it is within hours now.
    pub fn opens_after(&self, at: OffsetDateTime) -> Option<OffsetDateTime> {
        if self.is_open(at) {
            return None;
        }
        self.turn_after(at)
    }

    /// The first begin or end of a window after `at` at which it is otherwise than it is now, or the moment at which the
    /// clock is put, if that is in the middle of a window. In nine days each window begins and ends once at least.
    fn turn_after(&self, at: OffsetDateTime) -> Option<OffsetDateTime> {
        let (now, is_open) = (timestamp(at)?, self.is_open(at));
        let is_turn =
            |mark: &Timestamp| *mark > now && self.told(*mark).is_some_and(|mark| self.is_open(mark) != is_open);
        let put = self.zone.following(now).next().map(|put| put.timestamp());
        let today = now.to_zoned_datetime(self.zone.clone()).date();
        let days = today.series(jiff::Span::new().days(1)).take(9);
        let turn = days.into_iter().find_map(|date| self.marks_of(date).into_iter().find(is_turn));
        turn.into_iter().chain(put.filter(is_turn)).min().and_then(|turn| self.told(turn))
    }

    /// Begins and ends of windows on a date, in order.
    fn marks_of(&self, date: Date) -> Vec<Timestamp> {
        let minutes: BTreeSet<u16> = self.windows.iter().flat_map(|window| [window.from, window.until % DAY]).collect();
        let clocks = minutes.into_iter().map(|minute| Time::midnight() + jiff::Span::new().minutes(i64::from(minute)));
        // An hour that comes twice has two of each.
        let both = clocks.flat_map(|clock| {
            let mark = self.zone.to_ambiguous_zoned_datetime(date.to_datetime(clock));
            [mark.clone().earlier(), mark.later()]
        });
        let mut marks: Vec<Timestamp> = both.flatten().map(|mark| mark.timestamp()).collect();
        marks.sort();
        marks
    }

    /// A moment with the zone's offset from UTC, so that people read their own clock.
    fn told(&self, at: Timestamp) -> Option<OffsetDateTime> {
        let offset = UtcOffset::from_whole_seconds(self.zone.to_offset(at).seconds()).ok()?;
        Some(OffsetDateTime::from_unix_timestamp(at.as_second()).ok()?.to_offset(offset))
    }
}

fn timestamp(at: OffsetDateTime) -> Option<Timestamp> {
    Timestamp::from_second(at.unix_timestamp()).ok()
}

impl Window {
    fn has(self, day: Weekday, minute: u16) -> bool {
        let is_of = |day: Weekday| self.days & (1 << day.to_monday_zero_offset()) != 0;
        if self.from < self.until {
            return is_of(day) && (self.from..self.until).contains(&minute);
        }
        is_of(day) && minute >= self.from || is_of(day.previous()) && minute < self.until
    }
}

impl FromStr for Window {
    type Err = HoursError;

    fn from_str(text: &str) -> Result<Self, HoursError> {
        let failure = || HoursError::Window(text.chars().take(MAX_TEXT).collect());
        let (days, hours) = text.trim().split_once(' ').ok_or_else(failure)?;
        let (from, until) = hours.trim().split_once('-').ok_or_else(failure)?;
        let (from, until) = (minutes(from).ok_or_else(failure)?, minutes(until).ok_or_else(failure)?);
        // A window of no length would be a whole day to some and nothing to others.
        if from == until || from == DAY || until == 0 {
            return Err(failure());
        }
        Ok(Self { days: days_of(days).ok_or_else(failure)?, from, until })
    }
}

fn days_of(text: &str) -> Option<u8> {
    let place = |name: &str| DAYS.iter().position(|(known, _)| known.eq_ignore_ascii_case(name.trim()));
    let mut days = 0;
    for part in text.split(',') {
        let (first, last) = part.split_once('-').unwrap_or((part, part));
        let (first, last) = (place(first)?, place(last)?);
        let count = (last + DAYS.len() - first) % DAYS.len() + 1;
        days |= (first..first + count).fold(0, |days, day| days | 1 << (day % DAYS.len()));
    }
    Some(days)
}

fn minutes(text: &str) -> Option<u16> {
    let (hour, minute) = text.trim().split_once(':')?;
    let number = |text: &str| -> Option<u16> {
        let is_plain = text.len() == 2 && text.bytes().all(|byte| byte.is_ascii_digit());
        if is_plain { text.parse().ok() } else { None }
    };
    let (hour, minute) = (number(hour)?, number(minute)?);
    (minute < 60 && hour * 60 + minute <= DAY).then_some(hour * 60 + minute)
}

impl fmt::Display for Window {
    fn fmt(&self, out: &mut fmt::Formatter<'_>) -> fmt::Result {
        let mut runs: Vec<(usize, usize)> = Vec::new();
        for day in (0..DAYS.len()).filter(|day| self.days & (1 << day) != 0) {
            match runs.last_mut() {
                Some((_, last)) if *last + 1 == day => *last = day,
                _ => runs.push((day, day)),
            }
        }
        let name = |day: usize| DAYS.get(day).map_or("", |(name, _)| name);
        for (place, (first, last)) in runs.into_iter().enumerate() {
            let comma = if place == 0 { "" } else { "," };
            match last - first {
                0 => write!(out, "{comma}{}", name(first))?,
                _ => write!(out, "{comma}{}-{}", name(first), name(last))?,
            }
        }
        let clock = |minutes: u16| (minutes / 60, minutes % 60);
        let ((from_hour, from_minute), (until_hour, until_minute)) = (clock(self.from), clock(self.until));
        write!(out, " {from_hour:02}:{from_minute:02}-{until_hour:02}:{until_minute:02}")
    }
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;
    use rstest::rstest;
    use time::macros::datetime;

    use super::*;

    fn hours(zone: &str, windows: &[&str]) -> OpenHours {
        OpenHours::new(zone, windows).unwrap()
    }

    /// 2026-11-30 is a Monday.
    #[rstest]
    #[case::before(datetime!(2026-11-30 06:59:59 UTC), false)]
    #[case::at_its_begin(datetime!(2026-11-30 07:00 UTC), true)]
    #[case::last_moment(datetime!(2026-11-30 16:59:59 UTC), true)]
    #[case::at_its_end(datetime!(2026-11-30 17:00 UTC), false)]
    #[case::saturday_evening(datetime!(2026-12-05 21:30 UTC), true)]
    #[case::after_its_midnight(datetime!(2026-12-06 00:59 UTC), true)]
    #[case::sunday(datetime!(2026-12-06 01:00 UTC), false)]
    #[case::monday_after_no_window(datetime!(2026-11-30 00:30 UTC), false)]
    fn windows_are_read_off_the_local_clock(#[case] at: OffsetDateTime, #[case] expected: bool) {
        let hours = hours("Europe/Berlin", &["mon-fri 08:00-18:00", "sat 22:00-02:00"]);
        assert_eq!(hours.is_open(at), expected);
    }

    /// In the night to 2026-03-29 the hour from 2 to 3 is left out; in that to 2026-10-25 it comes twice.
    #[test]
    fn clocks_that_are_put_are_followed() {
        let hours = hours("Europe/Berlin", &["mon-sun 02:15-02:45"]);
        assert_eq!(hours.opens_after(datetime!(2026-03-28 23:00 UTC)), Some(datetime!(2026-03-30 00:15 UTC)));
        let twice = [datetime!(2026-10-25 00:20 UTC), datetime!(2026-10-25 01:20 UTC)];
        assert!(twice.iter().all(|at| hours.is_open(*at)));
        assert!(!hours.is_open(datetime!(2026-10-25 00:50 UTC)));
        let evening = OpenHours::new("Europe/Berlin", &["sat 20:00-06:00"]).unwrap();
        let end = evening.closes_after(datetime!(2026-03-28 22:00 UTC)).unwrap();
        assert_eq!(end, datetime!(2026-03-29 04:00 UTC), "an hour sooner");
        assert_eq!(end.offset().whole_hours(), 2, "told by the clock on the wall");
    }

    #[test]
    fn begins_and_ends_are_known_beforehand() {
        let hours = hours("UTC", &["mon 08:00-12:00", "mon 12:00-24:00", "wed 10:00-11:00"]);
        assert_eq!(hours.closes_after(datetime!(2026-11-30 09:00 UTC)), Some(datetime!(2026-12-01 00:00 UTC)));
        assert_eq!(hours.opens_after(datetime!(2026-11-30 09:00 UTC)), None);
        assert_eq!(hours.opens_after(datetime!(2026-12-01 09:00 UTC)), Some(datetime!(2026-12-02 10:00 UTC)));
        assert_eq!(hours.closes_after(datetime!(2026-12-01 09:00 UTC)), None);
        assert_eq!(hours.opens_after(datetime!(2026-12-02 11:00 UTC)), Some(datetime!(2026-12-07 08:00 UTC)));
        let always = OpenHours::new("UTC", &["mon-sun 00:00-24:00"]).unwrap();
        assert_eq!(always.closes_after(datetime!(2026-12-02 11:00 UTC)), None);
    }

    #[rstest]
    #[case("mon-fri 08:00-18:00", "mon-fri 08:00-18:00")]
    #[case(" Sat,SUN  22:00 - 02:00", "sat-sun 22:00-02:00")]
    #[case("fri-mon 00:00-24:00", "mon,fri-sun 00:00-24:00")]
    #[case("mon,wed,tue,sun 08:15-08:16", "mon-wed,sun 08:15-08:16")]
    fn windows_are_written_one_way(#[case] text: &str, #[case] told: &str) {
        assert_eq!(hours("UTC", &[text]).windows().collect::<Vec<_>>(), [told]);
    }

    #[rstest]
    #[case("mon-fri")]
    #[case("08:00-18:00")]
    #[case("someday 08:00-18:00")]
    #[case("mon 8-18")]
    #[case("mon 08:00-24:01")]
    #[case("mon 08:60-09:00")]
    #[case("mon 08:00-08:00")]
    #[case("mon 24:00-08:00")]
    #[case("mon 08:00-00:00")]
    #[case("mon, 08:00-09:00")]
    fn what_says_no_hours_is_told(#[case] text: &str) {
        assert_eq!(OpenHours::new("UTC", &[text]), Err(HoursError::Window(text.to_owned())));
    }

    #[test]
    fn zones_are_those_of_the_register() {
        let unknown = OpenHours::new("Wexcombe/Reach", &["mon 08:00-09:00"]);
        assert_eq!(unknown, Err(HoursError::Zone("Wexcombe/Reach".to_owned())));
        assert_eq!(hours("america/new_york", &["mon 08:00-09:00"]).zone(), "America/New_York");
        assert_eq!(OpenHours::new::<&str>("UTC", &[]), Err(HoursError::Count(0)));
        assert_eq!(OpenHours::new("UTC", &["mon 08:00-09:00"; 15]), Err(HoursError::Count(15)));
    }

    proptest! {
        #[test]
        fn whatever_is_written_is_read_or_refused(zone in ".{0,20}", text in ".{0,30}") {
            let _ = OpenHours::new(&zone, &[text]);
        }

        /// The next turn is the first moment at which it is otherwise, to the minute.
        #[test]
        fn turns_are_where_it_turns(days in 1_u8..128, from in 0_u16..1440, until in 1_u16..=1440, hour in 0_i64..24 * 400, zone in 0_usize..4) {
            prop_assume!(from != until);
            let window = Window { days, from, until };
            let zone = ["UTC", "Europe/Berlin", "America/St_Johns", "Pacific/Chatham"][zone];
            let hours = OpenHours::new(zone, &[window.to_string()]).unwrap();
            prop_assert_eq!(&hours.windows, &[window]);
            let at = datetime!(2026-01-01 00:00 UTC) + time::Duration::hours(hour);
            let is_open = hours.is_open(at);
            match if is_open { hours.closes_after(at) } else { hours.opens_after(at) } {
                Some(turn) => {
                    prop_assert!(turn > at && hours.is_open(turn) != is_open);
                    prop_assert_eq!(hours.is_open(turn - time::Duration::minutes(1)), is_open);
                    let mut minute = at;
                    while minute < turn {
                        prop_assert_eq!(hours.is_open(minute), is_open, "{} before {}", minute, turn);
                        minute += time::Duration::minutes(7);
                    }
                }
                None => prop_assert!(is_open && days == 127 && (from, until) == (0, 1440)),
            }
        }
    }
}
