//! Findings from reading a program's code, without running it.
//!
//! What is read is code with source lines in assembly language, along its jumps and calls, from every label on. Where a
//! jump or a call goes through a register, its targets are not known; nothing is concluded from that.

mod comparisons;
mod flow;
mod graph;
mod unused;
mod values;

use std::collections::HashSet;

use sotto_session::Session;

use crate::checker::Options;
use crate::raw_finding::RawFinding;
use graph::CodeGraph;
use sotto_finding::Finding;

/// What is found in the code of a session's program as it was loaded.
pub fn findings_of_code(session: &mut Session, options: &Options) -> Vec<Finding> {
    let graph = CodeGraph::read(session);
    let mut raw: Vec<RawFinding> = Vec::new();
    flow::find(&graph, &mut raw);
    values::find(&graph, &mut raw);
    comparisons::find(&graph, &mut raw);
    raw.sort_by_key(|raw| (raw.at, raw.kind.info().code));
    let mut seen = HashSet::new();
    let mut findings = Vec::new();
    for raw in raw {
        if !options.allow.contains(&raw.kind) && seen.insert((raw.kind, raw.at)) {
            findings.extend(raw.named(session, None));
        }
    }
    findings.extend(unused::unused_names(session, options));
    findings
}
