//! What is told of a signal: `siginfo_t`. Source: sigaction(2), <asm-generic/siginfo.h>.

use sotto_machine::{AccessKind, Fault, MemoryFault, MemoryFaultKind};

use crate::layout::Layout;

pub(crate) const SI_USER: i32 = 0;
pub(crate) const SI_TKILL: i32 = -6;
pub(crate) const SI_TIMER: i32 = -2;
pub(crate) const SI_KERNEL: i32 = 0x80;
const SEGV_MAPERR: i32 = 1;
const SEGV_ACCERR: i32 = 2;
const FPE_INTDIV: i32 = 1;
const FPE_FLTINV: i32 = 7;
const ILL_ILLOPC: i32 = 1;
const ILL_ILLOPN: i32 = 2;
const BUS_ADRALN: i32 = 1;
const TRAP_BRKPT: i32 = 1;
/// Bytes of the structure.
pub(crate) const INFO_BYTES: usize = 128;

/// A signal that was sent.
#[derive(Copy, Clone, PartialEq, Eq, Debug)]
pub(crate) struct SignalInfo {
    pub number: u32,
    pub code: i32,
    pub detail: Detail,
}

/// What is told beside number and code.
#[derive(Copy, Clone, PartialEq, Eq, Debug)]
pub(crate) enum Detail {
    None,
    /// Who sent it, and a value with it.
    Sender {
        process: u32,
        user: u32,
        value: u64,
    },
    /// A process that has changed: who it is, and its status or signal.
    Child {
        process: u32,
        user: u32,
        status: u32,
    },
    /// Of a timer: its number, how often it ran out meanwhile, and a value.
    Timer {
        timer: i32,
        overrun: u32,
        value: u64,
    },
    /// The address of a fault; on x86 the number of the exception and its error code.
    Fault {
        address: u64,
        trap: u64,
        error: u64,
        is_page_fault: bool,
    },
}

impl SignalInfo {
    /// The signal that a fault of x86 raises. Source: SDM Vol. 3A, 6.15; Linux, `arch/x86/kernel/traps.c`.
    pub fn of_x86_fault(fault: Fault, pc: u64) -> SignalInfo {
        let number = fault.signal().number() as u32;
        let of = |code, address, trap| {
            let detail = Detail::Fault { address, trap, error: 0, is_page_fault: false };
            SignalInfo { number, code, detail }
        };
        match fault {
            Fault::Memory(MemoryFault { address, access, kind }) => {
                let is_canonical = (address as i64) << 16 >> 16 == address as i64;
                let (code, present) = match kind {
                    MemoryFaultKind::Protected => (SEGV_ACCERR, 1),
                    MemoryFaultKind::StackSegment => return of(SI_KERNEL, 0, 12),
                    MemoryFaultKind::Segment | MemoryFaultKind::Alignment => {
                        return of(SI_KERNEL, 0, 13);
                    }
                    _ if !is_canonical => return of(SI_KERNEL, 0, 13),
                    MemoryFaultKind::PastCode => (SEGV_MAPERR, 0),
                    _ => (SEGV_MAPERR, 0),
                };
                let access = match access {
                    AccessKind::Read => 0,
                    AccessKind::Write => 2,
                    AccessKind::Execute => 0x10,
                };
                let error = 4 | access | present;
                let detail = Detail::Fault { address, trap: 14, error, is_page_fault: true };
                SignalInfo { number, code, detail }
            }
            Fault::DivideByZero | Fault::DivideOverflow => of(FPE_INTDIV, pc, 0),
            Fault::Illegal => of(ILL_ILLOPN, pc, 6),
            Fault::Float => of(FPE_FLTINV, pc, 19),
            Fault::Breakpoint => of(SI_KERNEL, 0, 3),
            Fault::Overflow => of(SI_KERNEL, 0, 4),
            Fault::Bounds => of(SI_KERNEL, 0, 5),
            _ => of(SI_KERNEL, 0, 13),
        }
    }

    /// The signal that a fault of A64 raises. Source: Linux, `arch/arm64/mm/fault.c` and `kernel/traps.c`.
    pub fn of_arm64_fault(fault: Fault, pc: u64) -> SignalInfo {
        let number = fault.signal().number() as u32;
        let of = |code, address| {
            let detail = Detail::Fault { address, trap: 0, error: 0, is_page_fault: true };
            SignalInfo { number, code, detail }
        };
        match fault {
            Fault::Memory(MemoryFault { address, kind, .. }) => match kind {
                MemoryFaultKind::Protected => of(SEGV_ACCERR, address),
                MemoryFaultKind::AtomicAlignment => of(BUS_ADRALN, address),
                _ => of(SEGV_MAPERR, address),
            },
            Fault::Breakpoint => of(TRAP_BRKPT, pc),
            Fault::StackAlignment | Fault::PcAlignment => of(BUS_ADRALN, pc),
            _ => of(ILL_ILLOPC, pc),
        }
    }

