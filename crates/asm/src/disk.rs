//! Files that a source names. How they are found is the caller's business.

/// Gives the contents of files that a source includes.
pub trait Disk {
    /// Reads the file called `name`, named in the file `from` as it was called when it was given.
    ///
    /// Gives the name to show for it, which is also how a later include of the same file is
    /// recognised, and its bytes.
    ///
    /// # Errors
    ///
    /// Why not, in words that fit after "cannot read `name`: ".
    fn read(&self, name: &str, from: &str) -> Result<(String, Vec<u8>), String>;
}

/// No files at all.
pub struct NoDisk;

impl Disk for NoDisk {
    fn read(&self, _: &str, _: &str) -> Result<(String, Vec<u8>), String> {
        Err("there are no other files here".to_string())
    }
}
