//! Keys from a list: a CSV file with a line of titles.

use std::path::Path;

use csv::{ReaderBuilder, StringRecord, Trim};
use serde::de::DeserializeOwned;
use serde_json::json;
use waverant_model::{AddKey, KeyRules, NewKey, OpenHours};

use crate::commands::time_of;
use crate::error::Failure;
use crate::output::{Column, Report};

const TITLES: [&str; 13] = [
    "label",
    "key",
    "right",
    "rank",
    "starts_at",
    "expires_at",
    "zone",
    "hours",
    "allow_from",
    "protocols",
    "most_connections",
    "show_when_over",
    "passphrase",
];

/// What parts several values in one field.
const BETWEEN: char = '|';

/// A line of the list, by its titles.
struct Line<'a> {
    titles: &'a StringRecord,
    fields: StringRecord,
}

pub(super) fn read(path: &Path) -> Result<Vec<AddKey>, Failure> {
    let file = |source| Failure::File { path: path.to_owned(), source };
    let text = std::fs::read_to_string(path).map_err(file)?;
    keys_in(&text).map_err(|fault| Failure::Usage(format!("{}: {fault}", path.display())))
}

fn keys_in(text: &str) -> Result<Vec<AddKey>, String> {
    let text = text.strip_prefix('\u{feff}').unwrap_or(text);
    let mut reader = ReaderBuilder::new().trim(Trim::All).from_reader(text.as_bytes());
    let titles = reader.headers().map_err(|error| error.to_string())?.clone();
    if let Some(unknown) = titles.iter().find(|title| !TITLES.contains(title)) {
        return Err(format!("line 1: there is no title `{unknown}`; any of {} were expected", TITLES.join(", ")));
    }
    if !titles.iter().any(|title| title == "label") {
        return Err("line 1: a title `label` was expected: for whom each key is".to_owned());
    }
    let mut keys = Vec::new();
    for record in reader.records() {
        let fields = record.map_err(|error| error.to_string())?;
        let number = fields.position().map_or(0, csv::Position::line);
        keys.push(Line { titles: &titles, fields }.key().map_err(|fault| format!("line {number}: {fault}"))?);
    }
    if keys.is_empty() { Err("there is no key in it".to_owned()) } else { Ok(keys) }
}

impl Line<'_> {
    /// A field that is not empty.
    fn field(&self, title: &str) -> Option<&str> {
        let place = self.titles.iter().position(|known| known == title)?;
        self.fields.get(place).filter(|text| !text.is_empty())
    }

    fn list(&self, title: &str) -> Vec<String> {
        let values = self.field(title).into_iter().flat_map(|text| text.split(BETWEEN));
        values.map(|value| value.trim().to_owned()).filter(|value| !value.is_empty()).collect()
    }

    /// A field of words or numbers, as the API has it.
    fn value<T: DeserializeOwned + Default>(&self, title: &str) -> Result<T, String> {
        let Some(text) = self.field(title) else { return Ok(T::default()) };
        let value = text.parse::<u64>().map_or_else(|_| json!(text), |number| json!(number));
        serde_json::from_value(value).map_err(|error| format!("{title}: `{text}`: {error}"))
    }

    fn key(&self) -> Result<AddKey, String> {
        let time = |title: &str| match self.field(title) {
            Some(text) => time_of(text).map(Some).map_err(|fault| format!("{title}: `{text}`: {fault}")),
            None => Ok(None),
        };
        let hidden = |title: &str| self.field(title).map(|text| text.to_owned().into());
        let (zone, windows) = (self.field("zone"), self.list("hours"));
        if zone.is_some() == windows.is_empty() {
            return Err("zone and hours go together, as in `Europe/Lisbon` and `mon-fri 08:00-18:00`".to_owned());
        }
        let protocols = self
            .list("protocols")
            .into_iter()
            .map(|name| serde_json::from_value(json!(name)).map_err(|error| format!("protocols: `{name}`: {error}")));
        Ok(AddKey {
            label: self.field("label").ok_or("label: it is empty")?.to_owned(),
            right: self.value("right")?,
            rank: self.value("rank")?,
            key: hidden("key"),
            rules: KeyRules {
                starts_at: time("starts_at")?,
                expires_at: time("expires_at")?,
                hours: zone.map(|zone| OpenHours { zone: zone.to_owned(), windows }),
                allowed_from: self.list("allow_from"),
                protocols: protocols.collect::<Result<_, _>>()?,
                most_connections: self.value("most_connections")?,
                show_when_over: self.value("show_when_over")?,
            },
            passphrase: hidden("passphrase"),
            makes_passphrase: false,
            guest_link_until: None,
        })
    }
}

