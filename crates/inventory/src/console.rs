use std::collections::BTreeMap;
use std::fs;
use std::path::Path;

use anyhow::{Context, Result, bail};
use base64::Engine;
use base64::engine::general_purpose::STANDARD as BASE64;
use serde::Deserialize;

use crate::component::{Component, Registry};

#[derive(Deserialize)]
struct Lock {
    packages: BTreeMap<String, Locked>,
}

#[derive(Deserialize)]
struct Locked {
    #[serde(default)]
    version: String,
    #[serde(default)]
    license: String,
    #[serde(default)]
    dev: bool,
    /// Present only on other systems, or not at all.
    #[serde(default)]
    optional: bool,
    integrity: Option<String>,
}

/// What the lock file says is built into the console; what only builds it is left out.
pub(crate) fn read(console: &Path) -> Result<Vec<Component>> {
    let path = console.join("package-lock.json");
    let text = fs::read_to_string(&path).with_context(|| format!("{} cannot be read", path.display()))?;
    let lock: Lock = serde_json::from_str(&text).with_context(|| format!("{} is no lock file", path.display()))?;
    let shipped = lock.packages.into_iter().filter(|(place, locked)| !place.is_empty() && !locked.dev);
    shipped.filter_map(|(place, locked)| component(console, &place, locked).transpose()).collect()
}

fn component(console: &Path, place: &str, locked: Locked) -> Result<Option<Component>> {
    let folder = console.join(place);
    if !folder.is_dir() {
        if locked.optional {
            return Ok(None);
        }
        bail!("{} is not there; run scripts/build-console", folder.display());
    }
    let name = place.rsplit("node_modules/").next().unwrap_or(place).to_owned();
    let sha512 = locked.integrity.as_deref().and_then(|told| told.strip_prefix("sha512-")).and_then(hexadecimal);
    Ok(Some(Component {
        registry: Registry::Npm,
        name,
        version: locked.version,
        licence: locked.license,
        sha512,
        folder,
    }))
}

/// Digits of what is base64.
fn hexadecimal(base64: &str) -> Option<String> {
    let bytes = BASE64.decode(base64).ok()?;
    Some(bytes.iter().map(|byte| format!("{byte:02x}")).collect())
}

#[cfg(test)]
mod tests {
    use super::read;

    #[test]
    fn what_only_builds_the_console_is_left_out() {
        let console = tempfile::tempdir().unwrap();
        let lock = r#"{"packages": {"": {"name": "console"},
            "node_modules/oar": {"version": "1.0.0", "license": "MIT", "integrity": "sha512-AQL/"},
            "node_modules/oar/node_modules/@pier/rope": {"version": "2.0.0", "license": "ISC"},
            "node_modules/elsewhere": {"version": "1.0.0", "license": "MIT", "optional": true},
            "node_modules/saw": {"version": "3.0.0", "license": "MIT", "dev": true}}}"#;
        std::fs::write(console.path().join("package-lock.json"), lock).unwrap();
        std::fs::create_dir_all(console.path().join("node_modules/oar/node_modules/@pier/rope")).unwrap();
        let read_now = read(console.path()).unwrap();
        let urls: Vec<String> = read_now.iter().map(|one| one.url()).collect();
        assert_eq!(urls, ["pkg:npm/oar@1.0.0", "pkg:npm/%40pier/rope@2.0.0"]);
        assert_eq!(read_now[0].sha512.as_deref(), Some("0102ff"));
        std::fs::remove_dir_all(console.path().join("node_modules")).unwrap();
        assert!(read(console.path()).unwrap_err().to_string().contains("run scripts/build-console"));
    }
}
