//! Files that sources include, from the disk.

use std::path::{Path, PathBuf};

use sotto_asm::Disk;

/// Looks for included files beside the including one, then in the folders given.
pub struct Folders<'a> {
    /// Folders to look in after that.
    pub search: &'a [PathBuf],
}

impl Disk for Folders<'_> {
    fn read(&self, name: &str, from: &str) -> Result<(String, Vec<u8>), String> {
        let beside = Path::new(from).parent().unwrap_or(Path::new(""));
        let mut looked = Vec::new();
        for folder in std::iter::once(beside).chain(self.search.iter().map(PathBuf::as_path)) {
            let path = folder.join(name);
            // A pipe or a device would have no end.
            if path.is_file() {
                let shown = path.display().to_string();
                return match std::fs::read(&path) {
                    Ok(bytes) => Ok((shown, bytes)),
                    Err(error) => Err(error.to_string()),
                };
            }
            if path.is_dir() {
                return Err("it is a folder".to_string());
            }
            looked.push(match folder.as_os_str().is_empty() {
                true => "the current folder".to_string(),
                false => folder.display().to_string(),
            });
            // An absolute name is the same from everywhere.
            if Path::new(name).is_absolute() {
                return Err("there is no such file".to_string());
            }
        }
        Err(format!("there is no such file in {}", looked.join(" or ")))
    }
}
