//! What a program is recognised by.

use std::fmt::Write;

use sha2::{Digest, Sha256};
use sotto_object::Image;

/// SHA-256 of what of a program matters for its run, in hexadecimal digits: its machine, where it starts, who loads it, and its
/// segments with their permissions and contents. Names, lines and debugging information do not.
pub fn identity(image: &Image) -> String {
    let mut digest = Sha256::new();
    let mut number = |value: u64| digest.update(value.to_le_bytes());
    number(image.entry);
    number(u64::from(image.position_independent));
    number(u64::from(image.executable_stack));
    number(image.segments.len() as u64);
    let mut bytes = |bytes: &[u8]| {
        digest.update((bytes.len() as u64).to_le_bytes());
        digest.update(bytes);
    };
    bytes(image.arch.to_string().as_bytes());
    bytes(image.interpreter.as_deref().unwrap_or_default());
    for segment in &image.segments {
        let flags = u64::from(segment.write) | u64::from(segment.exec) << 1;
        let head = [segment.address, segment.memory_size, flags].map(u64::to_le_bytes);
        bytes(head.as_flattened());
        bytes(&segment.data);
        bytes(&segment.surroundings.before);
        bytes(&segment.surroundings.after);
    }
    hexadecimal(&digest.finalize())
}

pub(super) fn hexadecimal(bytes: &[u8]) -> String {
    bytes.iter().fold(String::new(), |mut text, byte| {
        let _ = write!(text, "{byte:02x}");
        text
    })
}
