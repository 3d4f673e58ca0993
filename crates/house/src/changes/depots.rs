use time::OffsetDateTime;
use waverant_library::DepotClient;
use waverant_model::{AddDepot, ChangeDepot};
use waverant_relay::{Actor, ChannelName, Secret, Site, printable};
use waverant_store::{Channel, Depot};

use crate::{House, HouseError};

/// The longest public address.
const MAX_ADDRESS: usize = 512;

impl House {
    /// Adds a depot.
    ///
    /// # Errors
    /// [`HouseError`] if a field is not as expected, the name is taken, or the database is away.
    pub async fn add_depot(&self, form: AddDepot, by: &Actor) -> Result<Depot, HouseError> {
        let depot = checked(form)?;
        let _changing = self.changing.of(&depot.name).await;
        DepotClient::new(&depot).map_err(|error| HouseError::invalid("endpoint", error))?;
        self.store.add_depot(&depot).await?;
        tracing::info!(depot = depot.name, %by, "a depot is added");
        Ok(depot)
    }

    /// Changes a depot; what the form leaves out stays.
    ///
    /// # Errors
    /// [`HouseError`] if a field is not as expected, there is no such depot, or the database is away.
    pub async fn change_depot(&self, name: &str, form: &ChangeDepot, by: &Actor) -> Result<Depot, HouseError> {
        let _changing = self.changing.of(name).await;
        if let Some(address) = &form.public_address {
            let address = checked_address(address)?;
            let publishing = self.store.channels().await?.into_iter().filter(|channel| publishes_to(channel, name));
            let publishing: Vec<u64> = publishing.map(|channel| channel.id).collect();
            if address.is_none() && !publishing.is_empty() {
                let told = format!("Shows are published to `{name}`. Give them another depot, or none, first.");
                return Err(HouseError::Conflict(told));
            }
            self.store.change_public_address(name, address.as_deref()).await?;
            self.follow(publishing).await?;
            tracing::info!(depot = name, ?address, %by, "a depot is changed");
        }
        Ok(self.store.depot(name).await?)
    }

    /// Removes a depot; what is there stays there.
    ///
    /// # Errors
    /// [`HouseError`] if there is no such depot, or the database is away.
    pub async fn remove_depot(&self, name: &str, by: &Actor) -> Result<(), HouseError> {
        let _changing = self.changing.of(name).await;
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

fn publishes_to(channel: &Channel, depot: &str) -> bool {
    channel.settings.viewing.published_to.as_ref().is_some_and(|published| published.depot == depot)
}

/// An address without a query, as the folder of what is below it; none if it is empty.
fn checked_address(address: &str) -> Result<Option<String>, HouseError> {
    let address = address.trim().trim_end_matches('/');
    if address.is_empty() {
        return Ok(None);
    }
    let is_plain = |byte: u8| byte.is_ascii_alphanumeric() || b"-._~:/[]%".contains(&byte);
    if Site::of_address(address).is_none() || !address.bytes().all(is_plain) || address.len() > MAX_ADDRESS {
        let found = printable(address, 80);
        let told = format!("`{found}` stands where https://host, or https://host/folder, was expected");
        return Err(HouseError::invalid("public_address", told));
    }
    Ok(Some(address.to_owned()))
}

/// What a new depot is to be.
pub(crate) fn checked(form: AddDepot) -> Result<Depot, HouseError> {
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
    let public_address = checked_address(form.public_address.as_deref().unwrap_or_default())?;
    Ok(Depot {
        public_address,
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
