//! A beep is heard when its flash is seen: in a browser, in every form of a take, however much pictures are
//! reordered.

use std::path::{Path, PathBuf};

use bytes::Bytes;
use serde::Deserialize;
use tiny_skia::{Color, Pixmap};
use waverant_codec::{Hand, PictureFormat, encode_pictures};
use waverant_container::{FileFormat, FileHead, FileWriter, Patch, Selection, plan_progressive, plan_repair};
use waverant_media::{CodecParameters, MediaTime, Packet, Track, TrackId, TrackKind, Tracks};

use crate::browser::show_in_chromium;

/// In each second and a bit, which is a whole number of pictures and of frames of sound, there is one flash with
/// its beep, but in the first.
const GROUPS: u32 = 5;
const PICTURES: u32 = 32;
const FLASH_PICTURES: u32 = 12;
const SOUNDS: usize = 50;
const BEEP_SOUNDS: usize = 18;

/// How far a form may be from the one that has nothing to go wrong.
const TOLERANCE_MS: f64 = 10.0;

/// The machine may be busy: what is wrong is wrong every time.
const TRIES: usize = 3;

const PAGE: &str = r#"<!doctype html><title>beep and flash</title><body><script>
const meter = `registerProcessor("meter", class extends AudioWorkletProcessor {
  process([input]) {
    const samples = input[0] ?? [];
    for (let at = 0; at < samples.length; at++) {
      const now = currentTime + at / sampleRate;
      if (Math.abs(samples[at]) < 0.02) continue;
      if (!(now - this.heard < 0.2)) this.port.postMessage(now);
      this.heard = now;
    }
    return true;
  }
});`;
const median = (values) => values.toSorted((a, b) => a - b)[Math.floor(values.length / 2)];
async function measure(context, number) {
  const video = document.createElement("video");
  video.width = 64;
  document.body.append(video);
  const ended = new Promise((done) => { video.onended = done; setTimeout(done, 12000); });
  video.src = "/file/" + number;
  const node = new AudioWorkletNode(context, "meter");
  context.createMediaElementSource(video).connect(node).connect(context.destination);
  const [beeps, flashes, places] = [[], [], []];
  node.port.onmessage = (event) => beeps.push(event.data);
  const canvas = new OffscreenCanvas(1, 1).getContext("2d", { willReadFrequently: true });
  let wasBright = false;
  const look = (_, picture) => {
    canvas.drawImage(video, 0, 0, 1, 1);
    const isBright = canvas.getImageData(0, 0, 1, 1).data[1] > 128;
    if (isBright && !wasBright) flashes.push(picture.mediaTime);
    wasBright = isBright;
    video.requestVideoFrameCallback(look);
  };
  video.requestVideoFrameCallback(look);
  const timer = setInterval(() => { if (!video.paused && video.currentTime > 0.3) places.push(video.currentTime - context.currentTime); }, 10);
  await video.play().catch(() => {});
  await ended;
  clearInterval(timer);
  const place = median(places);
  video.remove();
  const late = beeps.map((beep, at) => 1000 * (beep + place - flashes[at]));
  return { beeps: beeps.length, flashes: flashes.length, late_ms: median(late) ?? null, error: video.error?.message ?? null };
}
(async () => {
  const context = new AudioContext();
  await context.audioWorklet.addModule(URL.createObjectURL(new Blob([meter], { type: "text/javascript" })));
  await context.resume();
  const count = COUNT;
  const seen = [];
  for (let from = 0; from < count; from += 4) {
    const some = Array.from({ length: Math.min(4, count - from) }, (_, at) => measure(context, from + at));
    seen.push(...await Promise.all(some));
  }
  await fetch("/seen", { method: "POST", body: JSON.stringify(seen) });
})().catch((error) => fetch("/seen", { method: "POST", body: JSON.stringify(String(error)) }));
</script>"#;

#[derive(Debug, Deserialize)]
struct Seen {
    beeps: usize,
    flashes: usize,
    late_ms: Option<f64>,
    error: Option<String>,
}

/// Pictures and sound with nothing reordered.
fn show() -> (Tracks, Vec<Packet>) {
    let format = PictureFormat { width: 160, height: 90, frame_rate: 30.0, bitrate_bps: None, group: PICTURES };
    let (avc, mut packets) = encode_pictures(&format, GROUPS * PICTURES, |number| {
        let is_flash = number >= PICTURES && number % PICTURES < FLASH_PICTURES;
        let mut picture = Pixmap::new(160, 90).unwrap();
        picture.fill(if is_flash { Color::WHITE } else { Color::BLACK });
        picture
    })
    .unwrap();
    let tone = Hand::default().test_picture(160, 90, 5.0, 8.0).unwrap();
    let aac = tone.tracks.get(TrackId::AUDIO).unwrap().codec.clone();
    let silence = aac.silent_frame().unwrap();
    let loud = tone.packets.into_iter().filter(|packet| packet.kind == TrackKind::Audio);
    packets.extend(loud.take(SOUNDS * GROUPS as usize).enumerate().map(|(number, packet)| {
        let is_beep = number >= SOUNDS && number % SOUNDS < BEEP_SOUNDS;
        Packet { payload: if is_beep { packet.payload } else { silence.clone() }, ..packet }
    }));
    let mut tracks = Tracks::new();
    tracks.set(Track::new(TrackId::VIDEO, CodecParameters::H264(avc)));
    tracks.set(Track::new(TrackId::AUDIO, aac));
    (tracks, packets)
}

