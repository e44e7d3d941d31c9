//! Names that files bring along, for showing.

/// A name as text. Characters that are no text, an end of a line or the start of an escape sequence say, are written
/// out as escapes: nobody can type such a name, and no report may be broken by one.
pub(crate) fn printable(name: &[u8]) -> String {
    let text = String::from_utf8_lossy(name);
    if !text.chars().any(char::is_control) {
        return text.into_owned();
    }
    let escaped = |c: char| match c.is_control() {
        true => format!("\\x{:02x}", c as u32),
        false => c.to_string(),
    };
    text.chars().map(escaped).collect()
}

#[cfg(test)]
mod tests {
    use super::printable;

    #[test]
    fn names_stay_names_and_control_characters_are_written_out() {
        assert_eq!(printable("tide_größe".as_bytes()), "tide_größe");
        assert_eq!(printable(b"lamp\n\x1b[2J\xc2\x9b\x7f"), "lamp\\x0a\\x1b[2J\\x9b\\x7f");
        assert_eq!(printable(b"fog\xff"), "fog\u{fffd}");
    }
}
