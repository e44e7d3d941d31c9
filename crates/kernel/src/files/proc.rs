//! The texts of /proc/self. Source: proc(5).

use std::fmt::Write;

use crate::calls::identity::USER;
use sotto_machine::RegionKind;

use crate::files::inode::{Inode, Kind, ProcFile};
use crate::files::open::What;
use crate::system::System;

impl System {
    /// The text of a file of /proc/self as it is now.
    pub(crate) fn proc_text(&self, file: ProcFile) -> Vec<u8> {
        let ended = |texts: &[Vec<u8>]| {
            texts.iter().flat_map(|text| [text, &b"\0"[..]].concat()).collect::<Vec<u8>>()
        };
        match file {
            ProcFile::CommandLine => ended(&self.process.arguments),
            ProcFile::Environment => ended(&self.process.environment),
            ProcFile::Name => [&self.process.name, &b"\n"[..]].concat(),
            ProcFile::Maps => self.maps().into_bytes(),
            ProcFile::Status => self.status().into_bytes(),
        }
    }

    fn maps(&self) -> String {
        let mut text = String::new();
        let files = self.mapped_files();
        for region in self.machine.memory().regions() {
            let may = |allowed: bool, letter: char| if allowed { letter } else { '-' };
            let permissions = region.permissions;
            let file = files.iter().find(|file| (file.start..file.end).contains(&region.start));
            let name = match (file, region.kind) {
                (Some(file), _) => file.path.to_string(),
                (None, RegionKind::Mapping) => String::new(),
                (None, kind) => format!("[{}]", kind.name()),
            };
            let line = format!(
                "{:08x}-{:08x} {}{}{}{} {:08x} 00:{:02x} {}",
                region.start,
                region.end.next_multiple_of(sotto_machine::PAGE_BYTES),
                may(permissions.read, 'r'),
                may(permissions.write, 'w'),
                may(permissions.execute, 'x'),
                if file.is_some_and(|file| file.is_shared) { 's' } else { 'p' },
                file.map_or(0, |file| file.offset + (region.start - file.start)),
                u8::from(file.is_some()),
                file.map_or(0, |file| u64::from(file.inode.0) + 1),
            );
            let _ = match name.is_empty() {
                true => writeln!(text, "{line} "),
                false => writeln!(text, "{line:<72} {name}"),
            };
        }
        text
    }

    /// Makes the entries of /proc/self/fd those of the descriptors that are open now.
    pub(crate) fn refresh_descriptors(&mut self) {
        let directory = self.tree.descriptors;
        let time = self.wall_time();
        let names: Vec<_> = self
            .tree
            .entries(directory)
            .map_or(Vec::new(), |entries| entries.keys().cloned().collect());
        for name in names {
            let id = self.tree.entry(directory, &name);
            self.tree.unlink(directory, &name, time);
            id.into_iter().for_each(|id| self.tree.drop_unused(id, false));
        }
        for fd in 0..self.process.descriptors.len() as u32 {
            let Ok(open) = self.open_file(fd) else { continue };
            let inode = match &open.what {
                What::Inode(id) => Some(*id),
                _ => None,
            };
            let name = inode.filter(|id| self.tree.get(*id).is_directory());
            let target = match name.and_then(|id| self.tree.path(id)) {
                Some(path) => path,
                None => open.path(&self.tree),
            };
            let inode = Inode::new(Kind::Link(target.into()), 0o700, USER as u32, time);
            self.tree.add(directory, fd.to_string().as_bytes(), inode);
        }
    }

    fn status(&self) -> String {
        let name = String::from_utf8_lossy(&self.process.name);
        let memory = self.machine.memory().mapped_bytes() / 1024;
        let (own, parent) = (self.process.id.0, self.process.parent.0);
        format!(
            "Name:\t{name}\nUmask:\t{:04o}\nState:\tR (running)\nTgid:\t{own}\nPid:\t{own}\nPPid:\t{parent}\n\
             Uid:\t{USER}\t{USER}\t{USER}\t{USER}\nGid:\t{USER}\t{USER}\t{USER}\t{USER}\nVmSize:\t{memory:8} kB\nThreads:\t{}\n",
            self.process.umask,
            self.scheduler.tasks.iter().filter(|task| task.process == self.process.id).count(),
        )
    }
}
