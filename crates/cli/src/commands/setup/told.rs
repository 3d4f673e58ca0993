use std::io;
use std::path::Path;

use waverant_model::{SetupApplied, SetupChange, SetupDeed, SetupReview, SetupThing};

use crate::output::{Report, clean_line, moment};

/// The longest value that is shown whole.
const LONGEST: usize = 60;

/// The faults of a file, as editors follow them.
pub(super) fn faults(review: &SetupReview, file: &Path, report: &mut Report<'_>) -> io::Result<()> {
    for fault in &review.faults {
        let at = if fault.at.is_empty() { String::new() } else { format!("{}: ", fault.at) };
        let text = clean_line(&format!("{at}{}", fault.text));
        report.line(&format!("{}:{}:{}: {text}", file.display(), fault.line, fault.column))?;
    }
    Ok(())
}

/// What a file would change.
pub(super) fn review(review: &SetupReview, report: &mut Report<'_>) -> io::Result<()> {
    changes(&review.changes, report)?;
    let missing = review.wanted.iter().filter(|wanted| !wanted.is_given).count();
    if missing > 0 {
        report
            .line(&format!("\n{missing} secrets that the file refers to were not given; those of the house stay."))?;
    }
    if !review.unlisted.is_empty() {
        let unlisted: Vec<String> = review.unlisted.iter().map(named).collect();
        report.line(&format!("\nNot in the file, and left alone: {}", clean_line(&unlisted.join(", "))))?;
    }
    remarks(&review.remarks, report)?;
    if review.changes.is_empty() {
        return report.line("The house is as the file says.");
    }
    report.line(&format!(
        "\n{}. Nothing is changed yet; the mark of this review is {}.",
        sum(&review.changes),
        review.mark
    ))
}

/// What was changed, and what is shown this once.
pub(super) fn applied(applied: &SetupApplied, report: &mut Report<'_>) -> io::Result<()> {
    changes(&applied.changes, report)?;
    remarks(&applied.remarks, report)?;
    if applied.changes.is_empty() {
        return report.line("The house is as the file says; nothing was changed.");
    }
    report.line(&format!("\n{}: done.", sum(&applied.changes)))?;
    if !applied.keys.is_empty() {
        report.line("\nStream keys that were made. They are not shown again.\n")?;
        for made in &applied.keys {
            let (key, fields) = (&made.key.key, &made.key.encoder);
            report.line(&format!("  {} / {}", made.channel, clean_line(&key.label)))?;
            report.line(&format!("    server  {}\n    key     {}", fields.server, fields.key))?;
        }
    }
    for made in &applied.invitations {
        let until = moment(made.ends_at);
        report.line(&format!("\n{} is invited until {until}; the code is {}", clean_line(&made.name), made.code))?;
    }
    for made in &applied.secrets {
        report.line(&format!("\nSigning secret of the {}: {}", clean_line(&made.name), made.secret))?;
    }
    Ok(())
}

fn remarks(remarks: &[String], report: &mut Report<'_>) -> io::Result<()> {
    remarks.iter().try_for_each(|remark| report.line(&format!("\n{}", clean_line(remark))))
}

fn changes(changes: &[SetupChange], report: &mut Report<'_>) -> io::Result<()> {
    for change in changes {
        let sign = match change.deed {
            SetupDeed::Adds => '+',
            SetupDeed::Changes => '~',
            SetupDeed::Removes => '-',
        };
        let line = change.line.map(|line| format!("  (line {line})")).unwrap_or_default();
        let on_air =
            if change.on_air.is_empty() { String::new() } else { format!("  on air: {}", change.on_air.join(", ")) };
        report.line(&format!("{sign} {}{line}{on_air}", clean_line(&named(&change.thing))))?;
        for field in &change.fields {
            let value = |value: &Option<String>| value.as_deref().map_or("(usual)".to_owned(), shortened);
            let told = match (change.deed, &field.before) {
                (SetupDeed::Adds, None) => value(&field.after),
                _ => format!("{} → {}", value(&field.before), value(&field.after)),
            };
            report.line(&format!("    {} = {told}", clean_line(&field.field)))?;
        }
    }
    Ok(())
}

/// A text of many lines is shown by its beginning.
fn shortened(value: &str) -> String {
    let clean = clean_line(value);
    if clean.chars().count() <= LONGEST {
        return clean;
    }
    let begin: String = clean.chars().take(LONGEST).collect();
    format!("{begin}… ({} characters)", value.chars().count())
}

fn named(thing: &SetupThing) -> String {
    match &thing.channel {
        Some(channel) => format!("{} {} of {channel}", thing.kind, thing.name),
        None => format!("{} {}", thing.kind, thing.name),
    }
}

fn sum(changes: &[SetupChange]) -> String {
    let count = |deed| changes.iter().filter(|change| change.deed == deed).count();
    let (added, changed) = (count(SetupDeed::Adds), count(SetupDeed::Changes));
    format!("{added} added, {changed} changed, {} removed", count(SetupDeed::Removes))
}
