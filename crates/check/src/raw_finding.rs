//! Findings before their places have names.

use sotto_finding::{Finding, Place, Remark};
use sotto_session::Session;

use crate::kinds::Kind;

/// A finding before its places have names.
#[derive(Clone, Debug)]
pub(crate) struct RawFinding {
    pub kind: Kind,
    pub at: u64,
    fact: String,
    history: Vec<(u64, String)>,
    pub help: Option<String>,
    /// What it is about, if the place has several of the kind.
    pub subject: usize,
}

impl RawFinding {
    pub fn new(kind: Kind, at: u64, fact: String) -> RawFinding {
        RawFinding { kind, at, fact, history: Vec::new(), help: None, subject: 0 }
    }

    #[must_use]
    pub fn at(mut self, address: u64, text: impl Into<String>) -> RawFinding {
        self.history.push((address, text.into()));
        self
    }

    #[must_use]
    pub fn help(mut self, help: impl Into<String>) -> RawFinding {
        self.help = Some(help.into());
        self
    }

    #[must_use]
    pub fn about(mut self, subject: usize) -> RawFinding {
        self.subject = subject;
        self
    }

    /// The finding, with names for its places; `None` if the source allows it there.
    pub fn named(self, session: &mut Session, moment: Option<u64>) -> Option<Finding> {
        let info = self.kind.info();
        let place = session.place(self.at);
        if is_allowed_at(session, &place, info.code) {
            return None;
        }
        let decoded = session.system_mut().machine.instruction_at(self.at).ok();
        let instruction = decoded.map(|decoded| session.instruction_text(&decoded));
        let remark = |(address, text)| Remark { place: session.place(address), text };
        let history = self.history.into_iter().map(remark).collect();
        Some(Finding {
            code: info.code,
            severity: info.severity,
            place,
            instruction,
            moment,
            fact: self.fact,
            history,
            help: self.help.unwrap_or_else(|| info.remedy.to_string()),
        })
    }
}

/// Whether the source allows a finding of this code at a place: `;: allow C201` on its line, or on the line above.
pub(crate) fn is_allowed_at(session: &Session, place: &Place, code: &str) -> bool {
    let (Some(file), Some(line)) = (&place.file, place.line) else { return false };
    let Some(source) = session.sources().iter().find(|source| *source.name == **file) else {
        return false;
    };
    let allows = |number: u32| {
        let text = source.line(number)?;
        let marks = [";:", "//:", "#:", "@:"];
        let (_, comment) = marks.iter().find_map(|mark| text.split_once(mark))?;
        let mut words = comment.split([' ', '\t', ',']).filter(|word| !word.is_empty());
        (words.next()? == "allow").then(|| words.any(|word| word.eq_ignore_ascii_case(code)))
    };
    [line, line.saturating_sub(1)].into_iter().filter_map(allows).any(|allowed| allowed)
}
