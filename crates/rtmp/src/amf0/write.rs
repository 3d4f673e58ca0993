use super::marker;
use crate::amf_value::Value;

/// Writes values one after the other.
pub(crate) fn encode_all(values: &[Value]) -> Vec<u8> {
    let mut out = Vec::new();
    for value in values {
        encode(value, &mut out);
    }
    out
}

/// Appends a value to `out`.
fn encode(value: &Value, out: &mut Vec<u8>) {
    match value {
        Value::Number(number) => {
            out.push(marker::NUMBER);
            out.extend(number.to_be_bytes());
        }
        Value::Boolean(boolean) => out.extend([marker::BOOLEAN, u8::from(*boolean)]),
        Value::String(text) => encode_text(text, out),
        Value::Object(pairs) => {
            out.push(marker::OBJECT);
            encode_pairs(pairs, out);
        }
        Value::EcmaArray(pairs) => {
            out.push(marker::ECMA_ARRAY);
            out.extend(length(pairs.len()).to_be_bytes());
            encode_pairs(pairs, out);
        }
        Value::StrictArray(elements) => {
            out.push(marker::STRICT_ARRAY);
            out.extend(length(elements.len()).to_be_bytes());
            for element in elements {
                encode(element, out);
            }
        }
        Value::Date(millis) => {
            out.push(marker::DATE);
            out.extend(millis.to_be_bytes());
            out.extend([0, 0]);
        }
        Value::Xml(text) => {
            out.push(marker::XML);
            encode_long(text, out);
        }
        Value::Bytes(bytes) => encode_text(&String::from_utf8_lossy(bytes), out),
        Value::Reference(place) => {
            out.push(marker::REFERENCE);
            out.extend(place.to_be_bytes());
        }
        Value::Null => out.push(marker::NULL),
        Value::Undefined => out.push(marker::UNDEFINED),
    }
}

fn length(count: usize) -> u32 {
    u32::try_from(count).unwrap_or(u32::MAX)
}

fn encode_text(text: &str, out: &mut Vec<u8>) {
    match u16::try_from(text.len()) {
        Ok(short) => {
            out.push(marker::STRING);
            out.extend(short.to_be_bytes());
            out.extend(text.as_bytes());
        }
        Err(_) => {
            out.push(marker::LONG_STRING);
            encode_long(text, out);
        }
    }
}

fn encode_long(text: &str, out: &mut Vec<u8>) {
    out.extend(length(text.len()).to_be_bytes());
    out.extend(text.as_bytes());
}

/// Names longer than the 16-bit length field are cut at a character.
fn encode_pairs(pairs: &[(String, Value)], out: &mut Vec<u8>) {
    for (name, value) in pairs {
        let name = &name[..name.floor_char_boundary(u16::MAX.into())];
        out.extend(u16::try_from(name.len()).unwrap_or(u16::MAX).to_be_bytes());
        out.extend(name.as_bytes());
        encode(value, out);
    }
    out.extend([0, 0, marker::OBJECT_END]);
}
