use std::fs;
use std::os::unix::fs::DirBuilderExt;
use std::path::Path;

use waverant_model::SetupSecret;
use waverant_setup::{Reference, kept_secrets, references};

use crate::account::write_private;
use crate::error::Failure;

/// What is there of what a text refers to. The service asks for nothing: what it gets is what the text says.
pub(super) fn found(text: &str, folder: Option<&Path>) -> Result<Vec<SetupSecret>, Failure> {
    let kept = kept_secrets(text, folder).map_err(|(path, source)| Failure::File { path, source })?;
    Ok(kept.into_iter().map(|(reference, value)| SetupSecret { reference: reference.to_string(), value }).collect())
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

    use waverant_model::Hidden;

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
