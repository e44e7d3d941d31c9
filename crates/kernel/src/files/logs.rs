//! What went out of a process and what came into it, as logs that may be long: where the bytes are is the business of a
//! [`Store`].

use std::io;

/// A place for the bytes of a log.
pub trait Store: Send {
    /// Adds bytes at the end.
    ///
    /// # Errors
    ///
    /// What the place answers; then nothing is added.
    fn append(&mut self, bytes: &[u8]) -> io::Result<()>;

    /// Reads bytes from an offset on, which are all there.
    ///
    /// # Errors
    ///
    /// What the place answers.
    fn read_at(&self, offset: u64, bytes: &mut [u8]) -> io::Result<()>;

    /// Forgets the bytes from an offset on.
    ///
    /// # Errors
    ///
    /// What the place answers.
    fn truncate(&mut self, length: u64) -> io::Result<()>;
}

/// Bytes in memory.
#[derive(Default)]
pub struct MemoryStore(Vec<u8>);

impl Store for MemoryStore {
    fn append(&mut self, bytes: &[u8]) -> io::Result<()> {
        self.0.extend_from_slice(bytes);
        Ok(())
    }

    fn read_at(&self, offset: u64, bytes: &mut [u8]) -> io::Result<()> {
        let start = offset as usize;
        let found = self.0.get(start..start + bytes.len());
        bytes.copy_from_slice(found.ok_or(io::ErrorKind::UnexpectedEof)?);
        Ok(())
    }

    fn truncate(&mut self, length: u64) -> io::Result<()> {
        self.0.truncate(length as usize);
        Ok(())
    }
}

/// Bytes that the program wrote to one stream.
#[derive(Clone, PartialEq, Eq, Debug)]
pub struct Output {
    /// 1 for standard output, 2 for standard error.
    pub fd: u8,
    /// The bytes.
    pub bytes: Vec<u8>,
}

/// What the program wrote, to both streams in the order of writing.
pub(crate) struct OutputLog {
    store: Box<dyn Store>,
    /// Bytes written one after the other to one stream: the stream, and how many bytes there are up to their end.
    runs: Vec<(u8, u64)>,
    /// Bytes that the store did not take.
    lost: u64,
}

/// As often may output change between the streams; what comes after that is not kept.
const MOST_RUNS: usize = 1 << 24;

impl OutputLog {
    pub fn new(store: Box<dyn Store>) -> OutputLog {
        OutputLog { store, runs: Vec::new(), lost: 0 }
    }

    /// Bytes in all.
    pub fn len(&self) -> u64 {
        self.runs.last().map_or(0, |(_, end)| *end)
    }

    /// Bytes that were written and could not be kept.
    pub fn lost(&self) -> u64 {
        self.lost
    }

    /// Bytes of memory that the log takes beside its store.
    pub fn own_bytes(&self) -> usize {
        self.runs.capacity() * size_of::<(u8, u64)>()
    }

    pub fn push(&mut self, fd: u8, bytes: &[u8]) {
        if bytes.is_empty() {
            return;
        }
        if self.runs.len() >= MOST_RUNS {
            self.lost += bytes.len() as u64;
            return;
        }
        if self.store.append(bytes).is_err() {
            self.lost += bytes.len() as u64;
            return;
        }
        let end = self.len() + bytes.len() as u64;
        match self.runs.last_mut() {
            Some((last, last_end)) if *last == fd => *last_end = end,
            _ => self.runs.push((fd, end)),
        }
    }

    /// The bytes from an offset on, `most` of them at most.
    pub fn since(&self, offset: u64, most: u64) -> Vec<Output> {
        let mut found = Vec::new();
        let first = self.runs.partition_point(|(_, end)| *end <= offset);
        let (mut at, limit) = (offset, offset.saturating_add(most));
        for &(fd, end) in &self.runs[first..] {
            let end = end.min(limit);
            if at >= end {
                break;
            }
            let mut bytes = vec![0; (end - at) as usize];
            if self.store.read_at(at, &mut bytes).is_err() {
                break;
            }
            found.push(Output { fd, bytes });
            at = end;
        }
        found
    }

    /// Forgets what was written after an offset.
    pub fn truncate(&mut self, length: u64) {
        if length >= self.len() {
            return;
        }
        let first = self.runs.partition_point(|(_, end)| *end <= length);
        self.runs.truncate(first + 1);
        if let Some((_, end)) = self.runs.last_mut() {
            *end = length;
        }
        if length == 0 {
            self.runs.clear();
        }
        // What could not be cut off would be written behind.
        if self.store.truncate(length).is_err() {
            self.lost += 1;
        }
    }
}

