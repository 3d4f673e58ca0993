use proptest::prelude::*;
use rstest::rstest;

use super::*;

/// What `nft --json list ruleset` (1.0.6) printed of the rules in the files of the same names.
const ONE: &str = include_str!("../../tests/vectors/one-table.json");
const TWO: &str = include_str!("../../tests/vectors/two-tables.json");

fn admits(text: &str, door: &str, is_v6: bool) -> Admission {
    let (transport, port) = door.split_once(' ').unwrap();
    let interfaces = BTreeSet::from(["eth0".to_owned()]);
    let addresses = ["192.168.1.20".parse().unwrap(), "2001:db8::20".parse().unwrap()];
    let newcomer = Newcomer {
        is_tcp: transport == "tcp",
        port: port.parse().unwrap(),
        is_v6,
        interfaces: &interfaces,
        addresses: &addresses,
    };
    Firewall::parse(text).unwrap().admits(&newcomer)
}

fn word(admission: &Admission) -> &'static str {
    match admission {
        Admission::Open => "open",
        Admission::Closed(_) => "closed",
        Admission::Unclear(_) => "unclear",
    }
}

/// One chain for both families, that drops what is left: named sets, ranges, verdict maps, limits, a called chain.
#[rstest]
#[case("tcp 1935", "open")]
#[case("tcp 1936", "open")]
#[case("udp 1935", "closed")]
#[case("tcp 7850", "open")]
#[case::of_some_addresses("tcp 7800", "closed")]
#[case::of_the_house("tcp 7801", "closed")]
#[case::within_a_limit("udp 7810", "open")]
#[case("udp 9050", "open")]
#[case("udp 9101", "closed")]
#[case::beyond_a_limit("tcp 22", "open")]
#[case::at_this_interface("tcp 7851", "open")]
#[case::at_another("tcp 7852", "closed")]
#[case::by_a_map("tcp 7860", "open")]
#[case::by_a_map("tcp 7861", "closed")]
#[case("tcp 7862", "closed")]
fn a_chain_that_drops_what_is_left(#[case] door: &str, #[case] expected: &str) {
    for is_v6 in [false, true] {
        assert_eq!(word(&admits(ONE, door, is_v6)), expected, "{door}");
    }
    // Behind a rule that IPv6 leaves the chain at.
    assert_eq!((word(&admits(ONE, "tcp 7870", false)), word(&admits(ONE, "tcp 7870", true))), ("open", "closed"));
}

/// A table for each family, chains that are gone to and come back, addresses that are kept out.
#[rstest]
#[case("tcp 1935", "open")]
#[case("tcp 1936", "closed")]
#[case("tcp 7800", "closed")]
#[case("udp 7810", "open")]
#[case("udp 7811", "open")]
#[case("udp 7812", "closed")]
fn chains_that_call_each_other(#[case] door: &str, #[case] expected: &str) {
    assert_eq!(word(&admits(TWO, door, false)), expected);
    assert_eq!(admits(TWO, door, true), Admission::Open, "the other family's table lets all in");
}

#[test]
fn what_keeps_somebody_out_is_named() {
    let told = |door| match admits(TWO, door, false) {
        Admission::Closed(by) => by,
        other => panic!("{other:?}"),
    };
    assert_eq!(told("udp 7812"), "ip filter INPUT");
    assert_eq!(told("tcp 7800"), "ip filter INPUT, other than for addresses that it names");
    let (one, two) = (Firewall::parse(ONE).unwrap(), Firewall::parse(TWO).unwrap());
    assert_eq!(one.gate().unwrap(), &("inet".to_owned(), "filter".to_owned(), "input".to_owned()));
    assert!(two.has_chain("ufw-user-input") && !one.has_chain("ufw-user-input") && two.is_there());
}

