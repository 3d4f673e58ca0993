//! People of the crew: who is let in, and what they may do.

use std::net::SocketAddr;
use std::time::Instant;

use axum::Json;
use axum::extract::{ConnectInfo, State};
use axum::http::StatusCode;
use axum::response::{IntoResponse, Response};
use time::{Duration, OffsetDateTime};
use waverant_house::{check_password, check_user_name, role_of};
use waverant_model::{
    AcceptInvitation, AddPerson, ChangePerson, ChannelRole, Invitation, InvitationCode, InvitePerson, Invited, Me,
    Person, Role,
};
use waverant_net::caller_of;
use waverant_relay::{Grants, Secret};
use waverant_store::User;

use crate::act_detail::Detail;
use crate::credentials::ConsoleCookie;
use crate::input::{Body, Path};
use crate::proof::require_second_factor;
use crate::rights::Caller;
use crate::tell_people::told_grants;
use crate::tokens::unbounded;
use crate::{ApiError, ApiState, auth};

/// How long an invitation is good if nobody says, and at most, in hours.
const USUAL_HOURS: u32 = 72;
const MOST_HOURS: u32 = 720;

/// Under this name wrong codes are counted; no person can have it.
const NOBODY: &str = " invitation";

/// Everybody of the crew
#[utoipa::path(get, path = "/people", responses((status = 200, body = Vec<Person>)))]
pub(super) async fn list_people(State(state): State<ApiState>, caller: Caller) -> Result<Json<Vec<Person>>, ApiError> {
    let people = state.house.store().people(OffsetDateTime::now_utc()).await?;
    let directory = state.house.directory();
    let told = |person: waverant_store::Person| Person {
        is_you: person.user.id == caller.user.id,
        role: told_grants(&person.user.grants, &directory).0,
        channels: told_grants(&person.user.grants, &directory).1,
        name: person.user.name,
        created_at: person.created_at,
        has_password: person.has_password,
        has_second_factor: person.user.has_second_factor,
        invited_until: person.invited_until,
        last_seen_at: person.last_seen_at,
    };
    Ok(Json(people.into_iter().map(told).collect()))
}

/// Let somebody in; the answer is the only place where the one-time code is shown
#[utoipa::path(post, path = "/people", request_body = AddPerson, responses((status = 201, body = Invitation)))]
pub(super) async fn add_person(
    State(state): State<ApiState>,
    caller: Caller,
    Body(form): Body<AddPerson>,
) -> Result<(StatusCode, Detail, Json<Invitation>), ApiError> {
    check_user_name(&form.name)?;
    let (now, ends_at) = (OffsetDateTime::now_utc(), end_of(form.hours)?);
    let grants = meant_grants(&state, form.role, &form.channels)?;
    state.house.store().add_person(&form.name, &grants, now).await?;
    let code = state.house.store().invite(&form.name, ends_at, false).await?;
    tracing::info!(person = form.name, %grants, by = %caller.actor, "a person is let in");
    let detail = Detail::made(format!("person {}", form.name), &roles(&state, &grants));
    Ok((StatusCode::CREATED, detail, Json(Invitation { name: form.name, code: code.reveal().to_owned(), ends_at })))
}

/// Give a person other roles; they hold at once, for everything that is signed in
#[utoipa::path(patch, path = "/people/{person}", params(("person" = String, Path)), request_body = ChangePerson, responses((status = 204)))]
pub(super) async fn change_person(
    State(state): State<ApiState>,
    caller: Caller,
    Path(name): Path<String>,
    Body(form): Body<ChangePerson>,
) -> Result<(StatusCode, Detail), ApiError> {
    let grants = meant_grants(&state, form.role, &form.channels)?;
    let before = state.house.store().change_grants(&name, &grants).await?;
    state.seen_tokens.forget_person(&name);
    tracing::info!(person = name, %grants, by = %caller.actor, "a person has other roles");
    let detail = Detail::changed(&roles(&state, &before), &roles(&state, &grants));
    Ok((StatusCode::NO_CONTENT, detail))
}

/// Remove a person; all that is signed in ends within five seconds
#[utoipa::path(delete, path = "/people/{person}", params(("person" = String, Path)), responses((status = 204)))]
pub(super) async fn remove_person(
    State(state): State<ApiState>,
    caller: Caller,
    Path(name): Path<String>,
) -> Result<(StatusCode, Detail), ApiError> {
    let removed = state.house.store().remove_person(&name).await?;
    state.seen_tokens.forget_person(&name);
    tracing::info!(person = name, by = %caller.actor, "a person is removed");
    Ok((StatusCode::NO_CONTENT, Detail::removed(&roles(&state, &removed.grants))))
}

