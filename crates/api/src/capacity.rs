//! What shows need of this machine.

use axum::Json;
use axum::extract::State;
use waverant_capacity::{Costs, Plan, Prices, Resource};
use waverant_house::{HostFigures, ProcessFigures};
use waverant_model::{CapacityAnswer, LiveHost, LiveNetwork, LiveProcess, PlannedShows};

use crate::input::Body;
use crate::{ApiError, ApiState};

/// Larger numbers are mistakes.
const MOST_HOURS: f64 = 10_000.0;

/// What planned shows need, beside what runs, and what gives first
#[utoipa::path(post, path = "/capacity", request_body = PlannedShows, responses((status = 200, body = CapacityAnswer)))]
pub(super) async fn capacity(
    State(state): State<ApiState>,
    Body(form): Body<PlannedShows>,
) -> Result<Json<CapacityAnswer>, ApiError> {
    let hours = form.hours.unwrap_or(1.0);
    if !(0.0..=MOST_HOURS).contains(&hours) {
        return Err(ApiError::invalid("hours", format!("{hours} is not between 0 and {MOST_HOURS}")));
    }
    if !(form.price_sent_tb >= 0.0 && form.price_kept_tb_month >= 0.0) {
        return Err(ApiError::invalid("price_sent_tb", "prices are 0 or more"));
    }
    let plan = Plan {
        shows: form.shows.unwrap_or(1).into(),
        bitrate_bps: form.bitrate_bps as f64,
        destinations: form.destinations.into(),
        viewers: form.viewers.into(),
        sounds: form.sounds.unwrap_or(1).into(),
        is_recorded: form.is_recorded.unwrap_or(true),
        hours,
        shows_a_month: form.shows_a_month.unwrap_or(4).into(),
    };
    let usage = state.house.usage();
    let as_rate = |rate: Option<u64>| rate.map(|rate| rate as f64);
    let machine = state.house.left(&usage, (as_rate(form.uplink_bps), as_rate(form.downlink_bps)));
    // What the service itself takes is used already.
    let costs = Costs { base_bytes: 0.0, ..Costs::default().corrected(usage.processor_factor) };
    let prices = Prices { sent_tb: form.price_sent_tb, kept_tb_month: form.price_kept_tb_month };
    let needs = plan.needs(&machine, &costs, &prices);
    let used = |resource| match resource {
        Resource::Uplink => usage.sent_bps,
        Resource::Downlink => usage.received_bps,
        Resource::Processor => usage.processors,
        Resource::Memory => usage.memory_bytes,
        Resource::Disk => 0.0,
    };
    Ok(Json(CapacityAnswer::new(&needs, used, usage.processor_factor)))
}

/// The machine, as it is told.
pub(crate) fn live_host(host: HostFigures) -> LiveHost {
    let networks = host.networks.into_iter().map(|network| LiveNetwork {
        name: network.name,
        received_bps: network.received_bps,
        sent_bps: network.sent_bps,
    });
    LiveHost {
        processors: host.processors,
        processor_share: host.processor_share,
        memory_bytes: host.memory_bytes,
        available_bytes: host.available_bytes,
        networks: networks.collect(),
        disk_write_ms: host.disk_write.map(|write| write.as_secs_f64() * 1000.0),
        service: live_process(host.service),
        database: host.database.map(live_process),
    }
}

fn live_process(process: ProcessFigures) -> LiveProcess {
    let ProcessFigures { processor_share, resident_bytes, open_files, .. } = process;
    LiveProcess { processor_share, resident_bytes, open_files }
}
