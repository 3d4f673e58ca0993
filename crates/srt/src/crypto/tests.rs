use rstest::rstest;

use super::stream_key::{StreamKey, counter_block};
use super::{KeyLength, KeyRing, Passphrase, PassphraseError, Sealer};
use crate::number::SeqNumber;
use crate::randomness::Randomness;
use crate::wire::{KeyFlag, KeyMaterial, KeyMaterialError};

const SALT: [u8; 16] = [16, 17, 18, 19, 20, 21, 22, 23, 24, 25, 26, 27, 28, 29, 30, 31];
const TEXT: &[u8] = b"the eights are past the bridge, and level with the boathouse";
const KEY_START: u8 = 0x40;

fn key(length: usize) -> Vec<u8> {
    (KEY_START..).take(length).collect()
}

fn hex(bytes: &[u8]) -> String {
    bytes.iter().map(|byte| format!("{byte:02x}")).collect()
}

fn passphrase(text: &str) -> Passphrase {
    Passphrase::new(text).unwrap()
}

/// What other implementations of PBKDF2, RFC 3394 and AES in counter mode make of the same input.
#[rstest]
#[case::aes_128(
    16,
    "a9d60f571b62d9cc3a68c94a6ac75fcf947b530de4830a23",
    "ed6a4311f45bb0190c47f6c306c46d0ad778a8afa5b0616e21b9d5b931ecd02bd733446e2f5b625cd472c8834aed10a2aa07b964e06822508af9dae5"
)]
#[case::aes_192(
    24,
    "9027170cf3d396497a11fe4341692ee02d5b0f25c1fc4d424a7d1593fad2c450",
    "35b8a11d20b2bf94c55a534f2c4543d88e50c04782e47a297c20a05a9cffa95bbe936b9d2f3753d160d5bda831520c2f04c6afc7429df72ba326c54f"
)]
#[case::aes_256(
    32,
    "0f9b05ece47b14e940cfed25cc939cf68a71e0c92952d09966580b1470c6591415a35f2d6f145e6e",
    "d9b6f0939b42fb1687835c2ed1c5c9725fc9181dce73ce1638f5c14f3be2634a1a6770a4f1e6ec749cf56fdb2bac946027c551b44fa110fdbdaff0c4"
)]
fn keys_and_payloads(#[case] length: usize, #[case] wrapped: &str, #[case] sealed: &str) {
    assert_eq!(hex(&passphrase("wexcombe reach").wrapping_key(SALT, length).wrap(&key(length))), wrapped);
    let seq = SeqNumber::new(0x0102_0304);
    assert_eq!(hex(&counter_block(&SALT, seq)), "101112131415161718191b191f190000");
    let stream_key = StreamKey::new(&key(length), false).unwrap();
    let mut out = b"head".to_vec();
    out.extend_from_slice(TEXT);
    stream_key.seal(&SALT, seq, &[], &mut out, 4);
    assert_eq!(&out[..4], b"head");
    assert_eq!(hex(&out[4..]), sealed);
    assert_eq!(stream_key.open(&SALT, seq, &[], &mut out[4..]), Some(TEXT.len()));
    assert_eq!(&out[4..], TEXT);
}

#[rstest]
#[case(KeyLength::Aes128)]
#[case(KeyLength::Aes192)]
#[case(KeyLength::Aes256)]
fn authenticated_payloads_show_every_change(#[case] length: KeyLength) {
    let (stream_key, seq) = (StreamKey::new(&key(length.bytes()), true).unwrap(), SeqNumber::new(9));
    let mut sealed = TEXT.to_vec();
    stream_key.seal(&SALT, seq, b"header", &mut sealed, 0);
    assert_eq!(sealed.len(), TEXT.len() + 16);
    let opened = |seq, header: &[u8], change: usize| {
        let mut copy = sealed.clone();
        if let Some(byte) = copy.get_mut(change) {
            *byte ^= 1;
        }
        stream_key.open(&SALT, seq, header, &mut copy).map(|length| copy[..length].to_vec())
    };
    assert_eq!(opened(seq, b"header", usize::MAX).as_deref(), Some(TEXT));
    assert_eq!(opened(seq, b"other", usize::MAX), None);
    assert_eq!(opened(SeqNumber::new(10), b"header", usize::MAX), None);
    assert_eq!(opened(seq, b"header", 3), None);
    assert_eq!(opened(seq, b"header", TEXT.len() + 2), None);
    assert_eq!(stream_key.open(&SALT, seq, b"", &mut [1, 2, 3]), None);
}

