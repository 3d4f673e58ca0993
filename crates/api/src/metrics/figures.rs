//! The board as families of samples. Labels are names that the house gave: channels, destinations, codes; never what a
//! stranger sent, and never a secret.

use waverant_model::{
    Board, ChannelState, Finding, LegState, LiveChannel, LiveHost, LiveLeg, LiveSession, RecorderState, Severity,
};

use waverant_relay::Spread;

use super::families::{Counts, Family};

/// Figures are told in bytes, by the convention of the format.
const BITS: f64 = 8.0;

/// What is counted as it happens, and stands on no board.
#[derive(Clone, Debug, Default)]
pub(super) struct Counted {
    pub(super) database_answers: bool,
    /// How far legs were behind.
    pub(super) leg_lags: Spread,
    /// How long the database took for records.
    pub(super) write_times: Spread,
}

/// All of them.
pub(super) fn families(counted: &Counted, board: &Board) -> Vec<Family> {
    let on_air: Vec<(&str, &LiveSession)> =
        board.channels.iter().filter_map(|channel| Some((channel.name.as_str(), channel.session.as_ref()?))).collect();
    let mut all = of_house(counted, board);
    all.extend(of_channels(&board.channels));
    all.extend(of_streams(&on_air));
    all.extend(of_sounds(&on_air));
    all.extend(of_lines(&board.channels));
    all.extend(of_legs(&board.channels));
    all.extend(of_findings(board));
    all.extend(spreads(counted));
    all.extend(board.host.as_ref().map(of_host).into_iter().flatten());
    all
}

fn truth(is_so: bool) -> f64 {
    if is_so { 1.0 } else { 0.0 }
}

fn of_house(counted: &Counted, board: &Board) -> Vec<Family> {
    let mut build = Family::gauge("build_info", "The service's version; always 1.");
    build.add(&[("version", env!("CARGO_PKG_VERSION"))], 1.0);
    let mut database = Family::gauge("database_answers", "1 while the database answers.");
    database.add(&[], truth(counted.database_answers));
    let mut refused = Family::counter("refused_total", "What was turned away or given up since the start, by reason.");
    for refusal in &board.refused_counts {
        refused.add(&[("reason", &refusal.reason)], refusal.count as f64);
    }
    let mut free = Family::gauge("disk_free_bytes", "Free on the disk of the recordings.");
    let mut floor = Family::gauge("disk_floor_bytes", "What stays free on the disk of the recordings.");
    if let Some(disk) = &board.disk {
        free.add(&[], disk.free_bytes as f64);
        floor.add(&[], disk.floor_bytes as f64);
    }
    let mut carries = Family::gauge("uplink_bytes_per_second", "What the uplink carries, as the settings say.");
    let mut used = Family::gauge("uplink_used_bytes_per_second", "What leaves by it, by whom it is for.");
    if let Some(uplink) = &board.uplink {
        carries.add(&[], uplink.carries_bps as f64 / BITS);
        used.add(&[("for", "destinations")], uplink.legs_bps / BITS);
        used.add(&[("for", "viewers")], uplink.viewers_bps / BITS);
    }
    vec![build, database, refused, free, floor, carries, used]
}

fn of_channels(channels: &[LiveChannel]) -> Vec<Family> {
    let mut on_air = Family::gauge("channel_on_air", "1 while an encoder is on air.");
    let mut holding = Family::gauge("channel_holding", "1 while a lost encoder is waited for.");
    let mut viewers = Family::gauge("channel_viewers", "Who watches, or waits for the next show, by the way they do.");
    for channel in channels {
        let name = channel.name.as_str();
        on_air.add(&[("channel", name)], truth(channel.state == ChannelState::OnAir));
        holding.add(&[("channel", name)], truth(channel.state == ChannelState::Holding));
        let counts = &channel.viewers;
        let ways = [
            ("segments", counts.segments),
            ("pictures", counts.pictures),
            ("stream", counts.stream),
            ("rtmp", counts.rtmp),
            ("srt", counts.srt),
        ];
        for (way, count) in ways.into_iter().filter(|(_, count)| *count > 0) {
            viewers.add(&[("channel", name), ("way", way)], count.into());
        }
    }
    vec![on_air, holding, viewers]
}

