//! Files that sources include, from the disk.

use std::fs::File;
use std::io::Read;
use std::ops::Range;
use std::os::unix::fs::FileExt;
use std::path::{Path, PathBuf};

use sotto_asm::Disk;

use crate::output;

/// Looks for included files beside the including one, then in the folders given.
pub struct Folders<'a> {
    /// Folders to look in after that.
    pub search: &'a [PathBuf],
}

/// A text that is included may have so many bytes: places in texts have 32 bits.
const MAX_TEXT_BYTES: u64 = (1 << 32) - 1;

impl Folders<'_> {
    /// Finds a file and opens it: the name to show for it, and how large it is.
    fn find(&self, name: &str, from: &str) -> Result<(String, File, u64), String> {
        let beside = Path::new(from).parent().unwrap_or(Path::new(""));
        let mut looked = Vec::new();
        for folder in std::iter::once(beside).chain(self.search.iter().map(PathBuf::as_path)) {
            let path = folder.join(name);
            if let Ok(metadata) = path.metadata() {
                if metadata.is_dir() {
                    return Err("it is a folder".to_string());
                }
                // A pipe or a device would have no end.
                if !metadata.is_file() {
                    return Err("it is a pipe or a device".to_string());
                }
                let file = output::open(&path).map_err(|error| error.to_string())?;
                return Ok((path.display().to_string(), file, metadata.len()));
            }
            looked.push(match folder.as_os_str().is_empty() {
                true => "the current folder".to_string(),
                false => output::shown(folder),
            });
            // An absolute name is the same from everywhere.
            if Path::new(name).is_absolute() {
                return Err("there is no such file".to_string());
            }
        }
        Err(format!("there is no such file in {}", looked.join(" or ")))
    }
}

impl Disk for Folders<'_> {
    fn read(&self, name: &str, from: &str) -> Result<(String, Vec<u8>), String> {
        let (shown, file, _) = self.find(name, from)?;
        let mut bytes = Vec::new();
        let read = file.take(MAX_TEXT_BYTES + 1).read_to_end(&mut bytes);
        read.map_err(|error| error.to_string())?;
        match bytes.len() as u64 > MAX_TEXT_BYTES {
            true => Err("it is larger than 4 GiB".to_string()),
            false => Ok((shown, bytes)),
        }
    }

    fn read_part(
        &self,
        name: &str,
        from: &str,
        part: Range<u64>,
    ) -> Result<(String, u64, Vec<u8>), String> {
        let (shown, file, size) = self.find(name, from)?;
        // More than the assembler lays down is not read.
        let (start, end) = (part.start.min(size), part.end.min(size));
        let count = end.saturating_sub(start);
        if count > MAX_TEXT_BYTES {
            return Ok((shown, size, Vec::new()));
        }
        let mut bytes = vec![0; count as usize];
        file.read_exact_at(&mut bytes, start).map_err(|error| error.to_string())?;
        Ok((shown, size, bytes))
    }
}
