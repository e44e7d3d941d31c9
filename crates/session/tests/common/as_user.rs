//! Running programs natively as the user that the modelled system has, in fresh folders.

use std::io::Write;
use std::os::unix::fs::{PermissionsExt, chown};
use std::os::unix::process::CommandExt;
use std::path::Path;
use std::process::{Command, Output, Stdio};

/// The user of the modelled system.
const USER: u32 = 1000;

/// A folder that the other user can go into, for programs.
pub fn place() -> tempfile::TempDir {
    let folder = tempfile::tempdir().unwrap();
    std::fs::set_permissions(folder.path(), PermissionsExt::from_mode(0o755)).unwrap();
    folder
}

/// A fresh folder on a file system in memory, as the modelled one is, if there is such.
fn fresh() -> tempfile::TempDir {
    let memory = Path::new("/dev/shm");
    let folder = match memory.is_dir() {
        true => tempfile::tempdir_in(memory).or_else(|_| tempfile::tempdir()),
        false => tempfile::tempdir(),
    };
    folder.unwrap()
}

fn is_root() -> bool {
    std::fs::metadata("/proc/self").is_ok_and(|own| std::os::unix::fs::MetadataExt::uid(&own) == 0)
}

/// Runs a program in a fresh folder with this input, and what its output is.
pub fn run(program: &Path, input: &[u8]) -> Output {
    let folder = fresh();
    std::fs::set_permissions(folder.path(), PermissionsExt::from_mode(0o755)).unwrap();
    let home = folder.path().join("keeper");
    std::fs::create_dir(&home).unwrap();
    let mut command = Command::new(program);
    if is_root() {
        chown(&home, Some(USER), Some(USER)).unwrap();
        command.uid(USER).gid(USER);
    }
    let mut child =
        command.current_dir(&home).stdin(Stdio::piped()).stdout(Stdio::piped()).spawn().unwrap();
    child.stdin.take().unwrap().write_all(input).unwrap();
    child.wait_with_output().unwrap()
}
