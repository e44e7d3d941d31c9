//! Labels and data that nothing refers to.

use std::collections::HashMap;

use sotto_object::Binding;
use sotto_session::Session;

use crate::checker::Options;
use crate::kinds::Kind;
use crate::raw_finding::is_allowed_at;
use sotto_finding::Finding;

/// The names of the session's sources that stand there once: where they are defined.
///
/// Names that other files may use, dotted labels, and names that a macro puts together are left out.
pub(crate) fn unused_names(session: &Session, options: &Options) -> Vec<Finding> {
    let mut findings = Vec::new();
    if options.allow.contains(&Kind::Unused) {
        return findings;
    }
    let mut words: HashMap<&str, u32> = HashMap::new();
    let is_part = |c: char| c.is_alphanumeric() || matches!(c, '_' | '$' | '.');
    for source in session.sources() {
        for word in source.text().split(|c: char| !is_part(c)) {
            // `tide.end` is a mention of `tide` too.
            let owner = word.split('.').next().unwrap_or(word);
            *words.entry(owner).or_default() += 1;
        }
    }
    let info = Kind::Unused.info();
    for symbol in &session.image().symbols {
        let own = symbol.binding == Binding::Local && !symbol.absolute;
        // A routine with a contract may be called from anywhere.
        let promised = session.image().contract_at(symbol.address).is_some();
        let known = symbol.defined_at.as_ref().is_some_and(|(_, line)| *line > 0);
        let dotted = symbol.name.contains(['.', '$']);
        if !own || !known || dotted || promised || words.get(symbol.name.as_str()) != Some(&1) {
            continue;
        }
        let mut place = session.place(symbol.address);
        if let Some((file, line)) = &symbol.defined_at {
            let source = session.sources().iter().find(|source| source.name == *file);
            let text = source.and_then(|source| source.line(*line));
            place.file = Some(file.as_str().into());
            place.line = Some(*line);
            place.source = text.map(|text| text.trim().into());
        }
        if is_allowed_at(session, &place, info.code) {
            continue;
        }
        let what = if symbol.datum.is_some() { "datum" } else { "label" };
        findings.push(Finding {
            code: info.code,
            severity: info.severity,
            place,
            instruction: None,
            moment: None,
            fact: format!("nothing refers to the {what} `{}`", symbol.name),
            history: Vec::new(),
            help: info.remedy.to_string(),
        });
    }
    findings
}
