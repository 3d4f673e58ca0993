use std::io;
use std::path::PathBuf;

use thiserror::Error;
use waverant_model::Problem;

/// Why a command failed.
#[derive(Debug, Error)]
pub(crate) enum Failure {
    /// The service said no.
    #[error("{}", .0.detail)]
    Refused(Box<Problem>),
    /// The service cannot be reached.
    #[error("the service at {url} cannot be reached: {reason}")]
    Unreachable { url: String, reason: String },
    /// The service answered with something else than expected.
    #[error("{url} answered {found}, which is not the Waverant API")]
    NotTheApi { url: String, found: String },
    /// It failed, and the service is of another version than this program, which may be why.
    #[error("{failure}")]
    Apart { failure: Box<Self>, service: String },
    /// Nobody is signed in.
    #[error("no service is known yet")]
    NoAccount,
    /// A file cannot be read or written.
    #[error("{}: {source}", path.display())]
    File { path: PathBuf, source: io::Error },
    /// A destination was tried in vain.
    #[error("`{0}` would not take a show; the last step says why")]
    Tried(String),
    /// What was asked for was done, and did not come out well.
    #[error("{0}")]
    Job(String),
    /// What was given cannot be used.
    #[error("{0}")]
    Usage(String),
    /// Output or input failed.
    #[error(transparent)]
    Output(#[from] io::Error),
}

impl Failure {
    /// 1: the honest "no"; 2: could not run.
    pub(crate) fn exit_code(&self) -> u8 {
        match self {
            Self::Refused(problem) if problem.status < 500 => 1,
            Self::Tried(_) | Self::Job(_) => 1,
            Self::Apart { failure, .. } => failure.exit_code(),
            _ => 2,
        }
    }

    pub(crate) fn next_step(&self) -> Option<String> {
        match self {
            Self::Refused(problem) if problem.code == "not_signed_in" => {
                Some("Sign in anew: waverant sign-in URL".to_owned())
            }
            Self::Refused(problem) => Some(problem.next_step.clone()),
            Self::Apart { failure, service } => {
                let step = failure.next_step().map(|step| format!("{step} ")).unwrap_or_default();
                let own = env!("CARGO_PKG_VERSION");
                Some(format!(
                    "{step}The service is version {service} and this command line {own}: install the same of both."
                ))
            }
            Self::Unreachable { .. } => Some("Check that waverantd runs and that the address is right.".to_owned()),
            Self::NoAccount => {
                Some("Sign in first: waverant sign-in URL (or set WAVERANT_URL and WAVERANT_TOKEN).".to_owned())
            }
            _ => None,
        }
    }
}
