//! The HTTP API under `/api/v1`, and the console's files. Handlers are thin: they ask the house, and tell what it says.

mod act_detail;
mod acts;
mod address_rules;
mod addresses;
mod auth;
mod board;
mod call_targets;
mod capacity;
mod certificate;
mod channels;
mod console;
mod course;
mod credentials;
mod depots;
mod destinations;
mod error;
mod fetch;
mod findings;
mod first_run;
mod house_systems;
mod input;
mod keys;
mod live;
mod log;
mod metrics;
mod noting;
mod origin;
mod outside;
mod passkey_calls;
mod passkeys;
mod people;
mod pictures;
mod proof;
mod recordings;
mod rehearsals;
mod rights;
mod second_factor;
mod seen_tokens;
mod server;
mod sessions;
mod setup;
mod slates;
mod support;
mod takes;
mod tell;
mod tell_calls;
mod tell_findings;
mod tell_house_systems;
mod tell_jobs;
mod tell_people;
mod tell_viewing;
mod timeline;
mod to_https;
mod tokens;
mod viewing;

use std::sync::Arc;

use axum::Router;
use axum::extract::DefaultBodyLimit;
use axum::http::{HeaderName, HeaderValue, header};
use axum::middleware::{from_fn, from_fn_with_state};
use axum::routing::get;
use parking_lot::Mutex;
use tower_http::set_header::SetResponseHeaderLayer;
use utoipa::OpenApi;
use utoipa::openapi::security::{Http, HttpAuthScheme, SecurityScheme};
use utoipa::openapi::{Content, Ref, ResponseBuilder};
use utoipa_axum::router::OpenApiRouter;
use utoipa_axum::routes;
use waverant_house::{House, MAX_POSTER_BYTES};
use waverant_library::MAX_SLATE_BYTES;
use waverant_model::VERSION_HEADER;
use waverant_relay::{Guesses, Role};

pub use certificate::CertificateDesk;
pub use first_run::FirstRun;
pub use log::{LogDesk, LogLevel, LogLine, LogRing};
pub use metrics::MetricsAccess;
pub use outside::OutsideDesk;
pub use server::{ConsolePath, HttpDoors, HttpListener, NoConsolePath, NoProxyHeader, Proxies, ProxyHeader, serve};
pub use to_https::to_https;

pub(crate) use error::ApiError;
use live::Boards;
use noting::Refusals;
use passkeys::Ceremonies;
use seen_tokens::SeenTokens;
use support::SupportDesk;

/// What the path of every call begins with.
const PREFIX: &str = "/api/v1";

/// Scripts, styles and pictures come from here only, and from files: nothing that stands in a page is run. The console
/// is never framed.
const CONTENT_POLICY: &str = "default-src 'self'; img-src 'self' data:; media-src 'self' blob:; object-src 'none'; \
    frame-ancestors 'none'; base-uri 'self'; form-action 'self'";

/// What problems are told as. Source: RFC 9457
const PROBLEM: &str = "application/problem+json";

/// The longest body of a call that needs no token, in bytes.
const STRANGERS_BODY: usize = 4096;

/// The longest call with a set-up file: its text, quoted, and secrets.
const SETUP_BODY: usize = 10 * 1024 * 1024;

/// The longest body of a call about one's account, in bytes: what a device says of a new passkey is the longest.
const ACCOUNT_BODY: usize = 32 * 1024;

/// What API calls share.
#[derive(Clone, Debug)]
pub struct ApiState {
    house: Arc<House>,
    first_run: Arc<FirstRun>,
    host: Arc<str>,
    console_path: ConsolePath,
    second_factor_from: Option<Role>,
    ports: Ports,
    guesses: Arc<Mutex<Guesses>>,
    ceremonies: Arc<Ceremonies>,
    seen_tokens: Arc<SeenTokens>,
    refusals: Arc<Refusals>,
    boards: Arc<Boards>,
    metrics: MetricsAccess,
    log: Arc<LogDesk>,
    support: Arc<SupportDesk>,
    certificate: CertificateDesk,
    outside: OutsideDesk,
}

/// Where encoders are taken, and viewers.
#[derive(Clone, Copy, Debug)]
pub struct Ports {
    /// Over RTMP.
    pub rtmp: u16,
    /// Over RTMP and TLS, if there is a certificate.
    pub rtmps: Option<u16>,
    /// Over SRT.
    pub srt: u16,
    /// Where viewers are.
    pub viewing: u16,
    /// Where they are over TLS, if there is a certificate.
    pub viewing_https: Option<u16>,
}

