//! The board: what runs in the house at one moment.

use std::time::{Duration, Instant};

use time::OffsetDateTime;
use waverant_house::{House, Publishing, leg_state};
use waverant_library::LOW_TIME;
use waverant_media::{SoundFormat, Track, TrackKind, Tracks};
use waverant_model::{
    Board, ChannelState, HeardChannel, HeardSound, LegState, LiveArrival, LiveAudio, LiveChannel, LiveDisk, LiveLeg,
    LiveLine, LiveLinePoint, LivePublishing, LiveSession, LiveTake, LiveUplink, LiveVideo, RecorderState, RefusedCount,
    ViewerCounts,
};
use waverant_relay::{
    ChannelRules, LegOrder, LinePoint, LineQuality, SessionState, SoundFigures, StreamFigures, TakeState,
    advised_latency,
};
use waverant_show::{LegSnapshot, Sensed, Show, SourceSnapshot};

use crate::capacity::live_host;
use crate::rights::Sight;
use crate::{tell_findings, tell_viewing};

fn millis(duration: Duration) -> u64 {
    u64::try_from(duration.as_millis()).unwrap_or(u64::MAX)
}

/// All channels at this moment.
pub(crate) fn look(house: &House) -> Board {
    let directory = house.directory();
    let channels = directory.channels().map(|rules| match house.show(rules.id) {
        Some(show) => LiveChannel {
            publishing: house.publishing(rules.id).map(live_publishing),
            ..on_air(rules, &show, viewers(house, rules))
        },
        None => LiveChannel {
            viewers: viewers(house, rules),
            publishing: None,
            name: rules.name.to_string(),
            title: rules.title.clone(),
            state: ChannelState::OffAir,
            session: None,
            legs: directory.orders(rules.id).iter().map(idle_leg).collect(),
            findings: tell_findings::before_show(directory.orders(rules.id)),
        },
    });
    let counts = house.counts().all().into_iter();
    let refused_counts = counts.map(|(reason, count)| RefusedCount { reason: reason.to_owned(), count }).collect();
    let uplink = house.uplink().map(|load| LiveUplink {
        carries_bps: load.carries_bps,
        legs_bps: load.legs_bps,
        viewers_bps: load.viewers_bps,
    });
    Board {
        at: OffsetDateTime::now_utc(),
        channels: channels.collect(),
        refused_counts,
        disk: live_disk(house),
        uplink,
        host: house.host().map(live_host),
        findings: tell_findings::of_house(house),
    }
}

/// The part of a board that is of channels that may be seen; what is of the house as a whole is left out for who sees
/// single channels.
pub(crate) fn seen(board: Board, house: &House, sight: &Sight) -> Board {
    if sight.is_whole() {
        return board;
    }
    let directory = house.directory();
    let id = |name: &str| directory.channel_named(name).map(|rules| rules.id);
    Board {
        at: board.at,
        channels: board.channels.into_iter().filter(|channel| sight.has(id(&channel.name))).collect(),
        refused_counts: Vec::new(),
        disk: None,
        uplink: None,
        host: None,
        findings: Vec::new(),
    }
}

fn live_disk(house: &House) -> Option<LiveDisk> {
    let outlook = house.library().outlook()?;
    let left = house.recording_time_left();
    Some(LiveDisk {
        free_bytes: outlook.free_bytes,
        floor_bytes: outlook.floor_bytes,
        seconds_left: left.map(|left| left.as_secs()),
        is_low: outlook.is_full() || left.is_some_and(|left| left < LOW_TIME),
    })
}

fn live_publishing(from: Publishing) -> LivePublishing {
    let Publishing { depot, address, told_until, sent_bytes, fault: _ } = from;
    LivePublishing { depot, address, told_until, sent_bytes }
}

fn viewers(house: &House, rules: &ChannelRules) -> ViewerCounts {
    tell_viewing::viewer_counts(house.viewer_counts(rules.id))
}

fn on_air(rules: &ChannelRules, show: &Show, viewers: ViewerCounts) -> LiveChannel {
    let source = show.source_snapshot();
    LiveChannel {
        name: rules.name.to_string(),
        title: rules.title.clone(),
        state: match source.state {
            SessionState::OnAir => ChannelState::OnAir,
            SessionState::Holding { .. } => ChannelState::Holding,
            // Its delayed legs play on.
            SessionState::Over => ChannelState::Over,
        },
        viewers,
        publishing: None,
        session: Some(live_session(show, source)),
        legs: show.legs().into_iter().map(live_leg).collect(),
        findings: tell_findings::of_show(show),
    }
}

