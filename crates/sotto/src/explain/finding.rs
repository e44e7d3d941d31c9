//! `sotto explain C101`: what a finding is about.

use serde_json::json;
use sotto_check::Kind;

use super::Entry;
use crate::console::{Tone, paint};

/// The finding of this code.
pub fn finding(topic: &str) -> Option<Entry> {
    let info = Kind::by_code(topic)?;
    let kind = format!("finding, {}", info.severity.name());
    // The first line of a program says which finding it is about.
    let indented =
        |lines: &str| lines.lines().skip(1).map(|line| format!("    {line}\n")).collect::<String>();
    let text = format!(
        "{}  {}\n  {}\n  why     {}\n  remedy  {}\n  for example\n{}  mended\n{}",
        paint(Tone::Strong, info.code),
        paint(Tone::Quiet, &kind),
        info.title,
        info.why,
        info.remedy,
        indented(info.example),
        indented(info.mended),
    );
    let data = json!({
        "kind": "finding",
        "code": info.code,
        "severity": info.severity,
        "title": info.title,
        "why": info.why,
        "remedy": info.remedy,
        "example": info.example,
        "mended": info.mended,
    });
    Some(Entry { text: text.trim_end().to_string(), data })
}
