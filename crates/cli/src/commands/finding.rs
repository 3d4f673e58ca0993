use std::io::Write;

use clap::Subcommand;
use serde_json::json;
use waverant_model::{
    CarryOutRemedy, ChannelFinding, ComplaintAnswer, Finding as Told, FindingMeaning, LikelyFinding, RemedyDone,
};

use super::{confirm, dash, word};
use crate::board::findings_of;
use crate::client::{Client, piece};
use crate::error::Failure;
use crate::output::{Column, Report, moment};

#[derive(Subcommand, Debug)]
pub(super) enum Finding {
    /// List what is wrong or odd now: the worst first.
    List {
        /// Only of this channel.
        #[arg(long)]
        channel: Option<String>,
    },
    /// Say what a platform complains of, in its own words; see what it may be, and what our figures say.
    Ask {
        /// The complaint.
        #[arg(required = true)]
        words: Vec<String>,
        /// Only look at this channel.
        #[arg(long)]
        channel: Option<String>,
    },
    /// Show what a code stands for; without one, all of them.
    Explain {
        /// The code.
        code: Option<String>,
    },
    /// Have done what a finding offers (column `offered`); it is never done by itself.
    CarryOut {
        /// The channel.
        channel: String,
        /// The code.
        code: String,
        /// The destination, where it stands for several.
        #[arg(long)]
        destination: Option<String>,
        /// Do not ask.
        #[arg(long)]
        yes: bool,
    },
    /// Do not tell findings of a code for the rest of the show.
    Mute {
        /// The channel.
        channel: String,
        /// The code.
        code: String,
    },
    /// Tell findings of a code again.
    Unmute {
        /// The channel.
        channel: String,
        /// The code.
        code: String,
    },
}

impl Finding {
    pub(super) fn run(self, report: &mut Report<'_>) -> Result<(), Failure> {
        let client = Client::signed_in()?;
        let muted = |channel: &str, code: &str| format!("/channels/{}/muted-findings/{}", piece(channel), piece(code));
        match self {
            Self::List { channel } => {
                let found = findings_of(&client.get("/live")?, channel.as_deref());
                Ok(report.rows(&found, &found, &columns(), "Nothing is wrong.")?)
            }
            Self::Ask { words, channel } => {
                let form = json!({"complaint": words.join(" "), "channel": channel});
                answer(&client.call("POST", "/findings/ask", &form)?, report)
            }
            Self::Explain { code } => explain(client.get("/findings/meanings")?, code.as_deref(), report),
            Self::CarryOut { channel, code, destination, yes } => {
                let form = CarryOutRemedy { code, destination };
                carry_out(&client, &channel, &form, yes, report)
            }
            Self::Mute { channel, code } => {
                client.order::<()>("PUT", &muted(&channel, &code))?;
                let told = format!("`{code}` is not told for the rest of the show on `{channel}`.");
                Ok(report.done(&(), &told)?)
            }
            Self::Unmute { channel, code } => {
                client.order::<()>("DELETE", &muted(&channel, &code))?;
                Ok(report.done(&(), &format!("`{code}` is told again on `{channel}`."))?)
            }
        }
    }
}

fn carry_out(
    client: &Client,
    channel: &str,
    form: &CarryOutRemedy,
    yes: bool,
    report: &mut Report<'_>,
) -> Result<(), Failure> {
    if !yes {
        let all = findings_of(&client.get("/live")?, Some(channel));
        let is_meant = |found: &&ChannelFinding| {
            let is_there = form.destination.is_none() || found.finding.destination == form.destination;
            found.finding.code == form.code && is_there
        };
        for offered in all.iter().filter(is_meant).filter_map(|found| found.finding.remedy.as_ref()) {
            writeln!(std::io::stderr(), "This will {}.", offered.text)?;
        }
        confirm("Go on?")?;
    }
    let done: RemedyDone = client.call("POST", &format!("/channels/{}/remedies", piece(channel)), form)?;
    let told = format!("Done: {}.", done.done);
    Ok(report.done(&done, &told)?)
}

