//! Addresses that are held off, and those of the crew.

use axum::Json;
use axum::extract::State;
use axum::http::StatusCode;
use waverant_model::{AddAddressRule, AddressRule, Addresses, BlockedAddress, Reception, ReleaseAddress};
use waverant_relay as relay;

use crate::act_detail::Detail;
use crate::input::{Body, Path};
use crate::rights::Caller;
use crate::{ApiError, ApiState};

/// List addresses that are blocked or welcome
#[utoipa::path(get, path = "/addresses", responses((status = 200, body = Addresses)))]
pub(super) async fn list_addresses(State(state): State<ApiState>) -> Result<Json<Addresses>, ApiError> {
    let rules = state.house.address_rules().await?.into_iter().map(told).collect();
    let blocked = state.house.blocked_addresses().into_iter().map(|blocked| BlockedAddress {
        address: blocked.address.to_canonical().to_string(),
        since: blocked.since,
        until: blocked.until,
        tries: blocked.tries,
        times: blocked.times,
    });
    Ok(Json(Addresses { rules, blocked: blocked.collect() }))
}

/// Block addresses, or make them welcome
#[utoipa::path(post, path = "/addresses", request_body = AddAddressRule, responses((status = 201, body = AddressRule)))]
pub(super) async fn add_address_rule(
    State(state): State<ApiState>,
    caller: Caller,
    Body(form): Body<AddAddressRule>,
) -> Result<(StatusCode, Detail, Json<AddressRule>), ApiError> {
    let made = told(state.house.add_address_rule(form, &caller.actor).await?);
    Ok((StatusCode::CREATED, Detail::made(format!("addresses {}", made.range), &made), Json(made)))
}

/// Take a rule for addresses away
#[utoipa::path(delete, path = "/addresses/{rule}", params(("rule" = u64, Path)), responses((status = 204)))]
pub(super) async fn remove_address_rule(
    State(state): State<ApiState>,
    caller: Caller,
    Path(rule): Path<u64>,
) -> Result<(StatusCode, Detail), ApiError> {
    let before = state.house.address_rules().await?.into_iter().find(|known| known.id == rule).map(told);
    state.house.remove_address_rule(rule, &caller.actor).await?;
    Ok((StatusCode::NO_CONTENT, Detail::removed(&before)))
}

/// Let callers of an address be heard again that is blocked for what came from there
#[utoipa::path(post, path = "/addresses/release", request_body = ReleaseAddress, responses((status = 204)))]
pub(super) async fn release_address(
    State(state): State<ApiState>,
    caller: Caller,
    Body(form): Body<ReleaseAddress>,
) -> Result<(StatusCode, Detail), ApiError> {
    state.house.release_address(&form.address, &caller.actor)?;
    Ok((StatusCode::NO_CONTENT, Detail::named(format!("address {}", form.address.trim()))))
}

fn told(rule: relay::AddressRule) -> AddressRule {
    AddressRule {
        id: rule.id,
        range: rule.range.to_string(),
        reception: match rule.reception {
            relay::Reception::Blocked => Reception::Blocked,
            relay::Reception::Welcome => Reception::Welcome,
        },
        until: rule.until,
        note: rule.note,
        made_at: rule.made_at,
        made_by: rule.made_by,
    }
}
