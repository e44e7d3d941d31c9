//! The texts of /proc/self. Source: proc(5).

use std::fmt::Write;

use crate::calls::identity::{PROCESS, USER};
use crate::files::inode::ProcFile;
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
        for region in self.machine.memory().regions() {
            let may = |allowed: bool, letter: char| if allowed { letter } else { '-' };
            let permissions = region.permissions;
            let _ = writeln!(
                text,
                "{:08x}-{:08x} {}{}{}p 00000000 00:00 0 {:>24}",
                region.start,
                region.end.next_multiple_of(sotto_machine::PAGE_BYTES),
                may(permissions.read, 'r'),
                may(permissions.write, 'w'),
                may(permissions.execute, 'x'),
                format!("[{}]", region.kind.name()),
            );
        }
        text
    }

    fn status(&self) -> String {
        let name = String::from_utf8_lossy(&self.process.name);
        let memory = self.machine.memory().mapped_bytes() / 1024;
        format!(
            "Name:\t{name}\nUmask:\t{:04o}\nState:\tR (running)\nTgid:\t{PROCESS}\nPid:\t{PROCESS}\nPPid:\t1\n\
             Uid:\t{USER}\t{USER}\t{USER}\t{USER}\nGid:\t{USER}\t{USER}\t{USER}\t{USER}\nVmSize:\t{memory:8} kB\nThreads:\t{}\n",
            self.process.umask,
            self.tasks().count(),
        )
    }
}