fn of_streams(on_air: &[(&str, &LiveSession)]) -> Vec<Family> {
    let mut rate = Family::gauge("stream_bytes_per_second", "What comes in, over ten seconds.");
    let mut frames = Family::gauge("stream_frames_per_second", "Pictures that come in.");
    let mut keyframes = Family::gauge("stream_keyframe_spacing_seconds", "The longest of the last four distances.");
    let mut jitter = Family::gauge("stream_jitter_seconds", "How unevenly it arrives (RFC 3550).");
    let mut brightness = Family::gauge("stream_brightness_ratio", "Of the newest keyframe that was looked at.");
    let mut losses =
        Family::counter("stream_publisher_losses_total", "How often the encoder was lost in this session.");
    let mut unusable = Family::counter("stream_unusable_messages_total", "Messages that could not be used.");
    let mut faults = Family::counter("stream_clock_faults_total", "Times when the encoder's clock jumped or ran back.");
    let mut recording = Family::gauge("recording", "1 while a take is being written.");
    for (name, session) in on_air {
        let labels = &[("channel", *name)];
        rate.add(labels, session.arrival.rate_10s_bps / BITS);
        jitter.add(labels, session.arrival.jitter_ms / 1000.0);
        losses.add(labels, session.loss_count.into());
        unusable.add(labels, session.unusable_count as f64);
        faults.add(labels, session.clock_fault_count as f64);
        recording.add(labels, truth(session.recorder == RecorderState::Recording));
        let Some(video) = &session.video else { continue };
        frames.add(labels, video.frame_rate);
        keyframes.maybe(labels, video.keyframe_spacing_ms.map(|spacing| spacing as f64 / 1000.0));
        brightness.maybe(labels, video.brightness);
    }
    vec![rate, frames, keyframes, jitter, brightness, losses, unusable, faults, recording]
}

fn of_sounds(on_air: &[(&str, &LiveSession)]) -> Vec<Family> {
    let mut short = Family::gauge("sound_short_term_lufs", "Loudness over the last 3 s (EBU R 128); none is silence.");
    let mut peak = Family::gauge("sound_true_peak_dbtp", "The highest true peak since the begin.");
    for (name, session) in on_air {
        for (number, heard) in
            (1..).zip(&session.audio).filter_map(|(number, sound)| Some((number, sound.heard.as_ref()?)))
        {
            let number: String = i32::to_string(&number);
            let labels = &[("channel", *name), ("sound", number.as_str())];
            short.maybe(labels, heard.short_term);
            peak.maybe(labels, heard.true_peak);
        }
    }
    vec![short, peak]
}

/// Lines over SRT: of an encoder, which have no destination, and to destinations.
fn of_lines(channels: &[LiveChannel]) -> Vec<Family> {
    let mut rtt = Family::gauge("line_round_trip_seconds", "Round trip of a line over SRT.");
    let mut loss = Family::gauge("line_loss_ratio", "What was lost at first, over ten seconds.");
    let mut dropped = Family::counter("line_dropped_packets_total", "Packets that did not come in time.");
    for channel in channels {
        let encoder = channel.session.iter().filter_map(|session| Some(("", session.line.as_ref()?)));
        let legs = channel.legs.iter().filter_map(|leg| Some((leg.destination.as_str(), leg.line.as_ref()?)));
        for (destination, line) in encoder.chain(legs) {
            let labels = &[("channel", channel.name.as_str()), ("destination", destination)];
            rtt.add(labels, line.rtt_ms / 1000.0);
            loss.add(labels, line.loss_share);
            dropped.add(labels, line.dropped_packet_count as f64);
        }
    }
    vec![rtt, loss, dropped]
}

