use rstest::rstest;
use waverant_model::AnswererTold;

use super::*;
use crate::firewall::Firewall;
use crate::scene::Own;

const RULES: &str = include_str!("../../tests/vectors/one-table.json");

fn own(address: &str, interface: &str) -> Own {
    Own { address: address.parse().unwrap(), interface: interface.to_owned() }
}

fn door(name: &'static str, transport: Transport, address: &str) -> (Door, Option<DoorReached>, Vec<DoorTry>) {
    (Door { name, transport, address: address.parse().unwrap() }, None, Vec::new())
}

/// A machine at home, behind a router, with rules.
fn scene() -> Scene {
    Scene {
        own: vec![own("127.0.0.1", "lo"), own("192.168.1.20", "eth0"), own("fe80::20", "eth0")],
        name: None,
        filter: Filter::Rules(Firewall::parse(RULES).unwrap()),
        doors: vec![
            door("rtmp", Transport::Tcp, "0.0.0.0:1935"),
            door("srt", Transport::Udp, "0.0.0.0:7812"),
            door("http", Transport::Tcp, "127.0.0.1:7800"),
        ],
        answerer: None,
    }
}

fn verdicts(scene: &Scene) -> Vec<(DoorVerdict, String)> {
    judge(scene).doors.into_iter().map(|door| (door.verdict, door.told)).collect()
}

#[test]
fn what_the_filter_shuts_is_told_with_what_opens_it() {
    let told = judge(&scene());
    let verdicts: Vec<DoorVerdict> = told.doors.iter().map(|door| door.verdict).collect();
    assert_eq!(verdicts, [DoorVerdict::Open, DoorVerdict::Shut, DoorVerdict::Inside]);
    assert!(told.doors[0].told.contains("your router must pass this port on"), "{}", told.doors[0].told);
    assert!(told.doors[1].told.contains("(inet filter input)"), "{}", told.doors[1].told);
    assert_eq!(told.remedies.len(), 1);
    assert_eq!(told.remedies[0].commands, ["nft insert rule inet filter input udp dport '{ 7812 }' accept"]);
    assert_eq!(told.filter.state, FilterState::Read);
    let scopes: Vec<AddressScope> = told.addresses.iter().map(|one| one.scope).collect();
    assert_eq!(scopes, [AddressScope::Loopback, AddressScope::Private, AddressScope::Link]);
}

#[test]
fn without_rules_all_common_commands_are_told() {
    let filter = Filter::Unknown("only root may read them".to_owned());
    let told = judge(&Scene { filter, ..scene() });
    assert_eq!(told.doors[1].verdict, DoorVerdict::Unclear);
    let filters: Vec<&str> = told.remedies.iter().map(|one| one.filter.as_str()).collect();
    assert_eq!(filters, ["nftables", "ufw", "firewalld"]);
    assert_eq!(told.remedies[1].commands, ["ufw allow 1935/tcp", "ufw allow 7812/udp"], "not the one for this machine");
    let none = judge(&Scene { filter: Filter::Rules(Firewall::default()), ..scene() });
    assert_eq!((none.filter.state, none.remedies.len()), (FilterState::None, 0));
}

/// What was tried counts for more than what the rules say.
#[test]
fn what_the_helper_found_decides() {
    let mut scene = scene();
    let tried = |outcome| vec![DoorTry { address: "203.0.113.7".to_owned(), outcome, after_ms: 20 }];
    scene.doors[0].2 = tried(TryOutcome::Silent);
    scene.doors[1].2 = tried(TryOutcome::Answered);
    let told = verdicts(&scene);
    assert_eq!(told[0].0, DoorVerdict::Shut);
    assert!(told[0].1.ends_with("203.0.113.7 is your router's: have it pass tcp 1935 on to this machine"), "{told:?}");
    assert_eq!(told[1].0, DoorVerdict::Reached);
    scene.doors[0].2 = tried(TryOutcome::Refused);
    assert!(verdicts(&scene)[0].1.contains("was turned down at 203.0.113.7, tcp 1935"));
}

#[test]
fn who_was_there_counts() {
    let mut scene = scene();
    let at = time::OffsetDateTime::UNIX_EPOCH;
    scene.doors[0].1 = Some(DoorReached { at, address: "198.51.100.4".to_owned() });
    assert_eq!(verdicts(&scene)[0].0, DoorVerdict::Reached);
}

#[rstest]
#[case::here(&["203.0.113.4"], &["203.0.113.4"], &[], NameVerdict::Ours)]
#[case::partly(&["203.0.113.4", "203.0.113.5"], &["203.0.113.4"], &[], NameVerdict::Partly)]
#[case::elsewhere(&["203.0.113.5"], &["203.0.113.4"], &[], NameVerdict::Elsewhere)]
#[case::behind_a_router(&["203.0.113.5"], &["192.168.1.20"], &[], NameVerdict::Behind)]
#[case::a_router_that_was_seen(&["203.0.113.5"], &["192.168.1.20"], &["203.0.113.5"], NameVerdict::Ours)]
#[case::another_than_was_seen(&["203.0.113.5"], &["192.168.1.20"], &["203.0.113.6"], NameVerdict::Elsewhere)]
#[case::inner(&["192.168.1.20"], &["192.168.1.20"], &[], NameVerdict::Private)]
#[case::none(&[], &["203.0.113.4"], &[], NameVerdict::Unresolved)]
fn names_lead_here_or_not(
    #[case] found: &[&str],
    #[case] ours: &[&str],
    #[case] seen: &[&str],
    #[case] verdict: NameVerdict,
) {
    let mut scene = scene();
    scene.own = ours.iter().map(|address| own(address, "eth0")).collect();
    let found: Vec<IpAddr> = found.iter().map(|address| address.parse().unwrap()).collect();
    let found = if found.is_empty() { Err("no such name".to_owned()) } else { Ok(found) };
    scene.name = Some(("relay.wexcombe.example".to_owned(), found));
    let seen_as: Vec<String> = seen.iter().map(ToString::to_string).collect();
    scene.answerer = Some(AnswererTold { address: String::new(), seen_as, fault: None });
    let told = judge(&scene).name.unwrap();
    assert_eq!(told.verdict, verdict, "{}", told.told);
}
