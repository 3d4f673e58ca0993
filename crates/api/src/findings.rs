//! Findings: what stands, what codes mean, and what a platform's complaint may be.

use axum::Json;
use axum::extract::State;
use axum::http::StatusCode;
use waverant_model::{
    Board, CarryOutRemedy, ChannelFinding, Complaint, ComplaintAnswer, FindingMeaning, LegState, LikelyFinding,
    LiveAudio, LiveChannel, LiveSession, RemedyDone,
};
use waverant_relay::{FindingCode, LONGEST_COMPLAINT, findings_meant};

use crate::board::{look, seen};
use crate::input::{Body, Path};
use crate::rights::{Caller, Sight};
use crate::tell_findings::meaning;
use crate::{ApiError, ApiState};

/// What the codes of findings stand for
#[utoipa::path(get, path = "/findings/meanings", responses((status = 200, body = [FindingMeaning])))]
pub(super) async fn meanings() -> Json<Vec<FindingMeaning>> {
    Json(FindingCode::ALL.iter().copied().map(meaning).collect())
}

/// What a platform's complaint may be, and what is seen here
#[utoipa::path(post, path = "/findings/ask", request_body = Complaint, responses((status = 200, body = ComplaintAnswer)))]
pub(super) async fn ask(
    State(state): State<ApiState>,
    sight: Sight,
    Body(form): Body<Complaint>,
) -> Result<Json<ComplaintAnswer>, ApiError> {
    let complaint = form.complaint.trim();
    if complaint.is_empty() || complaint.len() > LONGEST_COMPLAINT {
        let told = format!("it has {} bytes; 1 to {LONGEST_COMPLAINT} are read", complaint.len());
        return Err(ApiError::invalid("complaint", told));
    }
    if let Some(channel) = &form.channel
        && !sight.has(Some(state.house.channel_id(channel)?))
    {
        return Err(ApiError::NotFound { kind: "channel", name: channel.clone() });
    }
    let board = seen(look(&state.house), &state.house, &sight);
    let is_meant = |channel: &&LiveChannel| form.channel.as_ref().is_none_or(|name| *name == channel.name);
    let channels: Vec<&LiveChannel> = board.channels.iter().filter(is_meant).collect();
    let likely = findings_meant(complaint).into_iter().map(|code| likely(code, &channels)).collect();
    Ok(Json(ComplaintAnswer { likely, standing: standing(&board, &channels, form.channel.is_none()) }))
}

fn standing(board: &Board, channels: &[&LiveChannel], with_house: bool) -> Vec<ChannelFinding> {
    let of_house = board.findings.iter().filter(|_| with_house);
    let of_house = of_house.map(|finding| ChannelFinding { channel: None, finding: finding.clone() });
    let of_channels = channels.iter().flat_map(|channel| {
        let name = &channel.name;
        channel.findings.iter().map(|finding| ChannelFinding { channel: Some(name.clone()), finding: finding.clone() })
    });
    of_house.chain(of_channels).collect()
}

fn likely(code: FindingCode, channels: &[&LiveChannel]) -> LikelyFinding {
    let stands = |channel: &&&LiveChannel| channel.findings.iter().any(|finding| finding.code == code.word());
    LikelyFinding {
        meaning: meaning(code),
        stands_on: channels.iter().filter(stands).map(|channel| channel.name.clone()).collect(),
        figures: channels.iter().filter_map(|channel| figures(code, channel)).collect(),
    }
}

/// What our figures say of what a code is about.
fn figures(code: FindingCode, channel: &LiveChannel) -> Option<String> {
    use FindingCode as Code;
    let session = channel.session.as_ref()?;
    let told = match code {
        Code::Silence | Code::ChannelDead | Code::Clipping | Code::TooLoud | Code::TooSoft => sounds(session),
        Code::SoundMissing | Code::SoundStopped | Code::LimitAudioCodec | Code::LimitAudioTracks => sounds(session),
        Code::SoundDrifts | Code::ClockJumps | Code::ClockDrifts => clocks(session),
        Code::BitrateFallen | Code::LimitBitrate | Code::UplinkFull => rates(channel, session),
        Code::LegDown | Code::LegRefused | Code::LegFlaps | Code::LegSlow | Code::LimitTls => legs(channel),
        Code::ComesInBursts | Code::LineLoses | Code::LatencySmall | Code::Damaged => arrival(session),
        _ => pictures(session),
    };
    Some(format!("{}: {told}", channel.name))
}

fn sounds(session: &LiveSession) -> String {
    let told: Vec<String> = session.audio.iter().map(sound).collect();
    if told.is_empty() { "no sound comes in".to_owned() } else { told.join("; ") }
}

fn sound(sound: &LiveAudio) -> String {
    let (rate, kbit) = (f64::from(sound.sample_rate_hz) / 1000.0, sound.bitrate_bps / 1000.0);
    let loudness = match (&sound.heard, &sound.not_heard) {
        (_, Some(reason)) => reason.clone(),
        (Some(heard), None) => {
            let loudness = heard.last_minute.map_or("silent".to_owned(), |loudness| format!("{loudness:.1} LUFS"));
            let peak = heard.true_peak.map_or("none".to_owned(), |peak| format!("{peak:.1} dBTP"));
            let now = heard.short_term.map_or("silent now".to_owned(), |loudness| format!("{loudness:.1} LUFS now"));
            format!("{now}, {loudness} over the last minute, highest peak {peak}")
        }
        (None, None) => "not heard yet".to_owned(),
    };
    format!("{} {rate} kHz, {} channels, {kbit:.0} kbit/s, {loudness}", sound.codec, sound.channel_count)
}

