//! Who asks, and whether it may watch: by the channel's name where everybody may, or by a link.

use std::net::{IpAddr, Ipv4Addr, SocketAddr};
use std::sync::Arc;

use axum::extract::{ConnectInfo, RawPathParams, Request, State};
use axum::http::{HeaderMap, HeaderValue, Method, StatusCode, header};
use axum::middleware::Next;
use axum::response::{IntoResponse, Response};
use time::OffsetDateTime;
use waverant_house::{House, Spectator, ViewerSeat};
use waverant_relay::{Asker, Audience, ChannelRules, LinkFault, Site, ViewingLink, Way};
use waverant_show::Show;

use crate::{Fault, ViewingState};

/// What is kept of what a player calls itself, in bytes.
const MAX_PROGRAM: usize = 200;

/// For what is by link no cache between may answer: revoking and limits would not hold.
const PRIVATE: HeaderValue = HeaderValue::from_static("private, no-store");

/// Somebody who may watch a channel now.
#[derive(Clone, Debug)]
pub(crate) struct Access {
    pub(crate) rules: Arc<ChannelRules>,
    link: Option<Arc<ViewingLink>>,
    address: IpAddr,
    program: Arc<str>,
}

/// Lets nobody further who may not watch, and puts into each answer what caches and pages of other sites may do with
/// it.
pub(crate) async fn admit(
    State(state): State<ViewingState>,
    params: RawPathParams,
    mut request: Request,
    next: Next,
) -> Response {
    let params: Vec<(String, String)> =
        params.iter().map(|(name, value)| (name.to_owned(), value.to_owned())).collect();
    let access = match Access::find(&state.house, &params, &request) {
        Ok(access) => Arc::new(access),
        Err(fault) => return fault.into_response(),
    };
    let origin = request.headers().get(header::ORIGIN).cloned();
    let mut response = if request.method() == Method::OPTIONS {
        let allowed = [
            (header::ACCESS_CONTROL_ALLOW_METHODS, "GET, HEAD"),
            (header::ACCESS_CONTROL_ALLOW_HEADERS, "range"),
            (header::ACCESS_CONTROL_MAX_AGE, "600"),
        ];
        (StatusCode::NO_CONTENT, allowed).into_response()
    } else {
        request.extensions_mut().insert(access.clone());
        next.run(request).await
    };
    access.mark(&mut response, origin.as_ref());
    response
}

impl Access {
    fn find(house: &House, params: &[(String, String)], request: &Request) -> Result<Self, Fault> {
        let param = |wanted: &str| params.iter().find(|(name, _)| name == wanted).map(|(_, value)| value.as_str());
        let directory = house.directory();
        let (rules, link) = if let Some(token) = param("token") {
            let link = directory.link(token).ok_or(Fault::NotOpen)?;
            let rules = directory.channel(link.channel_id).ok_or(Fault::NotOpen)?;
            check_link(link, request.headers())?;
            (rules, Some(link.clone()))
        } else {
            let rules = param("channel").and_then(|name| directory.channel_named(name)).ok_or(Fault::NotOpen)?;
            (rules, None)
        };
        let is_open = match rules.viewing.audience {
            // Whoever made a link to a take meant it, whether or not shows are seen.
            _ if link.as_ref().is_some_and(|link| link.take.is_some()) => true,
            Audience::Nobody => false,
            Audience::ByLink => link.is_some(),
            Audience::Everybody => true,
        };
        let peer = request.extensions().get::<ConnectInfo<SocketAddr>>().map(|ConnectInfo(peer)| peer.ip());
        if link.is_none() && peer.is_some_and(|address| house.is_shut_out(address)) {
            return Err(Fault::Blocked);
        }
        let program = text_of(request.headers(), &header::USER_AGENT);
        let access = Self {
            rules: rules.clone(),
            link,
            address: peer.unwrap_or(IpAddr::V4(Ipv4Addr::UNSPECIFIED)),
            program: program.chars().take(MAX_PROGRAM).collect::<String>().into(),
        };
        if is_open { Ok(access) } else { Err(Fault::NotOpen) }
    }

    /// Whether who watches may go on. A link that was revoked or has ended, and a channel that was closed, end it.
    pub(crate) fn may_go_on(&self, house: &House, way: Way) -> bool {
        let directory = house.directory();
        let Some(rules) = directory.channel(self.rules.id) else { return false };
        if !rules.viewing.ways.has(way) {
            return false;
        }
        match (&self.link, rules.viewing.audience) {
            (None, _) if house.is_shut_out(self.address) => false,
            (_, Audience::Nobody) if self.take().is_none() => false,
            (None, audience) => audience == Audience::Everybody,
            (Some(link), _) => {
                directory.link_numbered(link.id).is_some_and(|link| !link.has_ended(OffsetDateTime::now_utc()))
            }
        }
    }

