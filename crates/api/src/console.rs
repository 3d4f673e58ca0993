use axum::extract::State;
use axum::http::{StatusCode, Uri, header};
use axum::response::{IntoResponse, Response};
use rust_embed::RustEmbed;

use crate::ApiState;
use crate::server::ConsolePath;

/// The console as it was built; absent in a build without it.
#[derive(RustEmbed)]
#[folder = "../../console/dist"]
#[allow_missing = true]
struct Files;

/// Answers with a file of the console. Its pages are one document that looks at the address.
pub(super) async fn serve(State(state): State<ApiState>, uri: Uri) -> Response {
    let path = uri.path().trim_start_matches('/');
    let (name, file) = match Files::get(path) {
        Some(file) if !path.is_empty() => (path, file),
        _ if path.starts_with("assets/") => return StatusCode::NOT_FOUND.into_response(),
        _ => match Files::get("index.html") {
            Some(file) => ("index.html", file),
            None => return (StatusCode::NOT_FOUND, "This build of waverantd holds no console.").into_response(),
        },
    };
    // Names below assets/ change with their content.
    let caching = if name.starts_with("assets/") { "public, max-age=31536000, immutable" } else { "no-cache" };
    let headers = [(header::CONTENT_TYPE, media_type(name)), (header::CACHE_CONTROL, caching)];
    if name == "index.html" {
        return (headers, page_under(&state.console_path, &file.data)).into_response();
    }
    (headers, file.data).into_response()
}

/// The page says itself under which path it lies: all addresses in it are told from there.
fn page_under(path: &ConsolePath, page: &[u8]) -> String {
    String::from_utf8_lossy(page).replace("<base href=\"/\"", &format!("<base href=\"{path}/\""))
}

fn media_type(name: &str) -> &'static str {
    match name.rsplit('.').next() {
        Some("html") => "text/html; charset=utf-8",
        Some("js") => "text/javascript",
        Some("css") => "text/css",
        Some("svg") => "image/svg+xml",
        Some("woff2") => "font/woff2",
        Some("json") => "application/json",
        _ => "application/octet-stream",
    }
}
