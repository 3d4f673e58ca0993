use std::path::PathBuf;

/// Which registry somebody's work comes from.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub(crate) enum Registry {
    Cargo,
    Npm,
}

impl Registry {
    /// Its type in package URLs.
    pub(crate) fn as_str(self) -> &'static str {
        match self {
            Self::Cargo => "cargo",
            Self::Npm => "npm",
        }
    }
}

/// Somebody's work that is in the package.
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub(crate) struct Component {
    pub(crate) registry: Registry,
    pub(crate) name: String,
    pub(crate) version: String,
    /// An SPDX expression.
    pub(crate) licence: String,
    /// Of what was fetched, in hexadecimal digits, if the lock file tells it.
    pub(crate) sha512: Option<String>,
    /// Where it lies here, with the texts of its licence.
    pub(crate) folder: PathBuf,
}

impl Component {
    /// As in `pkg:cargo/tokio@1.2.3` (package URL specification).
    pub(crate) fn url(&self) -> String {
        format!("pkg:{}/{}@{}", self.registry.as_str(), self.name.replace('@', "%40"), self.version)
    }
}
