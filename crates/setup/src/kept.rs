use std::fs;
use std::io;
use std::path::{Path, PathBuf};

use waverant_model::Hidden;

use crate::{Reference, references};

/// What is there of what a text refers to: in files of a folder, and in the environment. Nothing else is read, so that who
/// asks for secrets gets none but those that the text names.
///
/// # Errors
/// The file that is there and cannot be read.
pub fn kept_secrets(text: &str, folder: Option<&Path>) -> Result<Vec<(Reference, Hidden)>, (PathBuf, io::Error)> {
    let mut found = Vec::new();
    for reference in references(text) {
        let value = match (&reference, folder) {
            (Reference::Environment(name), _) => std::env::var(name).ok(),
            (Reference::File(_), None) => None,
            (Reference::File(path), Some(folder)) => {
                let path = folder.join(path);
                line_of(&path).map_err(|error| (path, error))?
            }
        };
        found.extend(value.map(|value| (reference, Hidden::from(value))));
    }
    Ok(found)
}

/// A file without the end of its line; none if it is not there.
fn line_of(path: &Path) -> io::Result<Option<String>> {
    match fs::read_to_string(path) {
        Ok(text) => {
            let line = text.strip_suffix('\n').unwrap_or(&text);
            Ok(Some(line.strip_suffix('\r').unwrap_or(line).to_owned()))
        }
        Err(error) if error.kind() == io::ErrorKind::NotFound => Ok(None),
        Err(error) => Err(error),
    }
}