/// As an encoder sends it that reorders pictures: they are shown later than they are decoded, and their sound is
/// heard as much later.
fn reordered(packets: &[Packet], reordering: i64) -> Vec<Packet> {
    let later = MediaTime::from_millis(reordering);
    let mut packets: Vec<Packet> = packets
        .iter()
        .map(|packet| match packet.kind {
            TrackKind::Video => Packet { pts: packet.dts + later, ..packet.clone() },
            TrackKind::Audio => Packet { dts: packet.dts + later, pts: packet.pts + later, ..packet.clone() },
        })
        .collect();
    packets.sort_by_key(|packet| packet.dts);
    packets
}

fn apply(file: &mut [u8], patches: &[Patch]) {
    for patch in patches {
        let at = usize::try_from(patch.offset).unwrap();
        file[at..at + patch.bytes.len()].copy_from_slice(&patch.bytes);
    }
}

/// As it is recorded: ended in order, and as it is when the power fails.
fn record(format: FileFormat, tracks: &Tracks, packets: &[Packet]) -> (Bytes, Bytes) {
    let mut writer = FileWriter::new(format, tracks, &FileHead::default()).unwrap();
    let mut file = Vec::new();
    for packet in packets {
        if let Some(fragment) = writer.push(packet).unwrap() {
            file.extend(fragment.segments.concat());
            apply(&mut file, &fragment.patches);
        }
    }
    let open = Bytes::from(file.clone());
    let (last, patches) = writer.finish();
    if let Some(last) = last {
        file.extend(last.segments.concat());
        apply(&mut file, &last.patches);
    }
    apply(&mut file, &patches);
    (file.into(), open)
}

fn mended(open: &Bytes) -> Vec<u8> {
    let open = open.slice(..open.len() - 20);
    let repair = plan_repair(&open).unwrap().unwrap();
    let mut mended = open[..usize::try_from(repair.keep_bytes).unwrap()].to_vec();
    mended.extend_from_slice(&repair.append);
    apply(&mut mended, &repair.patches);
    mended
}

fn made(recorded: &Bytes, from: Option<MediaTime>) -> Vec<u8> {
    let layout = plan_progressive(recorded, &Selection { from, ..Selection::default() }).unwrap();
    let mut made = vec![0; usize::try_from(layout.size_bytes).unwrap()];
    layout.read_at(recorded, 0, &mut made).unwrap();
    made
}

/// All forms of all takes; the first has nothing to go wrong.
fn write_all(folder: &Path) -> Vec<(String, PathBuf)> {
    let (tracks, packets) = show();
    let mut files = Vec::new();
    for reordering in [0, 33, 67, 133] {
        let packets = reordered(&packets, reordering);
        for (format, extension) in [(FileFormat::Matroska, "mkv"), (FileFormat::Mp4, "mp4")] {
            let (recorded, open) = record(format, &tracks, &packets);
            let cut = Some(MediaTime::from_millis(1500));
            for (form, bytes, extension) in [
                ("recorded", recorded.to_vec(), extension),
                ("mended", mended(&open), extension),
                ("plain", made(&recorded, None), "mp4"),
                ("cut", made(&recorded, cut), "mp4"),
            ] {
                let name = format!("{form} of {format:?}, {reordering} ms");
                let path = folder.join(format!("{}.{extension}", name.replace([' ', ','], "-")));
                std::fs::write(&path, bytes).unwrap();
                files.push((name, path));
            }
        }
    }
    files
}

#[test]
fn a_browser_hears_the_beep_when_it_sees_the_flash() {
    let folder = tempfile::tempdir().unwrap();
    let mut files = write_all(folder.path());
    for remaining in (0..TRIES).rev() {
        let paths: Vec<PathBuf> = files.iter().map(|(_, path)| path.clone()).collect();
        let seen: Vec<Seen> = show_in_chromium(&PAGE.replace("COUNT", &paths.len().to_string()), &paths);
        let right = seen[0].late_ms.unwrap_or(f64::NAN);
        let is_right = |seen: &Seen| {
            let is_whole = seen.error.is_none() && seen.beeps >= 2 && seen.beeps == seen.flashes;
            is_whole && seen.late_ms.is_some_and(|late| (late - right).abs() <= TOLERANCE_MS)
        };
        let wrong: Vec<String> = files
            .iter()
            .zip(&seen)
            .filter(|(_, seen)| !is_right(seen))
            .map(|((name, _), seen)| format!("{name}: {seen:?}"))
            .collect();
        if wrong.is_empty() {
            return;
        }
        assert!(remaining > 0, "{right} ms is right, and there is\n{}", wrong.join("\n"));
        let again: Vec<bool> = seen.iter().enumerate().map(|(place, seen)| place == 0 || !is_right(seen)).collect();
        let mut again = again.into_iter();
        files.retain(|_| again.next().unwrap());
    }
}
