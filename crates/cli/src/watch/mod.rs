//! The live view in a terminal, for people who are there over a slow line: it is drawn here, and asks the service in a
//! thread of its own, so that keys are never waited for.

mod asker;
mod scene;
mod view;

use std::io::IsTerminal;
use std::sync::mpsc::{Receiver, Sender, TryRecvError};
use std::time::Duration;

use ratatui::DefaultTerminal;
use ratatui::crossterm::event::{self, Event, KeyCode, KeyEvent, KeyEventKind, KeyModifiers};

use crate::client::Client;
use crate::error::Failure;
use asker::{Deed, News};
use scene::Scene;
use view::Looks;

/// How long a key is waited for before news are looked for.
const PATIENCE: Duration = Duration::from_millis(100);

/// Shows what is on air until somebody leaves.
pub(crate) fn run(client: Client) -> Result<(), Failure> {
    if !(std::io::stdout().is_terminal() && std::io::stdin().is_terminal()) {
        let told = "`live watch` needs a terminal; for programs there is `live show --json`";
        return Err(Failure::Usage(told.to_owned()));
    }
    let (deeds, news) = asker::start(client);
    let mut terminal = ratatui::try_init()?;
    let outcome = follow(&mut terminal, &deeds, &news);
    ratatui::restore();
    outcome
}

fn follow(terminal: &mut DefaultTerminal, deeds: &Sender<Deed>, news: &Receiver<News>) -> Result<(), Failure> {
    let (mut scene, looks, mut is_drawn) = (Scene::default(), Looks::of_environment(), false);
    loop {
        loop {
            match news.try_recv() {
                // Without a token there will never be a board.
                Ok(News::Board(Err(failure))) if !scene.has_board() => return Err(*failure),
                Ok(told) => {
                    scene.take(told);
                    is_drawn = false;
                }
                Err(TryRecvError::Empty) => break,
                Err(TryRecvError::Disconnected) => return Ok(()),
            }
        }
        // Over a slow line, what is as it was costs nothing.
        if !std::mem::replace(&mut is_drawn, true) {
            terminal.draw(|frame| view::draw(frame, &mut scene, looks))?;
        }
        if !event::poll(PATIENCE)? {
            continue;
        }
        is_drawn = false;
        let Event::Key(key) = event::read()? else { continue };
        if key.kind == KeyEventKind::Release {
            continue;
        }
        if is_goodbye(key) {
            return Ok(());
        }
        if let Some(deed) = scene.press(key.code) {
            // The asker ends with us only.
            let _ = deeds.send(deed);
        }
    }
}

fn is_goodbye(key: KeyEvent) -> bool {
    let is_interrupt = key.code == KeyCode::Char('c') && key.modifiers.contains(KeyModifiers::CONTROL);
    is_interrupt || matches!(key.code, KeyCode::Char('q') | KeyCode::Esc)
}
