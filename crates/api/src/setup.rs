//! The house as one file.

use std::net::SocketAddr;

use axum::Json;
use axum::extract::{ConnectInfo, State};
use axum::http::HeaderMap;
use serde_json::json;
use waverant_house::{Deed, SetupRequest};
use waverant_model as model;
use waverant_model::{
    ApplySetup, Invitation, MadeSetupSecret, PresentPassword, ReviewSetup, SetupApplied, SetupFile, SetupKey,
    SetupReview, SetupSecret,
};

use crate::act_detail::Detail;
use crate::input::Body;
use crate::proof::require_all;
use crate::rights::Caller;
use crate::{ApiError, ApiState, keys};

/// The longest list of changes in the record of who did what.
const CHANGES_NOTED: usize = 100;

/// The house as a set-up file, without secrets
#[utoipa::path(get, path = "/setup", responses((status = 200, body = SetupFile)))]
pub(super) async fn export_setup(State(state): State<ApiState>) -> Result<Json<SetupFile>, ApiError> {
    let (text, _) = state.house.setup_text().await?;
    Ok(Json(SetupFile { text }))
}

/// The secrets that the set-up file refers to, told to who proves to be an administrator; it is written down who asked
#[utoipa::path(post, path = "/setup/secrets", request_body = PresentPassword, responses((status = 200, body = Vec<SetupSecret>)))]
pub(super) async fn reveal_setup_secrets(
    State(state): State<ApiState>,
    ConnectInfo(peer): ConnectInfo<SocketAddr>,
    caller: Caller,
    Body(form): Body<PresentPassword>,
) -> Result<Json<Vec<SetupSecret>>, ApiError> {
    require_all(&state, peer, &caller.user, form).await?;
    let (_, secrets) = state.house.setup_text().await?;
    tracing::warn!(count = secrets.len(), by = %caller.actor, "the secrets of the set-up are told");
    let told = secrets.into_iter().map(|(reference, secret)| SetupSecret {
        reference: reference.to_string(),
        value: secret.reveal().to_owned().into(),
    });
    Ok(Json(told.collect()))
}

/// What a set-up file would change; nothing is changed
#[utoipa::path(post, path = "/setup/review", request_body = ReviewSetup, responses((status = 200, body = SetupReview)))]
pub(super) async fn review_setup(
    State(state): State<ApiState>,
    caller: Caller,
    Body(form): Body<ReviewSetup>,
) -> Result<Json<SetupReview>, ApiError> {
    let request = asked(form.text, form.secrets, form.removes_unlisted);
    let plan = state.house.review_setup(request, &caller.actor).await?;
    Ok(Json(SetupReview {
        changes: plan.changes.into_iter().map(change).collect(),
        faults: plan.faults.into_iter().map(fault).collect(),
        wanted: plan.wanted.into_iter().map(wanted).collect(),
        remarks: plan.remarks,
        unlisted: plan.unlisted.into_iter().map(thing).collect(),
        mark: plan.mark,
    }))
}

/// Make the house as a set-up file says: all of it, or nothing. This answer is the only place where keys that were made
/// are shown
#[utoipa::path(post, path = "/setup/apply", request_body = ApplySetup, responses((status = 200, body = SetupApplied)))]
pub(super) async fn apply_setup(
    State(state): State<ApiState>,
    caller: Caller,
    headers: HeaderMap,
    Body(form): Body<ApplySetup>,
) -> Result<(Detail, Json<SetupApplied>), ApiError> {
    let request = asked(form.text, form.secrets, form.removes_unlisted);
    let applied = state.house.apply_setup(request, form.reviewed, caller.actor.clone()).await?;
    applied.people.iter().for_each(|name| state.seen_tokens.forget_person(name));
    let keys = applied
        .keys
        .into_iter()
        .map(|made| SetupKey { channel: made.channel.name.clone(), key: keys::told(&state, &headers, made) });
    let invitations = applied.invitations.into_iter().map(|made| Invitation {
        name: made.name,
        code: made.code.reveal().to_owned(),
        ends_at: made.ends_at,
    });
    let secrets = applied
        .secrets
        .into_iter()
        .map(|made| MadeSetupSecret { name: made.name, secret: made.secret.reveal().to_owned() });
    let told = SetupApplied {
        keys: keys.collect(),
        invitations: invitations.collect(),
        secrets: secrets.collect(),
        changes: applied.changes.into_iter().map(change).collect(),
        remarks: applied.remarks,
    };
    Ok((noted(&told), Json(told)))
}

/// What is kept of it: which things, and not each field of hundreds.
fn noted(told: &SetupApplied) -> Detail {
    let one = |change: &model::SetupChange| {
        let deed = match change.deed {
            model::SetupDeed::Adds => "adds",
            model::SetupDeed::Changes => "changes",
            model::SetupDeed::Removes => "removes",
        };
        let of = change.thing.channel.as_ref().map(|channel| format!(" of {channel}")).unwrap_or_default();
        format!("{deed} {} {}{of}", change.thing.kind, change.thing.name)
    };
    let changes: Vec<String> = told.changes.iter().take(CHANGES_NOTED).map(one).collect();
    Detail::made("set-up", &json!({ "count": told.changes.len(), "changes": changes }))
}

fn asked(text: String, secrets: Vec<SetupSecret>, removes_unlisted: bool) -> SetupRequest {
    let secrets = secrets.into_iter().map(|secret| (secret.reference, secret.value)).collect();
    SetupRequest { text, secrets, removes_unlisted }
}

fn number(number: usize) -> u32 {
    u32::try_from(number).unwrap_or(u32::MAX)
}

fn thing(from: waverant_house::Thing) -> model::SetupThing {
    model::SetupThing { kind: from.kind.to_owned(), channel: from.channel, name: from.name }
}

fn change(from: waverant_house::SetupChange) -> model::SetupChange {
    model::SetupChange {
        deed: match from.deed {
            Deed::Adds => model::SetupDeed::Adds,
            Deed::Changes => model::SetupDeed::Changes,
            Deed::Removes => model::SetupDeed::Removes,
        },
        thing: thing(from.thing),
        fields: from
            .fields
            .into_iter()
            .map(|one| model::SetupField { field: one.field, before: one.before, after: one.after })
            .collect(),
        on_air: from.on_air,
        line: from.place.map(|place| number(place.line)),
    }
}

fn fault(from: waverant_house::SetupFault) -> model::SetupFault {
    model::SetupFault {
        line: number(from.place.line),
        column: number(from.place.column),
        at: from.at.to_string(),
        text: from.text,
    }
}

fn wanted(from: waverant_house::WantedSecret) -> model::SetupWanted {
    model::SetupWanted {
        reference: from.reference.to_string(),
        at: from.at,
        line: number(from.place.line),
        is_given: from.is_given,
    }
}
