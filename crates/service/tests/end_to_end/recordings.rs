//! Takes of whole shows: all tracks, split, cut off, by hand.

use std::path::{Path, PathBuf};
use std::time::Duration;

use rstest::rstest;
use serde_json::{Value, json};
use waverant_container::{FileReader, plan_repair};
use waverant_media::TrackKind;
use waverant_standin::{Encoder, EncoderEnd, Mark, compare, first_difference, read_take};

use crate::browser::{check_with_tools, open_in_chromium};
use crate::command_line::Shell;
use crate::house::{Ground, House, clip};

const LABELS: [(&str, &str); 3] = [("en", "Programme mix"), ("de", "Commentary"), ("fr", "Riverbank")];

fn set_rules(house: &House<'_>, rules: &Value) {
    house.call("PATCH", "/channels/finish-line", Some(json!({"recording": rules})));
}

fn files(ground: &Ground, session: &Value) -> Vec<PathBuf> {
    let takes = session["takes"].as_array().unwrap().iter();
    takes.map(|take| ground.path("recordings").join(take["path"].as_str().unwrap())).collect()
}

fn look_at(files: &[PathBuf]) {
    let whole: Vec<_> = files.iter().map(|file| (file.clone(), None)).collect();
    for (file, seen) in files.iter().zip(open_in_chromium(&whole)) {
        assert_eq!(seen.error, None, "{}", file.display());
        assert!(seen.width == 1280 && seen.spread > 30 && seen.seconds > Some(0.2), "{}: {seen:?}", file.display());
        check_with_tools(file);
    }
}

/// Three tracks of sound in, three out: languages, names, and each within 20 ms of the offset to the
/// pictures that the encoder sent.
#[rstest]
#[case::mp4("mp4")]
#[case::matroska("matroska")]
#[tokio::test(flavor = "multi_thread")]
async fn three_sounds_come_out_as_they_went_in(#[case] format: &str) {
    let ground = Ground::new().await;
    let house = ground.start();
    let key = house.make_channel(0);
    set_rules(&house, &json!({"format": format}));
    let clip = clip().with_sounds(3).with_labels(&LABELS);
    let sent = Encoder::new(clip, house.encoder(&key, 4.0)).run().await.unwrap();
    let session = house.ended_session(1).await;
    let files = files(&ground, &session);
    let (marks, _) = read_take(&files[0]).unwrap();
    assert_eq!(compare(&sent.sent, &marks, true).fault, None);

    let reader = FileReader::open(bytes::Bytes::from(std::fs::read(&files[0]).unwrap())).unwrap();
    let told: Vec<(Option<&str>, Option<&str>, bool)> = reader
        .tracks()
        .iter()
        .filter(|track| track.track.codec.kind() == TrackKind::Audio)
        .map(|track| (track.track.language.as_deref(), track.track.name.as_deref(), track.is_default))
        .collect();
    let expected = LABELS.iter().zip([true, false, false]);
    let expected: Vec<_> = expected.map(|((tag, name), first)| (Some(*tag), Some(*name), first)).collect();
    assert_eq!(told, expected);

    // Where each track lies in the file, less where it lay at the encoder: the same for all.
    let shift = |wanted: &dyn Fn(&&Mark) -> bool| {
        let at = |marks: &[Mark]| marks.iter().filter(wanted).map(|mark| i64::from(mark.timestamp_ms)).next().unwrap();
        let composed = sent.sent.iter().find(wanted).unwrap().composition_ms;
        at(&marks) - at(&sent.sent) - composed
    };
    let pictures = shift(&|mark: &&Mark| mark.kind.is_picture());
    for track in 0..3 {
        let sound = shift(&|mark: &&Mark| mark.kind == waverant_standin::MarkKind::Sound && mark.track == track);
        assert!((sound - pictures).abs() <= 20, "sound {track} is {} ms off", sound - pictures);
    }
    look_at(&files);

    let shell = Shell { house: &house };
    shell.sign_in();
    let checked = shell.json(&["recordings", "verify", "1"]);
    assert_eq!((&checked[0]["is_good"], &checked[0]["findings"]), (&json!(true), &json!([])), "{checked}");
    let mediainfo = std::process::Command::new("mediainfo").arg(&files[0]).output().unwrap();
    let said = String::from_utf8_lossy(&mediainfo.stdout).into_owned();
    for word in ["English", "German", "French", "Commentary", "Riverbank"] {
        assert!(said.contains(word), "{word} is missing in: {said}");
    }
}

