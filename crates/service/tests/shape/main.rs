//! The shape of the source: which crate uses which, no circles between modules, and files and functions that can be
//! read at once. What docs/architecture.md draws is held here.

#![expect(clippy::unwrap_used, reason = "a test")]

mod crates;
mod dependencies;
mod findings;
mod modules;
mod sizes;
mod timeline;

use std::path::{Path, PathBuf};

/// The folder with all crates.
fn crates_folder() -> PathBuf {
    Path::new(env!("CARGO_MANIFEST_DIR")).join("..").canonicalize().unwrap()
}

/// The names of all crates' folders.
fn crate_names() -> Vec<String> {
    let entries = crates_folder().read_dir().unwrap().map(Result::unwrap);
    let folders = entries.filter(|entry| entry.path().join("Cargo.toml").exists());
    let mut names: Vec<String> = folders.map(|entry| entry.file_name().into_string().unwrap()).collect();
    names.sort();
    names
}

/// All sources of a crate, with their places below its `src`.
fn sources(name: &str) -> Vec<(PathBuf, String)> {
    fn walk(folder: &Path, root: &Path, found: &mut Vec<(PathBuf, String)>) {
        for entry in folder.read_dir().unwrap().map(Result::unwrap) {
            let path = entry.path();
            if path.is_dir() {
                walk(&path, root, found);
            } else if path.extension().is_some_and(|extension| extension == "rs") {
                let text = std::fs::read_to_string(&path).unwrap();
                found.push((path.strip_prefix(root).unwrap().to_owned(), text));
            }
        }
    }
    let root = crates_folder().join(name).join("src");
    let mut found = Vec::new();
    walk(&root, &root, &mut found);
    found.sort();
    found
}

/// True for what is built for tests alone.
fn is_for_tests(attributes: &[syn::Attribute]) -> bool {
    let is_test = |attribute: &syn::Attribute| match &attribute.meta {
        syn::Meta::List(list) if list.path.is_ident("cfg") => {
            list.tokens.to_string().split(|letter: char| !letter.is_alphanumeric()).any(|word| word == "test")
        }
        syn::Meta::Path(path) => path.is_ident("test"),
        _ => false,
    };
    attributes.iter().any(is_test)
}
