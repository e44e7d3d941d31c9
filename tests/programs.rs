//! The test programs, with what their first lines promise. Included by the tests of several crates.
#![allow(dead_code, reason = "each of them uses a part of this")]

use std::path::{Path, PathBuf};

/// A program with its input, and the output and status it promises.
pub struct Program {
    pub path: PathBuf,
    pub text: String,
    pub input: String,
    pub output: String,
    pub status: i32,
}

/// The folder of the test data of the workspace.
pub fn data() -> PathBuf {
    Path::new(env!("CARGO_MANIFEST_DIR")).join("../../tests/data")
}

/// Every program for a machine.
///
/// # Panics
///
/// If there is none: a test that finds no case has failed.
pub fn programs(arch: &str) -> Vec<Program> {
    let folder = data().join("programs").join(arch);
    let mut paths: Vec<PathBuf> =
        std::fs::read_dir(&folder).unwrap().map(|entry| entry.unwrap().path()).collect();
    paths.sort();
    assert!(!paths.is_empty(), "no programs in {}", folder.display());
    paths.into_iter().map(program).collect()
}

fn program(path: PathBuf) -> Program {
    let text = std::fs::read_to_string(&path).unwrap();
    let promise = |name: &str| {
        let line = text.lines().find_map(|line| {
            line.trim_start_matches([';', '/', '#', ' ']).strip_prefix(name)?.strip_prefix(": ")
        });
        line.unwrap_or("").replace("\\n", "\n")
    };
    let (input, output) = (promise("input"), promise("output"));
    let status = promise("status").parse().expect("a program promises its status");
    Program { path, input, output, status, text }
}

/// Whether the kernel runs 32-bit programs. Where it does not, the test is skipped, which it says; in CI it
/// must.
pub fn kernel_runs_32_bit() -> bool {
    use std::os::unix::fs::PermissionsExt;
    // A file header, one segment with all of it, and exit(0).
    let mut file = vec![0x7f, b'E', b'L', b'F', 1, 1, 1, 0, 0, 0, 0, 0, 0, 0, 0, 0];
    let halves = |file: &mut Vec<u8>, values: &[u16]| {
        file.extend(values.iter().flat_map(|value| value.to_le_bytes()));
    };
    let words = |file: &mut Vec<u8>, values: &[u32]| {
        file.extend(values.iter().flat_map(|value| value.to_le_bytes()));
    };
    halves(&mut file, &[2, 3]);
    words(&mut file, &[1, 0x0804_8054, 52, 0, 0]);
    halves(&mut file, &[52, 32, 1, 0, 0, 0]);
    words(&mut file, &[1, 0, 0x0804_8000, 0x0804_8000, 93, 93, 5, 0x1000]);
    file.extend([0xb8, 1, 0, 0, 0, 0x31, 0xdb, 0xcd, 0x80]);
    let folder = tempfile::tempdir().unwrap();
    let path = folder.path().join("lamp");
    std::fs::write(&path, file).unwrap();
    std::fs::set_permissions(&path, PermissionsExt::from_mode(0o755)).unwrap();
    // A process that another test starts meanwhile holds the file open for writing until it executes.
    let busy = std::io::ErrorKind::ExecutableFileBusy;
    let mut attempts = (0..100).map(|_| std::process::Command::new(&path).status());
    let status = attempts.find(|status| match status {
        Err(error) if error.kind() == busy => {
            std::thread::sleep(std::time::Duration::from_millis(20));
            false
        }
        _ => true,
    });
    let runs = status.is_some_and(|status| status.is_ok_and(|status| status.success()));
    if !runs {
        assert!(std::env::var_os("CI").is_none(), "the kernel must run 32-bit programs in CI");
        eprintln!("skipped: this kernel does not run 32-bit programs");
    }
    runs
}

/// Whether a compiler or another program is there. Without it the test is skipped, which it says; in CI it must be there.
pub fn has(program: &str) -> bool {
    let found = std::process::Command::new(program).arg("--version").output().is_ok();
    if !found {
        assert!(std::env::var_os("CI").is_none(), "{program} must be installed in CI");
        eprintln!("skipped: {program} is not installed");
    }
    found
}
