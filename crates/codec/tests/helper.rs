//! Native code in a process of its own. This program is its own helper: begun with the name of one of the ignored tests.

use std::fs;
use std::io::{ErrorKind, Read, Write};
use std::net::{TcpListener, TcpStream};
use std::os::fd::AsFd;
use std::os::unix::process::ExitStatusExt;
use std::path::Path;
use std::process::{Command, Stdio};
use std::time::Duration;

use bytes::Bytes;
use rstest::rstest;
use waverant_codec::{Clip, CodecPool, Hand, SoundPiece, StillError, WorkFailed, Workplace, confine, serve};
use waverant_media::{CodecParameters, testing};

const AS: [&str; 4] = ["--ignored", "--exact", "--test-threads=1", "--nocapture"];

fn in_helpers(named: &str) -> Workplace {
    Workplace::this_program(AS.into_iter().chain([named]).map(Into::into))
}

#[test]
#[ignore = "the helper itself"]
fn a_helper() {
    serve().unwrap();
}

#[test]
#[ignore = "a helper that is killed"]
fn one_to_kill() {
    serve().unwrap();
}

#[test]
#[ignore = "a helper that takes its work and never answers"]
fn a_helper_that_dies() {
    let mut link = std::os::unix::net::UnixStream::from(std::io::stdin().as_fd().try_clone_to_owned().unwrap());
    // It says that all is well, as a helper does that is confined.
    link.write_all(&[0, 0, 0, 1, 0]).unwrap();
    let _ = link.read(&mut [0; 64]);
    std::process::abort();
}

/// The process ids of this process's helpers.
#[expect(clippy::unwrap_used, reason = "a test")]
fn helpers() -> Vec<i32> {
    let own = std::process::id().to_string();
    let of_ours = |id: &i32| {
        let stat = fs::read_to_string(format!("/proc/{id}/stat")).unwrap_or_default();
        let rest: Vec<&str> = stat.rsplit(") ").next().unwrap_or("").split(' ').collect();
        rest.get(1) == Some(&own.as_str()) && rest.first() != Some(&"Z")
    };
    let ids = fs::read_dir("/proc").unwrap().filter_map(|entry| entry.unwrap().file_name().to_str()?.parse().ok());
    ids.filter(of_ours).collect()
}

#[expect(clippy::unwrap_used, reason = "a test")]
fn codec_of(clip: &Clip) -> &CodecParameters {
    &clip.tracks.iter().next().unwrap().codec
}

#[test]
fn a_helper_does_what_is_done_here() {
    let (mut here, mut there) = (Hand::default(), Hand::new(in_helpers("a_helper")));
    let (clip, same) = (here.holding_picture(320, 180, 25.0).unwrap(), there.holding_picture(320, 180, 25.0).unwrap());
    assert_eq!((&clip.packets, clip.length), (&same.packets, same.length));
    let (codec, keyframe) = (codec_of(&clip), clip.packets[0].payload.clone());
    assert_eq!(here.glance(codec, &keyframe), there.glance(codec, &keyframe));
    assert_eq!(here.jpegs(codec, keyframe.clone(), vec![160, 80]), there.jpegs(codec, keyframe.clone(), vec![160, 80]));
    assert_eq!(there.still(codec, keyframe.clone(), 160).unwrap().size(), (160, 90));
    let test = there.test_picture(64, 64, 5.0, 2.0).unwrap();
    assert_eq!(test.packets, here.test_picture(64, 64, 5.0, 2.0).unwrap().packets);
    let sound: Vec<Bytes> = test
        .packets
        .iter()
        .filter(|packet| packet.track.0 != 0 && packet.random_access)
        .filter(|packet| packet.kind == waverant_media::TrackKind::Audio)
        .map(|packet| packet.payload.clone())
        .collect();
    let aac = &test.tracks.first(waverant_media::TrackKind::Audio).unwrap().codec;
    assert!(sound.len() > 300, "more than go together");
    assert_eq!(here.hear(aac, &[], &sound), there.hear(aac, &[], &sound));
    assert_eq!(there.hear(&testing::ac3(), &[], &sound), Ok(Err("AC-3 is not listened to here".to_owned())));
    assert_eq!(there.glance(&testing::hevc(), &keyframe), Err(StillError::Codec("HEVC".to_owned())));
    assert!(there.take_spent() > Duration::from_millis(1) && here.take_spent().is_zero());
}

/// The largest picture that is decoded fits into what a helper may have.
#[test]
fn the_largest_picture_is_decoded() {
    let mut hand = Hand::new(in_helpers("a_helper"));
    let clip = hand.holding_picture(3840, 2160, 2.0).unwrap();
    let jpegs = hand.jpegs(codec_of(&clip), clip.packets[0].payload.clone(), vec![1280, 160]).unwrap();
    assert!(jpegs.iter().all(|jpeg| jpeg.starts_with(&[0xff, 0xd8])));
}

