use super::marker;
use crate::amf_value::Value;

/// Writes values one after the other, without references. For tests: we answer in AMF0.
pub(crate) fn encode_all(values: &[Value]) -> Vec<u8> {
    let mut out = Vec::new();
    for value in values {
        encode(value, &mut out);
    }
    out
}

fn u29(value: usize, out: &mut Vec<u8>) {
    let value = u32::try_from(value).unwrap();
    let byte = |shift: u32, more: u8| u8::try_from(value >> shift & 0x7f).unwrap() | more;
    match value {
        0..0x80 => out.push(byte(0, 0)),
        0x80..0x4000 => out.extend([byte(7, 0x80), byte(0, 0)]),
        0x4000..0x20_0000 => out.extend([byte(14, 0x80), byte(7, 0x80), byte(0, 0)]),
        _ => out.extend([byte(22, 0x80), byte(15, 0x80), byte(8, 0x80), value.to_be_bytes()[3]]),
    }
}

fn text(text: &str, out: &mut Vec<u8>) {
    u29(text.len() << 1 | 1, out);
    out.extend(text.as_bytes());
}

fn pairs(pairs: &[(String, Value)], out: &mut Vec<u8>) {
    for (name, value) in pairs {
        text(name, out);
        encode(value, out);
    }
    out.push(1);
}

fn encode(value: &Value, out: &mut Vec<u8>) {
    match value {
        Value::Undefined | Value::Reference(_) => out.push(marker::UNDEFINED),
        Value::Null => out.push(marker::NULL),
        Value::Boolean(value) => out.push(if *value { marker::TRUE } else { marker::FALSE }),
        Value::Number(number) => {
            out.push(marker::DOUBLE);
            out.extend(number.to_be_bytes());
        }
        Value::String(string) => {
            out.push(marker::STRING);
            text(string, out);
        }
        Value::Xml(string) => {
            out.push(marker::XML);
            text(string, out);
        }
        Value::Bytes(bytes) => {
            out.push(marker::BYTE_ARRAY);
            u29(bytes.len() << 1 | 1, out);
            out.extend(bytes);
        }
        Value::Date(millis) => {
            out.extend([marker::DATE, 1]);
            out.extend(millis.to_be_bytes());
        }
        Value::StrictArray(elements) => {
            out.push(marker::ARRAY);
            u29(elements.len() << 1 | 1, out);
            out.push(1);
            elements.iter().for_each(|element| encode(element, out));
        }
        Value::EcmaArray(named) => {
            out.extend([marker::ARRAY, 1]);
            pairs(named, out);
        }
        Value::Object(named) => {
            // A dynamic class without a name and without members of its own.
            out.extend([marker::OBJECT, 0x0b, 1]);
            pairs(named, out);
        }
    }
}