fn clocks(session: &LiveSession) -> String {
    let drift = session
        .audio
        .iter()
        .filter_map(|sound| sound.drift_ms_per_minute)
        .fold(0.0, |most: f64, drift| if drift.abs() > most.abs() { drift } else { most });
    let clock = session.arrival.clock_ppm.map_or("not off".to_owned(), |ppm| format!("off by {ppm:.0} millionths"));
    let faults = session.clock_fault_count;
    format!(
        "the sound drifts {drift:.0} ms a minute; the encoder's clock is {clock}, and jumped or ran back {faults} times"
    )
}

fn rates(channel: &LiveChannel, session: &LiveSession) -> String {
    let out = channel
        .legs
        .iter()
        .filter(|leg| leg.state == LegState::Carrying)
        .map(|leg| format!("{:.1} to {}", leg.bitrate_bps / 1e6, leg.destination));
    let out: Vec<String> = out.collect();
    let out = if out.is_empty() { "to nobody".to_owned() } else { out.join(", ") };
    format!("{:.1} Mbit/s come in, and go out: {out}", session.arrival.rate_10s_bps / 1e6)
}

fn legs(channel: &LiveChannel) -> String {
    let told = channel.legs.iter().map(|leg| {
        let state = serde_json::to_value(leg.state).ok().and_then(|word| word.as_str().map(str::to_owned));
        let reason = leg.reason.as_ref().map(|reason| format!(" ({reason})")).unwrap_or_default();
        let (behind, state) = (leg.behind_ms, state.unwrap_or_default());
        format!("{} {state}{reason}, {behind} ms behind, {} redials", leg.destination, leg.redial_count)
    });
    let told: Vec<String> = told.collect();
    if told.is_empty() { "it has no destinations".to_owned() } else { told.join("; ") }
}

fn arrival(session: &LiveSession) -> String {
    let arrival = &session.arrival;
    let line = session.line.as_ref().map_or(String::new(), |line| {
        format!(
            "; the line lost {:.1} % at first, {} packets for good",
            line.loss_share * 100.0,
            line.dropped_packet_count
        )
    });
    let unusable = session.unusable_count;
    format!(
        "jitter {:.0} ms, longest pause {} ms, {unusable} messages could not be used{line}",
        arrival.jitter_ms, arrival.longest_pause_ms
    )
}

fn pictures(session: &LiveSession) -> String {
    let Some(video) = &session.video else { return "no pictures come in".to_owned() };
    let side = |side: Option<u32>| side.map_or_else(|| "?".to_owned(), |side| side.to_string());
    let keyframes =
        video.keyframe_spacing_ms.map_or("not known yet".to_owned(), |ms| format!("{:.1} s", ms as f64 / 1e3));
    let groups = if video.has_open_groups { "open" } else { "closed" };
    format!(
        "{} {}x{}, {:.2} pictures a second ({:.0} % uneven, {:.0} % left out), keyframes up to {keyframes} apart, \
         {groups} groups, {} B-frames in a row",
        video.codec,
        side(video.width),
        side(video.height),
        video.frame_rate,
        video.uneven_share * 100.0,
        video.missing_share * 100.0,
        video.reordered_run
    )
}

/// Do not tell findings of this code for the rest of the show
#[utoipa::path(put, path = "/channels/{channel}/muted-findings/{code}", params(("channel" = String, Path), ("code" = String, Path)), responses((status = 204)))]
pub(super) async fn mute(
    State(state): State<ApiState>,
    caller: Caller,
    Path((channel, code)): Path<(String, String)>,
) -> Result<StatusCode, ApiError> {
    state.house.mute_findings(&channel, &code, true, &caller.actor)?;
    Ok(StatusCode::NO_CONTENT)
}

/// Tell findings of this code again
#[utoipa::path(delete, path = "/channels/{channel}/muted-findings/{code}", params(("channel" = String, Path), ("code" = String, Path)), responses((status = 204)))]
pub(super) async fn unmute(
    State(state): State<ApiState>,
    caller: Caller,
    Path((channel, code)): Path<(String, String)>,
) -> Result<StatusCode, ApiError> {
    state.house.mute_findings(&channel, &code, false, &caller.actor)?;
    Ok(StatusCode::NO_CONTENT)
}

/// Carry out what a finding offers now
#[utoipa::path(post, path = "/channels/{channel}/remedies", params(("channel" = String, Path)), request_body = CarryOutRemedy, responses((status = 200, body = RemedyDone)))]
pub(super) async fn carry_out(
    State(state): State<ApiState>,
    caller: Caller,
    Path(channel): Path<String>,
    Body(form): Body<CarryOutRemedy>,
) -> Result<Json<RemedyDone>, ApiError> {
    let CarryOutRemedy { code, destination } = form;
    let done = state.house.carry_out(&channel, &code, destination.as_deref(), &caller.actor).await?;
    Ok(Json(RemedyDone { done }))
}
