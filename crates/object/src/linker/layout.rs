//! Where everything goes: sections of a name join, sections of one permission share a segment.

use std::collections::{HashMap, HashSet};

use sotto_isa::Arch;

use crate::linker::align::align_up;
use crate::target::target;
use crate::{Object, SectionFlags, Segment, TlsTemplate};

/// Bytes between file offsets of segments.
pub(crate) const FILE_PAGE: u64 = 0x1000;

/// A merged section.
pub(crate) struct Output {
    pub name: String,
    pub flags: SectionFlags,
    pub align: u64,
    pub size: u64,
    pub address: u64,
    /// Object, section, and where in this section it starts.
    pub parts: Vec<(usize, usize, u64)>,
}

impl Output {
    /// Address after the last byte.
    pub fn end(&self) -> u64 {
        self.address + self.size
    }

    /// Whether the section takes no memory of the program: only each thread's copy does (`.tbss`).
    fn has_no_place(&self) -> bool {
        self.flags.tls && self.flags.nobits
    }
}

/// Code, then constants, then thread-local data, then data, then data without contents.
fn rank(flags: SectionFlags) -> u8 {
    match flags {
        SectionFlags { exec: true, .. } => 0,
        SectionFlags { write: false, .. } => 1,
        SectionFlags { tls: true, nobits: false, .. } => 2,
        SectionFlags { tls: true, .. } => 3,
        SectionFlags { nobits: false, .. } => 4,
        _ => 5,
    }
}

/// The section of the program that an object's section goes to: `.text.startup` to `.text`.
pub(crate) fn output_name(name: &str) -> &str {
    const FAMILIES: [&str; 10] = [
        ".text",
        ".rodata",
        ".data.rel.ro",
        ".data",
        ".bss",
        ".tdata",
        ".tbss",
        ".preinit_array",
        ".init_array",
        ".fini_array",
    ];
    FAMILIES
        .into_iter()
        .find(|family| name.strip_prefix(family).is_some_and(|rest| rest.starts_with('.')))
        .unwrap_or(name)
}

/// The sections of groups that an object before brought already: object and section.
pub(crate) fn repeated_sections(objects: &[&Object]) -> HashSet<(usize, usize)> {
    let mut seen = HashSet::new();
    let mut repeated = HashSet::new();
    for (number, object) in objects.iter().enumerate() {
        for group in &object.groups {
            if !seen.insert(group.name.as_str()) {
                repeated.extend(group.sections.iter().map(|s| (number, s.0 as usize)));
            }
        }
    }
    repeated
}

pub(crate) fn merge(objects: &[&Object], repeated: &HashSet<(usize, usize)>) -> Vec<Output> {
    let mut outputs: Vec<Output> = Vec::new();
    let mut by_name = HashMap::<(&str, SectionFlags), usize>::new();
    for (object_index, object) in objects.iter().enumerate() {
        for (section_index, section) in object.sections.iter().enumerate() {
            let again = repeated.contains(&(object_index, section_index));
            if !section.flags.alloc || section.size == 0 || again {
                continue;
            }
            let name = output_name(&section.name);
            let number = *by_name.entry((name, section.flags)).or_insert_with(|| {
                outputs.push(Output {
                    name: name.to_string(),
                    flags: section.flags,
                    align: 1,
                    size: 0,
                    address: 0,
                    parts: Vec::new(),
                });
                outputs.len() - 1
            });
            let output = &mut outputs[number];
            let start = align_up(output.size, section.align);
            output.align = output.align.max(section.align);
            output.size = start + section.size;
            output.parts.push((object_index, section_index, start));
        }
    }
    for output in &mut outputs {
        order_by_priority(objects, output);
    }
    outputs.sort_by_key(|output| rank(output.flags));
    // The block of each thread is as aligned as its most aligned part, and starts with the first.
    let align = outputs.iter().filter(|output| output.flags.tls).map(|output| output.align).max();
    if let Some(first) = outputs.iter_mut().find(|output| output.flags.tls) {
        first.align = align.unwrap_or(1);
    }
    outputs
}

/// Puts the numbered parts of a table of routines first, by their numbers: `.init_array.100` before `.init_array`.
fn order_by_priority(objects: &[&Object], output: &mut Output) {
    if !output.name.ends_with("_array") {
        return;
    }
    let priority = |part: &(usize, usize, u64)| {
        let name = &objects[part.0].sections[part.1].name;
        let number = name.strip_prefix(&output.name).and_then(|rest| rest.strip_prefix('.'));
        number.and_then(|number| number.parse::<u32>().ok()).unwrap_or(u32::MAX)
    };
    output.parts.sort_by_key(priority);
    let mut end = 0;
    for part in &mut output.parts {
        let section = &objects[part.0].sections[part.1];
        part.2 = align_up(end, section.align);
        end = part.2 + section.size;
    }
    output.size = end;
}

