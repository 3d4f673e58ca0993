//! What the service asks of the machine at its start: descriptors, and files that others cannot read.

use std::fs;
use std::io;
use std::os::unix::fs::{DirBuilderExt, PermissionsExt};
use std::path::Path;

use rustix::fs::Mode;
use rustix::process::{Resource, Rlimit, getrlimit, setrlimit, umask};

use crate::settings::Settings;

/// Descriptors for all that is not a connection at a door: database, logs, listeners, pages of the runtime.
const OWN_DESCRIPTORS: usize = 64;

/// Descriptors that are to be left for legs, takes, delayed feeds and copies: a leg has one, a take two.
pub(crate) const SHOW_DESCRIPTORS: usize = 256;

/// Descriptors that are asked for at most; what is more costs nothing and helps nobody.
const MAX_DESCRIPTORS: u64 = 65_536;

/// Files are made for their owner, and for the group to read.
pub fn make_files_private() {
    umask(Mode::from_raw_mode(0o027));
}

/// What is in memory when the service crashes stays there: it holds keys.
pub fn leave_no_core_file() {
    let _ = setrlimit(Resource::Core, Rlimit { current: Some(0), maximum: Some(0) });
}

/// Takes as many descriptors as the system lets us; returns how many there are.
pub(crate) fn raise_descriptors() -> usize {
    let limit = getrlimit(Resource::Nofile);
    let most = limit.maximum.map_or(MAX_DESCRIPTORS, |maximum| maximum.min(MAX_DESCRIPTORS));
    let current = limit.current.unwrap_or(MAX_DESCRIPTORS);
    let raised =
        current >= most || setrlimit(Resource::Nofile, Rlimit { current: Some(most), maximum: limit.maximum }).is_ok();
    usize::try_from(if raised { most.max(current) } else { current }).unwrap_or(usize::MAX)
}

/// What the doors may take, and what is ours, beside shows.
pub(crate) fn wanted_descriptors(settings: &Settings) -> usize {
    let rtmp = settings.rtmp_connections + settings.rtmp_callers;
    rtmp + 2 * (settings.http_connections + settings.viewing_connections) + OWN_DESCRIPTORS
}

/// Makes a folder, or takes the rights away that others have in it: `mode` are those that may
/// stay.
pub(crate) fn keep_private(folder: &Path, mode: u32) -> io::Result<()> {
    fs::DirBuilder::new().recursive(true).mode(mode).create(folder)?;
    let found = fs::metadata(folder)?.permissions().mode() & 0o7777;
    if found & !mode == 0 {
        return Ok(());
    }
    let kept = found & mode | 0o700;
    fs::set_permissions(folder, fs::Permissions::from_mode(kept))?;
    tracing::warn!(
        folder = %folder.display(),
        "other users of this machine could look into this folder; its mode was {found:o} and is {kept:o} now"
    );
    Ok(())
}

/// Takes the rights away that others have to a file with a secret, if there is such a file.
pub(crate) fn keep_secret(file: &Path) -> io::Result<()> {
    let found = match fs::metadata(file) {
        Ok(found) => found.permissions().mode() & 0o7777,
        Err(error) if error.kind() == io::ErrorKind::NotFound => return Ok(()),
        Err(error) => return Err(error),
    };
    if found & 0o077 == 0 {
        return Ok(());
    }
    fs::set_permissions(file, fs::Permissions::from_mode(0o600))?;
    tracing::warn!(
        file = %file.display(),
        "other users of this machine could read this secret; its mode was {found:o} and is 600 now. If somebody may have \
         read it, stop the service and run `waverantd rekey`"
    );
    Ok(())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn folders_lose_the_rights_of_others_and_no_more() {
        let folder = tempfile::tempdir().unwrap();
        let (open, closed) = (folder.path().join("open"), folder.path().join("closed/inside"));
        fs::create_dir(&open).unwrap();
        fs::set_permissions(&open, fs::Permissions::from_mode(0o777)).unwrap();
        keep_private(&open, 0o750).unwrap();
        keep_private(&closed, 0o700).unwrap();
        let mode = |path: &Path| fs::metadata(path).unwrap().permissions().mode() & 0o777;
        assert_eq!((mode(&open), mode(&closed)), (0o750, 0o700));
        keep_private(&closed, 0o750).unwrap();
        assert_eq!(mode(&closed), 0o700, "what is stricter stays");
    }

    #[test]
    fn descriptors_are_raised_to_what_is_allowed() {
        let raised = raise_descriptors();
        let limit = getrlimit(Resource::Nofile);
        assert_eq!(limit.current.and_then(|current| usize::try_from(current).ok()), Some(raised));
        assert!(limit.maximum.is_none_or(|maximum| maximum >= raised as u64));
    }

    #[test]
    fn a_secret_that_others_can_read_is_taken_from_them() {
        let folder = tempfile::tempdir().unwrap();
        let file = folder.path().join("secrets.key");
        keep_secret(&file).unwrap();
        fs::write(&file, "key").unwrap();
        fs::set_permissions(&file, fs::Permissions::from_mode(0o644)).unwrap();
        keep_secret(&file).unwrap();
        assert_eq!(fs::metadata(&file).unwrap().permissions().mode() & 0o777, 0o600);
    }
}