/// A new take at each keyframe: nothing is lost or told twice between them.
#[rstest]
#[case::mp4("mp4")]
#[case::matroska("matroska")]
#[tokio::test(flavor = "multi_thread")]
async fn split_takes_hold_the_show_without_a_seam(#[case] format: &str) {
    let ground = Ground::new().await;
    let house = ground.start();
    let key = house.make_channel(0);
    set_rules(&house, &json!({"format": format, "split_ms": 1000, "names": "{date}/{channel} {session}-{take}"}));
    let sent = house.publish(house.encoder(&key, 9.0)).await;
    let session = house.ended_session(1).await;
    let files = files(&ground, &session);
    assert!(files.len() >= 4, "{session}");
    let today = session["session"]["started_at"].as_str().unwrap().get(..10).unwrap();
    assert!(files[0].ends_with(format!("{today}/finish-line 1-1.{}", if format == "mp4" { "mp4" } else { "mkv" })));
    let mut whole = Vec::new();
    for (number, file) in files.iter().enumerate() {
        let (mut marks, _) = read_take(file).unwrap();
        // Each file has its own zero; the comparison wants times that rise.
        marks.iter_mut().for_each(|mark| mark.timestamp_ms += u32::try_from(number).unwrap() * 100_000);
        whole.extend(marks);
    }
    assert_eq!(compare(&sent.sent, &whole, true).fault, None);
    look_at(&files);
}

/// A power cut at any moment: what was on the disk plays to within a second, and can be mended.
#[rstest]
#[case::mp4("mp4")]
#[case::matroska("matroska")]
#[tokio::test(flavor = "multi_thread")]
async fn what_is_on_the_disk_at_any_moment_plays(#[case] format: &str) {
    let ground = Ground::new().await;
    let house = ground.start();
    let key = house.make_channel(0);
    set_rules(&house, &json!({"format": format}));
    let publish = house.publish(house.encoder(&key, 8.0));
    let copy = async {
        house
            .wait_until("a take is written", |house| {
                house.live()["session"]["take"]["duration_ms"].as_u64() > Some(400)
            })
            .await;
        let file = ground.path("recordings").join(house.get("/takes")["items"][0]["path"].as_str().unwrap());
        let mut copies = Vec::new();
        for number in 0..6u32 {
            let copy = ground.path(&format!("cut-{number}")).with_extension(file.extension().unwrap());
            let mut bytes = std::fs::read(&file).unwrap();
            // Half of them lose their end as well, as a disk that wrote only some blocks.
            if number % 2 == 1 {
                bytes.truncate(bytes.len() - bytes.len() / (7 + number as usize));
            }
            std::fs::write(&copy, bytes).unwrap();
            let live = house.live()["session"]["take"]["duration_ms"].as_f64().unwrap() / 1000.0;
            copies.push((copy, (number % 2 == 0).then_some(live)));
            tokio::time::sleep(Duration::from_millis(730)).await;
        }
        copies
    };
    let (sent, copies) = tokio::join!(publish, copy);
    let (mut cut, mut mended) = (Vec::new(), Vec::new());
    for (copy, live) in &copies {
        let (marks, seconds) = read_take(copy).unwrap();
        assert_eq!(first_difference(&sent.sent, &marks), None, "{}", copy.display());
        assert!(live.is_none_or(|live| live - seconds < 1.0), "{seconds} s of {live:?} s");
        cut.push((copy.clone(), Some(seconds)));
        mended.push(mend(copy));
        assert_eq!(read_take(mended.last().unwrap()).unwrap(), (marks, seconds), "mending loses nothing");
    }
    for ((file, end), seen) in cut.iter().zip(open_in_chromium(&cut)) {
        assert!(seen.error.is_none() && seen.width == 1280, "{} to {end:?}: {seen:?}", file.display());
    }
    look_at(&mended);
}

