//! Bytes in JSON: as text if they are UTF-8, and in Base64 (RFC 4648) if not.

use base64::Engine;
use base64::engine::general_purpose::STANDARD;
use serde::{Deserialize, Deserializer, Serialize, Serializer, de};

/// Any bytes.
#[derive(Clone, PartialEq, Eq, PartialOrd, Ord, Debug, Default)]
pub(crate) struct Bytes(pub Vec<u8>);

#[derive(Serialize, Deserialize)]
#[serde(untagged)]
enum Shape<'a> {
    Text(std::borrow::Cow<'a, str>),
    Base64(InBase64),
}

#[derive(Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
struct InBase64 {
    base64: String,
}

impl Serialize for Bytes {
    fn serialize<S: Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        match std::str::from_utf8(&self.0) {
            Ok(text) => Shape::Text(text.into()),
            Err(_) => Shape::Base64(InBase64 { base64: STANDARD.encode(&self.0) }),
        }
        .serialize(serializer)
    }
}

impl<'de> Deserialize<'de> for Bytes {
    fn deserialize<D: Deserializer<'de>>(deserializer: D) -> Result<Bytes, D::Error> {
        match Shape::deserialize(deserializer)? {
            Shape::Text(text) => Ok(Bytes(text.into_owned().into_bytes())),
            Shape::Base64(InBase64 { base64 }) => {
                let bytes = STANDARD.decode(base64);
                bytes.map(Bytes).map_err(|error| de::Error::custom(format!("in `base64`: {error}")))
            }
        }
    }
}
