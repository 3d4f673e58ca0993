use std::path::PathBuf;

use clap::{Args, Subcommand};
use waverant_model::{AddDepot, ChangeDepot, Depot as Kept, DepotTry, Hidden};

use super::ask::secret;
use super::dash;
use crate::client::{Client, piece};
use crate::error::Failure;
use crate::output::{Column, Report};

#[derive(Subcommand, Debug)]
pub(super) enum Depot {
    /// List depots.
    List,
    /// Add a depot: object storage that speaks S3.
    Add(Add),
    /// Change a depot.
    Change {
        /// The depot.
        depot: String,
        /// The address under which anybody fetches what lies below the prefix, as in `https://show.wexcombe.example`;
        /// empty for none. Needed for shows that are published there.
        #[arg(long, value_name = "ADDRESS")]
        public_address: Option<String>,
    },
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
    /// The address under which anybody fetches what lies below the prefix, as in `https://show.wexcombe.example`;
    /// needed for shows that are published there.
    #[arg(long, value_name = "ADDRESS")]
    public_address: Option<String>,
    /// A file that holds what requests are signed with; asked for if left out.
    #[arg(long, value_name = "FILE")]
    secret_file: Option<PathBuf>,
}

impl Depot {
    pub(super) fn run(self, report: &mut Report<'_>) -> Result<(), Failure> {
        let client = Client::signed_in()?;
        match self {
            Self::List => {
                let depots: Vec<Kept> = client.get("/depots")?;
                let empty = "No depots yet. Add one: waverant depot add NAME ENDPOINT BUCKET --access-key KEY";
                Ok(report.rows(&depots, &depots, &columns(), empty)?)
            }
            Self::Add(form) => {
                let secret_key = secret("Secret key", "--secret-file", form.secret_file.as_deref())?;
                let depot = AddDepot {
                    name: form.name,
                    endpoint: form.endpoint,
                    region: form.region,
                    bucket: form.bucket,
                    prefix: form.prefix,
                    access_key: form.access_key,
                    secret_key: Hidden::from(secret_key),
                    public_address: form.public_address,
                };
                let made: Kept = client.call("POST", "/depots", &depot)?;
                let next = format!("Depot `{0}` added. Try it: waverant depot try {0}", made.name);
                Ok(report.done(&made, &next)?)
            }
            Self::Change { depot, public_address } => {
                let form = ChangeDepot { public_address };
                let changed: Kept = client.call("PATCH", &format!("/depots/{}", piece(&depot)), &form)?;
                Ok(report.done(&changed, &format!("Depot `{depot}` changed."))?)
            }
            Self::Try { depot } => {
                let tried: DepotTry = client.order("POST", &format!("/depots/{}/try", piece(&depot)))?;
                if tried.is_good {
                    return Ok(report.done(&tried, &format!("`{depot}` takes objects."))?);
                }
                Err(Failure::Job(format!("`{depot}` does not take objects: {}", dash(tried.reason.as_deref()))))
            }
            Self::Remove { depot } => {
                client.order::<()>("DELETE", &format!("/depots/{}", piece(&depot)))?;
                Ok(report.done(&(), &format!("Depot `{depot}` removed; what is there stays there."))?)
            }
        }
    }
}

fn columns() -> [Column<Kept>; 7] {
    [
        Column::text("name", |row| row.name.clone()),
        Column::text("endpoint", |row| row.endpoint.clone()),
        Column::text("bucket", |row| row.bucket.clone()),
        Column::text("prefix", |row| dash(Some(&row.prefix))),
        Column::text("region", |row| row.region.clone()),
        Column::text("access key", |row| row.access_key.clone()),
        Column::text("public address", |row| dash(row.public_address.as_deref())),
    ]
}
