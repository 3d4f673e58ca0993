use waverant_media::MediaTime;

/// Distance between the last packet of one connection and the first of the next, where the
/// keyframe to begin with is older than what was sent before.
const SPLICE: MediaTime = MediaTime::from_millis(33);

/// The time that a peer sees: it begins at 0 and keeps rising across connections.
#[derive(Debug, Default)]
pub(super) struct PeerClock {
    /// The session's time that is the peer's time 0.
    origin: Option<MediaTime>,
    /// The next packet is the first of its connection.
    is_new: bool,
    /// The next packet is the first of another session: its time says nothing of those before.
    is_foreign: bool,
    latest: Option<MediaTime>,
}

impl PeerClock {
    /// The next packet is the first of a connection.
    pub(super) fn begin_connection(&mut self) {
        self.is_new = true;
    }

    /// The next packet is the first of another session, on the same connection or a new one.
    pub(super) fn begin_session(&mut self) {
        self.is_foreign = true;
    }

    /// The peer's time for a session's time.
    pub(super) fn time(&mut self, dts: MediaTime) -> MediaTime {
        let mut origin = *self.origin.get_or_insert(dts);
        let (is_new, is_foreign) = (std::mem::take(&mut self.is_new), std::mem::take(&mut self.is_foreign));
        if let Some(latest) = self.latest
            && (is_foreign || (is_new && dts - origin <= latest))
        {
            // A new connection begins with the newest keyframe, which the last one may have sent
            // already: the peer's time goes on all the same.
            origin = dts - latest - SPLICE;
            self.origin = Some(origin);
        }
        // Sound may lie a little before the keyframe that began the timeline.
        let time = (dts - origin).max(MediaTime::ZERO);
        self.latest = Some(self.latest.map_or(time, |latest| latest.max(time)));
        time
    }

    /// The latest time that the peer was given.
    pub(super) fn latest(&self) -> MediaTime {
        self.latest.unwrap_or_default()
    }
}
