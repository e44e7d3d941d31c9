//! Values that are overwritten before anything uses them.

use std::collections::HashSet;

use sotto_isa::{Access, Control, FrameStep, Instruction, Operand, Storage, Traits};

use crate::code::graph::{CodeGraph, Node, constant_move, read, written};
use crate::kinds::Kind;
use crate::raw_finding::RawFinding;

/// Instructions behind a move that are looked at for what becomes of its value.
const MOST: usize = 256;

/// Adds moves whose value is overwritten on every path before an instruction reads it.
pub fn find(graph: &CodeGraph, found: &mut Vec<RawFinding>) {
    for node in graph.nodes.values() {
        let Some(storage) = moved_to(&node.instruction) else { continue };
        let Some(writers) = overwriters(graph, node, storage) else { continue };
        let at = node.instruction.address;
        let name = graph.image.arch.storage_name(storage);
        let by_product = writers.iter().find_map(|writer| {
            let node = graph.nodes.get(writer)?;
            let product = is_second_result(&node.instruction, storage);
            (product && is_used_behind(graph, node, storage)).then_some(*writer)
        });
        match by_product {
            Some(product) => {
                let fact = format!("the upper half of the product overwrites {name}");
                let raw = RawFinding::new(Kind::ProductOverwrites, product, fact);
                found.push(raw.at(at, format!("{name} was set here")));
            }
            None => {
                let fact = format!("{name} is set here and overwritten before anything reads it");
                let mut raw = RawFinding::new(Kind::Overwritten, at, fact);
                for writer in writers.into_iter().take(2) {
                    raw = raw.at(writer, "it is overwritten here");
                }
                found.push(raw);
            }
        }
    }
}

/// The register that an instruction sets whole, if it does nothing else and reads no memory: a load may be there for the
/// access.
fn moved_to(instruction: &Instruction) -> Option<Storage> {
    let Some(Operand::Reg(reg)) = instruction.operands.first() else { return None };
    let loads = instruction.operands.iter().any(|operand| matches!(operand, Operand::Mem(_)));
    let only = !loads || instruction.traits().contains(Traits::ADDRESS_ONLY);
    let sets = instruction.access(0) == Access::Write && reg.width().bits() >= 32;
    let alone = instruction.flags().written().is_empty() && instruction.implicit().is_empty();
    let moves = only && sets && alone && instruction.control() == Control::Next;
    let stack = instruction.arch.stack_pointer();
    reg.storage().filter(|storage| moves && *storage != stack)
}

/// The instructions that overwrite a register on every path behind one that sets it, the first of each path; `None` if
/// there is a path on which its value may be used.
fn overwriters(graph: &CodeGraph, setter: &Node, storage: Storage) -> Option<Vec<u64>> {
    let mut writers = Vec::new();
    let mut seen = HashSet::new();
    let mut paths = setter.successors.clone();
    while let Some(at) = paths.pop() {
        if !seen.insert(at) {
            continue;
        }
        let node = graph.nodes.get(&at)?;
        let instruction = &node.instruction;
        let may_use =
            !matches!(instruction.control(), Control::Next | Control::Jump | Control::Branch)
                || node.leaves
                || read(instruction).contains(storage)
                || seen.len() > MOST;
        if may_use {
            return None;
        }
        if written(instruction).contains(storage) {
            if restores(instruction, storage) {
                return None;
            }
            writers.push(at);
            continue;
        }
        if node.successors.is_empty() {
            return None;
        }
        paths.extend(&node.successors);
    }
    writers.sort_unstable();
    writers.retain(|writer| *writer != setter.instruction.address);
    (!writers.is_empty()).then_some(writers)
}

/// Whether an instruction may give a register back what the routine's caller left in it.
fn restores(instruction: &Instruction, storage: Storage) -> bool {
    let preserved = instruction.arch.convention().is_preserved(storage);
    let from_stack = matches!(
        instruction.frame_step(),
        FrameStep::Pop { .. } | FrameStep::Leave | FrameStep::Transfer { .. }
    );
    let listed = instruction.implicit().iter().any(|i| i.reg.storage() == Some(storage));
    from_stack || (preserved && (listed || constant_move(instruction).is_none()))
}

/// Whether an instruction writes the upper half of a product to a register that it does not name. Source: SDM Vol. 2A, MUL.
fn is_second_result(instruction: &Instruction, storage: Storage) -> bool {
    let result = instruction.arch.convention().result;
    let implicit = instruction.implicit();
    let writes = |wanted: Storage, access: Access| {
        implicit.iter().any(|i| i.reg.storage() == Some(wanted) && i.access == access)
    };
    storage != result
        && instruction.operands.len() == 1
        && !instruction.traits().contains(Traits::WIDE_DIVISION)
        && writes(storage, Access::Write)
        && writes(result, Access::ReadWrite)
}

/// Whether a register's value may be read behind an instruction before it is written again.
fn is_used_behind(graph: &CodeGraph, node: &Node, storage: Storage) -> bool {
    let mut seen = HashSet::new();
    let mut paths = node.successors.clone();
    while let Some(at) = paths.pop() {
        if !seen.insert(at) || seen.len() > MOST {
            continue;
        }
        let Some(node) = graph.nodes.get(&at) else { continue };
        if read(&node.instruction).contains(storage) {
            return true;
        }
        if !written(&node.instruction).contains(storage) {
            paths.extend(&node.successors);
        }
    }
    false
}
