//! Small C programs, each of one area of the kernel's calls, give what they give natively to an ordinary user: linked statically
//! and dynamically, and compiled for the other machines.

#![cfg(all(target_os = "linux", target_arch = "x86_64"))]

mod common;

use std::os::unix::ffi::OsStrExt;
use std::os::unix::fs::{MetadataExt, PermissionsExt};
use std::path::{Path, PathBuf};
use std::process::Command;
use std::sync::Arc;

use common::as_user;
use sotto_kernel::{
    FolderReader, ShownEntry, ShownFolder, ShownKind, Startup, Stop, System, Termination,
};
use sotto_object::read_executable;

/// A folder of this computer, as a program is shown it.
struct Folder(PathBuf);

impl FolderReader for Folder {
    fn entries(&self, path: &[u8]) -> Vec<ShownEntry> {
        let directory = self.0.join(std::ffi::OsStr::from_bytes(path));
        let Ok(entries) = std::fs::read_dir(&directory) else { return Vec::new() };
        let mut found: Vec<ShownEntry> = entries
            .flatten()
            .filter_map(|entry| {
                let about = entry.metadata().ok()?;
                let kind = match about.file_type() {
                    kind if kind.is_dir() => ShownKind::Directory,
                    kind if kind.is_file() => ShownKind::File(about.len()),
                    kind if kind.is_symlink() => {
                        let target = std::fs::read_link(entry.path()).ok()?;
                        ShownKind::Link(target.as_os_str().as_bytes().to_vec())
                    }
                    _ => return None,
                };
                Some(ShownEntry {
                    name: entry.file_name().as_bytes().to_vec(),
                    kind,
                    permissions: about.permissions().mode() & 0o7777,
                    owner: Some((about.uid(), about.gid())),
                    links: about.nlink() as u32,
                    modified: 0,
                })
            })
            .collect();
        found.sort_by(|a, b| a.name.cmp(&b.name));
        found
    }

    fn contents(&self, path: &[u8]) -> Option<Vec<u8>> {
        std::fs::read(self.0.join(std::ffi::OsStr::from_bytes(path))).ok()
    }
}

/// The names of the programs; `SOTTO_AREA` asks for one.
fn areas() -> Vec<String> {
    if let Ok(area) = std::env::var("SOTTO_AREA") {
        return vec![area];
    }
    let folder = std::fs::read_dir(common::data().join("areas")).unwrap();
    let names = folder.map(|entry| entry.unwrap().file_name().into_string().unwrap());
    let mut names: Vec<String> =
        names.filter_map(|name| Some(name.strip_suffix(".c")?.to_string())).collect();
    names.sort();
    names
}

fn compiled(folder: &Path, area: &str, compiler: &str, options: &[&str]) -> PathBuf {
    let program = folder.join(area);
    let source = common::data().join(format!("areas/{area}.c"));
    let status = Command::new(compiler)
        .args(["-O1", "-w", "-D_FILE_OFFSET_BITS=64"])
        .args(options)
        .args([Path::new("-o"), &program, &source])
        .args(["-pthread", "-lrt"])
        .status();
    assert!(status.unwrap().success());
    program
}

/// What a program writes, and how it ends. It finds itself where it is.
fn emulated(program: &Path, root: Option<&ShownFolder>) -> String {
    let image = read_executable(&std::fs::read(program).unwrap()).unwrap();
    let mut startup = Startup::with_arguments([program.as_os_str().as_bytes()]);
    let folder = program.parent().unwrap();
    let own = || {
        let guest = folder.as_os_str().as_bytes()[1..].to_vec();
        ShownFolder::new(guest, Arc::new(Folder(folder.into())))
    };
    startup.folders = vec![root.cloned().unwrap_or_else(own)];
    let mut system = System::start(&image, &startup).unwrap();
    system.close_input();
    let ending = loop {
        match system.run(u64::MAX).stop {
            Stop::Terminated(ending) => break ending,
            Stop::Output | Stop::Paused | Stop::Unfinished | Stop::Delivered(_) => {}
            other => panic!("{other:?} in {program:?}: {:?}", system.output()),
        }
    };
    let parts = system.output().into_iter().filter(|part| part.fd == 1);
    let text = String::from_utf8_lossy(&parts.flat_map(|part| part.bytes).collect::<Vec<u8>>())
        .into_owned();
    assert_eq!(ending, Termination::Exited(0), "{program:?}: {text}");
    text
}

fn difference(area: &str, ours: &str, theirs: &str) -> Option<String> {
    let lines = ours.lines().zip(theirs.lines()).enumerate();
    let differing: Vec<String> = lines
        .filter(|(_, (ours, theirs))| ours != theirs)
        .map(|(at, (ours, theirs))| {
            format!("{area}:{}: here `{ours}`, natively `{theirs}`", at + 1)
        })
        .collect();
    let counts = (ours.lines().count(), theirs.lines().count());
    match differing.is_empty() && counts.0 == counts.1 {
        true => None,
        false => Some(format!("{}\n{area}: {counts:?} lines", differing.join("\n"))),
    }
}

/// What every area gives natively, and what it gives here, compiled in a way.
fn compare(compiler: &str, options: &[&str], root: Option<&ShownFolder>) {
    if !common::has("cc") || !common::has(compiler) {
        eprintln!("skipped: no {compiler}");
        return;
    }
    let folder = as_user::place();
    let mut wrong = Vec::new();
    for area in areas() {
        let native = compiled(folder.path(), &area, "cc", &["-static"]);
        let output = as_user::run(&native, b"");
        let theirs = String::from_utf8_lossy(&output.stdout).into_owned();
        let program = compiled(folder.path(), &area, compiler, options);
        wrong.extend(difference(&area, &emulated(&program, root), &theirs));
    }
    assert!(wrong.is_empty(), "{}", wrong.join("\n"));
}

#[test]
fn static_programs_give_what_they_give_natively() {
    compare("cc", &["-static"], None);
}

#[test]
fn position_independent_programs_do_too() {
    compare("cc", &["-static-pie"], None);
}

#[test]
fn dynamically_linked_programs_do_too() {
    let root = ShownFolder::new(Vec::new(), Arc::new(Folder("/".into())));
    compare("cc", &[], Some(&root));
}

#[test]
fn programs_for_32_bit_x86_do_too() {
    compare("i686-linux-gnu-gcc", &["-static"], None);
}

#[test]
fn programs_for_arm64_do_too() {
    compare("aarch64-linux-gnu-gcc", &["-static"], None);
}