fn of_legs(channels: &[LiveChannel]) -> Vec<Family> {
    let mut carrying = Family::gauge("leg_carrying", "1 while the destination takes the show, of legs that are on.");
    let mut behind = Family::gauge("leg_behind_seconds", "How far the leg is behind the show, its delay included.");
    let mut bytes = Family::counter("leg_sent_bytes_total", "Payload sent in this session.");
    let mut pictures = Family::counter("leg_sent_frames_total", "Pictures sent in this session.");
    let mut dropped = Family::counter("leg_dropped_frames_total", "Pictures that the destination missed.");
    let mut redials = Family::counter("leg_redials_total", "How often it was dialed again.");
    let is_at_work = |leg: &&LiveLeg| !matches!(leg.state, LegState::Off | LegState::Ready);
    for channel in channels.iter().filter(|channel| channel.session.is_some()) {
        for leg in channel.legs.iter().filter(is_at_work) {
            let labels = &[("channel", channel.name.as_str()), ("destination", leg.destination.as_str())];
            carrying.add(labels, truth(leg.state == LegState::Carrying));
            behind.add(labels, leg.behind_ms as f64 / 1000.0);
            bytes.add(labels, leg.sent_bytes as f64);
            pictures.add(labels, leg.sent_frame_count as f64);
            dropped.add(labels, leg.dropped_frame_count as f64);
            redials.add(labels, leg.redial_count.into());
        }
    }
    vec![carrying, behind, bytes, pictures, dropped, redials]
}

fn of_findings(board: &Board) -> Vec<Family> {
    let mut found =
        Family::gauge("findings", "Findings that stand and are not muted, by code; the house's have no channel.");
    let of_house = std::iter::once(("", board.findings.as_slice()));
    let of_channels = board.channels.iter().map(|channel| (channel.name.as_str(), channel.findings.as_slice()));
    for (channel, findings) in of_house.chain(of_channels) {
        let mut told: Vec<&Finding> = findings.iter().filter(|finding| !finding.is_muted).collect();
        told.sort_by(|one, other| one.code.cmp(&other.code));
        for of_code in told.chunk_by(|one, other| one.code == other.code) {
            let [first, ..] = of_code else { continue };
            let severity = match first.severity {
                Severity::Note => "note",
                Severity::Warning => "warning",
                Severity::Alarm => "alarm",
            };
            found.add(&[("channel", channel), ("code", &first.code), ("severity", severity)], of_code.len() as f64);
        }
    }
    vec![found]
}

fn spreads(counted: &Counted) -> Vec<Family> {
    let mut lag =
        Family::histogram("leg_lag_seconds", "How far legs were behind the show at each write, delays left out.");
    let mut writes = Family::histogram("database_write_seconds", "How long the database took to write a record.");
    for (family, spread) in [(&mut lag, &counted.leg_lags), (&mut writes, &counted.write_times)] {
        let counts = Counts { buckets: spread.buckets.clone(), count: spread.count, sum: spread.sum };
        family.add_counts(&[], &counts);
    }
    vec![lag, writes]
}

fn of_host(host: &LiveHost) -> Vec<Family> {
    let mut cpu = Family::gauge("host_cpu_ratio", "The share of all processors that is used.");
    cpu.add(&[], host.processor_share);
    let mut memory = Family::gauge("host_memory_available_bytes", "Memory of the machine that is free or can be.");
    memory.add(&[], host.available_bytes as f64);
    let mut write =
        Family::gauge("host_disk_write_seconds", "The mean time of a write to a disk, over the last second.");
    write.maybe(&[], host.disk_write_ms.map(|write| write / 1000.0));
    let mut received = Family::gauge("host_network_received_bytes_per_second", "What comes in by an interface.");
    let mut sent = Family::gauge("host_network_sent_bytes_per_second", "What goes out by an interface.");
    for network in &host.networks {
        received.add(&[("interface", &network.name)], network.received_bps / BITS);
        sent.add(&[("interface", &network.name)], network.sent_bps / BITS);
    }
    let mut used = Family::gauge("process_cpu_ratio", "The share of one processor that a process of ours uses.");
    let mut resident = Family::gauge("process_resident_bytes", "Memory of a process of ours.");
    let mut files = Family::gauge("process_open_files", "Files and sockets that a process of ours has open.");
    let database = host.database.as_ref().map(|process| ("database", process));
    for (name, process) in std::iter::once(("service", &host.service)).chain(database) {
        let labels = &[("process", name)];
        used.add(labels, process.processor_share);
        resident.add(labels, process.resident_bytes as f64);
        files.add(labels, process.open_files as f64);
    }
    vec![cpu, memory, write, received, sent, used, resident, files]
}

