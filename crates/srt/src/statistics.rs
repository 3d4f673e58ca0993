use std::time::Duration;

/// What a connection has sent. Counts are since its beginning.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct SendStatistics {
    /// Data packets, first transmissions only.
    pub packets: u64,
    /// Their payload bytes.
    pub bytes: u64,
    /// Packets that were sent again.
    pub retransmitted_packets: u64,
    /// Their payload bytes.
    pub retransmitted_bytes: u64,
    /// Packets that the peer reported as lost. One may be reported more than once.
    pub reported_lost_packets: u64,
    /// Packets given up because it was too late for them.
    pub dropped_packets: u64,
    /// Packets that are on their way or to be sent again.
    pub in_flight_packets: u32,
    /// Packets that wait for their first transmission.
    pub waiting_packets: u32,
    /// How old the oldest packet is that is not acknowledged.
    pub buffered: Duration,
    /// What the peer measures: packets per second.
    pub peer_packets_per_second: u32,
    /// What the peer takes the line for: packets per second.
    pub capacity_packets_per_second: u32,
    /// Loss reports that came.
    pub loss_reports: u64,
    /// Acknowledgements that came.
    pub acknowledgements: u64,
}

/// What a connection has received. Counts are since its beginning.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct ReceiveStatistics {
    /// Data packets of use: no duplicates, none too late.
    pub packets: u64,
    /// Their payload bytes.
    pub bytes: u64,
    /// Data packets that were marked as sent again, of use or not.
    pub retransmitted_packets: u64,
    /// Packets found missing, whether or not they came later.
    pub lost_packets: u64,
    /// Packets that had not come when it was time for them.
    pub dropped_packets: u64,
    /// Packets that came after it was time for them.
    pub belated_packets: u64,
    /// Packets that came once more.
    pub duplicate_packets: u64,
    /// Packets that could not be decrypted.
    pub undecrypted_packets: u64,
    /// Packets for which there was no room.
    pub overflown_packets: u64,
    /// Packets that were overtaken and yet not lost.
    pub reordered_packets: u64,
    /// Messages handed on.
    pub messages: u64,
    /// Packets that wait for their time.
    pub buffered_packets: u32,
    /// Packets that may wait at most.
    pub window_packets: u32,
    /// What is between the oldest and the newest of them.
    pub buffered: Duration,
    /// Bytes per second.
    pub bytes_per_second: u32,
    /// Loss reports that were sent.
    pub loss_reports: u64,
    /// Acknowledgements that were sent.
    pub acknowledgements: u64,
    /// How far the peer's clock has gone away from ours, in microseconds.
    pub drift_us: i64,
}

/// Figures of one connection.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct Statistics {
    /// Round trip time, smoothed.
    pub rtt: Duration,
    /// Its variance.
    pub rtt_variance: Duration,
    /// What we wait when we receive, as it was agreed.
    pub receive_latency: Duration,
    /// What the peer waits, as it was agreed.
    pub send_latency: Duration,
    /// What was sent.
    pub sent: SendStatistics,
    /// What was received.
    pub received: ReceiveStatistics,
    /// Datagrams that made no sense.
    pub malformed_packets: u64,
}
