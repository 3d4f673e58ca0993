//! What a take holds, over HTTP: ranges, validators, digests.

use std::io;
use std::sync::Arc;

use axum::body::Body;
use axum::http::{HeaderMap, HeaderName, HeaderValue, StatusCode, header};
use axum::response::{IntoResponse, Response};
use base64::Engine as _;
use base64::engine::general_purpose::STANDARD;
use bytes::Bytes;
use futures_util::stream;
use http_range_header::parse_range_header;
use waverant_library::TakeBytes;

/// Bytes that are read at once, and held for who takes them slowly.
const CHUNK: u64 = 64 * 1024;

/// Answers with all bytes, one range of them, or the news that nothing changed.
///
/// Source: RFC 9110, 13.2.2 and 14
pub fn serve_take(bytes: Arc<TakeBytes>, download: bool, asked: &HeaderMap) -> Response {
    let text = |name: HeaderName| asked.get(name).and_then(|value| value.to_str().ok());
    let has_tag = |tags: &str| bytes.etag.as_deref().is_some_and(|own| tags.split(',').any(|tag| tag.trim() == own));
    let headers = common_headers(&bytes, download);
    if text(header::IF_NONE_MATCH).is_some_and(|tags| tags.trim() == "*" || has_tag(tags)) {
        return (StatusCode::NOT_MODIFIED, headers).into_response();
    }
    // A part of another file than the one that was begun with would be of no use.
    let may_be_part = text(header::IF_RANGE).is_none_or(has_tag);
    let wanted = text(header::RANGE).filter(|_| may_be_part).and_then(|range| parse_range_header(range).ok());
    let Some(wanted) = wanted else {
        let body = body(bytes.clone(), 0, bytes.length);
        return (StatusCode::OK, headers, [(header::CONTENT_LENGTH, bytes.length)], body).into_response();
    };
    match wanted.validate(bytes.length) {
        Ok(ranges) if ranges.len() == 1 => {
            let (first, last) = (*ranges[0].start(), *ranges[0].end());
            let told = format!("bytes {first}-{last}/{}", bytes.length);
            let part = [(header::CONTENT_RANGE, told), (header::CONTENT_LENGTH, (last - first + 1).to_string())];
            (StatusCode::PARTIAL_CONTENT, headers, part, body(bytes, first, last + 1)).into_response()
        }
        // Several ranges may be answered with the whole.
        Ok(_) => {
            let body = body(bytes.clone(), 0, bytes.length);
            (StatusCode::OK, headers, [(header::CONTENT_LENGTH, bytes.length)], body).into_response()
        }
        Err(_) => {
            let told = format!("bytes */{}", bytes.length);
            (StatusCode::RANGE_NOT_SATISFIABLE, [(header::CONTENT_RANGE, told)]).into_response()
        }
    }
}

fn common_headers(bytes: &TakeBytes, download: bool) -> HeaderMap {
    let mut headers = HeaderMap::new();
    let mut set = |name: HeaderName, text: &str| {
        if let Ok(value) = HeaderValue::from_str(text) {
            headers.insert(name, value);
        }
    };
    set(header::CONTENT_TYPE, bytes.media_type);
    set(header::ACCEPT_RANGES, "bytes");
    match &bytes.etag {
        Some(etag) => {
            set(header::ETAG, etag);
            set(header::CACHE_CONTROL, "private, no-cache");
        }
        None => set(header::CACHE_CONTROL, "no-store"),
    }
    if let Some(digest) = &bytes.sha256 {
        // Source: RFC 9530, 3
        set(HeaderName::from_static("repr-digest"), &format!("sha-256=:{}:", STANDARD.encode(digest)));
    }
    set(header::CONTENT_DISPOSITION, &disposition(&bytes.file_name, download));
    headers
}

/// Names with other letters than those of ASCII are told twice.
///
/// Source: RFC 6266, 4.3 and RFC 8187, 3.2
fn disposition(name: &str, download: bool) -> String {
    let kind = if download { "attachment" } else { "inline" };
    let plain: String = name.chars().map(|letter| if letter.is_ascii() { letter } else { '_' }).collect();
    if plain == name {
        return format!("{kind}; filename=\"{plain}\"");
    }
    let is_plain = |byte: u8| byte.is_ascii_alphanumeric() || b"-._".contains(&byte);
    let encoded: String = name
        .bytes()
        .map(|byte| if is_plain(byte) { char::from(byte).to_string() } else { format!("%{byte:02X}") })
        .collect();
    format!("{kind}; filename=\"{plain}\"; filename*=UTF-8''{encoded}")
}

fn body(bytes: Arc<TakeBytes>, from: u64, until: u64) -> Body {
    in_chunks(from, until, move |at, into: &mut [u8]| bytes.read_at(at, into))
}

/// Reads chunk by chunk, off the runtime's threads, as fast as the client takes them.
pub(crate) fn in_chunks<R>(from: u64, until: u64, read_at: R) -> Body
where
    R: Fn(u64, &mut [u8]) -> io::Result<()> + Send + Sync + 'static,
{
    let read_at = Arc::new(read_at);
    let chunks = stream::unfold(from, move |at| {
        let read_at = read_at.clone();
        async move {
            if at >= until {
                return None;
            }
            let next = (at + CHUNK).min(until);
            let read = tokio::task::spawn_blocking(move || {
                let mut chunk = vec![0; usize::try_from(next - at).unwrap_or(0)];
                read_at(at, &mut chunk).map(|()| Bytes::from(chunk))
            });
            Some((read.await.map_err(io::Error::other).flatten(), next))
        }
    });
    Body::from_stream(chunks)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn names_are_told_to_old_and_new_browsers() {
        assert_eq!(disposition("a take.mp4", true), "attachment; filename=\"a take.mp4\"");
        let told = disposition("ruderhaus-fähre.mp4", false);
        assert_eq!(told, "inline; filename=\"ruderhaus-f_hre.mp4\"; filename*=UTF-8''ruderhaus-f%C3%A4hre.mp4");
    }
}
