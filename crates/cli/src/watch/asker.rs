use std::sync::mpsc::{self, Receiver, RecvTimeoutError, Sender};
use std::thread;
use std::time::Duration;

use serde_json::{Value, json};
use waverant_model::Board;

use crate::client::{Client, piece};
use crate::error::Failure;

/// How often the board is asked for.
const ASK_EVERY: Duration = Duration::from_secs(1);

/// Something to be done.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(super) enum Deed {
    /// A leg is switched on or off.
    Switch { channel: String, destination: String, is_on: bool },
    /// This moment is pointed out in the recording.
    Mark { channel: String },
    /// A recording is begun or stopped.
    Record { channel: String, begins: bool },
}

/// What the service said.
pub(super) enum News {
    /// The board, or why there is none.
    Board(Result<Box<Board>, Box<Failure>>),
    /// What came of a deed, in words.
    Done(String),
}

/// Begins to ask the service; ends when nobody listens.
pub(super) fn start(client: Client) -> (Sender<Deed>, Receiver<News>) {
    let (deeds, wanted) = mpsc::channel();
    let (sender, news) = mpsc::channel();
    thread::spawn(move || ask(&client, &wanted, &sender));
    (deeds, news)
}

fn ask(client: &Client, wanted: &Receiver<Deed>, news: &Sender<News>) {
    loop {
        let board = client.get::<Board>("/live").map(Box::new).map_err(Box::new);
        if news.send(News::Board(board)).is_err() {
            return;
        }
        match wanted.recv_timeout(ASK_EVERY) {
            Ok(deed) => {
                let told = match carry_out(client, &deed) {
                    Ok(()) => deed.done(),
                    Err(failure) => failure.to_string(),
                };
                if news.send(News::Done(told)).is_err() {
                    return;
                }
            }
            Err(RecvTimeoutError::Timeout) => {}
            Err(RecvTimeoutError::Disconnected) => return,
        }
    }
}

impl Deed {
    /// The call that does it.
    fn call(&self) -> (&'static str, String, Value) {
        match self {
            Self::Switch { channel, destination, is_on } => {
                let path = format!("/channels/{}/destinations/{}", piece(channel), piece(destination));
                ("PUT", path, json!({"is_on": is_on}))
            }
            Self::Mark { channel } => {
                let mark = json!({"title": "marked from a terminal"});
                ("POST", format!("/channels/{}/recording/marks", piece(channel)), mark)
            }
            Self::Record { channel, begins } => {
                let what = if *begins { "start" } else { "stop" };
                ("POST", format!("/channels/{}/recording/{what}", piece(channel)), Value::Null)
            }
        }
    }

    fn done(&self) -> String {
        match self {
            Self::Switch { channel, destination, is_on } => {
                format!("{channel} to {destination} is {}", if *is_on { "on" } else { "off" })
            }
            Self::Mark { channel } => format!("{channel}: this moment is marked"),
            Self::Record { channel, begins: true } => format!("{channel} is being recorded"),
            Self::Record { channel, begins: false } => format!("the recording of {channel} is stopped"),
        }
    }
}

fn carry_out(client: &Client, deed: &Deed) -> Result<(), Failure> {
    let (method, path, form) = deed.call();
    match form {
        Value::Null => client.order::<Value>(method, &path).map(drop),
        form => client.call::<Value>(method, &path, &form).map(drop),
    }
}
