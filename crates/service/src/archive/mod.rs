//! A house in one file: its records, keys, slates and posters.

mod house;

use std::fs::{self, File};
use std::io::{self, BufReader, Read, Seek, SeekFrom};
use std::path::{Component, Path, PathBuf};

use flate2::read::GzDecoder;
use flate2::write::GzEncoder;
use serde::{Deserialize, Serialize};
use thiserror::Error;
use time::OffsetDateTime;

pub(crate) use house::HouseToWrite;

/// What is in an archive of this form; another one has another number.
const FORM: u32 = 1;

pub(crate) const ABOUT: &str = "about.json";
pub(crate) const RECORDS: &str = "records.sql";
pub(crate) const SETTINGS: &str = "settings.toml";

/// Files of the state folder that a house cannot do without, and folders of such.
pub(crate) const FILES: [&str; 3] = ["secrets.key", "unwritten-records.json", "unwritten-figures"];
pub(crate) const FOLDERS: [&str; 3] = ["slates", "posters", "certificate"];

/// What an archive says of itself.
#[derive(Clone, Debug, Serialize, Deserialize)]
pub(crate) struct About {
    form: u32,
    version: String,
    #[serde(with = "time::serde::rfc3339")]
    pub(crate) made_at: OffsetDateTime,
    pub(crate) rows: u64,
}

impl About {
    pub(crate) fn now(rows: u64) -> Self {
        let version = env!("CARGO_PKG_VERSION").to_owned();
        Self { form: FORM, version, made_at: OffsetDateTime::now_utc(), rows }
    }
}

/// Why an archive cannot be written or read.
#[derive(Debug, Error)]
pub(crate) enum ArchiveError {
    #[error(transparent)]
    File(#[from] io::Error),
    #[error("this is no backup of a house: {0}")]
    Foreign(String),
}

/// The archive as it is written: a tar file, packed with gzip.
pub(crate) struct Writer(tar::Builder<GzEncoder<File>>);

impl Writer {
    pub(crate) fn new(file: File) -> Self {
        Self(tar::Builder::new(GzEncoder::new(file, flate2::Compression::fast())))
    }

    pub(crate) fn add_text(&mut self, name: &str, text: &[u8]) -> io::Result<()> {
        self.0.append_data(&mut header(text.len() as u64), name, text)
    }

    /// What stands in an open file, from its begin.
    pub(crate) fn add_open(&mut self, name: &str, file: &mut File) -> io::Result<()> {
        let size = file.seek(SeekFrom::End(0))?;
        file.rewind()?;
        self.0.append_data(&mut header(size), name, BufReader::new(file).take(size))
    }

    /// A file of the state folder, if it is there.
    pub(crate) fn add_file(&mut self, folder: &Path, name: &str) -> io::Result<()> {
        match File::open(folder.join(name)) {
            Ok(mut file) => self.add_open(name, &mut file),
            Err(error) if error.kind() == io::ErrorKind::NotFound => Ok(()),
            Err(error) => Err(error),
        }
    }

    /// The files of a folder in it; one that is removed meanwhile is left out.
    pub(crate) fn add_folder(&mut self, folder: &Path, name: &str) -> io::Result<()> {
        let entries = match fs::read_dir(folder.join(name)) {
            Ok(entries) => entries,
            Err(error) if error.kind() == io::ErrorKind::NotFound => return Ok(()),
            Err(error) => return Err(error),
        };
        let mut names: Vec<String> = Vec::new();
        for entry in entries {
            let entry = entry?;
            let is_whole = entry.file_type()?.is_file() && entry.path().extension().is_none_or(|end| end != "new");
            names.extend(entry.file_name().into_string().ok().filter(|_| is_whole));
        }
        names.sort();
        names.iter().try_for_each(|file| self.add_file(folder, &format!("{name}/{file}")))
    }

