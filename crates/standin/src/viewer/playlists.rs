use std::thread;
use std::time::{Duration, Instant};

use anyhow::{Context, bail, ensure};
use bytes::Bytes;
use waverant_container::{PieceName, PlaylistCheck};

use crate::Mark;
use crate::take::read_marks;

/// The longest answer that is read.
const MAX_ANSWER: u64 = 64 * 1024 * 1024;

/// How a viewer watches.
#[derive(Clone, Debug)]
pub struct ViewerOptions {
    /// The address of the multivariant playlist.
    pub address: String,
    /// Whether it asks for parts, and for playlists before they are there.
    pub is_near: bool,
    /// How long at most.
    pub length: Duration,
}

/// What a viewer got of one track.
#[derive(Clone, Debug, Default)]
pub struct ViewerReport {
    /// The pictures or the sound.
    pub received: Vec<Mark>,
    /// The first whole segment, or the first part, was there so long after the viewer came.
    pub first_piece_after_ms: u64,
    /// Playlists that were read, all by the rules.
    pub playlist_count: u32,
    /// Times that parameters changed, or a publisher returned.
    pub discontinuity_count: u64,
    /// Whether the playlist said that nothing follows.
    pub is_ended: bool,
}

/// Follows all tracks of a channel by their playlists, until the show ends or it was long enough. Blocks.
///
/// # Errors
/// If something cannot be fetched, or a playlist is not as the rules want it.
pub fn watch_playlists(options: &ViewerOptions) -> anyhow::Result<Vec<ViewerReport>> {
    let began = Instant::now();
    let agent = agent();
    let multivariant = fetch_text(&agent, &options.address)?;
    let playlists = multivariant.lines().filter_map(|line| match line.strip_prefix('#') {
        Some(tag) => tag.starts_with("EXT-X-MEDIA:").then(|| attribute(tag, "URI")).flatten(),
        None => Some(line),
    });
    let mut addresses: Vec<String> = playlists.map(|uri| beside(&options.address, uri)).collect();
    addresses.sort();
    addresses.dedup();
    ensure!(!addresses.is_empty(), "no playlist in\n{multivariant}");
    let followers: Vec<_> = addresses
        .into_iter()
        .map(|address| {
            let follower = Follower::new(address, began, options.clone());
            thread::spawn(move || follower.run())
        })
        .collect();
    let join = |follower: thread::JoinHandle<_>| follower.join().map_err(|_| anyhow::anyhow!("a follower panicked"))?;
    followers.into_iter().map(join).collect()
}

/// Who follows one playlist.
struct Follower {
    agent: ureq::Agent,
    address: String,
    began: Instant,
    options: ViewerOptions,
    check: PlaylistCheck,
    /// The segment and part that come next; none before the first playlist.
    next: Option<(u64, u32)>,
    header: String,
    /// The files so far: a header and what belongs to it.
    files: Vec<Vec<u8>>,
    report: ViewerReport,
}

impl Follower {
    fn new(address: String, began: Instant, options: ViewerOptions) -> Self {
        Self {
            agent: agent(),
            address,
            began,
            options,
            check: PlaylistCheck::default(),
            next: None,
            header: String::new(),
            files: Vec::new(),
            report: ViewerReport::default(),
        }
    }

    fn run(mut self) -> anyhow::Result<ViewerReport> {
        while !self.report.is_ended && self.began.elapsed() < self.options.length {
            let asked = match self.next.filter(|_| self.options.is_near) {
                Some((segment, part)) => format!("?_HLS_msn={segment}&_HLS_part={part}&_HLS_skip=YES"),
                None => String::new(),
            };
            let text = fetch_text(&self.agent, &format!("{}{asked}", self.address))?;
            self.check.read(&text).with_context(|| format!("{}{asked}\n{text}", self.address))?;
            self.report.playlist_count += 1;
            self.report.is_ended = text.contains("#EXT-X-ENDLIST");
            let fetched = self.follow(&text)?;
            if fetched == 0 && !self.report.is_ended {
                thread::sleep(Duration::from_millis(if self.options.is_near { 10 } else { 500 }));
            }
        }
        self.report.discontinuity_count = self.check.segments().map(|(_, _, count)| count).max().unwrap_or(0);
        for file in self.files {
            let (marks, _) = read_marks(Bytes::from(file))?;
            self.report.received.extend(marks);
        }
        Ok(self.report)
    }

