//! The set-up file: the house told as one, and made to be as one says.

mod describing;
mod planning;
mod present;
mod writing;

use std::sync::Arc;

use tokio::task::spawn_blocking;
use waverant_relay::{Actor, Secret};
use waverant_setup::Reference;

pub use planning::{Deed, SetupChange, SetupPlan, SetupRequest, Thing, WantedSecret};
pub use writing::{MadeInvitation, MadeSecret, SetupApplied};

use crate::{House, HouseError};
use planning::plan;
use present::Present;

/// Faults that are told to who did not ask for a review first.
const FAULTS_TOLD: usize = 5;

impl House {
    /// The house as a set-up file, and the secrets that it refers to.
    ///
    /// # Errors
    /// [`HouseError`] if the database is away.
    pub async fn setup_text(&self) -> Result<(String, Vec<(Reference, Secret)>), HouseError> {
        let present = Present::read(&self.store).await?;
        Ok(spawn_blocking(move || present.told()).await?)
    }

    /// What a set-up file would change.
    ///
    /// # Errors
    /// [`HouseError`] if the database is away. What cannot be is told in the plan.
    pub async fn review_setup(self: &Arc<Self>, request: SetupRequest, by: &Actor) -> Result<SetupPlan, HouseError> {
        let present = Present::read(&self.store).await?;
        self.planned(request, present, by).await
    }

    /// Makes the house as a set-up file says, in one go: all of it holds, or nothing. With `reviewed` only what a review
    /// told that had this mark. Who hangs up does not end it.
    ///
    /// # Errors
    /// [`HouseError::Invalid`] with the first faults, [`HouseError::Conflict`] if something else is to change than was
    /// reviewed or something was changed meanwhile, or the database is away; then nothing is other than before.
    pub async fn apply_setup(
        self: &Arc<Self>,
        request: SetupRequest,
        reviewed: Option<String>,
        by: Actor,
    ) -> Result<SetupApplied, HouseError> {
        let house = self.clone();
        self.tasks().spawn(async move { house.apply_in_turn(request, reviewed, &by).await }).await?
    }

    async fn apply_in_turn(
        self: Arc<Self>,
        request: SetupRequest,
        reviewed: Option<String>,
        by: &Actor,
    ) -> Result<SetupApplied, HouseError> {
        // Nobody else changes the house between reading and writing; people are locked in the records.
        let _turns = self.changing.all().await;
        let _targets = self.couriers.changing.lock().await;
        let _addresses = self.addresses.changing.lock().await;
        let present = Present::read(&self.store).await?;
        let plan = self.planned(request, present, by).await?;
        if !plan.faults.is_empty() {
            return Err(HouseError::invalid("text", told(&plan)));
        }
        if reviewed.is_some_and(|mark| mark != plan.mark) {
            let told = "What is to change is not what was reviewed: the file, a secret or the house was changed since. \
                        Review it again.";
            return Err(HouseError::Conflict(told.to_owned()));
        }
        let count = plan.changes.len();
        let applied = self.write_setup(plan).await?;
        tracing::info!(count, %by, "a set-up is applied");
        Ok(applied)
    }

    async fn planned(
        self: &Arc<Self>,
        request: SetupRequest,
        present: Present,
        by: &Actor,
    ) -> Result<SetupPlan, HouseError> {
        let (house, by) = (self.clone(), by.to_string());
        Ok(spawn_blocking(move || plan(&house, &request, &present, &by)).await?)
    }
}

fn told(plan: &SetupPlan) -> String {
    let mut told: Vec<String> = plan
        .faults
        .iter()
        .take(FAULTS_TOLD)
        .map(|fault| format!("line {}, column {}: {}: {}", fault.place.line, fault.place.column, fault.at, fault.text))
        .collect();
    if plan.faults.len() > FAULTS_TOLD {
        told.push(format!("and {} more; a review tells them all", plan.faults.len() - FAULTS_TOLD));
    }
    told.join("; ")
}
