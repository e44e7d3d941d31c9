//! What system calls write into a program's memory: every write is noted, so that it is an effect of the call.

use crate::Errno;
use crate::report::KernelWrite;
use crate::system::System;

impl System {
    /// Writes bytes for a system call, all of them or none.
    pub(crate) fn write_guest(&mut self, address: u64, bytes: &[u8]) -> Result<(), Errno> {
        let old = self.first_bytes(address, bytes.len());
        self.machine.memory_mut().write_bytes(address, bytes).map_err(|_| Errno::EFAULT)?;
        self.note_written(address, bytes, old);
        Ok(())
    }

    /// Writes bytes for a system call up to the first that cannot be written; how many were written.
    pub(crate) fn copy_out(&mut self, address: u64, bytes: &[u8]) -> usize {
        let old = self.first_bytes(address, bytes.len());
        let memory = self.machine.memory_mut();
        let mut done = 0;
        while done < bytes.len() {
            let at = address.wrapping_add(done as u64);
            let in_page = (sotto_machine::PAGE_BYTES - at % sotto_machine::PAGE_BYTES) as usize;
            let end = bytes.len().min(done + in_page);
            if memory.write_bytes(at, &bytes[done..end]).is_err() {
                break;
            }
            done = end;
        }
        self.note_written(address, &bytes[..done], old);
        done
    }

    /// Puts bytes of a file into memory that was mapped for them, whatever it may be used for.
    pub(crate) fn load_mapped(&mut self, address: u64, bytes: &[u8]) {
        if self.machine.memory_mut().load(address, bytes).is_ok() {
            self.note_written(address, bytes, 0);
        }
    }

    /// Up to eight bytes as a little-endian number; those that cannot be read are zeros.
    fn first_bytes(&mut self, address: u64, count: usize) -> u64 {
        let mut first = [0; 8];
        let _ = self.machine.memory_mut().read_bytes(address, &mut first[..count.min(8)]);
        u64::from_le_bytes(first)
    }

    fn note_written(&mut self, address: u64, bytes: &[u8], old: u64) {
        if bytes.is_empty() {
            return;
        }
        let mut first = [0; 8];
        let known = bytes.len().min(8);
        first[..known].copy_from_slice(&bytes[..known]);
        let (bytes, new) = (bytes.len() as u64, u64::from_le_bytes(first));
        match self.written.last_mut() {
            Some(last) if last.bytes >= 8 && last.address.wrapping_add(last.bytes) == address => {
                last.bytes += bytes;
            }
            _ => self.written.push(KernelWrite { address, bytes, old, new }),
        }
    }

    /// Two words of so many bytes each, as signed numbers.
    ///
    /// # Errors
    ///
    /// EFAULT if they cannot be read.
    pub(crate) fn read_words(&mut self, address: u64, width: usize) -> Result<[i64; 2], Errno> {
        let mut bytes = [0; 16];
        let bytes = &mut bytes[..2 * width];
        self.machine.memory_mut().read_bytes(address, bytes).map_err(|_| Errno::EFAULT)?;
        Ok([0, width].map(|at| {
            let word = bytes[at..at + width].iter().rev();
            let value = word.fold(0u64, |all, byte| all << 8 | u64::from(*byte));
            let unused = 64 - 8 * width as u32;
            (value << unused) as i64 >> unused
        }))
    }
}