/// Frames that are asked for in pieces sound as they do in one.
#[rstest]
fn pieces_of_sound_fit_together(#[values(7, 64, 100)] size: usize) {
    let mut hand = Hand::default();
    let clip = hand.test_picture(64, 64, 1.0, 8.0).unwrap();
    let codec = &clip.tracks.first(waverant_media::TrackKind::Audio).unwrap().codec;
    let sound = clip.packets.iter().filter(|packet| packet.kind == waverant_media::TrackKind::Audio);
    let frames: Vec<Bytes> = sound.map(|packet| packet.payload.clone()).collect();
    let whole = hand.hear(codec, &[], &frames).unwrap().unwrap();
    assert_eq!(whole[0], SoundPiece::LedIn, "what came before it is not known");
    assert!(whole[1..].iter().all(|piece| matches!(piece, SoundPiece::Heard { rate: 48_000, channels: 2, .. })));
    let mut pieces = Vec::new();
    for (number, chunk) in frames.chunks(size).enumerate() {
        let before = &frames[(number * size).saturating_sub(Hand::lead_in(codec))..number * size];
        pieces.extend(hand.hear(codec, before, chunk).unwrap().unwrap());
    }
    assert_eq!(pieces, whole);
}

#[tokio::test]
async fn a_helper_that_is_killed_costs_nothing_but_its_task() {
    let pool = CodecPool::new(in_helpers("one_to_kill"));
    pool.run(1, |hand| hand.holding_picture(64, 64, 25.0)).await.unwrap().unwrap();
    let own = |id: &&i32| fs::read_to_string(format!("/proc/{id}/cmdline")).unwrap_or_default().contains("one_to_kill");
    for turn in 0..3 {
        let ids: Vec<i32> = helpers().into_iter().filter(|id| own(&id)).collect();
        assert_eq!(ids.len(), 1, "turn {turn}");
        rustix::process::kill_process(rustix::process::Pid::from_raw(ids[0]).unwrap(), rustix::process::Signal::KILL)
            .unwrap();
        // The next task has another one, unless it was given out before the death was seen.
        let drawn = pool.run(1, |hand| hand.holding_picture(64, 64, 25.0)).await.unwrap();
        assert!(drawn.is_ok() || pool.run(1, |hand| hand.holding_picture(64, 64, 25.0)).await.unwrap().is_ok());
    }
}

#[test]
fn one_that_dies_at_its_work_is_told() {
    let mut hand = Hand::new(in_helpers("a_helper_that_dies"));
    for _ in 0..3 {
        assert_eq!(hand.holding_picture(64, 64, 25.0).unwrap_err().to_string(), WorkFailed.to_string());
    }
}

#[test]
fn a_program_that_is_not_there_is_told() {
    let nowhere = Workplace::Helper(std::sync::Arc::new(("/nowhere/at/all".into(), Vec::new())));
    assert!(Hand::new(nowhere).holding_picture(64, 64, 25.0).is_err());
}

/// What a helper that somebody got hold of would try.
#[test]
#[ignore = "confined; begun by the test below"]
fn confined() {
    let port: u16 = std::env::var("PORT").unwrap().parse().unwrap();
    let socket = std::net::UdpSocket::bind(("127.0.0.1", 0)).unwrap();
    let parent = rustix::process::getppid().unwrap();
    confine().unwrap();
    let refused = |error: std::io::Error| {
        let number = error.raw_os_error();
        assert!(number == Some(libc::EPERM) || number == Some(libc::EMFILE), "{error}");
    };
    refused(fs::read("/etc/hostname").unwrap_err());
    refused(fs::write("/tmp/anything", "x").unwrap_err());
    refused(fs::read_dir("/").map(|_| ()).unwrap_err());
    refused(TcpStream::connect(("127.0.0.1", port)).map(|_| ()).unwrap_err());
    refused(TcpListener::bind(("127.0.0.1", 0)).map(|_| ()).unwrap_err());
    refused(socket.connect(("127.0.0.1", port)).unwrap_err());
    refused(socket.try_clone().map(|_| ()).unwrap_err());
    refused(Command::new("/bin/true").spawn().map(|_| ()).unwrap_err());
    assert!(rustix::process::kill_process(parent, rustix::process::Signal::TERM).is_err());
    assert!(Vec::<u8>::new().try_reserve_exact(600 * 1024 * 1024).is_err(), "there is an end to memory");
    // And still it works.
    Hand::default().holding_picture(64, 64, 25.0).unwrap();
}

#[test]
fn a_helper_can_neither_open_nor_connect_nor_begin_anything() {
    let listener = TcpListener::bind(("127.0.0.1", 0)).unwrap();
    let mut command = Command::new(Path::new("/proc/self/exe"));
    command.args(AS).arg("confined").env("PORT", listener.local_addr().unwrap().port().to_string());
    let done = command.stdin(Stdio::null()).output().unwrap();
    let said = String::from_utf8_lossy(&done.stderr).into_owned() + &String::from_utf8_lossy(&done.stdout);
    assert!(done.status.success() && done.status.signal().is_none(), "{said}");
    listener.set_nonblocking(true).unwrap();
    assert_eq!(listener.accept().unwrap_err().kind(), ErrorKind::WouldBlock);
}
