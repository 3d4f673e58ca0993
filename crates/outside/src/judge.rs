//! What follows from all that is known.

use std::net::IpAddr;

use waverant_model::{
    AddressScope, DoorOutside, DoorReached, DoorTry, DoorVerdict, FilterState, NameVerdict, Outside, OwnAddress,
    PacketFilter, PublicName, Transport, TryOutcome,
};

use crate::firewall::{Admission, Newcomer};
use crate::remedies::remedies;
use crate::scene::{Door, Filter, Scene, scope_of};

/// Tells what is known of a machine, and what to do.
pub fn judge(scene: &Scene) -> Outside {
    let addresses = scene.own.iter().map(|own| OwnAddress {
        address: own.address.to_string(),
        interface: own.interface.clone(),
        scope: scope_of(own.address),
    });
    let doors: Vec<(DoorOutside, bool)> =
        scene.doors.iter().map(|(door, reached, tries)| tell_door(scene, door, reached.clone(), tries)).collect();
    Outside {
        addresses: addresses.collect(),
        name: scene.name.as_ref().map(|(name, found)| tell_name(scene, name, found)),
        filter: tell_filter(&scene.filter),
        remedies: remedies(&scene.filter, &doors),
        doors: doors.into_iter().map(|(door, _)| door).collect(),
        answerer: scene.answerer.clone(),
    }
}

fn tell_filter(filter: &Filter) -> PacketFilter {
    let (state, told) = match filter {
        Filter::Rules(rules) if rules.is_there() => (FilterState::Read, "its rules were read".to_owned()),
        Filter::Rules(_) => (FilterState::None, "there are no rules that keep anybody out".to_owned()),
        Filter::Unknown(why) => (FilterState::Unknown, why.clone()),
    };
    PacketFilter { state, told }
}

/// The addresses that are ours out there: public ones of this machine, and what the helper saw.
fn ours(scene: &Scene) -> Vec<IpAddr> {
    let seen = scene.answerer.iter().flat_map(|told| told.seen_as.iter().filter_map(|address| address.parse().ok()));
    scene.own.iter().map(|own| own.address).chain(seen).collect()
}

fn tell_name(scene: &Scene, name: &str, found: &Result<Vec<IpAddr>, String>) -> PublicName {
    let ours = ours(scene);
    let (verdict, told) = match found {
        Err(why) => (
            NameVerdict::Unresolved,
            format!(
                "{why}; have your provider of names lead {name} to this machine, with an A record (and AAAA for IPv6)"
            ),
        ),
        Ok(found) => {
            let here = found.iter().filter(|address| ours.contains(address)).count();
            let has_public = ours.iter().any(|address| scope_of(*address) == AddressScope::Public);
            let is_inner = found.iter().all(|address| scope_of(*address) != AddressScope::Public);
            match here {
                _ if is_inner => (
                    NameVerdict::Private,
                    "it leads to addresses that nobody out there can reach; callers from outside need a public one".to_owned(),
                ),
                all if all == found.len() => (NameVerdict::Ours, "it leads here".to_owned()),
                0 if has_public => (
                    NameVerdict::Elsewhere,
                    "it leads to another machine; if that is no proxy or router of yours, change its A and AAAA records".to_owned(),
                ),
                0 => (
                    NameVerdict::Behind,
                    "this machine has no public address; whether that of the name is your router's is seen once the helper out \
                     there is asked"
                        .to_owned(),
                ),
                _ => (
                    NameVerdict::Partly,
                    "not all of its addresses are ours; callers that take one of the others do not come here".to_owned(),
                ),
            }
        }
    };
    let addresses = found.as_ref().map(|all| all.iter().map(ToString::to_string).collect()).unwrap_or_default();
    PublicName { name: name.to_owned(), addresses, verdict, told }
}

/// A door, and whether the packet filter shuts it.
fn tell_door(scene: &Scene, door: &Door, reached: Option<DoorReached>, tries: &[DoorTry]) -> (DoorOutside, bool) {
    let is_inside = door.address.ip().is_loopback();
    let filter = if is_inside { Vec::new() } else { filtered(scene, door) };
    let is_filtered =
        !filter.is_empty() && filter.iter().all(|(_, admission)| matches!(admission, Admission::Closed(_)));
    let (verdict, told) = match is_inside {
        true => (DoorVerdict::Inside, format!("it listens for this machine only; listen.{} says where", door.name)),
        false => verdict(scene, door, (&filter, is_filtered), (reached.as_ref(), tries)),
    };
    let told = DoorOutside {
        name: door.name.to_owned(),
        transport: door.transport,
        port: door.address.port(),
        listens: door.address.to_string(),
        verdict,
        told,
        reached,
        tries: tries.to_vec(),
    };
    // Who came in all the same came by what is not known here.
    (told, is_filtered && verdict == DoorVerdict::Shut)
}