fn live_session(show: &Show, source: SourceSnapshot) -> LiveSession {
    let counters = source.counters;
    let sensed = show.sensed();
    let (recorder, recorder_reason) = live_recorder(show.recorder().state().0);
    LiveSession {
        id: show.id(),
        started_at: show.started_at(),
        state_for_ms: millis(source.state_for),
        hold_left_ms: source.hold_left.map(millis),
        loss_count: source.loss_count,
        publisher_address: source.publisher.peer.to_string(),
        key_label: source.publisher.key_label.clone(),
        encoder: source.encoder.clone(),
        is_slate_on: show.is_slate_on(),
        is_rehearsal: show.is_rehearsal(),
        video: live_video(&source.tracks, &source, &sensed),
        audio: live_audio(&source.tracks, &source.figures, &sensed),
        arrival: live_arrival(&source.figures),
        bitrate_bps: source.video_bps + source.audio_bps,
        audio_bitrate_bps: source.audio_bps,
        waiting: source.waiting,
        line: source.line.map(|line| live_line(line, &source.line_points)),
        unusable_count: counters.damaged_count + counters.unsupported_count + counters.headless_count,
        clock_fault_count: counters.clock_jump_count + counters.backward_count,
        recorder,
        recorder_reason,
        take: live_take(show),
    }
}

fn live_recorder(state: waverant_show::RecorderState) -> (RecorderState, Option<String>) {
    match state {
        waverant_show::RecorderState::Off => (RecorderState::Off, None),
        waverant_show::RecorderState::Waiting => (RecorderState::Waiting, None),
        waverant_show::RecorderState::Recording => (RecorderState::Recording, None),
        waverant_show::RecorderState::Stopped(reason) => (RecorderState::Stopped, Some(reason)),
    }
}

/// The take that is being written.
fn live_take(show: &Show) -> Option<LiveTake> {
    let take = show.takes().newest().filter(|take| take.state == TakeState::Writing)?;
    Some(LiveTake {
        number: take.number,
        duration_ms: take.duration_ms,
        size_bytes: take.size_bytes,
        mark_count: take.marks.len(),
        gap_count: take.gap_count,
    })
}

fn live_video(tracks: &Tracks, source: &SourceSnapshot, sensed: &Sensed) -> Option<LiveVideo> {
    let seen = sensed.picture.as_ref();
    let codec = &tracks.first(TrackKind::Video)?.codec;
    let size = codec.picture_size().or(source.announced_size);
    let (cadence, groups) = (source.figures.cadence.unwrap_or_default(), &source.figures.groups);
    Some(LiveVideo {
        codec: [codec.name()].into_iter().chain(codec.profile_name()).collect::<Vec<_>>().join(" "),
        level: codec.level(),
        sampling: codec.sampling().map(|sampling| sampling.to_string()),
        colour: codec.colour().map(|colour| colour.to_string()),
        is_hdr: codec.colour().is_some_and(|colour| colour.is_hdr()),
        width: size.map(|(width, _)| width),
        height: size.map(|(_, height)| height),
        frame_rate: source.told_frame_rate(),
        announced_frame_rate: codec.frame_rate(),
        bitrate_bps: source.video_bps,
        keyframe_spacing_ms: source.keyframe_spacing().map(|spacing| spacing.millis()),
        uneven_share: cadence.uneven_share,
        missing_share: cadence.missing_share,
        group_pictures: groups.pictures,
        group_bps: groups.bitrate_bps,
        reordered_run: groups.reordered_run,
        has_open_groups: groups.is_open,
        brightness: seen.and_then(|seen| seen.as_ref().ok()).map(|seen| seen.brightness),
        not_seen: seen.and_then(|seen| seen.as_ref().err()).cloned(),
    })
}

fn live_arrival(figures: &StreamFigures) -> LiveArrival {
    let arrival = &figures.arrival;
    LiveArrival {
        rate_1s_bps: figures.rate_1s_bps,
        rate_10s_bps: figures.rate_10s_bps,
        jitter_ms: arrival.jitter_ms,
        longest_pause_ms: millis(arrival.longest_pause),
        largest_burst_ms: millis(arrival.largest_burst),
        clock_ppm: arrival.clock_ppm,
    }
}