/// Standard input: the pieces in which it was given. A read does not go on into the next piece, so that it returns the
/// same whether or not that was given already.
pub(crate) struct InputLog {
    store: Box<dyn Store>,
    /// Where the pieces end.
    ends: Vec<u64>,
    pub closed: bool,
}

impl InputLog {
    pub fn new(store: Box<dyn Store>) -> InputLog {
        InputLog { store, ends: Vec::new(), closed: false }
    }

    pub fn len(&self) -> u64 {
        self.ends.last().copied().unwrap_or(0)
    }

    pub fn own_bytes(&self) -> usize {
        self.ends.capacity() * size_of::<u64>()
    }

    /// Adds a piece; whether it was taken.
    pub fn push(&mut self, bytes: &[u8]) -> bool {
        if self.closed || self.store.append(bytes).is_err() {
            return false;
        }
        if !bytes.is_empty() {
            self.ends.push(self.len() + bytes.len() as u64);
        }
        true
    }

    /// Up to `count` bytes of the piece at an offset; `None` if there is none yet, and may be.
    pub fn peek(&self, offset: u64, count: usize) -> Option<Vec<u8>> {
        let piece = self.ends.partition_point(|&end| end <= offset);
        let end = self.ends.get(piece).copied().unwrap_or(offset);
        let mut bytes = vec![0; count.min((end - offset) as usize)];
        if end == offset && !self.closed {
            return None;
        }
        // What cannot be read back ends the input.
        if self.store.read_at(offset, &mut bytes).is_err() {
            bytes.clear();
        }
        Some(bytes)
    }

    /// Whether there is no piece behind an offset.
    pub fn is_used_up(&self, offset: u64) -> bool {
        offset >= self.len()
    }

    /// Forgets everything that was given and read. Offsets count from here then.
    pub fn forget(&mut self) {
        self.ends.clear();
        let _ = self.store.truncate(0);
    }

    /// Takes what another log holds.
    pub fn copy_from(&mut self, other: &InputLog) {
        let mut start = 0;
        for &end in &other.ends {
            let mut bytes = vec![0; (end - start) as usize];
            if other.store.read_at(start, &mut bytes).is_err() {
                break;
            }
            self.push(&bytes);
            start = end;
        }
        self.closed = other.closed;
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn pieces(log: &OutputLog, from: u64, most: u64) -> Vec<(u8, String)> {
        let text = |output: Output| (output.fd, String::from_utf8(output.bytes).unwrap());
        log.since(from, most).into_iter().map(text).collect()
    }

    #[test]
    fn output_is_found_by_offset_and_cut_at_one() {
        let mut log = OutputLog::new(Box::<MemoryStore>::default());
        for (fd, text) in [(1, "lamp "), (1, "lit"), (2, "fog"), (1, ""), (1, "bell")] {
            log.push(fd, text.as_bytes());
        }
        let all = [(1, "lamp lit".to_string()), (2, "fog".to_string()), (1, "bell".to_string())];
        assert_eq!(pieces(&log, 0, u64::MAX), all);
        assert_eq!(pieces(&log, 5, 4), [(1, "lit".to_string()), (2, "f".to_string())]);
        assert_eq!(pieces(&log, log.len(), 9), []);
        log.truncate(9);
        log.push(2, b"!");
        assert_eq!(pieces(&log, 8, 9), [(2, "f!".to_string())]);
        log.truncate(0);
        assert_eq!((log.len(), pieces(&log, 0, 9)), (0, vec![]));
    }

    #[test]
    fn input_is_read_piece_by_piece() {
        let mut log = InputLog::new(Box::<MemoryStore>::default());
        assert_eq!(log.peek(0, 4), None);
        assert!(log.push(b"tide") && log.push(b"") && log.push(b"7"));
        assert_eq!(log.peek(0, 99).unwrap(), b"tide");
        assert_eq!(log.peek(2, 1).unwrap(), b"d");
        assert_eq!(log.peek(4, 9).unwrap(), b"7");
        assert_eq!(log.peek(5, 9), None);
        log.closed = true;
        assert_eq!(log.peek(5, 9).unwrap(), b"");
        assert!(!log.push(b"late"));
    }
}