pub(super) fn show(made: &[NewKey], report: &mut Report<'_>) -> Result<(), Failure> {
    if report.json {
        return Ok(report.value(&made)?);
    }
    let columns = [
        Column::number("key", |row: &NewKey| row.key.id.to_string()),
        Column::text("label", |row: &NewKey| row.key.label.clone()),
        Column::text("server", |row: &NewKey| row.encoder.server.clone()),
        Column::text("stream key", |row: &NewKey| row.encoder.key.clone()),
        Column::text("to be known", |row: &NewKey| row.warning.clone().unwrap_or_else(|| "-".to_owned())),
    ];
    report.line(&format!("{} keys are made. They are not shown again.\n", made.len()))?;
    Ok(report.table(made, &columns)?)
}

#[cfg(test)]
mod tests {
    use rstest::rstest;
    use waverant_model::{KeyRight, Protocol, ShowThen};

    use super::*;

    #[test]
    fn a_list_as_tables_write_it_is_read() {
        let keys = keys_in(concat!(
            "\u{feff}label,key,right,rank,expires_at,zone,hours,allow_from,protocols,most_connections,show_when_over\r\n",
            "van, Boathouse_2019 ,,,,,,,,,\r\n",
            "\"camera, bank\",,publish,1,2026-06-01T18:00:00Z,Europe/Lisbon,mon-fri 08:00-18:00|sat 22:00-02:00,",
            "192.0.2.0/24 | 2001:db8::1,srt|rtmps,1,goes_on\r\n",
            "mixer,,view,,,,,,,12,\r\n",
        ));
        let keys = keys.unwrap();
        assert_eq!(keys[0].key.as_ref().map(|key| key.reveal()), Some("Boathouse_2019"));
        let bank = &keys[1];
        assert_eq!((bank.label.as_str(), bank.rank, bank.right), ("camera, bank", 1, KeyRight::Publish));
        assert_eq!(bank.rules.hours.as_ref().unwrap().windows, ["mon-fri 08:00-18:00", "sat 22:00-02:00"]);
        assert_eq!(bank.rules.allowed_from, ["192.0.2.0/24", "2001:db8::1"]);
        assert_eq!(bank.rules.protocols, [Protocol::Srt, Protocol::Rtmps]);
        assert_eq!((bank.rules.most_connections, bank.rules.show_when_over), (Some(1), ShowThen::GoesOn));
        assert_eq!((keys[2].right, keys[2].rules.most_connections), (KeyRight::View, Some(12)));
    }

    #[rstest]
    #[case("label,colour\nvan,red\n", "line 1: there is no title `colour`")]
    #[case("key\nBoathouse_2019\n", "line 1: a title `label`")]
    #[case("label\n", "there is no key in it")]
    #[case("label,rank\nvan,0\nbus,first\n", "line 3: rank: `first`")]
    #[case("label,expires_at\nvan,tomorrow\n", "line 2: expires_at: `tomorrow`")]
    #[case("label,hours\nvan,mon 08:00-09:00\n", "line 2: zone and hours")]
    #[case("label,protocols\nvan,pigeon\n", "line 2: protocols: `pigeon`")]
    #[case("label,key\n,Boathouse_2019\n", "line 2: label: it is empty")]
    #[case("label,key\nvan,a,b\n", "line: 2")]
    fn what_cannot_be_read_is_told_by_its_line(#[case] text: &str, #[case] expected: &str) {
        let fault = keys_in(text).unwrap_err();
        assert!(fault.contains(expected), "{fault}");
        assert!(!fault.contains("Boathouse_2019"));
    }
}