fn heard_sound(heard: &SoundFigures) -> HeardSound {
    let channels = heard.rms.iter().zip(&heard.peak).map(|(rms, peak)| HeardChannel { rms: *rms, peak: *peak });
    HeardSound {
        channels: channels.collect(),
        true_peak: heard.true_peak,
        momentary: heard.momentary,
        short_term: heard.short_term,
        last_minute: heard.last_minute,
        integrated: heard.integrated,
        range: heard.range,
        correlation: heard.correlation,
    }
}

fn live_audio(tracks: &Tracks, figures: &StreamFigures, sensed: &Sensed) -> Vec<LiveAudio> {
    let sound = tracks.iter().filter_map(|track| Some((track, track.codec.sound()?)));
    let measured = |track: &Track| figures.track(track.id);
    let heard = |track: &Track| sensed.sounds.get(&track.id);
    let live = |(track, sound): (&Track, SoundFormat)| LiveAudio {
        codec: track.codec.name().to_owned(),
        sample_rate_hz: sound.sample_rate,
        channel_count: sound.channel_count,
        language: track.language.as_deref().map(str::to_owned),
        name: track.name.as_deref().map(str::to_owned),
        bitrate_bps: measured(track).map_or(0.0, |figures| figures.rate_10s_bps),
        heard: heard(track).and_then(|heard| heard.as_ref().ok()).map(heard_sound),
        not_heard: heard(track).and_then(|heard| heard.as_ref().err()).cloned(),
        drift_ms_per_minute: measured(track)
            .and_then(|figures| figures.pace.sample_drift.or(figures.pace.picture_drift)),
    };
    sound.map(live).collect()
}

/// A leg before the show.
fn idle_leg(order: &LegOrder) -> LiveLeg {
    LiveLeg {
        destination: order.destination.name.clone(),
        state: if order.is_on { LegState::Ready } else { LegState::Off },
        delay_ms: millis(order.delay),
        trace: Vec::new(),
        line: None,
        dropped_ms: 0,
        state_for_ms: 0,
        reason: None,
        note: None,
        next_dial_in_ms: None,
        bitrate_bps: 0.0,
        behind_ms: 0,
        sent_frame_count: 0,
        sent_bytes: 0,
        dropped_frame_count: 0,
        redial_count: 0,
    }
}

fn live_leg(leg: LegSnapshot) -> LiveLeg {
    let now = Instant::now();
    LiveLeg {
        state: leg_state(leg.record.state),
        destination: leg.record.destination_name,
        state_for_ms: millis(now.saturating_duration_since(leg.leg.since())),
        reason: leg.record.reason,
        note: leg.note,
        next_dial_in_ms: leg.leg.poll_timeout().map(|until| millis(until.saturating_duration_since(now))),
        bitrate_bps: leg.bitrate_bps,
        behind_ms: leg.lag_ms + millis(leg.delay),
        delay_ms: millis(leg.delay),
        dropped_ms: leg.record.dropped_ms,
        trace: leg.trace,
        line: leg.line.map(|line| live_line(line.quality, &line.points)),
        sent_frame_count: leg.record.sent_frame_count,
        sent_bytes: leg.record.sent_bytes,
        dropped_frame_count: leg.record.dropped_frame_count,
        redial_count: leg.record.redial_count,
    }
}

fn live_line(quality: LineQuality, points: &[LinePoint]) -> LiveLine {
    let points = points.iter().map(|point| LiveLinePoint {
        age_ms: millis(point.age),
        rtt_ms: point.rtt.as_secs_f64() * 1e3,
        loss_share: point.loss_share,
        dropped_packet_count: point.dropped_packets,
    });
    LiveLine {
        rtt_ms: quality.rtt.as_secs_f64() * 1e3,
        loss_share: quality.loss_share,
        retransmit_share: quality.retransmit_share,
        buffered_ms: millis(quality.buffered),
        latency_ms: millis(quality.latency),
        advised_latency_ms: millis(advised_latency(quality.rtt, quality.loss_share)),
        dropped_packet_count: quality.dropped_packets,
        undecrypted_packet_count: quality.undecrypted_packets,
        points: points.collect(),
    }
}
