//! What is looked at: this machine, its name, its filter, its doors.

use std::collections::BTreeSet;
use std::net::{IpAddr, SocketAddr};
use std::process::Stdio;
use std::time::Duration;

use tokio::process::Command;
use tokio::time::timeout;
use waverant_model::{AddressScope, AnswererTold, DoorReached, DoorTry, Transport};
use waverant_net::{Reach, reach_of, resolve};

use crate::firewall::Firewall;

/// The tool answers within so long, or is given up.
const FILTER_WITHIN: Duration = Duration::from_secs(5);

/// A door of the house.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Door {
    /// Its name in the settings.
    pub name: &'static str,
    /// TCP or UDP.
    pub transport: Transport,
    /// Where it listens.
    pub address: SocketAddr,
}

/// An address of this machine, and its interface.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Own {
    /// The address.
    pub address: IpAddr,
    /// The interface that has it.
    pub interface: String,
}

/// The packet filter, as far as it is known.
#[derive(Clone, Debug)]
pub enum Filter {
    /// Its rules.
    Rules(Firewall),
    /// Why they are not known.
    Unknown(String),
}

/// All that is known of a machine.
#[derive(Clone, Debug)]
pub struct Scene {
    /// Its addresses.
    pub own: Vec<Own>,
    /// The public name, and what it leads to.
    pub name: Option<(String, Result<Vec<IpAddr>, String>)>,
    /// Its packet filter.
    pub filter: Filter,
    /// Its doors, who was there last from out there, and what came of trying.
    pub doors: Vec<(Door, Option<DoorReached>, Vec<DoorTry>)>,
    /// The helper out there.
    pub answerer: Option<AnswererTold>,
}

impl Scene {
    /// Looks at this machine: its addresses, what its public name leads to, and the rules of its packet filter, if
    /// whoever asks may read them.
    pub async fn look(host: Option<&str>, doors: Vec<Door>) -> Self {
        let own = own_addresses();
        let named = async {
            let host = host.filter(|host| !host.is_empty())?;
            let found = resolve(host, 0).await.map(|all| all.into_iter().map(|one| one.ip()).collect());
            Some((host.to_owned(), found.map_err(|error| error.to_string())))
        };
        let (name, filter) = tokio::join!(named, read_filter());
        let doors = doors.into_iter().map(|door| (door, None, Vec::new())).collect();
        Self { own, name, filter, doors, answerer: None }
    }

    /// The interfaces by which somebody out there may come.
    pub(crate) fn interfaces(&self) -> BTreeSet<String> {
        let outer = self.own.iter().filter(|own| scope_of(own.address) != AddressScope::Loopback);
        outer.map(|own| own.interface.clone()).collect()
    }
}

/// The addresses of this machine; none if the system does not tell.
fn own_addresses() -> Vec<Own> {
    let found = if_addrs::get_if_addrs().inspect_err(|error| tracing::warn!(%error, "own addresses are not known"));
    let own = found.unwrap_or_default().into_iter().map(|one| Own { address: one.ip(), interface: one.name });
    own.collect()
}

/// From where an address can be reached.
pub fn scope_of(address: IpAddr) -> AddressScope {
    let is_shared = matches!(address, IpAddr::V4(own) if own.octets()[0] == 100 && own.octets()[1] & 0xc0 == 64);
    match reach_of(address) {
        _ if is_shared => AddressScope::Shared,
        Reach::Public => AddressScope::Public,
        Reach::Private => AddressScope::Private,
        Reach::Loopback => AddressScope::Loopback,
        Reach::Never => AddressScope::Link,
    }
}

async fn read_filter() -> Filter {
    let mut command = Command::new("nft");
    // Where it is for root; a service's path may be without.
    let path = std::env::var("PATH").unwrap_or_default();
    command.env("PATH", format!("{path}:/usr/sbin:/sbin")).args(["--json", "list", "ruleset"]);
    let output = command.stdin(Stdio::null()).kill_on_drop(true).output();
    let done = match timeout(FILTER_WITHIN, output).await {
        Ok(Ok(done)) => done,
        Ok(Err(error)) if error.kind() == std::io::ErrorKind::NotFound => {
            return Filter::Unknown(
                "nft is not installed, so rules cannot be read (Debian's package nftables)".to_owned(),
            );
        }
        Ok(Err(error)) => return Filter::Unknown(format!("nft: {error}")),
        Err(_) => return Filter::Unknown("nft does not answer".to_owned()),
    };
    if !done.status.success() {
        let said = String::from_utf8_lossy(&done.stderr);
        let said = said.lines().next().unwrap_or("it says nothing").to_owned();
        let advice = "only root may read them: run `sudo waverantd check --outside`";
        return Filter::Unknown(if said.contains("not permitted") {
            advice.to_owned()
        } else {
            format!("nft: {said}")
        });
    }
    match Firewall::parse(&String::from_utf8_lossy(&done.stdout)) {
        Ok(rules) => Filter::Rules(rules),
        Err(error) => Filter::Unknown(error.to_string()),
    }
}
