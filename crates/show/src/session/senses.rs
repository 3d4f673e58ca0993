//! The task that has a show heard and seen.

use std::sync::Arc;
use std::time::Duration;

use waverant_codec::{CodecPool, Hand};
use waverant_media::MediaTime;
use waverant_relay::{Cursor, Entry};

use super::Show;
use crate::feed::FeedReader;
use crate::senses::{CheckupBudget, Senses};

/// How often packets are taken.
const TICK: Duration = Duration::from_millis(500);

/// While time has to be saved, a show is heard for this many ticks at a stretch.
const STRETCH: u32 = 8;

/// The longest that it is not heard then.
const LONGEST_REST: f64 = 600.0;

/// How far behind it may fall.
const ALLOWANCE: MediaTime = MediaTime::from_millis(6_000);

/// Packets taken at once.
const MAX_ENTRIES: usize = 4096;

/// What it takes of memory: decoders and meters of a few tracks, and a picture.
const WORK_BYTES: u64 = 16 * 1024 * 1024;

/// A show that broke the decoder is left alone for so many ticks: a minute.
const SPARED: u32 = 120;

/// Whether the show is heard, and for how many ticks more.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
enum Turn {
    Heard(u32),
    Rests(u32),
}

impl Turn {
    fn next(self, part: f64) -> Self {
        #[expect(clippy::cast_possible_truncation, clippy::cast_sign_loss, reason = "0 to 600")]
        let rest = ((1.0 / part.max(1e-9) - 1.0) * f64::from(STRETCH)).min(LONGEST_REST).round() as u32;
        match self {
            Self::Heard(left) if left > 1 => Self::Heard(left - 1),
            Self::Heard(_) if rest > 0 => Self::Rests(rest),
            // What was enough is more than enough once there is time again.
            Self::Rests(left) if left.min(rest) > 1 => Self::Rests(left.min(rest) - 1),
            Self::Heard(_) | Self::Rests(_) => Self::Heard(STRETCH),
        }
    }
}

/// Has the show heard and seen until it is over.
pub(super) async fn run(show: Arc<Show>, codec: CodecPool, budget: Arc<CheckupBudget>) {
    let mut reader = FeedReader::new(show.live().clone(), Cursor::new(ALLOWANCE), MAX_ENTRIES);
    let (mut senses, mut turn, mut spared) = (Senses::default(), Turn::Heard(STRETCH), 0u32);
    let mut ticks = tokio::time::interval(TICK);
    ticks.set_missed_tick_behavior(tokio::time::MissedTickBehavior::Delay);
    loop {
        tokio::select! {
            _ = ticks.tick() => {}
            () = show.live().over().cancelled() => break,
        }
        let part = budget.part();
        let taken = reader.take();
        let entries: Vec<Entry> = reader.drain().collect();
        turn = turn.next(part);
        spared = spared.saturating_sub(1);
        if spared > 0 || part <= 0.0 || matches!(turn, Turn::Rests(_)) || taken.has_jumped() {
            senses.cut();
            continue;
        }
        if entries.is_empty() {
            continue;
        }
        let work = move |hand: &mut Hand| {
            let took = senses.take(hand, &entries);
            (senses, took)
        };
        match codec.run(WORK_BYTES, work).await {
            Ok((done, Ok(took))) => {
                senses = done;
                budget.note(show.id(), took, TICK);
            }
            // Its pictures or its sound, or a fault of ours: it is begun anew, but not at once.
            Ok((_, Err(_))) | Err(_) => (senses, spared) = (Senses::broken(), SPARED),
        }
        *show.sensed.lock() = senses.sensed();
    }
    budget.forget(show.id());
}

#[cfg(test)]
mod tests {
    use super::*;

    fn share(part: f64) -> f64 {
        let mut turn = Turn::Heard(STRETCH);
        let mut heard = 0;
        for _ in 0..10_000 {
            turn = turn.next(part);
            heard += u32::from(matches!(turn, Turn::Heard(_)));
        }
        f64::from(heard) / 10_000.0
    }

    #[test]
    fn a_show_is_heard_for_its_part_of_the_time() {
        for part in [1.0, 0.5, 0.25, 0.1] {
            assert!((share(part) - part).abs() < 0.02, "{} of {part}", share(part));
        }
    }

    #[test]
    fn it_is_heard_again_once_there_is_time() {
        assert_eq!(Turn::Rests(500).next(1.0), Turn::Heard(STRETCH));
    }
}
