use std::fs;
use std::io::ErrorKind;
use std::os::unix::fs::DirBuilderExt;
use std::path::Path;

use waverant_model::{Hidden, SetupSecret};
use waverant_setup::{Reference, references};

use crate::account::write_private;
use crate::error::Failure;

/// What is there of what a text refers to. The service asks for nothing: what it gets is what the text says.
pub(super) fn found(text: &str, folder: Option<&Path>) -> Result<Vec<SetupSecret>, Failure> {
    let mut found = Vec::new();
    for reference in references(text) {
        let value = match (&reference, folder) {
            (Reference::Environment(name), _) => std::env::var(name).ok(),
            (Reference::File(_), None) => None,
            (Reference::File(path), Some(folder)) => read(&folder.join(path))?,
        };
        found.extend(value.map(|value| SetupSecret { reference: reference.to_string(), value: Hidden::from(value) }));
    }
    Ok(found)
}

/// A file without the end of its line; none if it is not there.
fn read(path: &Path) -> Result<Option<String>, Failure> {
    match fs::read_to_string(path) {
        Ok(text) => {
            let line = text.strip_suffix('\n').unwrap_or(&text);
            Ok(Some(line.strip_suffix('\r').unwrap_or(line).to_owned()))
        }
        Err(error) if error.kind() == ErrorKind::NotFound => Ok(None),
        Err(source) => Err(Failure::File { path: path.to_owned(), source }),
    }
}

/// Writes what the service told into files of a folder: what the text refers to, and nothing else. Returns how many.
pub(super) fn keep(told: &[SetupSecret], text: &str, folder: &Path) -> Result<usize, Failure> {
    let wanted = references(text);
    let mut count = 0;
    for secret in told {
        let reference: Reference = secret.reference.parse().map_err(Failure::Usage)?;
        let Reference::File(name) = &reference else { continue };
        if !wanted.contains(&reference) {
            continue;
        }
        let path = folder.join(name);
        let parent = path.parent().unwrap_or(folder);
        let written = fs::DirBuilder::new().recursive(true).mode(0o700).create(parent);
        let written = written.and_then(|()| write_private(&path, secret.value.reveal()));
        written.map_err(|source| Failure::File { path: path.clone(), source })?;
        count += 1;
    }
    Ok(count)
}

#[cfg(test)]
mod tests {
    use std::os::unix::fs::PermissionsExt;

    use super::*;

    const TEXT: &str = "[destinations.plovio]\nkey = { file = \"destinations/plovio/key\" }\n\
                        srt.passphrase = { env = \"WAVERANT_TEST_NOT_SET\" }\n";

    fn secret(reference: &str, value: &str) -> SetupSecret {
        SetupSecret { reference: reference.to_owned(), value: Hidden::from(value.to_owned()) }
    }

    #[test]
    fn what_is_kept_is_found_again_and_read_by_its_owner_alone() {
        let folder = tempfile::tempdir().unwrap();
        let told = [secret("file:destinations/plovio/key", "weir 7"), secret("file:other", "not asked for")];
        assert_eq!(keep(&told, TEXT, folder.path()).unwrap(), 1);
        let path = folder.path().join("destinations/plovio/key");
        assert_eq!(fs::metadata(&path).unwrap().permissions().mode() & 0o777, 0o600);
        assert!(!folder.path().join("other").exists());
        fs::write(&path, "weir 7\r\n").unwrap();
        let found = found(TEXT, Some(folder.path())).unwrap();
        assert_eq!((found.len(), found[0].value.reveal()), (1, "weir 7"));
    }

    #[test]
    fn nothing_is_written_beside_the_folder() {
        let folder = tempfile::tempdir().unwrap();
        for reference in ["file:../key", "file:/tmp/key", "nonsense"] {
            assert!(keep(&[secret(reference, "x")], TEXT, &folder.path().join("in")).is_err(), "{reference}");
        }
        assert_eq!(found(TEXT, None).unwrap().len(), 0);
    }
}