/// Where the house is found.
#[derive(Clone, Debug, Default)]
pub struct ConsoleSite {
    /// The name that is shown with stream keys; empty for the one that was called.
    pub host: String,
    /// The path of the console there.
    pub path: ConsolePath,
}

/// What people must keep to.
#[derive(Clone, Copy, Debug, Default)]
pub struct PeopleRules {
    /// Who may do what this role may, and more, has a second factor.
    pub second_factor_from: Option<Role>,
}

/// What the service tells of itself.
#[derive(Debug)]
pub struct Told {
    /// Who may read figures.
    pub metrics: MetricsAccess,
    /// The log.
    pub log: LogDesk,
    /// Settings by name, without secrets.
    pub settings: Vec<(String, String)>,
    /// The certificate.
    pub certificate: CertificateDesk,
    /// What is known of out there.
    pub outside: OutsideDesk,
}

impl ApiState {
    /// What callers of this house are told.
    pub fn new(
        house: Arc<House>,
        first_run: Arc<FirstRun>,
        site: ConsoleSite,
        rules: PeopleRules,
        ports: Ports,
        told: Told,
    ) -> Self {
        let ConsoleSite { host, path } = site;
        let Told { metrics, log, settings, certificate, outside } = told;
        Self {
            house,
            first_run,
            host: host.into(),
            console_path: path,
            second_factor_from: rules.second_factor_from,
            ports,
            guesses: Arc::default(),
            ceremonies: Arc::default(),
            seen_tokens: Arc::default(),
            refusals: Arc::default(),
            boards: Arc::default(),
            metrics,
            log: Arc::new(log),
            support: Arc::new(SupportDesk::new(settings)),
            certificate,
            outside,
        }
    }
}

#[derive(OpenApi)]
#[openapi(
    info(title = "Waverant", description = "Takes encoder streams, records them, and sends each to several platforms."),
    components(schemas(waverant_model::Problem)),
    security(("token" = []))
)]
struct Document;

fn api() -> OpenApiRouter<ApiState> {
    OpenApiRouter::with_openapi(Document::openapi())
        .merge(strangers_routes())
        .merge(account_routes())
        .routes(routes!(acts::list_acts))
        .routes(routes!(acts::export_acts))
        .routes(routes!(acts::list_channel_acts))
        .routes(routes!(people::list_people, people::add_person))
        .routes(routes!(people::change_person, people::remove_person))
        .routes(routes!(people::invite_again))
        .routes(routes!(channels::list_channels, channels::add_channel))
        .routes(routes!(channels::show_channel, channels::change_channel, channels::remove_channel))
        .merge(key_routes())
        .merge(house_system_routes())
        .merge(call_routes())
        .routes(routes!(channels::switch_destination, channels::unlink_destination))
        .routes(routes!(channels::end_session))
        .merge(slate_routes())
        .routes(routes!(findings::meanings))
        .routes(routes!(findings::carry_out))
        .merge(machine_routes())
        .routes(routes!(findings::ask))
        .routes(routes!(findings::mute, findings::unmute))
        .routes(routes!(recordings::start_recording))
        .routes(routes!(recordings::stop_recording))
        .routes(routes!(recordings::mark_recording))
        .routes(routes!(pictures::watch_pictures))
        .routes(routes!(pictures::channel_still))
        .routes(routes!(viewing::list_viewing_links, viewing::add_viewing_link))
        .routes(routes!(viewing::remove_viewing_link))
        .routes(routes!(viewing::list_viewers))
        .merge(poster_routes())
        .routes(routes!(rehearsals::begin_rehearsal))
        .routes(routes!(destinations::list_destinations, destinations::add_destination))
        .routes(routes!(destinations::change_destination, destinations::remove_destination))
        .routes(routes!(destinations::try_destination))
        .routes(routes!(destinations::reveal_destination))
        .routes(routes!(sessions::list_sessions))
        .routes(routes!(sessions::show_session))
        .routes(routes!(sessions::show_report))
        .routes(routes!(timeline::show_timeline))
        .routes(routes!(timeline::show_timeline_table))
        .routes(routes!(timeline::channel_timeline))
        .routes(routes!(timeline::machine_timeline))
        .routes(routes!(timeline::machine_timeline_table))
        .merge(take_routes())
        .merge(depot_routes())
        .merge(setup_routes())
        .routes(routes!(sessions::list_turned_away))
        .merge(address_routes())
        .routes(routes!(live::board))
        .routes(routes!(live::events))
        .routes(routes!(live::health))
}

