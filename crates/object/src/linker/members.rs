//! Which objects of archives a program needs.

use std::collections::{HashMap, HashSet};

use crate::{Binding, Object, Place, Symbol};

/// The objects of archives that the given ones need, together with them, in the order of the files.
///
/// Objects and archives come with their file's place among all files. A member is needed if it defines a symbol that is
/// referred to and not defined yet; the order of the archives does not matter, but that of two members which define
/// one symbol the first is taken. `entry` counts as referred to.
pub fn with_members(
    objects: Vec<(usize, Object)>,
    archives: Vec<(usize, Vec<Object>)>,
    entry: &str,
) -> Vec<Object> {
    let mut members: Vec<Option<(usize, Object)>> = Vec::new();
    for (place, archive) in archives {
        members.extend(archive.into_iter().map(|object| Some((place, object))));
    }
    // The first member that defines each symbol.
    let mut definers: HashMap<String, usize> = HashMap::new();
    for (number, member) in members.iter().enumerate() {
        let (_, object) = member.as_ref().expect("no member is taken yet");
        for name in defined(object) {
            definers.entry(name.to_string()).or_insert(number);
        }
    }
    let mut taken: Vec<(usize, Object)> = objects;
    let mut known: HashSet<String> =
        taken.iter().flat_map(|(_, object)| defined(object)).map(str::to_string).collect();
    let mut wanted: Vec<String> = vec![entry.to_string()];
    wanted.extend(taken.iter().flat_map(|(_, object)| needed(object)).map(str::to_string));
    // In the order in which symbols are needed, so that the result is the same each time.
    let mut next = 0;
    while let Some(name) = wanted.get(next) {
        next += 1;
        if known.contains(name) {
            continue;
        }
        let member = definers.get(name).and_then(|&number| members[number].take());
        let Some((place, object)) = member else { continue };
        known.extend(defined(&object).map(str::to_string));
        wanted.extend(needed(&object).map(str::to_string));
        taken.push((place, object));
    }
    taken.sort_by_key(|(place, _)| *place);
    taken.into_iter().map(|(_, object)| object).collect()
}

fn defined(object: &Object) -> impl Iterator<Item = &str> {
    let seen = |symbol: &&Symbol| symbol.binding != Binding::Local;
    let symbols = object.symbols.iter().filter(seen);
    symbols.filter(|symbol| symbol.place != Place::Undefined).map(|symbol| symbol.name.as_str())
}

fn needed(object: &Object) -> impl Iterator<Item = &str> {
    let symbols = object.symbols.iter().filter(|symbol| symbol.binding == Binding::Global);
    symbols.filter(|symbol| symbol.place == Place::Undefined).map(|symbol| symbol.name.as_str())
}
