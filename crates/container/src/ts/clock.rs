use waverant_media::MediaTime;

/// The clock is told this often at least (2.7.2 allows 100 ms, broadcasters ask for 40).
const INTERVAL: MediaTime = MediaTime::from_millis(40);

/// It is not told more often than this: pictures tell it all along.
const LEAST: MediaTime = MediaTime::from_millis(20);

/// How far the clock is behind the newest decoding time: what tracks that come late are late by, and
/// the time that a receiver has for a picture to come in whole.
const LEAD: MediaTime = MediaTime::from_millis(400);

/// Tracks that come later still move the lead, so that this stays.
const MARGIN: MediaTime = MediaTime::from_millis(100);

/// A lead beyond this is nobody's interleaving.
const MAX_LEAD: MediaTime = MediaTime::from_millis(3_000);

/// Values that are told in a row where nothing was written for long.
const MAX_FILL: usize = 25;

/// The program clock of a stream that is written: it only rises, and stays before all times that
/// follow it, whichever track comes late.
///
/// Source: ISO/IEC 13818-1, 2.4.2.1 and 2.7.2
#[derive(Debug)]
pub(super) struct ProgramClock {
    told: Option<MediaTime>,
    newest: Option<MediaTime>,
    lead: MediaTime,
}

impl Default for ProgramClock {
    fn default() -> Self {
        Self { told: None, newest: None, lead: LEAD }
    }
}

impl ProgramClock {
    /// What is to be told before a packet with this decoding time: values one after the other, the
    /// last of which may stand in the packet itself. `is_start` asks for one if there can be.
    pub(super) fn before(&mut self, dts: MediaTime, is_start: bool) -> Vec<MediaTime> {
        let newest = self.newest.map_or(dts, |newest| newest.max(dts));
        self.newest = Some(newest);
        self.lead = self.lead.max(newest - dts + MARGIN).min(MAX_LEAD);
        let now = (newest - self.lead).max(MediaTime::ZERO);
        let Some(told) = self.told else {
            self.told = Some(now);
            return vec![now];
        };
        let since = now - told;
        if since < if is_start { MediaTime::from_ticks(1) } else { LEAST } {
            return Vec::new();
        }
        let mut values = Vec::with_capacity(1);
        let mut at = told + INTERVAL;
        while at < now && values.len() < MAX_FILL {
            values.push(at);
            at = at + INTERVAL;
        }
        values.push(now);
        self.told = Some(now);
        values
    }
}
