//! System calls that are not modelled, and errors.

use serde_json::json;
use sotto_isa::Arch;
use sotto_kernel::{Errno, names, table, target};

use super::Entry;
use crate::console::{Tone, paint};

/// A system call that is not modelled, by its name.
pub fn unmodelled(topic: &str) -> Option<Entry> {
    let name = topic.to_ascii_lowercase();
    if !names::is_known(&name) || table::by_name(&name).is_some() {
        return None;
    }
    let mut text = format!(
        "{}  {}\n  It is not modelled: it returns ENOSYS, with a notice.",
        paint(Tone::Strong, &name),
        paint(Tone::Quiet, "system call")
    );
    let mut numbers = serde_json::Map::new();
    for &arch in Arch::ALL {
        let abi = target(arch).abi;
        let Some(number) = names::number(abi, &name) else { continue };
        text += &format!("\n  {arch:<7} {} = {number}", arch.convention().syscall_number.name());
        numbers.insert(arch.name().to_string(), number.into());
    }
    let data = json!({ "kind": "syscall", "name": name, "modelled": false, "numbers": numbers });
    Some(Entry { text, data })
}

/// An error by its name, or by its number as a call returns it: `ENOENT`, `-2`.
pub fn error(topic: &str) -> Option<Entry> {
    let is_it = |errno: &&Errno| {
        errno.name().eq_ignore_ascii_case(topic) || errno.result().to_string() == topic
    };
    let errno = Errno::ALL.iter().find(is_it)?;
    let (name, words, result) = (errno.name(), errno.words(), errno.result());
    let text = format!(
        "{}  {}\n  {words}; a system call that fails so returns {result}",
        paint(Tone::Strong, name),
        paint(Tone::Quiet, &format!("error {}", -result))
    );
    let data = json!({ "kind": "error", "name": name, "number": -result, "words": words });
    Some(Entry { text, data })
}
