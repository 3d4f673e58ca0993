use crate::amf_value::Value;

/// What is said of a codec in the maps of `connect`.
///
/// Source: E-RTMP 2, Enhancing NetConnection connect Command, FourCcInfoMask
mod mask {
    pub(super) const CAN_DECODE: f64 = 1.0;
    pub(super) const CAN_ENCODE: f64 = 2.0;
    pub(super) const CAN_FORWARD: f64 = 4.0;
}

/// Bits of `capsEx`.
///
/// Source: E-RTMP 2, Enhancing NetConnection connect Command, CapsExMask
mod caps {
    pub(super) const RECONNECT: u8 = 1;
    pub(super) const MULTITRACK: u8 = 2;
    pub(super) const MODIFIERS: u8 = 4;
    pub(super) const TIMESTAMP_NANO_OFFSET: u8 = 8;
}

/// Stands for every codec.
const ANY: &str = "*";

/// Codecs that we pass on, by their letters.
const VIDEO_LETTERS: [&str; 4] = ["av01", "vp09", "hvc1", "avc1"];
const AUDIO_LETTERS: [&str; 6] = ["Opus", "fLaC", "mp4a", ".mp3", "ac-3", "ec-3"];

/// What a peer says in `connect`, or in its answer, that it can do beyond the first form of RTMP.
/// One that says nothing can do nothing of it.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Capabilities {
    letters: Vec<[u8; 4]>,
    takes_any: bool,
    flags: u8,
}

impl Capabilities {
    /// Those of who takes every codec, with one track of each kind.
    pub fn every_codec() -> Self {
        Self { takes_any: true, ..Self::default() }
    }

    /// Reads the fields of both versions of Enhanced RTMP from an object of `connect` or of its
    /// answer.
    pub fn read(object: &Value) -> Self {
        let mut found = Self::default();
        if let Some(Value::StrictArray(list)) = object.field("fourCcList") {
            list.iter().filter_map(Value::as_str).for_each(|letters| found.add(letters));
        }
        for map in ["videoFourCcInfoMap", "audioFourCcInfoMap"] {
            for (letters, mask) in object.field(map).and_then(Value::as_pairs).unwrap_or_default() {
                if mask.as_number().is_some_and(|mask| mask > 0.0) {
                    found.add(letters);
                }
            }
        }
        let flags = object.field("capsEx").and_then(Value::as_number).unwrap_or(0.0);
        found.flags = (0..=u8::MAX).find(|flags_| f64::from(*flags_) == flags).unwrap_or(0);
        found
    }

    fn add(&mut self, letters: &str) {
        if letters == ANY {
            self.takes_any = true;
        } else if let Ok(letters) = letters.as_bytes().try_into()
            && !self.letters.contains(&letters)
            // A peer names a dozen; more are of no use.
            && self.letters.len() < 64
        {
            self.letters.push(letters);
        }
    }

    /// True if the peer takes the codec with these letters.
    pub fn takes(&self, letters: [u8; 4]) -> bool {
        self.takes_any || self.letters.contains(&letters)
    }

    /// True if the peer names any codec by letters.
    pub fn is_enhanced(&self) -> bool {
        self.takes_any || !self.letters.is_empty()
    }

    /// True if the peer obeys a request to connect anew.
    pub fn reconnects(&self) -> bool {
        self.flags & caps::RECONNECT != 0
    }

    /// True if the peer takes several tracks of a kind.
    pub fn takes_many_tracks(&self) -> bool {
        self.flags & caps::MULTITRACK != 0
    }
}

/// What our server says in its answer to `connect`.
pub(crate) fn server_fields() -> Vec<(String, Value)> {
    fields(mask::CAN_FORWARD)
}

/// What our client says in `connect`, as a publisher or as a player.
pub(crate) fn client_fields(publishes: bool) -> Vec<(String, Value)> {
    fields(if publishes { mask::CAN_ENCODE + mask::CAN_FORWARD } else { mask::CAN_DECODE })
}

fn fields(mask: f64) -> Vec<(String, Value)> {
    let list = VIDEO_LETTERS.iter().chain(&AUDIO_LETTERS).map(|letters| Value::from(*letters)).collect();
    let map = |all: &[&str]| Value::Object(all.iter().map(|letters| ((*letters).to_owned(), mask.into())).collect());
    let flags = caps::RECONNECT | caps::MULTITRACK | caps::MODIFIERS | caps::TIMESTAMP_NANO_OFFSET;
    vec![
        ("fourCcList".to_owned(), Value::StrictArray(list)),
        ("videoFourCcInfoMap".to_owned(), map(&VIDEO_LETTERS)),
        ("audioFourCcInfoMap".to_owned(), map(&AUDIO_LETTERS)),
        ("capsEx".to_owned(), f64::from(flags).into()),
    ]
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_we_say_is_read_back() {
        let ours = Capabilities::read(&Value::Object(server_fields()));
        for letters in [b"hvc1", b"av01", b"vp09", b"avc1", b"Opus", b"fLaC", b"mp4a", b".mp3", b"ac-3", b"ec-3"] {
            assert!(ours.takes(*letters));
        }
        assert!(!ours.takes(*b"zz99"));
        assert!(ours.reconnects() && ours.takes_many_tracks() && ours.is_enhanced());
    }

    #[test]
    fn both_versions_are_read() {
        let first =
            Value::Object(vec![("fourCcList".into(), Value::StrictArray(vec!["hvc1".into(), "toolong".into()]))]);
        let first = Capabilities::read(&first);
        assert!(first.takes(*b"hvc1") && !first.takes(*b"av01") && !first.takes_many_tracks());
        let map = Value::Object(vec![("*".into(), 1.0.into()), ("av01".into(), 0.0.into())]);
        let second = Capabilities::read(&Value::Object(vec![("audioFourCcInfoMap".into(), map)]));
        assert!(second.takes(*b"Opus"), "a star stands for all");
        assert_eq!(Capabilities::read(&Value::Null), Capabilities::default());
        let odd = Capabilities::read(&Value::Object(vec![("capsEx".into(), 1e300.into())]));
        assert!(!odd.reconnects());
    }
}
