use std::ops::Range;

use time::OffsetDateTime;
use waverant_house::{House, severity_word};
use waverant_model::{FigureSeries, ShowReport, TimelineMark};
use waverant_relay::{Figure, Point, Strip};

use crate::tell_findings::moment;

/// The series that are asked for.
pub(super) fn series(strip: Strip, figures: Option<&[Figure]>) -> Vec<FigureSeries> {
    let has_spread = strip.step_s > 1;
    let is_wanted = |figure: Figure| figures.is_none_or(|figures| figures.contains(&figure));
    let series = strip.series.into_iter().filter(|series| is_wanted(series.key.figure));
    series
        .map(|series| {
            let each = |value: fn(&Point) -> f64| -> Vec<Option<f64>> {
                series.points.iter().map(|point| point.as_ref().map(|point| rounded(value(point)))).collect()
            };
            FigureSeries {
                figure: series.key.figure.word().to_owned(),
                unit: series.key.figure.unit().to_owned(),
                mean: each(|point| point.mean),
                low: if has_spread { each(|point| point.low) } else { Vec::new() },
                high: if has_spread { each(|point| point.high) } else { Vec::new() },
                of: series.key.of,
            }
        })
        .collect()
}

/// No figure is kept finer than to a hundredth.
fn rounded(value: f64) -> f64 {
    (value * 100.0).round() / 100.0
}

/// What happened in a show, and was found, within a range of seconds.
pub(super) fn of_report(report: ShowReport, seconds: &Range<u32>) -> Vec<TimelineMark> {
    let events = report.events.into_iter().map(|event| TimelineMark {
        at_ms: event.at_ms,
        until_ms: None,
        code: None,
        severity: None,
        text: event.text,
    });
    let findings = report.findings.into_iter().map(|finding| TimelineMark {
        at_ms: finding.at_ms,
        until_ms: finding.until_ms,
        code: Some(finding.code),
        severity: Some(finding.severity),
        text: finding.cause,
    });
    let (from, until) = (u64::from(seconds.start) * 1000, u64::from(seconds.end) * 1000);
    let is_within = |mark: &TimelineMark| {
        let ends = if mark.code.is_some() { mark.until_ms.unwrap_or(u64::MAX) } else { mark.at_ms };
        mark.at_ms < until && ends >= from
    };
    let mut marks: Vec<TimelineMark> = events.chain(findings).filter(is_within).collect();
    marks.sort_by_key(|mark| mark.at_ms);
    marks
}

/// What was wrong with the house itself, since the service was started.
pub(super) fn of_house(house: &House, (from, until): (OffsetDateTime, OffsetDateTime)) -> Vec<TimelineMark> {
    let millis = |at: OffsetDateTime| u64::try_from((at - from).whole_milliseconds()).unwrap_or(0);
    let all = house.all_findings().into_iter();
    let within = all.filter_map(|(finding, ended)| {
        let (at, ended) = (moment(finding.since), ended.map(moment));
        let is_within = at < until && ended.is_none_or(|ended| ended >= from);
        is_within.then(|| TimelineMark {
            at_ms: millis(at),
            until_ms: ended.map(millis),
            code: Some(finding.key.code.word().to_owned()),
            severity: Some(severity_word(finding.severity)),
            text: finding.cause,
        })
    });
    let mut marks: Vec<TimelineMark> = within.collect();
    marks.sort_by_key(|mark| mark.at_ms);
    marks
}
