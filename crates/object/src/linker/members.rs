//! Which objects of archives a program needs.

use std::collections::HashSet;

use crate::{Binding, Object, Place};

/// The objects of archives that the given ones need, added to them.
///
/// A member is needed if it defines a symbol that is referred to and not defined yet; the order of
/// the archives does not matter. `entry` counts as referred to.
pub fn with_members(
    mut objects: Vec<Object>,
    archives: Vec<Vec<Object>>,
    entry: &str,
) -> Vec<Object> {
    let seen = |symbol: &&crate::Symbol| symbol.binding != Binding::Local;
    let defines = |object: &Object| -> HashSet<String> {
        let symbols = object.symbols.iter().filter(seen);
        symbols.filter(|s| s.place != Place::Undefined).map(|s| s.name.clone()).collect()
    };
    let needs = |object: &Object| -> HashSet<String> {
        let symbols = object.symbols.iter().filter(|symbol| symbol.binding == Binding::Global);
        symbols.filter(|s| s.place == Place::Undefined).map(|s| s.name.clone()).collect()
    };
    let mut members: Vec<(HashSet<String>, Object)> =
        archives.into_iter().flatten().map(|object| (defines(&object), object)).collect();
    let mut defined: HashSet<String> = objects.iter().flat_map(defines).collect();
    let mut wanted: HashSet<String> = objects.iter().flat_map(needs).collect();
    wanted.insert(entry.to_string());
    loop {
        let needed = members.iter().position(|(names, _)| {
            names.iter().any(|name| wanted.contains(name) && !defined.contains(name))
        });
        let Some(needed) = needed else { return objects };
        let (names, object) = members.remove(needed);
        defined.extend(names);
        wanted.extend(needs(&object));
        objects.push(object);
    }
}
