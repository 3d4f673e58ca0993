use proptest::prelude::*;
use rstest::rstest;

use super::{Amf0Error, decode_all, encode_all};
use crate::amf_value::Value;
use crate::amf3::Amf3Error;
use crate::budget::{Exceeded, MAX_DEPTH};

/// Bytes by hand from AMF0, 2.2 to 2.18.
#[rstest]
#[case::number(&[0, 0x3f, 0xf0, 0, 0, 0, 0, 0, 0], Value::Number(1.0))]
#[case::boolean(&[1, 1], Value::Boolean(true))]
#[case::string(b"\x02\x00\x04live", Value::from("live"))]
#[case::object(b"\x03\x00\x01a\x05\x00\x00\x09", Value::Object(vec![("a".into(), Value::Null)]))]
#[case::typed_object(b"\x10\x00\x01T\x00\x01a\x06\x00\x00\x09", Value::Object(vec![("a".into(), Value::Undefined)]))]
#[case::ecma_array_with_a_wrong_count(b"\x08\x00\x00\x00\x09\x00\x01a\x05\x00\x00\x09", Value::EcmaArray(vec![("a".into(), Value::Null)]))]
#[case::strict_array(&[0x0a, 0, 0, 0, 2, 5, 6], Value::StrictArray(vec![Value::Null, Value::Undefined]))]
#[case::date(&[0x0b, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0], Value::Date(0.0))]
#[case::long_string(b"\x0c\x00\x00\x00\x02hi", Value::from("hi"))]
#[case::reference(&[7, 1, 2], Value::Reference(0x102))]
#[case::unsupported(&[0x0d], Value::Undefined)]
#[case::amf3_inside(b"\x11\x0a\x0b\x01\x03a\x03\x01", Value::Object(vec![("a".into(), Value::Boolean(true))]))]
fn reads(#[case] bytes: &[u8], #[case] expected: Value) {
    assert_eq!(decode_all(bytes), Ok(vec![expected]));
    for length in 1..bytes.len() {
        let cut = decode_all(&bytes[..length]);
        assert!(matches!(cut, Err(Amf0Error::Truncated | Amf0Error::Amf3(Amf3Error::Truncated))), "cut at {length}");
    }
}

#[rstest]
#[case::reserved_marker(&[0x04], Amf0Error::Marker(4))]
#[case::amf3(&[0x11, 0x12], Amf0Error::Amf3(Amf3Error::Marker(0x12)))]
#[case::not_utf8(&[2, 0, 1, 0xff], Amf0Error::NotUtf8)]
#[case::array_of_four_billion(&[0x0a, 0xff, 0xff, 0xff, 0xff], Amf0Error::Truncated)]
fn refuses(#[case] bytes: &[u8], #[case] expected: Amf0Error) {
    assert_eq!(decode_all(bytes), Err(expected));
}

#[test]
fn depth_and_count_have_limits() {
    let nested = [0x0a, 0, 0, 0, 1].repeat(MAX_DEPTH + 2);
    assert_eq!(decode_all(&nested), Err(Amf0Error::TooDeep));
    assert_eq!(decode_all(&[5; 5000]), Err(Amf0Error::Exceeded(Exceeded::Values)));
}

#[test]
fn text_beyond_16_bits_takes_the_long_form() {
    let text = Value::String("x".repeat(70_000));
    let bytes = encode_all(std::slice::from_ref(&text));
    assert_eq!(bytes[0], 0x0c);
    assert_eq!(decode_all(&bytes), Ok(vec![text]));
}

pub(crate) fn any_value() -> impl Strategy<Value = Value> {
    let name = "[a-z]{1,8}";
    let leaf = prop_oneof![
        any::<i32>().prop_map(|number| Value::Number(number.into())),
        any::<bool>().prop_map(Value::Boolean),
        "\\PC{0,20}".prop_map(Value::String),
        Just(Value::Null),
        Just(Value::Undefined),
        any::<u16>().prop_map(Value::Reference),
        any::<i32>().prop_map(|millis| Value::Date(millis.into())),
    ];
    leaf.prop_recursive(4, 32, 5, move |inner| {
        let pairs = proptest::collection::vec((name, inner.clone()), 0..5);
        prop_oneof![
            pairs.clone().prop_map(Value::Object),
            pairs.prop_map(Value::EcmaArray),
            proptest::collection::vec(inner, 0..5).prop_map(Value::StrictArray),
        ]
    })
}

proptest! {
    #[test]
    fn values_come_back(values in proptest::collection::vec(any_value(), 0..4)) {
        prop_assert_eq!(decode_all(&encode_all(&values)), Ok(values));
    }

    #[test]
    fn a_flipped_bit_is_survived(values in proptest::collection::vec(any_value(), 1..4), at: usize, bit in 0u8..8) {
        let mut bytes = encode_all(&values);
        let at = at % bytes.len();
        bytes[at] ^= 1 << bit;
        let _ = decode_all(&bytes);
    }

    #[test]
    fn any_bytes_parse_or_fail(bytes in proptest::collection::vec(any::<u8>(), 0..200)) {
        let _ = decode_all(&bytes);
    }
}
