use time::OffsetDateTime;
use waverant_library::DepotClient;
use waverant_model::AddDepot;
use waverant_relay::{Actor, ChannelName, Secret, printable};
use waverant_store::Depot;

use crate::{House, HouseError};

impl House {
    /// Adds a depot.
    ///
    /// # Errors
    /// [`HouseError`] if a field is not as expected, the name is taken, or the database is away.
    pub async fn add_depot(&self, form: AddDepot, by: &Actor) -> Result<Depot, HouseError> {
        let depot = checked(form)?;
        DepotClient::new(&depot).map_err(|error| HouseError::invalid("endpoint", error))?;
        self.store.add_depot(&depot).await?;
        tracing::info!(depot = depot.name, %by, "a depot is added");
        Ok(depot)
    }

    /// Removes a depot; what is there stays there.
    ///
    /// # Errors
    /// [`HouseError`] if there is no such depot, or the database is away.
    pub async fn remove_depot(&self, name: &str, by: &Actor) -> Result<(), HouseError> {
        let channels = self.store.remove_depot(name).await?;
        self.follow(channels).await?;
        tracing::info!(depot = name, %by, "a depot is removed");
        Ok(())
    }

    /// Writes an object to a depot and removes it again.
    ///
    /// # Errors
    /// [`HouseError::Depot`] with what the depot answered, or there is no such depot.
    pub async fn try_depot(&self, name: &str) -> Result<(), HouseError> {
        let depot = self.store.depot(name).await?;
        Ok(DepotClient::new(&depot)?.try_out().await?)
    }
}

fn checked(form: AddDepot) -> Result<Depot, HouseError> {
    let name: ChannelName = form.name.parse().map_err(|error| HouseError::invalid("name", error))?;
    let endpoint = form.endpoint.trim().trim_end_matches('/').to_owned();
    let has_host = |scheme: &&str| endpoint.strip_prefix(scheme).is_some_and(|host| !host.is_empty());
    if !["https://", "http://"].iter().any(has_host) {
        let found = printable(&endpoint, 80);
        let told = format!("`{found}` stands where https://host or http://host:port was expected");
        return Err(HouseError::invalid("endpoint", told));
    }
    for (field, text, longest) in [
        ("endpoint", &endpoint, 255),
        ("region", &form.region, 64),
        ("bucket", &form.bucket, 64),
        ("access_key", &form.access_key, 128),
    ] {
        super::checked_text(field, text, longest)?;
    }
    for (field, text, longest) in [("prefix", form.prefix.as_str(), 160), ("secret_key", form.secret_key.reveal(), 512)]
    {
        let length = text.chars().count();
        if length > longest {
            let told = format!("it has {length} characters; {longest} are allowed at most");
            return Err(HouseError::invalid(field, told));
        }
    }
    Ok(Depot {
        name: name.to_string(),
        endpoint,
        region: form.region.trim().to_owned(),
        bucket: form.bucket.trim().to_owned(),
        prefix: form.prefix.trim_matches('/').to_owned(),
        access_key: form.access_key.trim().to_owned(),
        secret_key: Secret::new(form.secret_key.reveal()),
        created_at: OffsetDateTime::now_utc(),
    })
}
