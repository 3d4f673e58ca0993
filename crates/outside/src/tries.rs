//! Asking the helper out there.

use std::net::IpAddr;
use std::time::Duration;

use serde::Deserialize;
use time::OffsetDateTime;
use waverant_calls::{Call, CallAddress, CallClient, SigningSecret};
use waverant_model::{AnswererTold, DoorTry};
use waverant_net::resolve;

use crate::asking::{AskedDoor, Found, HEADERS, MOST_DOORS, PATH, Question};
use crate::scene::{Door, Scene};

/// The helper calls doors for five seconds, and may be far.
const WITHIN: Duration = Duration::from_secs(12);

/// Its answer is short.
const MOST_BYTES: usize = 16 * 1024;

/// Who is asked, and with what it is signed.
#[derive(Clone, Debug)]
pub struct Answerer {
    /// Its address, as in `http://203.0.113.9:7899`.
    pub address: CallAddress,
    /// The secret that both have.
    pub secret: SigningSecret,
}

impl Answerer {
    /// What is told of it while it was not asked.
    pub fn unasked(&self) -> AnswererTold {
        AnswererTold { address: self.address.to_string(), seen_as: Vec::new(), fault: None }
    }
}

impl Scene {
    /// Has the doors tried from out there, over IPv4 and IPv6 if both lead to the helper.
    pub async fn ask(&mut self, answerer: &Answerer, client: &CallClient) {
        let mut told = answerer.unasked();
        let outer = self.doors.iter_mut().filter(|(door, ..)| !door.address.ip().is_loopback()).take(MOST_DOORS);
        let mut outer: Vec<_> = outer.collect();
        let asked: Vec<Door> = outer.iter().map(|(door, ..)| door.clone()).collect();
        for address in each_family(&answerer.address).await {
            match question(answerer, &address, client, &asked).await {
                Ok(found) => {
                    for ((_, _, tries), one) in outer.iter_mut().zip(&found.tries) {
                        let address = found.seen_as.clone();
                        tries.push(DoorTry { address, outcome: one.outcome, after_ms: one.after_ms });
                    }
                    told.seen_as.push(found.seen_as);
                }
                // One family that leads nowhere is no fault while the other does.
                Err(fault) => told.fault = Some(fault),
            }
        }
        if !told.seen_as.is_empty() {
            told.fault = None;
        }
        self.answerer = Some(told);
    }
}

/// The helper by each family of its addresses; by its name where it speaks TLS, or its certificate would not fit.
async fn each_family(address: &CallAddress) -> Vec<CallAddress> {
    let named = || vec![address.clone()];
    if address.keeps_secrets() {
        return named();
    }
    let found = resolve(address.host(), 0).await.unwrap_or_default();
    let first = |is_v6| found.iter().map(|one| one.ip()).find(|one: &IpAddr| one.is_ipv6() == is_v6);
    let all: Vec<CallAddress> =
        [first(false), first(true)].into_iter().flatten().filter_map(|ip| address.at(ip)).collect();
    if all.is_empty() { named() } else { all }
}

async fn question(
    answerer: &Answerer,
    address: &CallAddress,
    client: &CallClient,
    doors: &[Door],
) -> Result<Found, String> {
    let doors = doors.iter().map(|door| AskedDoor { transport: door.transport, port: door.address.port() });
    let body = serde_json::to_vec(&Question { doors: doors.collect() }).map_err(|error| error.to_string())?;
    let (id, at) = (format!("try_{:032x}", rand::random::<u128>()), OffsetDateTime::now_utc().unix_timestamp());
    let signature = answerer.secret.sign(&id, at, &body);
    let kind = ("content-type", "application/json".to_owned());
    let [name, time, by] = HEADERS;
    let headers = vec![kind, (name, id), (time, at.to_string()), (by, signature)];
    let call = Call { headers, body: body.into(), limit: WITHIN, most: MOST_BYTES, takes_begin: false };
    let reply = client.post(&address.with_path(PATH), call).await.map_err(|fault| fault.to_string())?;
    let said = String::from_utf8_lossy(&reply.body).into_owned();
    if reply.status != 200 {
        let said: String = said.chars().filter(|char| !char.is_control()).take(200).collect();
        return Err(format!("{} answered {}: {said}", address.host(), reply.status));
    }
    let mut read = serde_json::Deserializer::from_str(&said);
    let found = Found::deserialize(&mut read).map_err(|error| format!("its answer cannot be read: {error}"))?;
    let seen: IpAddr = found.seen_as.parse().map_err(|_| "its answer names no address".to_owned())?;
    Ok(Found { seen_as: seen.to_string(), ..found })
}