/// Gives sections their addresses, and groups them in segments. Contents stay zero.
///
/// With `headers`, the first segment holds so many bytes of the file's headers.
pub(crate) fn place(
    outputs: &mut [Output],
    arch: Arch,
    anywhere: bool,
    headers: Option<u64>,
) -> Vec<Segment> {
    let page = target(arch).page_size;
    let base = if anywhere { 0 } else { target(arch).base_address };
    let mut segments: Vec<Segment> = Vec::new();
    // The headers take the first page of the file.
    let mut file_end = FILE_PAGE;
    let mut address = base;
    // The end of `.tbss` so far.
    let mut thread_end = None;
    if let Some(bytes) = headers {
        segments.push(Segment { data: vec![0; bytes as usize], ..segment(base, false, false) });
        segments[0].memory_size = bytes;
        address += bytes;
    }
    for output in outputs.iter_mut() {
        if output.has_no_place() {
            // `.tbss` follows `.tdata` in the template; the sections behind it overlap its addresses.
            output.address = align_up(thread_end.unwrap_or(address), output.align);
            thread_end = Some(output.end());
            continue;
        }
        let (write, exec) = (output.flags.write, output.flags.exec);
        let only_headers = headers.is_some() && segments.len() == 1;
        let last = segments.last().filter(|_| !only_headers);
        let starts_segment = last.is_none_or(|s| s.write != write || s.exec != exec);
        if starts_segment {
            let offset = align_up(file_end, FILE_PAGE);
            address = align_up(address, page) + offset % page;
            if segments.is_empty() {
                address = base + offset;
            }
            file_end = offset;
            segments.push(segment(address, write, exec));
        }
        let segment = segments.last_mut().expect("pushed above");
        output.address = align_up(address, output.align);
        address = output.end();
        segment.memory_size = address - segment.address;
        if !output.flags.nobits {
            segment.data.resize(segment.memory_size as usize, 0);
            file_end = align_up(file_end, FILE_PAGE) + segment.memory_size;
        }
        segment.sections.push((
            output.name.clone(),
            output.address,
            output.size,
            output.flags,
            output.align,
        ));
    }
    segments
}

fn segment(address: u64, write: bool, exec: bool) -> Segment {
    Segment {
        address,
        data: Vec::new(),
        memory_size: 0,
        surroundings: Default::default(),
        file_offset: 0,
        write,
        exec,
        sections: Vec::new(),
    }
}

/// What threads start with, of the sections that were placed.
pub(crate) fn tls_template(outputs: &[Output]) -> Option<TlsTemplate> {
    let parts = || outputs.iter().filter(|output| output.flags.tls);
    let address = parts().next()?.address;
    let end = parts().map(Output::end).max()?;
    let contents = parts().filter(|output| !output.flags.nobits).map(Output::end).max();
    Some(TlsTemplate {
        address,
        file_size: contents.unwrap_or(address) - address,
        memory_size: end - address,
        align: parts().map(|output| output.align).max()?,
    })
}

/// Address of each object's each section; `None` for sections that are not loaded.
pub(crate) fn part_addresses(
    objects: &[&Object],
    outputs: &[Output],
    repeated: &HashSet<(usize, usize)>,
) -> Vec<Vec<Option<u64>>> {
    let mut bases: Vec<Vec<Option<u64>>> =
        objects.iter().map(|object| vec![None; object.sections.len()]).collect();
    for output in outputs {
        for &(object, section, start) in &output.parts {
            bases[object][section] = Some(output.address + start);
        }
    }
    // A label in an empty section stands where the code starts, or at the base.
    for (number, (object, bases)) in objects.iter().zip(&mut bases).enumerate() {
        for (index, (section, base)) in object.sections.iter().zip(bases).enumerate() {
            let again = repeated.contains(&(number, index));
            if base.is_none() && section.flags.alloc && !again {
                let same = outputs.iter().find(|output| output.name == output_name(&section.name));
                let first = outputs.iter().map(|output| output.address).min();
                *base = same
                    .map(|output| output.address)
                    .or(first)
                    .or(Some(target(object.arch).base_address));
            }
        }
    }
    bases
}
