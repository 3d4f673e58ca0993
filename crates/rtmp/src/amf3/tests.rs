use proptest::prelude::*;
use rstest::rstest;

use super::write::encode_all;
use super::{Amf3Error, decode_all};
use crate::amf_value::Value;
use crate::amf0::any_value;
use crate::budget::{Exceeded, MAX_DEPTH};

fn object(pairs: &[(&str, Value)]) -> Value {
    Value::Object(pairs.iter().map(|(name, value)| ((*name).to_owned(), value.clone())).collect())
}

/// Bytes by hand from AMF3, 3.2 to 3.16.
#[rstest]
#[case::undefined(&[0], Value::Undefined)]
#[case::null(&[1], Value::Null)]
#[case::no(&[2], Value::Boolean(false))]
#[case::yes(&[3], Value::Boolean(true))]
#[case::integer(&[4, 0x81, 0x00], Value::Number(128.0))]
#[case::negative_integer(&[4, 0xff, 0xff, 0xff, 0xff], Value::Number(-1.0))]
#[case::largest_integer(&[4, 0xbf, 0xff, 0xff, 0xff], Value::Number(268_435_455.0))]
#[case::double(&[5, 0x3f, 0xf0, 0, 0, 0, 0, 0, 0], Value::Number(1.0))]
#[case::string(b"\x06\x09live", Value::from("live"))]
#[case::empty_string(&[6, 1], Value::from(""))]
#[case::date(&[8, 1, 0, 0, 0, 0, 0, 0, 0, 0], Value::Date(0.0))]
#[case::dense_array(&[9, 5, 1, 3, 2], Value::StrictArray(vec![Value::Boolean(true), Value::Boolean(false)]))]
#[case::mixed_array(b"\x09\x03\x03a\x01\x01\x03", Value::EcmaArray(vec![("a".into(), Value::Null), ("0".into(), Value::Boolean(true))]))]
#[case::dynamic_object(b"\x0a\x0b\x01\x07app\x06\x05in\x01", object(&[("app", "in".into())]))]
#[case::sealed_object(b"\x0a\x23\x03T\x03a\x03b\x02\x03", object(&[("a", Value::Boolean(false)), ("b", Value::Boolean(true))]))]
#[case::bytes(&[0x0c, 5, 7, 8], Value::Bytes(vec![7, 8]))]
#[case::xml(b"\x0b\x07<a>", Value::Xml("<a>".into()))]
#[case::integers(&[0x0d, 3, 0, 0xff, 0xff, 0xff, 0xfe], Value::StrictArray(vec![Value::Number(-2.0)]))]
#[case::unsigned(&[0x0e, 3, 0, 0xff, 0xff, 0xff, 0xff], Value::StrictArray(vec![Value::Number(4_294_967_295.0)]))]
#[case::doubles(&[0x0f, 3, 1, 0x3f, 0xf0, 0, 0, 0, 0, 0, 0], Value::StrictArray(vec![Value::Number(1.0)]))]
#[case::objects(&[0x10, 3, 0, 1, 3], Value::StrictArray(vec![Value::Boolean(true)]))]
#[case::dictionary(&[0x11, 3, 0, 1, 3], Value::StrictArray(vec![Value::StrictArray(vec![Value::Null, Value::Boolean(true)])]))]
fn reads(#[case] bytes: &[u8], #[case] expected: Value) {
    assert_eq!(decode_all(bytes), Ok(vec![expected]));
    for length in 1..bytes.len() {
        assert_eq!(decode_all(&bytes[..length]), Err(Amf3Error::Truncated), "cut at {length}");
    }
}

#[test]
fn strings_objects_and_classes_are_referred_to() {
    // A string, the same again; an object of class T with member a, one of the same class, and
    // the first object again.
    let bytes = b"\x06\x03a\x06\x00\x0a\x13\x03T\x00\x03\x0a\x01\x02\x0a\x00";
    let [yes, no] = [true, false].map(|value| object(&[("a", Value::Boolean(value))]));
    assert_eq!(decode_all(bytes), Ok(vec!["a".into(), "a".into(), yes.clone(), no, yes]));
}

#[rstest]
#[case::marker(&[0x12], Amf3Error::Marker(0x12))]
#[case::not_utf8(&[6, 3, 0xff], Amf3Error::NotUtf8)]
#[case::string_reference(&[6, 4], Amf3Error::Reference { found: 2, known: 0 })]
#[case::object_reference(&[9, 2], Amf3Error::Reference { found: 1, known: 0 })]
#[case::class_reference(&[0x0a, 5], Amf3Error::Reference { found: 1, known: 0 })]
#[case::writes_itself(&[0x0a, 7], Amf3Error::Externalizable)]
#[case::array_of_many_millions(&[9, 0xff, 0xff, 0xff, 0xff, 1], Amf3Error::Truncated)]
fn refuses(#[case] bytes: &[u8], #[case] expected: Amf3Error) {
    assert_eq!(decode_all(bytes), Err(expected));
}

#[test]
fn depth_and_count_have_limits() {
    assert_eq!(decode_all(&[9, 3, 1].repeat(MAX_DEPTH + 2)), Err(Amf3Error::TooDeep));
    assert_eq!(decode_all(&[1; 5000]), Err(Amf3Error::Exceeded(Exceeded::Values)));
}

/// Each array holds the one before twice: a hundred bytes would become 2^30 values.
#[test]
fn references_cannot_multiply_without_end() {
    let mut bytes = vec![9, 1, 1];
    for place in 0..30u8 {
        bytes.extend([9, 5, 1, 9, place << 1, 9, place << 1]);
    }
    assert_eq!(decode_all(&bytes), Err(Amf3Error::Exceeded(Exceeded::Values)));
}

/// What comes back: AMF3 has no references of AMF0's kind, and an array without names is dense.
fn as_amf3(value: Value) -> Value {
    let all = |pairs: Vec<(String, Value)>| pairs.into_iter().map(|(name, value)| (name, as_amf3(value))).collect();
    match value {
        Value::Reference(_) => Value::Undefined,
        Value::EcmaArray(pairs) if pairs.is_empty() => Value::StrictArray(Vec::new()),
        Value::EcmaArray(pairs) => Value::EcmaArray(all(pairs)),
        Value::Object(pairs) => Value::Object(all(pairs)),
        Value::StrictArray(elements) => Value::StrictArray(elements.into_iter().map(as_amf3).collect()),
        other => other,
    }
}

proptest! {
    #[test]
    fn values_come_back(values in proptest::collection::vec(any_value(), 0..4)) {
        let expected: Vec<Value> = values.iter().cloned().map(as_amf3).collect();
        prop_assert_eq!(decode_all(&encode_all(&values)), Ok(expected));
    }

    #[test]
    fn any_bytes_parse_or_fail(bytes in proptest::collection::vec(any::<u8>(), 0..200)) {
        let _ = decode_all(&bytes);
    }

    #[test]
    fn a_flipped_bit_is_survived(values in proptest::collection::vec(any_value(), 1..4), at: usize, bit in 0u8..8) {
        let mut bytes = encode_all(&values);
        let at = at % bytes.len();
        bytes[at] ^= 1 << bit;
        let _ = decode_all(&bytes);
    }
}