#[cfg(test)]
mod tests {
    use serde_json::json;

    use super::super::families::written;
    use super::*;

    /// A channel on air with five destinations, one of them over SRT, and four findings.
    fn channel(number: usize) -> LiveChannel {
        let line = json!({
            "rtt_ms": 31.5, "loss_share": 0.01, "retransmit_share": 0.01, "buffered_ms": 580, "latency_ms": 600,
            "dropped_packet_count": 3, "undecrypted_packet_count": 0, "advised_latency_ms": 200, "points": [],
        });
        let leg = |place: usize| {
            json!({
                "destination": format!("shore-{number}-{place}"), "state": "carrying",
                "state_for_ms": 5000, "bitrate_bps": 6e6, "behind_ms": 31, "delay_ms": 0,
                "sent_frame_count": 123_456, "sent_bytes": 1_234_567_890_u64, "dropped_frame_count": 12,
                "dropped_ms": 400, "redial_count": 1, "trace": [],
                "line": if place == 0 { line.clone() } else { json!(null) },
            })
        };
        let heard = json!({"channels": [], "short_term": -23.4, "true_peak": -1.5});
        let sound = json!({
            "codec": "AAC", "sample_rate_hz": 48_000, "channel_count": 2, "bitrate_bps": 160e3, "heard": heard,
        });
        let session = json!({
            "id": number, "started_at": "2026-05-17T09:00:00Z", "state_for_ms": 1, "loss_count": 1,
            "publisher_address": "192.0.2.7", "key_label": "van", "waiting": [], "is_slate_on": false,
            "is_rehearsal": false, "encoder": "made", "audio": [sound, sound], "bitrate_bps": 6e6,
            "audio_bitrate_bps": 320e3, "unusable_count": 0, "clock_fault_count": 0, "recorder": "recording",
            "line": line,
            "arrival": {
                "rate_1s_bps": 6e6, "rate_10s_bps": 6e6, "jitter_ms": 1.5, "longest_pause_ms": 40,
                "largest_burst_ms": 80,
            },
            "video": {
                "codec": "H.264 High", "is_hdr": false, "frame_rate": 29.97, "bitrate_bps": 5.7e6,
                "keyframe_spacing_ms": 2000, "uneven_share": 0.0, "missing_share": 0.0, "group_pictures": 60,
                "group_bps": 6e6, "reordered_run": 2, "has_open_groups": false, "brightness": 0.45,
            },
        });
        let finding = |code: &str| {
            json!({
                "code": code, "severity": "warning", "since": null, "cause": "", "advice": "", "destinations": [],
                "is_muted": false,
            })
        };
        let findings = ["silence", "limit_bitrate", "leg_flaps", "latency_small"].map(finding);
        let channel = json!({
            "name": format!("lane-{number}"), "title": "Boathouse", "state": "on air",
            "viewers": {"segments": 10, "pictures": 2, "stream": 1, "rtmp": 1, "srt": 1, "total": 15},
            "session": session, "legs": (0..5).map(leg).collect::<Vec<_>>(),
            "findings": findings,
        });
        serde_json::from_value(channel).unwrap()
    }

    /// Two hundred channels with five destinations each, all on air at once, with names of usual length.
    #[test]
    fn a_large_house_is_told_in_less_than_a_megabyte() {
        let board = Board {
            at: time::OffsetDateTime::UNIX_EPOCH,
            channels: (0..200).map(channel).collect(),
            refused_counts: Vec::new(),
            disk: None,
            uplink: None,
            host: None,
            findings: Vec::new(),
        };
        let text = written(&families(&Counted::default(), &board));
        assert_eq!(text.lines().filter(|line| line.starts_with("waverant_leg_carrying{")).count(), 1000);
        assert_eq!(text.lines().filter(|line| line.starts_with("waverant_findings{")).count(), 800);
        assert!(text.len() < 1_000_000, "{} bytes", text.len());
        for secret in ["192.0.2.7", "van"] {
            assert!(!text.contains(&format!("\"{secret}\"")), "labels are names that the house gave");
        }
    }
}
