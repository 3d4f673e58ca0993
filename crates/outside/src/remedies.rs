//! Commands that would open what is shut. They are told, and run by nobody but the owner of the machine.

use waverant_model::{DoorOutside, DoorVerdict, FilterRemedy, Transport};

use crate::scene::Filter;

/// For the filter that is there; where that is not known, for all that are common.
/// Of each door it is told whether the filter is known to shut it.
pub(crate) fn remedies(filter: &Filter, doors: &[(DoorOutside, bool)]) -> Vec<FilterRemedy> {
    let is_wanted = |(door, is_filtered): &&(DoorOutside, bool)| match filter {
        Filter::Rules(_) => *is_filtered,
        Filter::Unknown(_) => matches!(door.verdict, DoorVerdict::Shut | DoorVerdict::Unclear),
    };
    let wanted: Vec<&DoorOutside> = doors.iter().filter(is_wanted).map(|(door, _)| door).collect();
    if wanted.is_empty() {
        return Vec::new();
    }
    match filter {
        Filter::Rules(rules) if rules.has_chain("ufw-user-input") => vec![ufw(&wanted)],
        Filter::Rules(rules) if rules.has_table("firewalld") => vec![firewalld(&wanted)],
        Filter::Rules(rules) => {
            let gate = rules.gate().map(|(family, table, chain)| format!("{family} {table} {chain}"));
            vec![nftables(&wanted, gate.as_deref())]
        }
        Filter::Unknown(_) => vec![nftables(&wanted, None), ufw(&wanted), firewalld(&wanted)],
    }
}

fn nftables(wanted: &[&DoorOutside], gate: Option<&str>) -> FilterRemedy {
    let place = gate.unwrap_or("inet filter input");
    let commands = [Transport::Tcp, Transport::Udp].into_iter().filter_map(|transport| {
        let ports: Vec<String> =
            wanted.iter().filter(|door| door.transport == transport).map(|door| door.port.to_string()).collect();
        let word = transport.word();
        (!ports.is_empty()).then(|| format!("nft insert rule {place} {word} dport '{{ {} }}' accept", ports.join(", ")))
    });
    let note = match gate {
        Some(_) => "This holds until the machine is booted: write the same rules into /etc/nftables.conf.",
        None => {
            "Put the name of your own table and chain in the place of `inet filter input`, and the same into /etc/nftables.conf."
        }
    };
    FilterRemedy { filter: "nftables".to_owned(), commands: commands.collect(), note: Some(note.to_owned()) }
}

fn ufw(wanted: &[&DoorOutside]) -> FilterRemedy {
    let commands = wanted.iter().map(|door| format!("ufw allow {}/{}", door.port, door.transport.word()));
    FilterRemedy { filter: "ufw".to_owned(), commands: commands.collect(), note: None }
}

fn firewalld(wanted: &[&DoorOutside]) -> FilterRemedy {
    let opened = wanted
        .iter()
        .map(|door| format!("firewall-cmd --permanent --add-port={}/{}", door.port, door.transport.word()));
    let commands = opened.chain(["firewall-cmd --reload".to_owned()]).collect();
    FilterRemedy { filter: "firewalld".to_owned(), commands, note: None }
}