/// What is not understood leaves it open, and does not decide.
#[rstest]
#[case(r#"{"match": {"op": "==", "left": {"fib": {}}, "right": 1}}"#, "unclear")]
#[case(r#"{"xt": {"type": "match", "name": "geoip"}}"#, "unclear")]
#[case(r#"{"match": {"op": "==", "left": {"meta": {"key": "mark"}}, "right": 7}}"#, "unclear")]
#[case(r#"{"match": {"op": "in", "left": {"ct": {"key": "state"}}, "right": ["established", "related"]}}"#, "closed")]
#[case(r#"{"match": {"op": "!=", "left": {"ct": {"key": "state"}}, "right": ["invalid"]}}"#, "open")]
#[case(r#"{"match": {"op": "!=", "left": {"payload": {"protocol": "udp", "field": "dport"}}, "right": 5}}"#, "closed")]
#[case(r#"{"match": {"op": "!=", "left": {"payload": {"protocol": "ip", "field": "saddr"}}, "right": {"prefix": {"addr": "10.0.0.0", "len": 8}}}}"#, "open")]
#[case(
    r#"{"match": {"op": "==", "left": {"payload": {"protocol": "ip", "field": "daddr"}}, "right": "192.168.1.20"}}"#,
    "open"
)]
#[case(
    r#"{"match": {"op": "==", "left": {"payload": {"protocol": "ip", "field": "daddr"}}, "right": "192.168.1.21"}}"#,
    "closed"
)]
#[case(r#"{"match": {"op": ">=", "left": {"payload": {"protocol": "tcp", "field": "dport"}}, "right": 1024}}"#, "open")]
#[case(r#"{"match": {"op": "==", "left": {"meta": {"key": "iifname"}}, "right": "eth*"}}"#, "open")]
#[case(r#"{"counter": {"packets": 1, "bytes": 1}}"#, "open")]
fn one_statement(#[case] statement: &str, #[case] expected: &str) {
    let rules = format!(
        r#"{{"nftables": [
            {{"chain": {{"family": "ip", "table": "t", "name": "c", "type": "filter", "hook": "input", "policy": "drop"}}}},
            {{"rule": {{"family": "ip", "table": "t", "chain": "c", "expr": [{statement}, {{"accept": null}}]}}}}]}}"#
    );
    assert_eq!(word(&admits(&rules, "tcp 1935", false)), expected);
}

/// A chain that calls itself, and chains that call the next twice each, come to an end.
#[test]
fn calls_without_end_end() {
    let mut objects = vec![
        r#"{"chain": {"family": "ip", "table": "t", "name": "c0", "type": "filter", "hook": "input", "policy": "drop"}}"#
            .to_owned(),
    ];
    for number in 0..40 {
        objects.push(format!(r#"{{"chain": {{"family": "ip", "table": "t", "name": "c{}"}}}}"#, number + 1));
        for _ in 0..4 {
            let next = (number + 1) % 40;
            objects.push(format!(
                r#"{{"rule": {{"family": "ip", "table": "t", "chain": "c{number}", "expr": [{{"jump": {{"target": "c{next}"}}}}]}}}}"#
            ));
        }
    }
    let rules = format!(r#"{{"nftables": [{}]}}"#, objects.join(","));
    assert_eq!(word(&admits(&rules, "tcp 1935", false)), "unclear");
}

#[test]
fn what_is_no_list_of_rules_is_told() {
    assert!(Firewall::parse("").is_err() && Firewall::parse("[]").is_err());
    assert!(!Firewall::parse(r#"{"nftables": []}"#).unwrap().is_there());
}

proptest! {
    #[test]
    fn any_rules_are_read(cuts in 0..4000usize, with in ".{0,8}") {
        for text in [ONE, TWO] {
            let at = text.char_indices().map(|(at, _)| at).nth(cuts % 9000).unwrap_or(0);
            let _ = Firewall::parse(&text[..at]);
            // A word in another place.
            let changed = text.replacen("\"accept\"", &format!("{with:?}"), cuts % 5 + 1);
            if Firewall::parse(&changed).is_ok() {
                let _ = admits(&changed, "tcp 1935", cuts % 2 == 0);
            }
        }
    }
}