/// Make another one-time code: for who lost the password, or whose invitation ended
#[utoipa::path(post, path = "/people/{person}/invitation", params(("person" = String, Path)), request_body = InvitePerson, responses((status = 201, body = Invitation)))]
pub(super) async fn invite_again(
    State(state): State<ApiState>,
    caller: Caller,
    Path(name): Path<String>,
    Body(form): Body<InvitePerson>,
) -> Result<(StatusCode, Detail, Json<Invitation>), ApiError> {
    let ends_at = end_of(form.hours)?;
    let code = state.house.store().invite(&name, ends_at, form.drops_second_factor).await?;
    tracing::info!(person = name, by = %caller.actor, "a person is invited again");
    let drops = serde_json::json!({ "drops_second_factor": form.drops_second_factor });
    let detail = Detail::made(format!("person {name}"), &drops);
    Ok((StatusCode::CREATED, detail, Json(Invitation { name, code: code.reveal().to_owned(), ends_at })))
}

/// Whom a one-time code invites
#[utoipa::path(post, path = "/invitations/look", request_body = InvitationCode, security(()), responses((status = 200, body = Invited)))]
pub(super) async fn look_at_invitation(
    State(state): State<ApiState>,
    ConnectInfo(peer): ConnectInfo<SocketAddr>,
    Body(form): Body<InvitationCode>,
) -> Result<Json<Invited>, ApiError> {
    let user = invited(&state, peer, &Secret::new(form.code.reveal())).await?;
    Ok(Json(Invited { name: user.name, needs_second_factor: user.has_second_factor }))
}

/// Choose a password by a one-time code, and sign in; all that was signed in before ends
#[utoipa::path(post, path = "/invitations/accept", request_body = AcceptInvitation, security(()), responses((status = 200, body = Me)))]
pub(super) async fn accept_invitation(
    State(state): State<ApiState>,
    ConnectInfo(peer): ConnectInfo<SocketAddr>,
    cookie: ConsoleCookie,
    Body(form): Body<AcceptInvitation>,
) -> Result<Response, ApiError> {
    let code = Secret::new(form.code.reveal());
    let user = invited(&state, peer, &code).await?;
    let password = Secret::new(form.password.reveal());
    check_password(&password, &user.name)?;
    require_second_factor(&state, &user, (form.second_factor, None)).await?;
    // Of two who have the code the second finds it used.
    if !state.house.store().accept(&user, &code, &password).await? {
        return Err(ApiError::WrongCode);
    }
    state.seen_tokens.forget_person(&user.name);
    tracing::info!(person = user.name, %peer, "an invitation is accepted");
    let detail = Detail::by(&user.name);
    let response = auth::welcome(&state, &cookie, user, form.token_label.map(unbounded)).await?;
    Ok((detail, response).into_response())
}

/// Who is invited by a code. Wrong ones count as wrong passwords do.
async fn invited(state: &ApiState, peer: SocketAddr, code: &Secret) -> Result<User, ApiError> {
    let address = caller_of(peer.ip());
    {
        let (mut guesses, now) = (state.guesses.lock(), Instant::now());
        if let Some(wait) = guesses.must_wait(now, address, NOBODY) {
            return Err(ApiError::SlowDown(wait));
        }
        guesses.wrong(now, address, NOBODY);
    }
    let found = state.house.store().invited(code, OffsetDateTime::now_utc()).await;
    let found = found.inspect_err(|_| state.guesses.lock().forgive(address, NOBODY))?;
    let user = found.ok_or(ApiError::WrongCode)?;
    state.guesses.lock().forgive(address, NOBODY);
    Ok(user)
}

/// Roles, as the record of who did what tells them.
fn roles(state: &ApiState, grants: &Grants) -> ChangePerson {
    let (role, channels) = told_grants(grants, &state.house.directory());
    ChangePerson { role, channels }
}

/// The roles that somebody is to have.
fn meant_grants(state: &ApiState, house: Option<Role>, channels: &[ChannelRole]) -> Result<Grants, ApiError> {
    if house.is_none() && channels.is_empty() {
        return Err(ApiError::invalid("role", "a role in the house or on a channel is needed"));
    }
    if channels.iter().any(|own| own.role == Role::Administrator) {
        return Err(ApiError::invalid("channels", "administrator is a role in the house, not on a channel"));
    }
    let own = |own: &ChannelRole| Ok((state.house.channel_id(&own.channel)?, role_of(own.role)));
    let own: Result<Vec<_>, ApiError> = channels.iter().map(own).collect();
    Ok(Grants::new(house.map(role_of), own?))
}

fn end_of(hours: Option<u32>) -> Result<OffsetDateTime, ApiError> {
    let hours = hours.unwrap_or(USUAL_HOURS);
    if !(1..=MOST_HOURS).contains(&hours) {
        return Err(ApiError::invalid("hours", format!("{hours} is not between 1 and {MOST_HOURS}")));
    }
    Ok(OffsetDateTime::now_utc() + Duration::hours(hours.into()))
}