/// What who is not signed in may send is short.
fn strangers_routes() -> OpenApiRouter<ApiState> {
    OpenApiRouter::new()
        .routes(routes!(first_run::first_run_state, first_run::complete_first_run))
        .routes(routes!(auth::sign_in))
        .routes(routes!(passkey_calls::ask_passkey))
        .routes(routes!(people::look_at_invitation))
        .routes(routes!(people::accept_invitation))
        .routes(routes!(keys::look_as_guest))
        .layer(DefaultBodyLimit::max(STRANGERS_BODY))
}

/// The machine, and how it is reached.
fn machine_routes() -> OpenApiRouter<ApiState> {
    OpenApiRouter::new()
        .routes(routes!(capacity::capacity))
        .routes(routes!(support::support_bundle))
        .routes(routes!(certificate::show_certificate))
        .routes(routes!(certificate::renew_certificate))
        .routes(routes!(outside::look_outside))
        .routes(routes!(outside::try_from_outside))
        .routes(routes!(log::read_log))
        .routes(routes!(log::set_log_level))
}

fn key_routes() -> OpenApiRouter<ApiState> {
    OpenApiRouter::new()
        .routes(routes!(keys::list_keys, keys::add_key))
        .routes(routes!(keys::add_keys))
        .routes(routes!(keys::change_key, keys::remove_key))
        .routes(routes!(keys::renew_key))
        .routes(routes!(keys::retire_key))
        .routes(routes!(keys::end_guest_link))
}

fn house_system_routes() -> OpenApiRouter<ApiState> {
    use house_systems as of;
    OpenApiRouter::new()
        .routes(routes!(of::show_house_system, of::set_house_system, of::remove_house_system))
        .routes(routes!(of::try_house_system))
        .routes(routes!(of::show_channel_house_system, of::set_channel_house_system, of::remove_channel_house_system))
        .routes(routes!(of::try_channel_house_system))
}

fn call_routes() -> OpenApiRouter<ApiState> {
    use call_targets as of;
    OpenApiRouter::new()
        .routes(routes!(of::list_call_targets, of::add_call_target))
        .routes(routes!(of::change_call_target, of::remove_call_target))
        .routes(routes!(of::try_call_target))
        .routes(routes!(of::list_deliveries))
        .routes(routes!(of::show_delivery))
        .routes(routes!(of::deliver_again))
}

fn depot_routes() -> OpenApiRouter<ApiState> {
    OpenApiRouter::new()
        .routes(routes!(depots::list_depots, depots::add_depot))
        .routes(routes!(depots::change_depot, depots::remove_depot))
        .routes(routes!(depots::try_depot))
}

/// A house of hundreds of channels is a long text.
fn setup_routes() -> OpenApiRouter<ApiState> {
    OpenApiRouter::new()
        .routes(routes!(setup::export_setup))
        .routes(routes!(setup::reveal_setup_secrets))
        .routes(routes!(setup::review_setup))
        .routes(routes!(setup::apply_setup))
        .layer(DefaultBodyLimit::max(SETUP_BODY))
}

fn address_routes() -> OpenApiRouter<ApiState> {
    OpenApiRouter::new()
        .routes(routes!(address_rules::list_addresses, address_rules::add_address_rule))
        .routes(routes!(address_rules::remove_address_rule))
        .routes(routes!(address_rules::release_address))
}

fn account_routes() -> OpenApiRouter<ApiState> {
    OpenApiRouter::new()
        .routes(routes!(auth::sign_out))
        .routes(routes!(auth::me))
        .routes(routes!(auth::change_password))
        .routes(routes!(second_factor::show_second_factor, second_factor::begin_second_factor))
        .routes(routes!(second_factor::confirm_second_factor))
        .routes(routes!(second_factor::renew_recovery_codes))
        .routes(routes!(second_factor::remove_second_factor))
        .routes(routes!(passkey_calls::begin_passkey))
        .routes(routes!(passkey_calls::confirm_passkey))
        .routes(routes!(passkey_calls::remove_passkey))
        .routes(routes!(passkey_calls::ask_own_passkey))
        .routes(routes!(tokens::list_tokens, tokens::add_token, tokens::remove_other_tokens))
        .routes(routes!(tokens::remove_token))
        .layer(DefaultBodyLimit::max(ACCOUNT_BODY))
}

