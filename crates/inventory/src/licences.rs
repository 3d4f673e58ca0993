use std::collections::BTreeMap;
use std::fmt::Write;
use std::fs;
use std::path::{Path, PathBuf};

use anyhow::{Context, Result, bail};
use spdx::{Expression, LicenseId, LicenseReq, ParseMode};

use crate::component::Component;

/// Licences under which others' work may be given on with ours: whoever gets a package needs nothing but their texts, and
/// the source of what is under the MPL, which the registries have.
const ACCEPTED: [&str; 14] = [
    "0BSD",
    "Apache-2.0",
    "BSD-2-Clause",
    "BSD-3-Clause",
    "BSL-1.0",
    "CC0-1.0",
    "CDLA-Permissive-2.0",
    "IJG",
    "ISC",
    "MIT",
    "MPL-2.0",
    "OFL-1.1",
    "Unicode-3.0",
    "Zlib",
];

/// How deep in a crate its texts may lie: those of a library in C that is within it have a folder of their own.
const DEPTH: usize = 3;

const PREFACE: &str = "Waverant is licensed under Apache-2.0 or MIT, at your choice. It contains work of others under the licences \
    below; the source of each is at the registry that its address names (crates.io, registry.npmjs.org).\n";

fn is_accepted(requirement: &LicenseReq) -> bool {
    requirement.license.id().is_some_and(|id| ACCEPTED.contains(&id.name))
}

fn parsed(component: &Component) -> Result<Expression> {
    Expression::parse_mode(&component.licence, ParseMode::LAX)
        .with_context(|| format!("{} is under `{}`, which is no licence", component.url(), component.licence))
}

/// What is under a licence that we did not accept, or under none.
pub(crate) fn refused(components: &[Component]) -> Vec<String> {
    let is_good = |component: &&Component| parsed(component).is_ok_and(|expression| expression.evaluate(is_accepted));
    let refused = components.iter().filter(|component| !is_good(component));
    refused.map(|component| format!("{}: `{}`", component.url(), component.licence)).collect()
}

/// Each text once, with the components that are under it.
pub(crate) fn told(components: &[Component]) -> Result<String> {
    let mut texts: BTreeMap<String, Vec<String>> = BTreeMap::new();
    for component in components {
        for text in texts_of(component)? {
            texts.entry(text).or_default().push(component.url());
        }
    }
    let mut told = PREFACE.to_owned();
    let mut by_users: Vec<(Vec<String>, String)> = texts.into_iter().map(|(text, users)| (users, text)).collect();
    by_users.sort();
    for (users, text) in by_users {
        let line = "=".repeat(80);
        write!(told, "\n{line}\n{}\n{line}\n\n{text}\n", users.join("\n"))?;
    }
    Ok(told)
}

/// The texts that lie in it; else the standard ones of the licences that we accept of it.
fn texts_of(component: &Component) -> Result<Vec<String>> {
    let mut files = Vec::new();
    find(&component.folder, DEPTH, &mut files)?;
    files.sort();
    let mut texts = Vec::new();
    for file in files {
        let bytes = fs::read(&file).with_context(|| format!("{} cannot be read", file.display()))?;
        let text = String::from_utf8_lossy(&bytes).replace("\r\n", "\n").trim().to_owned();
        if !text.is_empty() && !texts.contains(&text) {
            texts.push(text);
        }
    }
    if texts.is_empty() {
        texts = parsed(component)?
            .requirements()
            .filter(|one| is_accepted(&one.req))
            .filter_map(|one| one.req.license.id().map(LicenseId::text).map(|text| text.trim().to_owned()))
            .collect();
    }
    if texts.is_empty() {
        bail!("{} has no text of its licence", component.url());
    }
    Ok(texts)
}

fn find(folder: &Path, depth: usize, found: &mut Vec<PathBuf>) -> Result<()> {
    for entry in fs::read_dir(folder).with_context(|| format!("{} cannot be read", folder.display()))? {
        let entry = entry?;
        let (path, name) = (entry.path(), entry.file_name().to_string_lossy().to_ascii_lowercase());
        let kind = entry.file_type()?;
        if kind.is_dir() && depth > 1 && name != "node_modules" && name != "target" {
            find(&path, depth - 1, found)?;
        } else if kind.is_file() && is_licence_file(&name) {
            found.push(path);
        }
    }
    Ok(())
}

/// Code may have such a name too.
fn is_licence_file(name: &str) -> bool {
    let is_code = ["rs", "js", "ts", "json", "h", "c"].contains(&name.rsplit('.').next().unwrap_or(name));
    let begins = ["license", "licence", "copying", "notice", "unlicense", "copyright"];
    !is_code && begins.iter().any(|begin| name.starts_with(begin))
}

#[cfg(test)]
mod tests {
    use std::path::Path;

    use super::{is_licence_file, refused, told};
    use crate::component::{Component, Registry};

    fn component(name: &str, licence: &str, folder: &Path) -> Component {
        Component {
            registry: Registry::Cargo,
            name: name.to_owned(),
            version: "1.0.0".to_owned(),
            licence: licence.to_owned(),
            sha512: None,
            folder: folder.to_owned(),
        }
    }

    #[test]
    fn only_what_is_accepted_passes() {
        let here = Path::new("/");
        let all = [
            component("choice", "MIT OR GPL-3.0-only", here),
            component("old-form", "MIT/Apache-2.0", here),
            component("both", "MIT AND GPL-3.0-only", here),
            component("none", "", here),
            component("own", "LicenseRef-oar", here),
        ];
        assert_eq!(
            refused(&all),
            [
                "pkg:cargo/both@1.0.0: `MIT AND GPL-3.0-only`",
                "pkg:cargo/none@1.0.0: ``",
                "pkg:cargo/own@1.0.0: `LicenseRef-oar`"
            ]
        );
    }

    #[test]
    fn a_text_stands_once_and_a_missing_one_is_the_standards() {
        let folder = tempfile::tempdir().unwrap();
        for (name, text) in [("oar", "May be rowed.\r\n"), ("rope", "May be rowed.\n"), ("pier", "")] {
            std::fs::create_dir_all(folder.path().join(name).join("deep")).unwrap();
            std::fs::write(folder.path().join(name).join("deep/LICENSE-OAR"), text).unwrap();
        }
        let at = |name: &str| component(name, "ISC", &folder.path().join(name));
        let told = told(&[at("oar"), at("rope"), at("pier")]).unwrap();
        assert_eq!(told.matches("May be rowed.").count(), 1, "{told}");
        assert!(told.contains("pkg:cargo/oar@1.0.0\npkg:cargo/rope@1.0.0\n====="), "{told}");
        assert!(
            told.contains("pkg:cargo/pier@1.0.0\n=====") && told.contains("WITH REGARD TO THIS SOFTWARE"),
            "{told}"
        );
    }

    #[test]
    fn texts_are_known_by_name() {
        for name in ["license", "license-mit", "licence.md", "copying.lesser", "license.apache-2.0", "unlicense"] {
            assert!(is_licence_file(name), "{name}");
        }
        for name in ["license.rs", "licenses.json", "read.me", "relicense.txt"] {
            assert!(!is_licence_file(name), "{name}");
        }
    }
}
