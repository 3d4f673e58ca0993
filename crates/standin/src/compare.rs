use std::collections::HashMap;

use serde::Serialize;

use crate::{Mark, MarkKind};

/// What came of comparing a receiver with the sender.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
pub struct Comparison {
    /// Pictures that the receiver got.
    pub picture_count: usize,
    /// Audio frames that the receiver got.
    pub sound_count: usize,
    /// Where in the sender's pictures the receiver's begin.
    pub first_picture: Option<usize>,
    /// What is wrong; none if all is well.
    pub fault: Option<String>,
}

/// Compares what `received` holds with what was `sent`: the first video must be a header and
/// then a keyframe, pictures and sound must be an unbroken run of the sender's, and timestamps
/// must never go back. With `to_the_end` the runs must reach the sender's last payloads.
pub fn compare(sent: &[Mark], received: &[Mark], to_the_end: bool) -> Comparison {
    let fault = check_start(received)
        .or_else(|| check_times(received))
        .or_else(|| check_composition(sent, received))
        .or_else(|| check_tracks("picture", sent, received, MarkKind::is_picture, to_the_end))
        .or_else(|| check_tracks("audio frame", sent, received, |kind| kind == MarkKind::Sound, to_the_end));
    let pictures = digests(received, 0, MarkKind::is_picture);
    let sent_pictures = digests(sent, 0, MarkKind::is_picture);
    let first_picture = pictures.first().and_then(|first| sent_pictures.iter().position(|digest| digest == first));
    let sound_count = received.iter().filter(|mark| mark.kind == MarkKind::Sound).count();
    Comparison { picture_count: pictures.len(), sound_count, first_picture, fault }
}

/// Checks the first track, and the others that arrived.
fn check_tracks(
    name: &str,
    sent: &[Mark],
    received: &[Mark],
    wanted: impl Fn(MarkKind) -> bool + Copy,
    to_the_end: bool,
) -> Option<String> {
    let last = received.iter().filter(|mark| wanted(mark.kind)).map(|mark| mark.track).max().unwrap_or(0);
    (0..=last).find_map(|track| {
        let (sent, received) = (digests(sent, track, wanted), digests(received, track, wanted));
        let fault = check_run(name, &sent, &received, to_the_end)?;
        Some(if track == 0 { fault } else { format!("track {track}: {fault}") })
    })
}

/// Where `received` stops being a run of `sent`; none if it is one all along.
pub fn first_difference(sent: &[Mark], received: &[Mark]) -> Option<String> {
    let pictures = |marks| digests(marks, 0, MarkKind::is_picture);
    check_run("picture", &pictures(sent), &pictures(received), false)
}

fn digests(marks: &[Mark], track: u8, wanted: impl Fn(MarkKind) -> bool) -> Vec<&str> {
    marks.iter().filter(|mark| mark.track == track && wanted(mark.kind)).map(|mark| mark.digest.as_str()).collect()
}

/// Files keep their headers elsewhere; so only a header out of place is a fault.
fn check_start(received: &[Mark]) -> Option<String> {
    let mut video = received.iter().filter(|mark| !matches!(mark.kind, MarkKind::Sound | MarkKind::AudioHeader));
    let first = video.find(|mark| mark.kind != MarkKind::VideoHeader)?;
    (first.kind != MarkKind::Keyframe).then(|| "the first picture is no keyframe".to_owned())
}

fn check_times(received: &[Mark]) -> Option<String> {
    let mut last: HashMap<(bool, u8), u32> = HashMap::new();
    received.iter().find_map(|mark| {
        let line = (mark.kind.is_picture(), mark.track);
        let before = last.insert(line, mark.timestamp_ms).filter(|before| mark.timestamp_ms < *before)?;
        let name = if line.0 { "picture" } else { "audio" };
        Some(format!("{name} timestamps go back from {before} to {} ms", mark.timestamp_ms))
    })
}

/// Every picture keeps the distance between its decode and its presentation time.
fn check_composition(sent: &[Mark], received: &[Mark]) -> Option<String> {
    let pictures = |marks: &'_ [Mark]| -> HashMap<String, i64> {
        let pictures = marks.iter().filter(|mark| mark.kind.is_picture());
        pictures.map(|mark| (mark.digest.clone(), mark.composition_ms)).collect()
    };
    let sent = pictures(sent);
    pictures(received).into_iter().find_map(|(digest, found)| {
        let expected = *sent.get(&digest)?;
        (found != expected).then(|| format!("a picture's composition time is {found} instead of {expected} ms"))
    })
}

fn check_run(name: &str, sent: &[&str], received: &[&str], to_the_end: bool) -> Option<String> {
    if received.is_empty() {
        return Some(format!("no {name} arrived"));
    }
    let candidates = sent.iter().enumerate().filter(|(_, digest)| **digest == received[0]).map(|(at, _)| at);
    let mut best = 0;
    for start in candidates {
        let rest = &sent[start..];
        let equal = rest.iter().zip(received).take_while(|(sent, received)| sent == received).count();
        if equal == received.len() && (!to_the_end || rest.len() == equal) {
            return None;
        }
        best = best.max(equal);
    }
    let (total, end) = (received.len(), if to_the_end { " up to the end" } else { "" });
    Some(format!("{name} {best} of {total} is not what was sent{end}"))
}

#[cfg(test)]
mod tests {
    use super::*;

    fn show() -> Vec<Mark> {
        let header = Mark::new(MarkKind::VideoHeader, 0, 0, b"header");
        let pictures = (0u32..20).map(|number| {
            let kind = if number % 5 == 0 { MarkKind::Keyframe } else { MarkKind::Picture };
            Mark::new(kind, 0, number * 40, &number.to_be_bytes())
        });
        let sounds =
            (0u32..20).map(|number| Mark::new(MarkKind::Sound, 0, number * 40, &[7, 7, number.to_be_bytes()[3] % 4]));
        std::iter::once(header).chain(pictures).chain(sounds).collect()
    }

    fn after(sent: &[Mark], time: u32) -> Vec<Mark> {
        let late = |mark: &&Mark| mark.timestamp_ms >= time || mark.kind == MarkKind::VideoHeader;
        sent.iter().filter(late).cloned().collect()
    }

    #[test]
    fn a_run_from_a_keyframe_to_the_end_is_well() {
        let sent = show();
        let got = compare(&sent, &after(&sent, 200), true);
        assert_eq!((got.fault, got.first_picture, got.picture_count), (None, Some(5), 15));
    }

    #[test]
    fn faults_are_found() {
        let sent = show();
        let fault = |received: &[Mark]| compare(&sent, received, true).fault.unwrap();
        assert_eq!(fault(&after(&sent, 240)), "the first picture is no keyframe");
        let mut hole = after(&sent, 200);
        hole.remove(4);
        assert_eq!(fault(&hole), "picture 3 of 14 is not what was sent up to the end");
        let mut back = after(&sent, 200);
        back[3].timestamp_ms = 0;
        assert!(fault(&back).starts_with("picture timestamps go back"));
        let mut late = after(&sent, 200);
        late[3].composition_ms = 40;
        assert_eq!(fault(&late), "a picture's composition time is 40 instead of 0 ms");
        let mut short = after(&sent, 200);
        short.pop();
        assert!(fault(&short).contains("audio frame"));
        assert_eq!(fault(&[]), "no picture arrived");
    }
}
