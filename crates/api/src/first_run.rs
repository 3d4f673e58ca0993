use std::fs::{self, OpenOptions};
use std::io::Write;
use std::os::unix::fs::OpenOptionsExt;
use std::path::{Path, PathBuf};

use axum::Json;
use axum::extract::State;
use axum::response::{IntoResponse, Response};
use parking_lot::Mutex;
use time::OffsetDateTime;
use waverant_house::{check_password, check_user_name};
use waverant_model::{Administrator, FirstRunState, Me};
use waverant_relay::Secret;
use waverant_store::{Store, StoreError, new_one_time_code};

use crate::act_detail::Detail;
use crate::credentials::ConsoleCookie;
use crate::input::Body;
use crate::tokens::unbounded;
use crate::{ApiError, ApiState, auth};

/// Name of the file in the state folder.
const FILE_NAME: &str = "first-run-code";

/// Wrong tries after which the code is no longer taken.
const MAX_TRIES: u32 = 10;

/// The way to the first administrator: a code that is printed at the start, works once, and
/// exists only while there is no user.
#[derive(Debug)]
pub struct FirstRun {
    open: Mutex<Option<(Secret, u32)>>,
    file: PathBuf,
}

impl FirstRun {
    /// Makes a code if there is no user, and writes it into the state folder.
    ///
    /// # Errors
    /// [`StoreError`] if the database does not answer.
    pub async fn new(store: &Store, state_folder: &Path) -> Result<Self, StoreError> {
        let file = state_folder.join(FILE_NAME);
        let _ = fs::remove_file(&file);
        if !store.has_no_users().await? {
            return Ok(Self { open: Mutex::new(None), file });
        }
        let code = new_one_time_code();
        let made = OpenOptions::new().write(true).create_new(true).mode(0o600).open(&file);
        if let Err(error) = made.and_then(|mut made| made.write_all(code.reveal().as_bytes())) {
            tracing::warn!(file = %file.display(), %error, "the one-time code could not be written to its file");
        }
        Ok(Self { open: Mutex::new(Some((code, 0))), file })
    }

    /// The code, while it is valid.
    pub fn code(&self) -> Option<Secret> {
        self.open.lock().as_ref().map(|(code, _)| code.clone())
    }

    fn try_code(&self, given: &str) -> bool {
        let mut open = self.open.lock();
        let Some((code, tries)) = open.as_mut() else { return false };
        if code.reveal() == given.trim() {
            return true;
        }
        *tries += 1;
        if *tries >= MAX_TRIES {
            tracing::warn!("too many wrong one-time codes; restart the service for a new one");
            *open = None;
        }
        false
    }

    fn close(&self) {
        *self.open.lock() = None;
        let _ = fs::remove_file(&self.file);
    }
}

/// Whether the first administrator is still to be made
#[utoipa::path(get, path = "/first-run", security(()), responses((status = 200, body = FirstRunState)))]
pub(super) async fn first_run_state(State(state): State<ApiState>) -> Json<FirstRunState> {
    Json(FirstRunState { is_needed: state.first_run.code().is_some() })
}

/// Make the first administrator and sign in
#[utoipa::path(post, path = "/first-run", request_body = Administrator, security(()), responses((status = 200, body = Me)))]
pub(super) async fn complete_first_run(
    State(state): State<ApiState>,
    cookie: ConsoleCookie,
    Body(form): Body<Administrator>,
) -> Result<Response, ApiError> {
    if !state.first_run.try_code(form.code.reveal()) {
        return Err(ApiError::WrongCode);
    }
    let password = Secret::new(form.password.reveal());
    check_user_name(&form.name)?;
    check_password(&password, &form.name)?;
    // The code opens once: of two who have it, the second finds it used.
    let first = state.house.store().add_first_user(&form.name, &password, OffsetDateTime::now_utc()).await?;
    let user = first.ok_or(ApiError::WrongCode)?;
    state.first_run.close();
    tracing::info!(name = user.name, "the first administrator was made");
    let detail = Detail::by(&user.name);
    let response = auth::welcome(&state, &cookie, user, form.token_label.map(unbounded)).await?;
    Ok((detail, response).into_response())
}
