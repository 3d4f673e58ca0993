//! Times of a take beside those of the encoder and of the wall clock, in a show that runs faster than
//! it should.

use std::collections::HashMap;
use std::path::Path;
use std::time::Duration;

use anyhow::Context;
use waverant_standin::{Clip, Encoder, EncoderOptions, Mark, read_take};

use crate::relay::House;

/// How much faster than real the show is.
const SPEED: u32 = 10;

/// Rows of the table are so far apart.
const STEP_MS: u32 = 5 * 60_000;

/// Prints a table of 30 minutes.
#[expect(clippy::print_stdout, reason = "the table is the program's output")]
pub(crate) async fn measure(waverantd: &Path, clip: &Path) -> anyhow::Result<()> {
    let folder = tempfile::tempdir()?;
    println!(
        "| format | encoder sent | wall clock | file says, picture | file says, sound | drift, picture | drift, sound |"
    );
    println!("| --- | ---: | ---: | ---: | ---: | ---: | ---: |");
    for format in ["mp4", "matroska"] {
        let house = House::start_on(waverantd, 1, 0, Some(folder.path()))?;
        house.record_as(format)?;
        let mut options = EncoderOptions::new(house.server(), house.key(0), Duration::from_secs(30 * 60 + 2));
        options.speed = SPEED;
        let sent = Encoder::new(Clip::load(clip)?, options).run().await?;
        let take = house.finished_take().await?;
        let (marks, _) = read_take(&folder.path().join(take))?;
        let of = |marks: &[Mark], is_picture: bool| -> HashMap<String, i64> {
            let own = marks.iter().filter(|mark| mark.kind.is_picture() == is_picture);
            own.map(|mark| (mark.digest.clone(), i64::from(mark.timestamp_ms))).collect()
        };
        let (pictures, sounds) =
            (of(&marks, true), marks.iter().filter(|mark| !mark.kind.is_picture()).collect::<Vec<_>>());
        let own_sounds: Vec<&Mark> =
            sent.sent.iter().filter(|mark| mark.kind == waverant_standin::MarkKind::Sound).collect();
        let first = sent.sent.iter().find(|mark| mark.kind.is_picture()).context("no picture")?;
        let zero = |mark: &Mark| i64::from(mark.timestamp_ms) + mark.composition_ms;
        let offset = zero(first) - pictures.get(&first.digest).copied().context("the first picture is lost")?;
        for (wanted, pace) in (0..=6).map(|row| row * STEP_MS).zip(&sent.paces) {
            let picture = sent.sent.iter().find(|mark| mark.kind.is_picture() && mark.timestamp_ms >= wanted);
            let picture = picture.context("the show is too short")?;
            let in_file = pictures.get(&picture.digest).context("a picture is lost")?;
            let place = own_sounds.iter().position(|mark| mark.timestamp_ms >= wanted).context("no sound")?;
            let sound_in_file = sounds.get(place).context("sound is lost")?;
            let sound = own_sounds[place];
            let drift = in_file + offset - zero(picture);
            let sound_drift = i64::from(sound_in_file.timestamp_ms) + offset - i64::from(sound.timestamp_ms);
            println!(
                "| {format} | {:.3} s | {:.3} s | {:.3} s | {:.3} s | {drift} ms | {sound_drift} ms |",
                seconds(i64::from(picture.timestamp_ms)),
                seconds(i64::try_from(pace.wall_ms)?),
                seconds(*in_file),
                seconds(i64::from(sound_in_file.timestamp_ms)),
            );
        }
    }
    Ok(())
}

fn seconds(millis: i64) -> f64 {
    millis as f64 / 1000.0
}