fn take_routes() -> OpenApiRouter<ApiState> {
    OpenApiRouter::new()
        .routes(routes!(takes::list_takes))
        .routes(routes!(takes::show_take, takes::change_take, takes::remove_take))
        .routes(routes!(takes::undo_remove_take))
        .routes(routes!(fetch::fetch_take))
        .routes(routes!(fetch::fetch_progressive))
        .routes(routes!(fetch::fetch_sound))
        .routes(routes!(fetch::fetch_strip))
        .routes(routes!(fetch::fetch_still))
        .routes(routes!(takes::check_take))
        .routes(routes!(takes::mend_take))
        .routes(routes!(takes::cut_take))
        .routes(routes!(takes::copy_take))
        .routes(routes!(takes::restore_take))
        .routes(routes!(takes::link_take))
        .routes(routes!(takes::list_jobs))
        .routes(routes!(takes::show_job))
}

fn poster_routes() -> OpenApiRouter<ApiState> {
    OpenApiRouter::new()
        .routes(routes!(viewing::upload_poster, viewing::remove_poster))
        .layer(DefaultBodyLimit::max(MAX_POSTER_BYTES))
}

/// Clips are larger than anything else that is sent here.
fn slate_routes() -> OpenApiRouter<ApiState> {
    OpenApiRouter::new()
        .routes(routes!(slates::upload_slate, slates::show_slate, slates::remove_slate))
        .layer(DefaultBodyLimit::max(MAX_SLATE_BYTES))
}

/// The OpenAPI document as JSON.
pub fn openapi_document() -> String {
    let (_, mut document) = OpenApiRouter::new().nest(PREFIX, api()).split_for_parts();
    tell_of_problems(&mut document);
    if let Some(components) = &mut document.components {
        components.add_security_scheme("token", SecurityScheme::Http(Http::new(HttpAuthScheme::Bearer)));
    }
    document.to_pretty_json().unwrap_or_default()
}

/// Whatever an operation does not do, it says so in one form.
fn tell_of_problems(document: &mut utoipa::openapi::OpenApi) {
    let problem = Content::new(Some(Ref::from_schema_name("Problem")));
    let response = ResponseBuilder::new().description("Why it was not done").content(PROBLEM, problem).build();
    for item in document.paths.paths.values_mut() {
        let operations = [&mut item.get, &mut item.put, &mut item.post, &mut item.patch, &mut item.delete];
        for operation in operations.into_iter().flatten() {
            operation.responses.responses.insert("default".to_owned(), response.clone().into());
        }
    }
}

/// All routes: API, OpenAPI document, console.
pub fn router(state: ApiState) -> Router {
    let (api, _) = OpenApiRouter::new().nest(PREFIX, api()).split_for_parts();
    let fixed = |name: HeaderName, value: &'static str| {
        SetResponseHeaderLayer::if_not_present(name, HeaderValue::from_static(value))
    };
    api.route("/api/v1/openapi.json", get(document))
        // Everything so far is reached by the table of rights only.
        .route_layer(from_fn_with_state(state.clone(), rights::require))
        .route("/api/{*rest}", get(error::no_such_route))
        .route("/metrics", get(metrics::metrics))
        .route("/health/live", get(metrics::live))
        .route("/health/ready", get(metrics::ready))
        .fallback(console::serve)
        .with_state(state)
        .layer(from_fn(course::finish_changes))
        .layer(from_fn(course::answer_in_time))
        .layer(from_fn(origin::require_own_origin))
        .layer(from_fn(course::keep_nothing))
        .layer(from_fn(course::stay_on_tls))
        .layer(fixed(HeaderName::from_static(VERSION_HEADER), env!("CARGO_PKG_VERSION")))
        .layer(fixed(header::X_FRAME_OPTIONS, "DENY"))
        .layer(fixed(header::X_CONTENT_TYPE_OPTIONS, "nosniff"))
        .layer(fixed(header::REFERRER_POLICY, "no-referrer"))
        .layer(fixed(header::CONTENT_SECURITY_POLICY, CONTENT_POLICY))
}

async fn document() -> ([(HeaderName, &'static str); 1], String) {
    ([(header::CONTENT_TYPE, "application/json")], openapi_document())
}

#[cfg(test)]
mod tests {
    use std::collections::HashSet;

    #[test]
    fn operations_have_names_of_their_own() {
        let document: serde_json::Value = serde_json::from_str(&super::openapi_document()).unwrap();
        let paths = document["paths"].as_object().unwrap();
        let names: Vec<&str> = paths
            .values()
            .flat_map(|path| path.as_object().unwrap().values())
            .filter_map(|operation| operation["operationId"].as_str())
            .collect();
        assert!(names.len() > 20);
        assert_eq!(names.iter().collect::<HashSet<_>>().len(), names.len(), "{names:?}");
    }
}
