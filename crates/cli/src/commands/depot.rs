use std::path::PathBuf;

use clap::{Args, Subcommand};
use serde_json::json;

use super::account::secret;
use super::{rows, text};
use crate::client::{Client, piece};
use crate::error::Failure;
use crate::output::{Column, Report};

#[derive(Subcommand, Debug)]
pub(super) enum Depot {
    /// List depots.
    List,
    /// Add a depot: object storage that speaks S3.
    Add(Add),
    /// Write an object into a depot and remove it.
    Try {
        /// The depot.
        depot: String,
    },
    /// Remove a depot; what is there stays there.
    Remove {
        /// The depot.
        depot: String,
    },
}

#[derive(Args, Debug)]
pub(super) struct Add {
    /// Its name here: small letters, digits and hyphens.
    name: String,
    /// Where it answers: https://host, or http://host:port in a network that you trust.
    endpoint: String,
    /// The bucket.
    bucket: String,
    /// The region that requests are signed for.
    #[arg(long, default_value = "us-east-1")]
    region: String,
    /// What the names of all objects begin with.
    #[arg(long, default_value = "")]
    prefix: String,
    /// Who signs requests.
    #[arg(long)]
    access_key: String,
    /// A file that holds what requests are signed with; asked for if left out.
    #[arg(long, value_name = "FILE")]
    secret_file: Option<PathBuf>,
}

impl Depot {
    pub(super) fn run(self, report: &mut Report<'_>) -> Result<(), Failure> {
        let client = Client::signed_in()?;
        match self {
            Self::List => {
                let answer = client.get("/depots")?;
                let empty = "No depots yet. Add one: waverant depot add NAME ENDPOINT BUCKET --access-key KEY";
                Ok(report.rows(&answer, rows(&answer), &columns(), empty)?)
            }
            Self::Add(form) => {
                let secret_key = secret("Secret key", "--secret-file", form.secret_file.as_deref())?;
                let body = json!({
                    "name": form.name,
                    "endpoint": form.endpoint,
                    "bucket": form.bucket,
                    "region": form.region,
                    "prefix": form.prefix,
                    "access_key": form.access_key,
                    "secret_key": secret_key,
                });
                let answer = client.call("POST", "/depots", Some(body))?;
                let next = format!("Depot `{0}` added. Try it: waverant depot try {0}", form.name);
                Ok(report.done(&answer, &next)?)
            }
            Self::Try { depot } => {
                let answer = client.call("POST", &format!("/depots/{}/try", piece(&depot)), None)?;
                if answer["is_good"] == true {
                    return Ok(report.done(&answer, &format!("`{depot}` takes objects."))?);
                }
                Err(Failure::Job(format!("`{depot}` does not take objects: {}", text(&answer, "reason"))))
            }
            Self::Remove { depot } => {
                let answer = client.call("DELETE", &format!("/depots/{}", piece(&depot)), None)?;
                Ok(report.done(&answer, &format!("Depot `{depot}` removed; what is there stays there."))?)
            }
        }
    }
}

fn columns() -> Vec<Column> {
    vec![
        Column::text("name", |row| text(row, "name")),
        Column::text("endpoint", |row| text(row, "endpoint")),
        Column::text("bucket", |row| text(row, "bucket")),
        Column::text("prefix", |row| text(row, "prefix")),
        Column::text("region", |row| text(row, "region")),
        Column::text("access key", |row| text(row, "access_key")),
    ]
}