    /// The show of the channel, while packets come. A rehearsal is for the house, and for who has a link to it.
    pub(crate) fn show_on_air(&self, house: &House) -> Option<Arc<Show>> {
        let show = house.show(self.rules.id).filter(|show| !show.live().has_ended() && self.take().is_none());
        show.filter(|show| !show.is_rehearsal() || self.sees_rehearsals())
    }

    /// The take that the link leads to, instead of to what is on air.
    pub(crate) fn take(&self) -> Option<(u64, u32)> {
        self.link.as_ref()?.take
    }

    pub(crate) fn sees_rehearsals(&self) -> bool {
        self.link.as_ref().is_some_and(|link| link.shows_rehearsals)
    }

    /// The sites whose pages may show what this opens; none for all.
    pub(crate) fn sites(&self) -> &[Site] {
        self.link.as_ref().map_or(&self.rules.viewing.sites, |link| &link.sites)
    }

    pub(crate) fn is_by_link(&self) -> bool {
        self.link.is_some()
    }

    fn spectator(&self, way: Way) -> Spectator<'_> {
        Spectator { address: self.address, program: &self.program, link: self.link.as_deref(), way }
    }

    fn require(&self, way: Way) -> Result<(), Fault> {
        if self.rules.viewing.ways.has(way) { Ok(()) } else { Err(Fault::WayClosed) }
    }

    /// A seat for a request for segments.
    pub(crate) fn seat_fetcher(&self, house: &House) -> Result<(), Fault> {
        self.require(Way::Segments)?;
        house.seat_fetcher(&self.rules, &self.spectator(Way::Segments)).map_err(Fault::NoSeat)
    }

    /// A seat for who stays connected.
    pub(crate) fn seat_viewer(&self, house: &House, way: Way) -> Result<ViewerSeat, Fault> {
        self.require(way)?;
        house.seat_viewer(&self.rules, &self.spectator(way)).map_err(Fault::NoSeat)
    }

    /// True if there would be a seat now.
    pub(crate) fn has_seat(&self, house: &House) -> bool {
        house.has_seat_for(&self.rules, &self.spectator(Way::Segments))
    }

    /// Says what caches and pages of other sites may do with an answer.
    fn mark(&self, response: &mut Response, origin: Option<&HeaderValue>) {
        let headers = response.headers_mut();
        if self.is_by_link() {
            headers.insert(header::CACHE_CONTROL, PRIVATE);
        }
        if self.sites().is_empty() {
            // There is nothing here that a cookie would open.
            headers.insert(header::ACCESS_CONTROL_ALLOW_ORIGIN, HeaderValue::from_static("*"));
            return;
        }
        headers.append(header::VARY, HeaderValue::from_static("origin"));
        let site = origin.and_then(|origin| origin.to_str().ok()).and_then(|origin| origin.parse::<Site>().ok());
        if let Some(origin) = origin.filter(|_| site.is_some_and(|site| self.sites().contains(&site))) {
            headers.insert(header::ACCESS_CONTROL_ALLOW_ORIGIN, origin.clone());
        }
    }
}

fn check_link(link: &ViewingLink, headers: &HeaderMap) -> Result<(), Fault> {
    let site = site_of(headers);
    let host = text_of(headers, &header::HOST);
    let is_ours = site.as_ref().is_some_and(|site| site.is_host(host));
    let fetch = |name: &str| headers.get(name).and_then(|value| value.to_str().ok()).unwrap_or_default();
    // A browser that keeps to itself where a page is from says so much at least; whether the page may frame ours is
    // looked at by the browser itself then.
    let is_quiet = site.is_none() && (fetch("sec-fetch-site") == "same-origin" || fetch("sec-fetch-dest") == "iframe");
    let asker = Asker { site: site.as_ref(), is_own_page: is_ours || is_quiet };
    link.check(OffsetDateTime::now_utc(), asker).map_err(|fault| match fault {
        LinkFault::Ended => Fault::Ended,
        LinkFault::WrongSite => Fault::WrongSite,
    })
}

/// The site whose page asks, if the browser says so.
fn site_of(headers: &HeaderMap) -> Option<Site> {
    match text_of(headers, &header::ORIGIN) {
        "" => Site::of_address(text_of(headers, &header::REFERER)),
        origin => origin.parse().ok(),
    }
}

fn text_of<'a>(headers: &'a HeaderMap, name: &header::HeaderName) -> &'a str {
    headers.get(name).and_then(|value| value.to_str().ok()).unwrap_or_default()
}