    pub(crate) fn finish(self) -> io::Result<()> {
        self.0.into_inner()?.finish()?.sync_all()
    }
}

fn header(size: u64) -> tar::Header {
    let mut header = tar::Header::new_gnu();
    header.set_size(size);
    header.set_mode(0o600);
    header.set_mtime(u64::try_from(OffsetDateTime::now_utc().unix_timestamp()).unwrap_or(0));
    header
}

/// Unpacks an archive into an empty folder: what belongs to one, and nothing else.
pub(crate) fn unpack(archive: &Path, folder: &Path) -> Result<About, ArchiveError> {
    let mut archive = tar::Archive::new(GzDecoder::new(BufReader::new(File::open(archive)?)));
    for entry in archive.entries().map_err(|error| foreign(&error))? {
        let mut entry = entry.map_err(|error| foreign(&error))?;
        let name = entry.path().map_err(|error| foreign(&error))?.into_owned();
        if !entry.header().entry_type().is_file() || !is_known(&name) {
            return Err(ArchiveError::Foreign(format!("`{}` is in it", name.display())));
        }
        let place = folder.join(&name);
        place.parent().map_or(Ok(()), fs::create_dir_all)?;
        let mut file = File::create_new(&place)?;
        io::copy(&mut entry, &mut file).map_err(|error| foreign(&error))?;
        file.sync_all()?;
    }
    // Behind the last part stands what tells whether all of it is as it was written.
    io::copy(&mut archive.into_inner(), &mut io::sink()).map_err(|error| foreign(&error))?;
    let about = fs::read_to_string(folder.join(ABOUT)).map_err(|_| missing(ABOUT))?;
    let about: About = serde_json::from_str(&about).map_err(|error| ArchiveError::Foreign(error.to_string()))?;
    if about.form != FORM {
        let (found, version) = (about.form, about.version);
        return Err(ArchiveError::Foreign(format!(
            "it has the form {found} of version {version}; {FORM} was expected"
        )));
    }
    match [RECORDS, FILES[0]].into_iter().find(|name| !folder.join(name).is_file()) {
        Some(name) => Err(missing(name)),
        None => Ok(about),
    }
}

fn missing(name: &str) -> ArchiveError {
    ArchiveError::Foreign(format!("`{name}` is not in it"))
}

fn foreign(error: &io::Error) -> ArchiveError {
    ArchiveError::Foreign(format!("{error}; is it whole?"))
}

/// True for names that [`Writer`] writes: nothing climbs out of the folder.
fn is_known(name: &Path) -> bool {
    let parts: Option<Vec<&str>> =
        name.components().map(|part| if let Component::Normal(part) = part { part.to_str() } else { None }).collect();
    match parts.as_deref() {
        Some([file]) => [ABOUT, RECORDS, SETTINGS].contains(file) || FILES.contains(file),
        Some([folder, _]) => FOLDERS.contains(folder),
        _ => false,
    }
}

/// Where something is unpacked before it takes its place.
pub(crate) fn waiting_room(state_folder: &Path) -> PathBuf {
    state_folder.join("restoring")
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    #[rstest]
    #[case("secrets.key", true)]
    #[case("slates/3.mp4", true)]
    #[case("certificate/certificate.pem", true)]
    #[case("other", false)]
    #[case("slates", false)]
    #[case("slates/3/4", false)]
    #[case("../secrets.key", false)]
    #[case("slates/../secrets.key", false)]
    #[case("/secrets.key", false)]
    #[case("", false)]
    fn nothing_else_is_unpacked(#[case] name: &str, #[case] expected: bool) {
        assert_eq!(is_known(Path::new(name)), expected);
    }

    fn packed(folder: &Path, about: &About, parts: &[(&str, &str)]) -> PathBuf {
        let path = folder.join("backup");
        let mut writer = Writer::new(File::create(&path).unwrap());
        writer.add_text(ABOUT, &serde_json::to_vec(about).unwrap()).unwrap();
        for (name, text) in parts {
            writer.add_text(name, text.as_bytes()).unwrap();
        }
        writer.finish().unwrap();
        path
    }

    const WHOLE: &[(&str, &str)] = &[("records.sql", "-- rows: 0"), ("secrets.key", "key"), ("slates/1.mp4", "clip")];

    #[test]
    fn what_was_packed_is_unpacked() {
        let ground = tempfile::tempdir().unwrap();
        let archive = packed(ground.path(), &About::now(7), WHOLE);
        let out = ground.path().join("out");
        assert_eq!(unpack(&archive, &out).unwrap().rows, 7);
        assert_eq!(fs::read_to_string(out.join("slates/1.mp4")).unwrap(), "clip");
    }

    #[rstest]
    #[case::a_part_is_missing(About::now(0), &WHOLE[..1], "`secrets.key` is not in it")]
    #[case::of_a_later_form(About { form: 2, ..About::now(0) }, WHOLE, "it has the form 2")]
    #[case::something_else_is_in_it(About::now(0), &[("etc", "x")], "`etc` is in it")]
    fn others_are_refused(#[case] about: About, #[case] parts: &[(&str, &str)], #[case] told: &str) {
        let ground = tempfile::tempdir().unwrap();
        let archive = packed(ground.path(), &about, parts);
        let error = unpack(&archive, &ground.path().join("out")).unwrap_err().to_string();
        assert!(error.contains(told), "{error}");
    }

    #[test]
    fn one_that_was_cut_off_is_refused() {
        let ground = tempfile::tempdir().unwrap();
        let archive = packed(ground.path(), &About::now(0), WHOLE);
        let bytes = fs::read(&archive).unwrap();
        for length in (0..bytes.len()).step_by(7) {
            fs::write(&archive, &bytes[..length]).unwrap();
            let out = ground.path().join(format!("out-{length}"));
            assert!(unpack(&archive, &out).is_err(), "of {length} bytes");
        }
    }
}
