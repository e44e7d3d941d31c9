//! The calls that have not returned yet, kept as the program makes them.
//!
//! Kept from execution, so that the chain is right with or without frame pointers. What ends a call is
//! the stack pointer: a call whose return address lies below it is over, by whatever way control
//! left it.

use sotto_isa::Control;

/// A call that has not returned.
#[derive(Copy, Clone, PartialEq, Eq, Debug)]
pub struct Call {
    /// Address of the instruction that called.
    pub from: u64,
    /// Where it returns to.
    pub return_address: u64,
    /// The routine called.
    pub routine: u64,
    /// The stack pointer at the routine's first instruction.
    pub stack_pointer: u64,
    /// Instructions completed at the routine's first instruction.
    pub moment: u64,
    /// It is a handler of a signal, which came before the instruction at `from`.
    pub is_handler: bool,
}

/// Calls, the outermost first. Of very many the middle ones are only counted.
#[derive(Clone, PartialEq, Eq, Debug, Default)]
pub(crate) struct CallStack {
    calls: Vec<Call>,
    /// How many calls were left out, inside the first [`OUTER`] calls.
    left_out: u64,
}

/// Calls that are kept of those that were made first, when there are too many.
const OUTER: usize = 1 << 10;
/// As many calls are kept at most; then the middle half is left out.
const MOST: usize = 1 << 16;

/// What a processor leaves where for a routine.
#[derive(Copy, Clone, PartialEq, Eq, Debug)]
pub(crate) enum ReturnAddress {
    /// On the stack, at the stack pointer.
    OnStack,
    /// In a register.
    InRegister,
}

impl CallStack {
    /// The calls, the outermost first.
    pub fn calls(&self) -> &[Call] {
        &self.calls
    }

    /// The calls that are only counted, and how many calls are outside of them.
    pub fn left_out(&self) -> (u64, usize) {
        (self.left_out, OUTER)
    }

    /// Bytes that the list takes.
    pub fn bytes(&self) -> usize {
        self.calls.capacity() * size_of::<Call>()
    }

    /// Says that the last call is one of a handler.
    pub fn mark_handler(&mut self) {
        if let Some(call) = self.calls.last_mut() {
            call.is_handler = true;
        }
    }

    /// Takes the last call off.
    fn pop(&mut self) {
        self.calls.pop();
        if self.calls.len() <= OUTER {
            // Control is back among the first calls, so those in between are over.
            self.left_out = 0;
        }
    }

    /// Whether an instruction that sends control elsewhere in this way is to be noted.
    pub const fn notes(control: Control, is_indirect: bool) -> bool {
        match control {
            Control::Call | Control::Return => true,
            Control::Jump => is_indirect,
            Control::Next | Control::Branch | Control::Syscall | Control::Trap => false,
        }
    }

    /// Notes a call, a return or an indirect jump that was just made. A jump to where the last call returns is a return,
    /// whatever instruction made it. `call` is as the machine is now.
    pub fn note(&mut self, control: Control, place: ReturnAddress, call: Call) {
        match control {
            Control::Call => {
                while let Some(last) = self.calls.last() {
                    let over = match place {
                        // Its return address was overwritten just now, or lies below.
                        ReturnAddress::OnStack => last.stack_pointer <= call.stack_pointer,
                        ReturnAddress::InRegister => last.stack_pointer < call.stack_pointer,
                    };
                    if !over {
                        break;
                    }
                    self.pop();
                }
                if self.calls.len() == MOST {
                    let middle = OUTER..MOST / 2;
                    self.left_out += middle.len() as u64;
                    self.calls.drain(middle);
                }
                self.calls.push(call);
            }
            Control::Return => {
                while let Some(last) = self.calls.last() {
                    let here = last.stack_pointer == call.stack_pointer
                        && last.return_address == call.routine;
                    if !here && last.stack_pointer >= call.stack_pointer {
                        break;
                    }
                    self.pop();
                    if here {
                        break;
                    }
                }
            }
            Control::Jump => {
                let returns = |last: &Call| {
                    last.return_address == call.routine && last.stack_pointer <= call.stack_pointer
                };
                if self.calls.last().is_some_and(returns) {
                    self.pop();
                }
            }
            Control::Next | Control::Branch | Control::Syscall | Control::Trap => {}
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn at(from: u64, routine: u64, stack_pointer: u64) -> Call {
        Call {
            from,
            return_address: from + 4,
            routine,
            stack_pointer,
            moment: 0,
            is_handler: false,
        }
    }

    #[test]
    fn an_indirect_jump_to_where_the_last_call_returns_is_a_return() {
        let mut stack = CallStack::default();
        stack.note(Control::Call, ReturnAddress::OnStack, at(0x10, 0x100, 0x7f8));
        stack.note(Control::Call, ReturnAddress::OnStack, at(0x110, 0x200, 0x7f0));
        let jump = |to, stack_pointer| Call { routine: to, ..at(0x210, to, stack_pointer) };
        // A jump within the routine, and one through a table of addresses.
        stack.note(Control::Jump, ReturnAddress::OnStack, jump(0x220, 0x7e0));
        stack.note(Control::Jump, ReturnAddress::OnStack, jump(0x114, 0x7e8));
        assert_eq!(chain(&stack), [0x100, 0x200]);
        // `pop rcx` and `jmp rcx`, then `jmp [rsp]`.
        stack.note(Control::Jump, ReturnAddress::OnStack, jump(0x114, 0x7f8));
        assert_eq!(chain(&stack), [0x100]);
        stack.note(Control::Jump, ReturnAddress::OnStack, jump(0x14, 0x7f8));
        assert!(chain(&stack).is_empty());
    }

    fn chain(stack: &CallStack) -> Vec<u64> {
        stack.calls().iter().map(|call| call.routine).collect()
    }

    #[test]
    fn calls_nest_and_returns_end_them() {
        let mut stack = CallStack::default();
        let place = ReturnAddress::OnStack;
        stack.note(Control::Call, place, at(0x10, 0x100, 0xff8));
        stack.note(Control::Call, place, at(0x110, 0x200, 0xfe8));
        assert_eq!(chain(&stack), [0x100, 0x200]);
        // A return leaves the stack pointer above the return address, and `routine` is where it went.
        stack.note(Control::Return, place, at(0x210, 0x114, 0xff0));
        assert_eq!(chain(&stack), [0x100]);
    }

    #[test]
    fn what_was_left_without_a_return_ends_with_the_next_call_at_its_place() {
        let mut stack = CallStack::default();
        let place = ReturnAddress::OnStack;
        stack.note(Control::Call, place, at(0x10, 0x100, 0xff8));
        stack.note(Control::Call, place, at(0x110, 0x200, 0xfe8));
        // The stack pointer was put back by hand, to before both.
        stack.note(Control::Call, place, at(0x20, 0x300, 0xff8));
        assert_eq!(chain(&stack), [0x300]);
    }

    #[test]
    fn routines_without_a_frame_share_the_stack_pointer_where_the_return_address_is_a_register() {
        let mut stack = CallStack::default();
        let place = ReturnAddress::InRegister;
        stack.note(Control::Call, place, at(0x10, 0x100, 0x1000));
        stack.note(Control::Call, place, at(0x110, 0x200, 0x1000));
        assert_eq!(chain(&stack), [0x100, 0x200]);
        stack.note(Control::Return, place, at(0x210, 0x114, 0x1000));
        assert_eq!(chain(&stack), [0x100]);
        stack.note(Control::Return, place, at(0x120, 0x14, 0x1000));
        assert!(chain(&stack).is_empty());
    }
}
