//! What tests of files share: programs that make calls, and a folder in memory that they are shown.

use std::collections::BTreeMap;
use std::sync::{Arc, Mutex};

use sotto_asm::{Options, Source, assemble};
use sotto_kernel::{
    FolderReader, ShownEntry, ShownFolder, ShownKind, StartError, Startup, Stop, System,
    Termination,
};
use sotto_object::{Image, LinkOptions, link};

/// Makes calls one after the other, each `number, arguments`; their results. Texts and a buffer have names.
pub fn system(calls: &[&str], startup: &Startup) -> (Vec<i64>, System) {
    let registers = ["eax", "rdi", "rsi", "rdx", "r10", "r8", "r9"];
    let call = |call: &&str| {
        let values = call.split(',').zip(registers);
        let lines = values.map(|(value, register)| format!(" mov {register}, {value}\n"));
        let keeps = if call.starts_with("9,") { " mov [mapped], rax\n" } else { "" };
        lines.collect::<String>() + " syscall\n" + keeps
    };
    let (image, system) = start(&calls.iter().map(call).collect::<String>(), startup);
    let mut system = system.unwrap();
    system.close_input();
    let mut results = Vec::new();
    loop {
        let (_, call, stop) = system.step();
        results.extend(call.and_then(|call| call.report.result));
        match stop {
            Stop::Budget => {}
            Stop::Terminated(ending) => {
                assert_eq!(ending, Termination::Exited(0));
                let buffer = image.symbol("buffer").unwrap().address;
                system.machine.set_register(sotto_isa::x86::storage::RBX, buffer);
                return (results, system);
            }
            other => panic!("{other:?}"),
        }
    }
}

/// A program of this code, which exits behind it.
pub fn start(code: &str, startup: &Startup) -> (Image, Result<System, StartError>) {
    let text = format!(
        " .target x86-64\n .global _start\n .data\nlog: .string \"log\"\nmaps: .string \"/proc/self/maps\"\nstatus: .string \"/proc/self/status\"\nline: .string \"/proc/self/cmdline\"\nhere: .string \".\"\ndeep: .string \"lamps/north\"\nlamps: .string \"lamps\"\nwest: .string \"west\"\nfds: .short 0\nfogs: .string \"fogs\"\nmapped: .quad 0\n .bss\nbuffer: .skip 8192\n .text\n_start:\n{code} mov eax, 60\n xor edi, edi\n syscall\n"
    );
    let source = Source { name: "log.s".into(), text: text.into() };
    let assembly = assemble(&source, &Options::default());
    let object = assembly.object.unwrap_or_else(|| panic!("{:#?}", assembly.diagnostics));
    let image = link(&[object], &LinkOptions::default()).unwrap();
    let system = System::start(&image, startup);
    (image, system)
}

/// The start of the buffer, as text up to its first zero.
pub fn buffer(system: &mut System) -> String {
    let at = system.machine.register(sotto_isa::x86::storage::RBX);
    let mut bytes = vec![0; 8192];
    system.machine.memory_mut().read_bytes(at, &mut bytes).unwrap();
    let end = bytes.iter().position(|byte| *byte == 0).unwrap_or(bytes.len());
    String::from_utf8(bytes[..end].to_vec()).unwrap()
}

pub fn startup() -> Startup {
    Startup::with_arguments(["bin/lamp", "north"])
}

/// A folder whose files have these contents, with the directories that lead to them.
pub struct Station(Arc<Folder>);

#[derive(Default)]
struct Folder {
    files: Mutex<BTreeMap<String, String>>,
    /// The paths that were read.
    reads: Mutex<Vec<String>>,
}

impl Station {
    pub fn new(files: &[(&str, &str)]) -> Station {
        let station = Station(Arc::default());
        files.iter().for_each(|(path, text)| station.put(path, text));
        station
    }

    pub fn put(&self, path: &str, text: &str) {
        self.0.files.lock().unwrap().insert(path.into(), text.into());
    }

    pub fn reads(&self) -> Vec<String> {
        self.0.reads.lock().unwrap().clone()
    }

    /// The folder, to be found at a path.
    pub fn folder(&self, guest: &[u8]) -> ShownFolder {
        ShownFolder::new(guest.to_vec(), self.0.clone())
    }
}

impl FolderReader for Folder {
    fn entries(&self, path: &[u8]) -> Vec<ShownEntry> {
        let path = String::from_utf8(path.to_vec()).unwrap();
        self.reads.lock().unwrap().push(path.clone());
        let start = if path.is_empty() { String::new() } else { path + "/" };
        let mut entries: BTreeMap<String, ShownKind> = BTreeMap::new();
        for (path, text) in self.files.lock().unwrap().iter() {
            let Some(rest) = path.strip_prefix(&start) else { continue };
            match rest.split_once('/') {
                Some((name, _)) => entries.insert(name.into(), ShownKind::Directory),
                None => entries.insert(rest.into(), ShownKind::File(text.len() as u64)),
            };
        }
        let entry = |(name, kind): (String, ShownKind)| ShownEntry {
            name: name.into_bytes(),
            links: if kind == ShownKind::Directory { 2 } else { 1 },
            kind,
            permissions: 0o755,
            owner: None,
            modified: 0,
        };
        entries.into_iter().map(entry).collect()
    }

    fn contents(&self, path: &[u8]) -> Option<Vec<u8>> {
        let path = String::from_utf8(path.to_vec()).unwrap();
        self.reads.lock().unwrap().push(path.clone());
        Some(self.files.lock().unwrap().get(&path)?.clone().into_bytes())
    }
}
