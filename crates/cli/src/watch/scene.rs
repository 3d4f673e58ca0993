use std::collections::{HashMap, VecDeque};

use ratatui::crossterm::event::KeyCode;
use waverant_model::{Board, LegState, LiveChannel, LiveLeg, RecorderState};

use super::asker::{Deed, News};

/// Seconds of a bitrate that are drawn.
pub(super) const TRACE: usize = 10;

/// What is seen: the board, a row that is chosen, and what was said last.
#[derive(Default)]
pub(super) struct Scene {
    board: Option<Box<Board>>,
    /// The row that is chosen, counted over channels and their legs.
    chosen: usize,
    /// Bitrates of the last seconds, the newest last, by channel.
    rates: HashMap<String, VecDeque<f64>>,
    /// What came of a deed.
    told: Option<String>,
    /// Why the board is old.
    fault: Option<String>,
}

/// A row of the list.
#[derive(Clone, Copy)]
pub(super) enum Row<'a> {
    Channel(&'a LiveChannel),
    Leg(&'a LiveChannel, &'a LiveLeg),
}

impl Scene {
    pub(super) fn has_board(&self) -> bool {
        self.board.is_some()
    }

    pub(super) fn board(&self) -> Option<&Board> {
        self.board.as_deref()
    }

    pub(super) fn chosen(&self) -> usize {
        self.chosen
    }

    /// What was said last: why the board is old, or what came of a deed.
    pub(super) fn message(&self) -> Option<&str> {
        self.fault.as_deref().or(self.told.as_deref())
    }

    pub(super) fn is_old(&self) -> bool {
        self.fault.is_some()
    }

    /// The bitrates of a channel over the last seconds.
    pub(super) fn rates(&self, channel: &str) -> Vec<f64> {
        self.rates.get(channel).map(|rates| rates.iter().copied().collect()).unwrap_or_default()
    }

    pub(super) fn rows(&self) -> Vec<Row<'_>> {
        let channels = self.board.iter().flat_map(|board| &board.channels);
        let rows = channels.flat_map(|channel| {
            let legs = channel.legs.iter().map(move |leg| Row::Leg(channel, leg));
            std::iter::once(Row::Channel(channel)).chain(legs)
        });
        rows.collect()
    }

    pub(super) fn take(&mut self, news: News) {
        match news {
            News::Done(told) => self.told = Some(told),
            News::Board(Err(failure)) => self.fault = Some(format!("what you see is old: {failure}")),
            News::Board(Ok(board)) => {
                self.rates.retain(|name, _| board.channels.iter().any(|channel| channel.name == *name));
                for channel in &board.channels {
                    let rate = channel.session.as_ref().map_or(0.0, |session| session.arrival.rate_1s_bps);
                    let rates = self.rates.entry(channel.name.clone()).or_default();
                    if rates.len() == TRACE {
                        rates.pop_front();
                    }
                    rates.push_back(rate);
                }
                (self.board, self.fault) = (Some(board), None);
                self.chosen = self.chosen.min(self.rows().len().saturating_sub(1));
            }
        }
    }

    /// Takes a key; what is to be done for it.
    pub(super) fn press(&mut self, key: KeyCode) -> Option<Deed> {
        let last = self.rows().len().saturating_sub(1);
        match key {
            KeyCode::Up | KeyCode::Char('k') => self.chosen = self.chosen.saturating_sub(1),
            KeyCode::Down | KeyCode::Char('j') => self.chosen = (self.chosen + 1).min(last),
            KeyCode::PageUp => self.chosen = self.chosen.saturating_sub(10),
            KeyCode::PageDown => self.chosen = (self.chosen + 10).min(last),
            KeyCode::Home => self.chosen = 0,
            KeyCode::End => self.chosen = last,
            KeyCode::Char(' ') => return self.switch(),
            KeyCode::Char('m') => return Some(Deed::Mark { channel: self.channel()?.name.clone() }),
            KeyCode::Char('r') => return self.record(),
            _ => {}
        }
        None
    }

    fn channel(&self) -> Option<&LiveChannel> {
        match *self.rows().get(self.chosen)? {
            Row::Channel(channel) | Row::Leg(channel, _) => Some(channel),
        }
    }

    fn switch(&self) -> Option<Deed> {
        let Row::Leg(channel, leg) = *self.rows().get(self.chosen)? else { return None };
        let is_on = leg.state == LegState::Off;
        Some(Deed::Switch { channel: channel.name.clone(), destination: leg.destination.clone(), is_on })
    }

    fn record(&self) -> Option<Deed> {
        let channel = self.channel()?;
        let begins = channel.session.as_ref()?.recorder == RecorderState::Off;
        Some(Deed::Record { channel: channel.name.clone(), begins })
    }
}
