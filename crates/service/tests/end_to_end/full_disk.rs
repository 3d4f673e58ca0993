use std::io::Write;
use std::path::PathBuf;
use std::process::Command;

use rstest::rstest;
use waverant_standin::{EncoderEnd, compare, first_difference, read_take};

use crate::house::{Ground, PATIENCE};

/// A file system of its own in memory; taken away when dropped.
struct SmallDisk(PathBuf);

impl SmallDisk {
    /// None where this user may not mount.
    fn mount(folder: PathBuf, size: &str) -> Option<Self> {
        std::fs::create_dir_all(&folder).unwrap();
        let options = format!("size={size}");
        let done = Command::new("mount").args(["-t", "tmpfs", "-o", &options, "waverant-test"]).arg(&folder).output();
        done.is_ok_and(|done| done.status.success()).then_some(Self(folder))
    }

    fn grow(&self, size: &str) {
        let options = format!("remount,size={size}");
        assert!(Command::new("mount").args(["-o", &options]).arg(&self.0).status().unwrap().success());
    }
}

impl Drop for SmallDisk {
    fn drop(&mut self) {
        let _ = Command::new("umount").arg("--lazy").arg(&self.0).status();
    }
}

/// The disk fills in mid-show: the platform loses nothing, what was recorded plays, and a new
/// take begins when there is room again.
#[rstest]
#[case::rtmp(false)]
#[case::srt(true)]
#[tokio::test(flavor = "multi_thread")]
async fn a_full_disk_stops_only_the_recording(#[case] is_srt: bool) {
    let ground = Ground::new().await;
    let Some(disk) = SmallDisk::mount(ground.path("recordings"), "600k") else {
        let _ = writeln!(std::io::stderr(), "SKIPPED: this user may not mount a file system");
        return;
    };
    let house = ground.start();
    let key = house.make_channel(0);
    let platform = house.add_platform("plovio", None).await;
    let publish = house.publish(house.encoder_at(is_srt, &key, 14.0));
    let make_room = async {
        house.wait_until("the recording fails", |house| house.ground.log().contains("the recording is stopped")).await;
        assert_eq!(house.live()["state"], "on air");
        disk.grow("50m");
    };
    let (sent, ()) = tokio::join!(publish, make_room);
    assert_eq!(sent.end, EncoderEnd::Finished);
    assert!(platform.wait_for(PATIENCE, |report| report.connections[0].was_ended).await);
    assert_eq!(compare(&sent.sent, &platform.report().connections[0].received, true).fault, None);

    let session = house.ended_session(1).await;
    let takes = session["takes"].as_array().unwrap();
    let states: Vec<&str> = takes.iter().map(|take| take["state"].as_str().unwrap()).collect();
    assert_eq!(states, ["cut off", "complete"]);
    let marks = |take: usize| {
        let file = ground.path("recordings").join(takes[take]["path"].as_str().unwrap());
        read_take(&file).unwrap().0
    };
    assert_eq!(first_difference(&sent.sent, &marks(0)), None);
    assert_eq!(compare(&sent.sent, &marks(1), true).fault, None);
}