    /// Fetches what is new in a playlist, in order; how much that was.
    fn follow(&mut self, text: &str) -> anyhow::Result<u32> {
        let mut fetched = 0;
        for line in text.lines() {
            if let Some(header) = line.strip_prefix("#EXT-X-MAP:").and_then(|tag| attribute(tag, "URI")) {
                self.take_header(header)?;
            }
            let name = match line.strip_prefix("#EXT-X-PART:") {
                Some(tag) if self.options.is_near => attribute(tag, "URI").unwrap_or_default(),
                Some(_) => continue,
                None if line.starts_with('#') => continue,
                None => line,
            };
            let name: PieceName = name.parse()?;
            // Segments come behind their parts: who took the parts has them.
            let place = match name {
                PieceName::Part(segment, part) => (segment, part),
                PieceName::Segment(segment) => (segment, 0),
                PieceName::Header(_) => bail!("a header among the segments"),
            };
            if self.next.is_some_and(|next| place < next) {
                continue;
            }
            let bytes = fetch(&self.agent, &beside(&self.address, &name.to_string()))?;
            self.files.last_mut().context("a segment before its header")?.extend(bytes);
            self.next = Some(match name {
                PieceName::Part(segment, part) => (segment, part + 1),
                _ => (place.0 + 1, 0),
            });
            if self.report.first_piece_after_ms == 0 {
                let after = self.began.elapsed().as_millis();
                self.report.first_piece_after_ms = u64::try_from(after).unwrap_or(u64::MAX);
            }
            fetched += 1;
        }
        self.pass_whole(text);
        Ok(fetched)
    }

    /// A segment that is whole has no further part: the next one comes.
    fn pass_whole(&mut self, text: &str) {
        let whole = text.lines().rev().filter(|line| !line.starts_with('#')).find_map(|line| line.parse().ok());
        if let (Some(PieceName::Segment(last)), Some((segment, _))) = (whole, self.next)
            && segment <= last
        {
            self.next = Some((last + 1, 0));
        }
    }

    fn take_header(&mut self, header: &str) -> anyhow::Result<()> {
        if self.header != header {
            let bytes = fetch(&self.agent, &beside(&self.address, header))?;
            header.clone_into(&mut self.header);
            self.files.push(bytes);
        }
        Ok(())
    }
}

fn agent() -> ureq::Agent {
    ureq::Agent::config_builder()
        .http_status_as_error(false)
        .timeout_global(Some(Duration::from_secs(40)))
        .build()
        .into()
}

fn fetch(agent: &ureq::Agent, address: &str) -> anyhow::Result<Vec<u8>> {
    let mut answer = agent.get(address).call().with_context(|| address.to_owned())?;
    let status = answer.status().as_u16();
    let bytes = answer.body_mut().with_config().limit(MAX_ANSWER).read_to_vec()?;
    ensure!(status == 200, "{address}: {status} {}", String::from_utf8_lossy(&bytes));
    Ok(bytes)
}

fn fetch_text(agent: &ureq::Agent, address: &str) -> anyhow::Result<String> {
    Ok(String::from_utf8(fetch(agent, address)?)?)
}

/// An attribute of a tag, without quotes.
fn attribute<'a>(tag: &'a str, name: &str) -> Option<&'a str> {
    let (_, rest) = tag.split_once(&format!("{name}=\""))?;
    rest.split('"').next()
}

/// The address of what `uri` names in the answer of `address`.
fn beside(address: &str, uri: &str) -> String {
    let folder = address.rsplit_once('/').map_or("", |(folder, _)| folder);
    format!("{folder}/{uri}")
}