#[test]
fn key_material_goes_there_and_back() {
    let secret = passphrase("wexcombe reach");
    let sealer = Sealer::new(&secret, KeyLength::Aes256, false, &mut Randomness::new([1; 32])).unwrap();
    let message = sealer.message();
    assert_eq!(KeyMaterial::parse(&message.to_bytes()).as_ref(), Ok(&message));
    let mut ring = KeyRing::default();
    let mut known = None;
    ring.take(&secret, &mut known, &message).unwrap();
    assert!(known.as_ref() == Some(sealer.wrapping()));
    let mut payload = TEXT.to_vec();
    sealer.seal(SeqNumber::new(5), &[], &mut payload, 0);
    assert_eq!(ring.open(KeyFlag::Odd, SeqNumber::new(5), &[], &mut payload), None, "no odd key yet");
    assert_eq!(ring.open(KeyFlag::Even, SeqNumber::new(5), &[], &mut payload), Some(TEXT.len()));
    assert_eq!(payload, TEXT);
    assert_eq!(ring.take(&passphrase("another phrase"), &mut None, &message), Err(KeyMaterialError::Secret));
}

#[rstest]
#[case::too_short("ninechars", Some(9))]
#[case::shortest("ten chars!", None)]
#[case::longest("x", None)]
fn passphrases_have_bounds(#[case] text: &str, #[case] fault: Option<usize>) {
    let text = if text == "x" { text.repeat(79) } else { text.to_owned() };
    assert_eq!(Passphrase::new(&text).err(), fault.map(PassphraseError));
    assert_eq!(Passphrase::new(&"x".repeat(80)).err(), Some(PassphraseError(80)));
    assert!(!format!("{:?}", Passphrase::new(&"secret".repeat(3))).contains("secret"));
}

#[rstest]
#[case::not_one(&[0; 40], KeyMaterialError::Signature(0))]
#[case::cut(&[0x12, 0x20, 0x29, 1, 0, 0, 0, 0, 2, 0, 2, 0, 0, 0, 4], KeyMaterialError::Cut(15))]
#[case::no_key(&[0x12, 0x20, 0x29, 0, 0, 0, 0, 0, 2, 0, 2, 0, 0, 0, 4, 4], KeyMaterialError::NoKey)]
#[case::other_cipher(
    &[0x12, 0x20, 0x29, 1, 0, 0, 0, 0, 3, 0, 2, 0, 0, 0, 4, 4],
    KeyMaterialError::Cipher { cipher: 3, authentication: 0 }
)]
#[case::salt(&[0x12, 0x20, 0x29, 1, 0, 0, 0, 0, 2, 0, 2, 0, 0, 0, 2, 4], KeyMaterialError::SaltLength(8))]
#[case::key(&[0x12, 0x20, 0x29, 1, 0, 0, 0, 0, 2, 0, 2, 0, 0, 0, 4, 5], KeyMaterialError::KeyLength(20))]
#[case::cut_wrap(&[0x12, 0x20, 0x29, 3, 0, 0, 0, 0, 2, 0, 2, 0, 0, 0, 4, 4, 1], KeyMaterialError::Cut(17))]
fn damaged_key_material_is_told(#[case] raw: &[u8], #[case] fault: KeyMaterialError) {
    assert_eq!(KeyMaterial::parse(raw), Err(fault));
}