/// The file as the next start of the service would leave it, under another name.
fn mend(file: &Path) -> PathBuf {
    let mut bytes = std::fs::read(file).unwrap();
    let repair = plan_repair(&bytes::Bytes::from(bytes.clone())).unwrap().expect("an open file lacks its end");
    bytes.truncate(usize::try_from(repair.keep_bytes).unwrap());
    bytes.extend_from_slice(&repair.append);
    for patch in &repair.patches {
        let at = usize::try_from(patch.offset).unwrap();
        bytes[at..at + patch.bytes.len()].copy_from_slice(&patch.bytes);
    }
    let extension = file.extension().unwrap().to_string_lossy();
    let mended = file.with_extension(format!("mended.{extension}"));
    std::fs::write(&mended, bytes).unwrap();
    mended
}

/// A killed service: the take is mended at the next start, with a record of what was done, and no
/// more than a second is lost. One that is stopped in order ends its takes itself.
#[rstest]
#[case::killed_mp4("mp4", "-KILL")]
#[case::killed_matroska("matroska", "-KILL")]
#[case::stopped_mp4("mp4", "-TERM")]
#[case::stopped_matroska("matroska", "-TERM")]
#[tokio::test(flavor = "multi_thread")]
async fn a_service_that_ends_leaves_whole_takes(#[case] format: &str, #[case] signal: &str) {
    let ground = Ground::new().await;
    let mut house = ground.start();
    let key = house.make_channel(0);
    set_rules(&house, &json!({"format": format}));
    let encoder = tokio::spawn(Encoder::new(clip(), house.encoder(&key, 30.0)).run());
    house
        .wait_until("a take is written", |house| house.live()["session"]["take"]["duration_ms"].as_u64() > Some(3000))
        .await;
    house.signal(signal);
    house.wait_for_exit();
    let sent = encoder.await.unwrap().unwrap();
    drop(house);

    let house = ground.start();
    let session = house.get("/sessions/1");
    let take = &session["takes"][0];
    let files = files(&ground, &session);
    let (marks, seconds) = read_take(&files[0]).unwrap();
    assert_eq!(first_difference(&sent.sent, &marks), None);
    let sent_seconds = f64::from(sent.sent.last().unwrap().timestamp_ms) / 1000.0;
    assert!(sent_seconds - seconds < 1.2, "{seconds} s of {sent_seconds} s are kept");
    if signal == "-KILL" {
        assert_eq!(take["state"], "cut off");
        assert!(take["repair"].as_str().unwrap().contains("the index was written"), "{take}");
    } else {
        assert_eq!((take["state"].as_str(), &take["repair"]), (Some("complete"), &Value::Null));
    }
    let reader = FileReader::open(bytes::Bytes::from(std::fs::read(&files[0]).unwrap())).unwrap();
    assert!(reader.told_duration().is_some());
    look_at(&files);
    let shell = Shell { house: &house };
    shell.sign_in();
    assert!(shell.run(&["recordings", "verify", "1", "1"]).contains("Nothing is wrong with it."));
}

