use time::format_description::well_known::Rfc3339;
use waverant_model::{FigureSeries, Timeline, Timelines};

type Column<'a> = (&'a str, &'a str, Which);

/// Which of a step's values.
#[derive(Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
enum Which {
    Mean,
    Low,
    High,
}

/// A row for each step of each timeline. Of a step that is longer than a second there are the mean, the lowest and the
/// highest.
pub(super) fn write(timelines: &Timelines) -> Result<Vec<u8>, csv::Error> {
    let columns = columns(&timelines.timelines);
    let mut out = csv::WriterBuilder::new().terminator(csv::Terminator::CRLF).from_writer(Vec::new());
    let mut head = vec!["session".to_owned(), "time".to_owned(), "second".to_owned()];
    head.extend(columns.iter().map(|column| title(column, &timelines.timelines)));
    out.write_record(&head)?;
    for timeline in &timelines.timelines {
        let values: Vec<&[Option<f64>]> = columns.iter().map(|column| values(timeline, column)).collect();
        let session = timeline.session.map(|id| id.to_string()).unwrap_or_default();
        for index in 0..timeline.count {
            let passed = u32::try_from(index).unwrap_or(u32::MAX).saturating_mul(timelines.step_s);
            let second = timeline.start_s.saturating_add(passed);
            let at = timeline.began_at + time::Duration::seconds(second.into());
            let at = at.replace_nanosecond(0).unwrap_or(at).format(&Rfc3339).unwrap_or_default();
            let mut row = vec![session.clone(), at, second.to_string()];
            let told = |value: Option<f64>| value.map(|value| value.to_string()).unwrap_or_default();
            row.extend(values.iter().map(|values| told(values.get(index).copied().flatten())));
            out.write_record(&row)?;
        }
    }
    out.into_inner().map_err(|error| csv::Error::from(error.into_error()))
}

fn columns(timelines: &[Timeline]) -> Vec<Column<'_>> {
    let of = |series: &'_ FigureSeries| -> &'static [Which] {
        if series.low.is_empty() { &[Which::Mean] } else { &[Which::Mean, Which::Low, Which::High] }
    };
    let mut columns: Vec<Column<'_>> = Vec::new();
    for series in timelines.iter().flat_map(|timeline| &timeline.series) {
        for which in of(series) {
            let column = (series.figure.as_str(), series.of.as_str(), *which);
            if !columns.contains(&column) {
                columns.push(column);
            }
        }
    }
    columns
}

/// It begins with the word of a figure: a name that looks like a formula stays a name.
fn title((figure, of, which): &Column<'_>, timelines: &[Timeline]) -> String {
    let all = || timelines.iter().flat_map(|timeline| &timeline.series);
    let unit = all().find(|series| series.figure == *figure).map_or("", |series| series.unit.as_str());
    let which = match which {
        Which::Mean => "",
        Which::Low => "lowest",
        Which::High => "highest",
    };
    let parts = [*figure, *of, which, unit];
    parts.into_iter().filter(|part| !part.is_empty()).collect::<Vec<_>>().join(" ")
}

fn values<'a>(timeline: &'a Timeline, (figure, of, which): &Column<'_>) -> &'a [Option<f64>] {
    let found = timeline.series.iter().find(|series| series.figure == *figure && series.of == *of);
    found.map_or(&[], |series| match which {
        Which::Mean => &series.mean,
        Which::Low => &series.low,
        Which::High => &series.high,
    })
}

#[cfg(test)]
mod tests {
    use time::OffsetDateTime;

    use super::*;

    fn series(figure: &str, of: &str, values: &[Option<f64>], has_spread: bool) -> FigureSeries {
        let spread = |by: f64| values.iter().map(|value| value.map(|value| value + by)).collect::<Vec<_>>();
        FigureSeries {
            figure: figure.to_owned(),
            of: of.to_owned(),
            unit: "kbit/s".to_owned(),
            mean: values.to_vec(),
            low: if has_spread { spread(-1.0) } else { Vec::new() },
            high: if has_spread { spread(1.0) } else { Vec::new() },
        }
    }

    fn timeline(session: u64, series: Vec<FigureSeries>) -> Timeline {
        Timeline {
            session: Some(session),
            channel: Some("boathouse".to_owned()),
            began_at: OffsetDateTime::UNIX_EPOCH,
            length_s: 30,
            start_s: 10,
            count: 2,
            series,
            marks: Vec::new(),
        }
    }

    #[test]
    fn two_shows_share_their_columns() {
        let first = timeline(7, vec![series("leg_bitrate", "Tindrel, \"new\"", &[Some(5.25), None], false)]);
        let second = timeline(9, vec![series("bitrate", "", &[Some(1.0), Some(2.0)], false)]);
        let text = write(&Timelines { step_s: 1, timelines: vec![first, second] }).unwrap();
        let expected = [
            "session,time,second,\"leg_bitrate Tindrel, \"\"new\"\" kbit/s\",bitrate kbit/s",
            "7,1970-01-01T00:00:10Z,10,5.25,",
            "7,1970-01-01T00:00:11Z,11,,",
            "9,1970-01-01T00:00:10Z,10,,1",
            "9,1970-01-01T00:00:11Z,11,,2",
            "",
        ];
        assert_eq!(String::from_utf8(text).unwrap(), expected.join("\r\n"));
    }

    #[test]
    fn longer_steps_tell_the_lowest_and_the_highest() {
        let shown = timeline(7, vec![series("bitrate", "", &[Some(5.0), None], true)]);
        let text = String::from_utf8(write(&Timelines { step_s: 10, timelines: vec![shown] }).unwrap()).unwrap();
        let lines: Vec<&str> = text.lines().collect();
        assert_eq!(lines[0], "session,time,second,bitrate kbit/s,bitrate lowest kbit/s,bitrate highest kbit/s");
        assert_eq!(lines[1..], ["7,1970-01-01T00:00:10Z,10,5,4,6", "7,1970-01-01T00:00:20Z,20,,,"]);
    }
}
