//! Control flow past the end of the code, into data, into the next routine, into the middle of an instruction, and back to
//! the same routine without end.

use sotto_isa::Control;

use crate::code::graph::{CodeGraph, Node};
use crate::kinds::Kind;
use crate::raw_finding::RawFinding;

/// Adds what is wrong with the control flow.
pub fn find(graph: &CodeGraph, found: &mut Vec<RawFinding>) {
    for node in graph.nodes.values() {
        found.extend(run_on(graph, node));
    }
    for &(from, target) in &graph.targets {
        found.extend(into_the_middle(graph, from, target));
    }
    for &routine in &graph.routines {
        found.extend(endless_recursion(graph, routine));
    }
}

/// An instruction from which execution falls through to where no code is, or where another routine begins.
fn run_on(graph: &CodeGraph, node: &Node) -> Option<RawFinding> {
    let at = node.instruction.address;
    let end = node.instruction.end();
    // A jump to the next address is meant.
    if node.successors.first() != Some(&end) || node.instruction.control() == Control::Jump {
        return None;
    }
    let next = graph.behind_padding(end);
    let name = |address: u64| {
        let symbol = graph.image.symbols.iter().find(|symbol| symbol.address == address);
        symbol.map(|symbol| symbol.name.as_str())
    };
    if graph.is_data(next) {
        let what = name(next).map_or("data".to_string(), |name| format!("the data `{name}`"));
        let fact = format!("execution falls through from here into {what}");
        return Some(RawFinding::new(Kind::IntoData, at, fact));
    }
    if !graph.nodes.contains_key(&next) && graph.line_text(next).is_none() {
        let fact = match node.instruction.control() {
            Control::Branch => {
                "if the condition does not hold, control runs past the last instruction"
            }
            Control::Call => "when the call returns, control runs past the last instruction",
            _ => "control runs past the last instruction",
        };
        return Some(RawFinding::new(Kind::RanPast, at, fact.to_string()));
    }
    // The routine that control comes into is one that is called, and this is a routine of its own.
    let called = graph.callees.contains(&next);
    let own = graph.routines.range(..=at).next_back();
    if called && own.is_some() && node.instruction.control() != Control::Call {
        let name = name(next).unwrap_or("the next routine");
        let fact =
            format!("execution falls through from here into `{name}`, which other code calls");
        return Some(RawFinding::new(Kind::IntoRoutine, at, fact));
    }
    None
}

/// A jump or call whose target is within an instruction that control also comes to.
fn into_the_middle(graph: &CodeGraph, from: u64, target: u64) -> Option<RawFinding> {
    let (&start, node) = graph.nodes.range(..target).next_back()?;
    let bytes = target - start;
    if node.instruction.end() <= target {
        return None;
    }
    let length = node.instruction.length;
    let fact = format!("it goes to byte {bytes} of an instruction of {length} bytes");
    Some(RawFinding::new(Kind::MidInstruction, from, fact).at(start, "this instruction"))
}

/// A routine that calls itself on every path to its return.
fn endless_recursion(graph: &CodeGraph, routine: u64) -> Option<RawFinding> {
    let calls_itself = |node: &Node| node.callee == Some(routine);
    let reached = graph.reached(routine, |node| !calls_itself(node))?;
    let nodes = || reached.iter().filter_map(|at| graph.nodes.get(at));
    let call = nodes().find(|node| calls_itself(node))?;
    // A path out: a return, an end of the program, a jump whose target is not known.
    let leaves = |node: &Node| node.leaves || (node.successors.is_empty() && !calls_itself(node));
    if nodes().any(leaves) || reached.iter().any(|at| !graph.nodes.contains_key(at)) {
        return None;
    }
    let fact = "the routine calls itself on every path, so that it never returns";
    Some(RawFinding::new(Kind::EndlessRecursion, call.instruction.address, fact.to_string()))
}