/// A publisher that vanishes and comes back: one take goes on, and says when nobody was there.
#[tokio::test(flavor = "multi_thread")]
async fn a_lost_publisher_is_marked_in_the_take() {
    let ground = Ground::new().await;
    let house = ground.start();
    let key = house.make_channel(10_000);
    let mut options = house.encoder(&key, 6.0);
    options.fault = Some(waverant_standin::EncoderFault::BreakAfter(Duration::from_millis(2500)));
    let first = house.publish(options.clone()).await;
    house.wait_until("the session holds", |house| house.live()["state"] == "holding").await;
    options.fault = None;
    options.first_packet = clip().keyframe_from(first.next_packet);
    options.length = Duration::from_secs(2);
    let second = house.publish(options).await;
    assert_eq!(second.end, EncoderEnd::Finished);
    let session = house.ended_session(1).await;
    let titles: Vec<&str> =
        session["takes"][0]["marks"].as_array().unwrap().iter().map(|mark| mark["title"].as_str().unwrap()).collect();
    assert_eq!(titles, ["publisher lost", "publisher back"]);
    look_at(&files(&ground, &session));
}

/// By hand: nothing until somebody begins, then from the pre-roll on; marks; an end in mid-show.
#[tokio::test(flavor = "multi_thread")]
async fn a_recording_is_begun_marked_and_ended_by_hand() {
    let ground = Ground::new().await;
    let house = ground.start();
    let key = house.make_channel(0);
    let shell = Shell { house: &house };
    shell.sign_in();
    shell.run(&["channel", "change", "finish-line", "--record", "by-hand", "--pre-roll", "2"]);
    assert!(shell.fail(&["recording", "start", "finish-line"], 1).contains("not on air"));
    let publish = house.publish(house.encoder(&key, 9.0));
    let control = async {
        house.wait_until("it is on air", |house| house.live()["session"]["bitrate_bps"].as_f64() > Some(1.0)).await;
        tokio::time::sleep(Duration::from_secs(3)).await;
        assert_eq!(house.live()["session"]["recorder"], "off");
        assert!(shell.fail(&["recording", "mark", "finish-line", "too early"], 1).contains("not being recorded"));
        shell.run(&["recording", "start", "finish-line"]);
        assert!(shell.fail(&["recording", "start", "finish-line"], 1).contains("already"));
        house.wait_until("it is recorded", |house| house.live()["session"]["recorder"] == "recording").await;
        tokio::time::sleep(Duration::from_secs(1)).await;
        shell.run(&["recording", "mark", "finish-line", "Finish of heat 2"]);
        tokio::time::sleep(Duration::from_secs(1)).await;
        shell.run(&["recording", "stop", "finish-line"]);
        house.wait_until("it is off again", |house| house.live()["session"]["recorder"] == "off").await;
    };
    let (sent, ()) = tokio::join!(publish, control);
    let session = house.ended_session(1).await;
    let takes = session["takes"].as_array().unwrap();
    assert_eq!(takes.len(), 1);
    assert_eq!(takes[0]["state"], "complete");
    let length = takes[0]["duration_ms"].as_u64().unwrap();
    // Two seconds at hand, two to four before: keyframes are two seconds apart.
    assert!((3500..7000).contains(&length), "{length} ms");
    let at = takes[0]["marks"][0]["at_ms"].as_u64().unwrap();
    assert!(takes[0]["marks"][0]["title"] == "Finish of heat 2" && at > 2500 && at < length, "{at} of {length} ms");
    let (marks, _) = read_take(&files(&ground, &session)[0]).unwrap();
    assert_eq!(compare(&sent.sent, &marks, false).fault, None);

    house.call("PATCH", "/channels/finish-line", Some(json!({"recording": {"when": "off"}})));
    let publish = house.publish(house.encoder(&key, 1.5));
    let control = async {
        house.wait_until("it is on air", |house| house.live()["state"] == "on air").await;
        assert!(shell.fail(&["recording", "start", "finish-line"], 1).contains("its rule is `off`"));
    };
    tokio::join!(publish, control);
    assert_eq!(house.ended_session(2).await["takes"], json!([]));
}