    /// `siginfo_t` with words of so many bytes.
    pub fn layout(&self, width: usize) -> Vec<u8> {
        let mut layout = Layout::default();
        layout.put(4, [self.number, 0, self.code as u32]);
        layout.fill_to(if width == 8 { 16 } else { 12 });
        match self.detail {
            Detail::None => {}
            Detail::Sender { process, user, value } => {
                layout.put(4, [process, user]);
                layout.put(width, [value]);
            }
            Detail::Timer { timer, overrun, value } => {
                layout.put(4, [timer as u32, overrun]);
                layout.put(width, [value]);
            }
            Detail::Child { process, user, status } => layout.put(4, [process, user, status]),
            Detail::Fault { address, .. } => layout.put(width, [address]),
        }
        layout.fill_to(INFO_BYTES);
        layout.0
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn fault(address: u64, access: AccessKind, kind: MemoryFaultKind) -> Fault {
        Fault::Memory(MemoryFault { address, access, kind })
    }

    /// Error codes of page faults. Source: SDM Vol. 3A, 4.7: bit 0 present, 1 write, 2 user, 4 instruction fetch.
    #[test]
    fn faults_of_memory_tell_code_address_and_error() {
        use AccessKind::{Execute, Read, Write};
        use MemoryFaultKind::{Alignment, Protected, StackSegment, Unmapped};
        for (access, kind, code, error) in [
            (Read, Unmapped, SEGV_MAPERR, 4),
            (Write, Unmapped, SEGV_MAPERR, 6),
            (Write, Protected, SEGV_ACCERR, 7),
            (Execute, Unmapped, SEGV_MAPERR, 0x14),
        ] {
            let info = SignalInfo::of_x86_fault(fault(0x7000, access, kind), 0x1000);
            let detail = Detail::Fault { address: 0x7000, trap: 14, error, is_page_fault: true };
            assert_eq!((info.number, info.code, info.detail), (11, code, detail));
        }
        // Faults of segments and alignment, and addresses that are not canonical, tell no address.
        for (address, kind, number, wanted) in [
            (0x7000, StackSegment, 7, 12),
            (0x7001, Alignment, 11, 13),
            (1 << 60, Unmapped, 11, 13),
        ] {
            let info = SignalInfo::of_x86_fault(fault(address, Read, kind), 0x1000);
            assert_eq!((info.number, info.code), (number, SI_KERNEL));
            let Detail::Fault { address, trap, .. } = info.detail else { panic!("{info:?}") };
            assert_eq!((address, trap), (0, wanted));
        }
        let info =
            SignalInfo::of_arm64_fault(fault(0x7003, Read, MemoryFaultKind::AtomicAlignment), 0);
        assert_eq!((info.number, info.code), (7, BUS_ADRALN));
        assert_eq!(SignalInfo::of_x86_fault(Fault::DivideByZero, 0x1000).code, FPE_INTDIV);
        assert_eq!(SignalInfo::of_x86_fault(Fault::Illegal, 0x1000).code, ILL_ILLOPN);
        assert_eq!(SignalInfo::of_arm64_fault(Fault::Illegal, 0x1000).code, ILL_ILLOPC);
    }

    #[test]
    fn the_structure_has_the_words_of_the_machine() {
        let detail = Detail::Sender { process: 1000, user: 7, value: 0x1_0000_0002 };
        let info = SignalInfo { number: 34, code: -1, detail };
        let wide = info.layout(8);
        assert_eq!(wide.len(), INFO_BYTES);
        assert_eq!(wide[..12], [34, 0, 0, 0, 0, 0, 0, 0, 0xff, 0xff, 0xff, 0xff]);
        assert_eq!(wide[16..32], [0xe8, 3, 0, 0, 7, 0, 0, 0, 2, 0, 0, 0, 1, 0, 0, 0]);
        let narrow = info.layout(4);
        assert_eq!(narrow.len(), INFO_BYTES);
        assert_eq!(narrow[12..24], [0xe8, 3, 0, 0, 7, 0, 0, 0, 2, 0, 0, 0]);
    }
}