fn verdict(
    scene: &Scene,
    door: &Door,
    (filter, is_filtered): (&[(&str, Admission)], bool),
    (reached, tries): (Option<&DoorReached>, &[DoorTry]),
) -> (DoorVerdict, String) {
    let shut = filter.iter().find_map(|(family, admission)| match admission {
        Admission::Closed(by) => Some(format!("the packet filter of this machine lets nobody in over {family} ({by})")),
        _ => None,
    });
    let answered = tries.iter().any(|one| one.outcome == TryOutcome::Answered);
    match (&shut, tries.iter().find(|one| one.outcome != TryOutcome::Answered)) {
        (Some(shut), _) if is_filtered && !answered => (DoorVerdict::Shut, shut.clone()),
        (_, Some(failed)) if !answered => (DoorVerdict::Shut, tell_failure(scene, door, failed)),
        (_, Some(failed)) => {
            (DoorVerdict::Reached, format!("the helper out there came in, though not at {}", failed.address))
        }
        (_, None) if answered => (DoorVerdict::Reached, "the helper out there came in".to_owned()),
        _ if reached.is_some() => (DoorVerdict::Reached, "somebody from out there was here".to_owned()),
        (Some(shut), _) => (DoorVerdict::Open, format!("{shut}; over the other nothing here keeps anybody out")),
        _ => untried(scene, filter),
    }
}

/// What can be said where nobody came and nothing was tried.
fn untried(scene: &Scene, filter: &[(&str, Admission)]) -> (DoorVerdict, String) {
    let unclear = filter.iter().find_map(|(_, admission)| match admission {
        Admission::Unclear(why) => Some(why),
        _ => None,
    });
    let behind = match scene.own.iter().any(|own| scope_of(own.address) == AddressScope::Public) {
        true => "a filter of your provider before this machine is not seen from here",
        false => "this machine has no public address: your router must pass this port on to it",
    };
    match (&scene.filter, unclear) {
        (Filter::Unknown(_), _) => (DoorVerdict::Unclear, format!("the packet filter is not known here; {behind}")),
        (_, Some(why)) => (DoorVerdict::Unclear, format!("the packet filter may let in or not: {why}")),
        _ => (DoorVerdict::Open, format!("nothing here keeps anybody out, and nobody came yet; {behind}")),
    }
}

fn tell_failure(scene: &Scene, door: &Door, failed: &DoorTry) -> String {
    let is_own = scene.own.iter().any(|own| own.address.to_string() == failed.address);
    let (transport, port, address) = (door.transport.word(), door.address.port(), &failed.address);
    let whose = match is_own {
        true => "a filter of this machine or of your provider keeps it out".to_owned(),
        false => format!("{address} is your router's: have it pass {transport} {port} on to this machine"),
    };
    match (failed.outcome, door.transport) {
        (TryOutcome::Unreachable, _) => format!("there is no way from the helper to {address}"),
        (TryOutcome::Refused, _) => {
            format!("the helper out there was turned down at {address}, {transport} {port}; {whose}")
        }
        _ => format!("the helper out there got no answer from {address}, {transport} {port}; {whose}"),
    }
}

/// What the filter says, for each family that the door listens for and the machine has addresses of.
fn filtered(scene: &Scene, door: &Door) -> Vec<(&'static str, Admission)> {
    let Filter::Rules(rules) = &scene.filter else { return Vec::new() };
    let own: Vec<IpAddr> = scene.own.iter().map(|own| own.address).filter(|own| !own.is_loopback()).collect();
    let listens = door.address.ip();
    let addresses: Vec<IpAddr> = match listens.is_unspecified() {
        // A socket for all of IPv6 takes IPv4 as well.
        true => own.into_iter().filter(|own| listens.is_ipv6() || own.is_ipv4()).collect(),
        false => vec![listens],
    };
    let interfaces = scene.interfaces();
    let reaches = |address: &IpAddr| !matches!(scope_of(*address), AddressScope::Link | AddressScope::Loopback);
    [("IPv4", false), ("IPv6", true)]
        .into_iter()
        .filter(|(_, is_v6)| addresses.iter().any(|address| address.is_ipv6() == *is_v6 && reaches(address)))
        .map(|(family, is_v6)| {
            let is_tcp = door.transport == Transport::Tcp;
            let newcomer =
                Newcomer { is_tcp, port: door.address.port(), is_v6, interfaces: &interfaces, addresses: &addresses };
            (family, rules.admits(&newcomer))
        })
        .collect()
}

#[cfg(test)]
mod tests;