/// One finding on one line.
pub(super) fn line(found: &ChannelFinding) -> String {
    let Told { cause, advice, destinations, is_muted, .. } = &found.finding;
    let of = found.channel.as_deref().unwrap_or("the house");
    let reach = if destinations.is_empty() { String::new() } else { format!(" [{}]", destinations.join(", ")) };
    let muted = if *is_muted { " (muted)" } else { "" };
    format!("{}: {of}: {cause}{reach}: {advice}{muted}", word(found.finding.severity))
}

fn columns() -> [Column<ChannelFinding>; 8] {
    [
        Column::text("severity", |row| word(row.finding.severity)),
        Column::text("channel", |row| dash(row.channel.as_deref())),
        Column::text("code", |row| row.finding.code.clone()),
        Column::text("since", |row| row.finding.since.map_or_else(|| "-".to_owned(), moment)),
        Column::text("destinations", |row| {
            let told = row.finding.destinations.join(", ");
            if told.is_empty() { "-".to_owned() } else { told }
        }),
        Column::text("what", |row| {
            let muted = if row.finding.is_muted { " (muted)" } else { "" };
            format!("{}{muted}", row.finding.cause)
        }),
        Column::text("do", |row| row.finding.advice.clone()),
        Column::text("offered", |row| dash(row.finding.remedy.as_ref().map(|remedy| remedy.text.as_str()))),
    ]
}

fn explain(meanings: Vec<FindingMeaning>, code: Option<&str>, report: &mut Report<'_>) -> Result<(), Failure> {
    let Some(code) = code else {
        return Ok(report.rows(&meanings, &meanings, &meaning_columns(), "")?);
    };
    let Some(meaning) = meanings.iter().find(|meaning| meaning.code == code) else {
        let known: Vec<&str> = meanings.iter().map(|meaning| meaning.code.as_str()).collect();
        return Err(Failure::Usage(format!("there is no finding `{code}`; there are {}", known.join(", "))));
    };
    if report.json {
        return Ok(report.value(meaning)?);
    }
    told(meaning, report)
}

fn told(meaning: &FindingMeaning, report: &mut Report<'_>) -> Result<(), Failure> {
    let FindingMeaning { code, severity, when, raised_after_s, cleared_after_s, means, advice } = meaning;
    writeln!(report.out, "{code} ({})", word(*severity))?;
    let at_first = if *raised_after_s > 0 { format!("after {raised_after_s} s") } else { "at once".to_owned() };
    let at_last =
        if *cleared_after_s > 0 { format!(", until it is gone for {cleared_after_s} s") } else { String::new() };
    writeln!(report.out, "  when:   {when}")?;
    writeln!(report.out, "          told {at_first}{at_last}")?;
    writeln!(report.out, "  means:  {means}")?;
    writeln!(report.out, "  do:     {advice}")?;
    Ok(())
}

fn meaning_columns() -> [Column<FindingMeaning>; 4] {
    [
        Column::text("code", |row| row.code.clone()),
        Column::text("severity", |row| word(row.severity)),
        Column::text("means", |row| row.means.clone()),
        Column::text("do", |row| row.advice.clone()),
    ]
}

fn answer(answer: &ComplaintAnswer, report: &mut Report<'_>) -> Result<(), Failure> {
    if report.json {
        return Ok(report.value(answer)?);
    }
    if answer.likely.is_empty() {
        writeln!(report.out, "No word of that is known here. What stands now is below; `finding explain` lists all.")?;
    }
    for (place, LikelyFinding { meaning, stands_on, figures }) in answer.likely.iter().enumerate() {
        if place > 0 {
            writeln!(report.out)?;
        }
        told(meaning, report)?;
        match stands_on.as_slice() {
            [] => writeln!(report.out, "  now:    it is not found on any channel that was looked at")?,
            names => writeln!(report.out, "  now:    it stands on {}", names.join(", "))?,
        }
        for figure in figures {
            writeln!(report.out, "          {figure}")?;
        }
    }
    if !answer.standing.is_empty() {
        writeln!(report.out)?;
        report.table(&answer.standing, &columns())?;
    }
    Ok(())
}
