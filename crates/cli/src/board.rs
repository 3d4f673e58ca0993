//! What is read from the board in more than one place.

use waverant_model::{Board, ChannelFinding};

/// What stands on the board, of all channels or one; the worst first.
pub(crate) fn findings_of(board: &Board, channel: Option<&str>) -> Vec<ChannelFinding> {
    let of_house = board.findings.iter().filter(|_| channel.is_none());
    let of_house = of_house.map(|finding| ChannelFinding { channel: None, finding: finding.clone() });
    let channels = board.channels.iter().filter(|live| channel.is_none_or(|name| live.name == name));
    let of_channels = channels.flat_map(|live| {
        let name = &live.name;
        live.findings.iter().map(|finding| ChannelFinding { channel: Some(name.clone()), finding: finding.clone() })
    });
    let mut found: Vec<ChannelFinding> = of_house.chain(of_channels).collect();
    found.sort_by_key(|found| (found.finding.is_muted, std::cmp::Reverse(found.finding.severity as u8)));
    found
}
