use std::collections::{BTreeSet, HashMap};
use std::path::Path;

use anyhow::{Context, Result};
use cargo_metadata::{DependencyKind, Metadata, MetadataCommand, Node, Package, PackageId};

use crate::component::{Component, Registry};

/// The programs of a package.
const PROGRAMS: [&str; 2] = ["waverant-service", "waverant-cli"];

/// What the programs are made of.
pub(crate) struct Crates {
    /// Ours.
    pub(crate) version: String,
    pub(crate) others: Vec<Component>,
}

/// Asks cargo; what only tests and build scripts use is left out.
pub(crate) fn read(checkout: &Path, target: &str) -> Result<Crates> {
    let metadata = MetadataCommand::new()
        .manifest_path(checkout.join("Cargo.toml"))
        .other_options(["--locked", "--offline", "--filter-platform", target].map(str::to_owned))
        .exec()
        .context("cargo does not tell what the programs are made of")?;
    let used = used(&metadata)?;
    let packages = metadata.packages.iter().filter(|package| used.contains(&package.id));
    let (others, ours): (Vec<&Package>, Vec<&Package>) = packages.partition(|package| package.source.is_some());
    let version = ours.first().context("none of our crates is used")?.version.to_string();
    let others = others.into_iter().map(component).collect::<Result<_>>()?;
    Ok(Crates { version, others })
}

/// All that the programs lead to.
fn used(metadata: &Metadata) -> Result<BTreeSet<PackageId>> {
    let resolve = metadata.resolve.as_ref().context("cargo tells no versions")?;
    let nodes: HashMap<&PackageId, &Node> = resolve.nodes.iter().map(|node| (&node.id, node)).collect();
    let is_program = |package: &&Package| PROGRAMS.contains(&package.name.as_str());
    let mut open: Vec<&PackageId> = metadata.packages.iter().filter(is_program).map(|package| &package.id).collect();
    let mut used = BTreeSet::new();
    while let Some(id) = open.pop() {
        if used.insert(id.clone()) {
            let node = nodes.get(id).with_context(|| format!("{id} is not in the tree"))?;
            let is_linked =
                |kinds: &[cargo_metadata::DepKindInfo]| kinds.iter().any(|kind| kind.kind == DependencyKind::Normal);
            open.extend(node.deps.iter().filter(|dep| is_linked(&dep.dep_kinds)).map(|dep| &dep.pkg));
        }
    }
    Ok(used)
}

fn component(package: &Package) -> Result<Component> {
    let folder = package.manifest_path.parent().with_context(|| format!("{} lies nowhere", package.name))?;
    Ok(Component {
        registry: Registry::Cargo,
        name: package.name.to_string(),
        version: package.version.to_string(),
        licence: package.license.clone().unwrap_or_default(),
        sha512: None,
        folder: folder.as_std_path().to_owned(),
    })
}
