//! Findings as text and as data.

use std::borrow::Cow;

use annotate_snippets::{AnnotationKind, Group, Level, Renderer, Snippet};
use sotto_check::{Finding, Kind, Severity};
use sotto_session::{Place, Session};

use crate::console::{self, Tone, paint};
use crate::render;

/// The source line of a place, as an excerpt with all of its text marked.
fn excerpt<'a>(
    session: &'a Session,
    place: &Place,
    label: Option<&'a str>,
    kind: AnnotationKind,
) -> Option<Snippet<'a, annotate_snippets::Annotation<'a>>> {
    let (file, number) = (place.file.as_ref()?, place.line?);
    let source = session.sources().iter().find(|source| *source.name == **file)?;
    let line = console::sanitized(source.line(number)?);
    let start = line.len() - line.trim_start().len();
    let end = match place.is_compiled() {
        true => line.trim_end().len(),
        false => sotto_asm::without_comment(&line, session.arch()).len(),
    };
    let mut annotation = kind.span(start..end.max(start));
    if let Some(label) = label {
        annotation = annotation.label(console::in_line(label));
    }
    let name = console::in_line(&source.name).into_owned();
    Some(Snippet::source(line).line_start(number as usize).path(name).annotation(annotation))
}

/// A finding as text, with colour.
pub fn to_text(session: &Session, finding: &Finding) -> String {
    let level = match finding.severity {
        Severity::Error => Level::ERROR,
        Severity::Warning => Level::WARNING,
        Severity::Hint => Level::NOTE,
    };
    let fact = console::in_line(&finding.fact);
    let mut group = Group::with_title(level.primary_title(fact).id(finding.code));
    let instruction = finding.instruction.as_deref().filter(|_| finding.place.is_compiled());
    match excerpt(session, &finding.place, instruction, AnnotationKind::Primary) {
        Some(excerpt) => group = group.element(excerpt),
        None => {
            let mut at = format!("at {}", console::plain(&render::place_line(&finding.place)));
            if let Some(instruction) = &finding.instruction {
                at = format!("{at}  {instruction}");
            }
            group = group.element(Level::NOTE.message(at));
        }
    }
    for remark in &finding.history {
        match excerpt(session, &remark.place, Some(&remark.text), AnnotationKind::Context) {
            Some(excerpt) => group = group.element(excerpt),
            None => {
                let at = console::plain(&render::place_line(&remark.place));
                group = group.element(Level::NOTE.message(format!("{} ({at})", remark.text)));
            }
        }
    }
    if let Some(kind) = Kind::of(finding) {
        group = group.element(Level::NOTE.message(kind.info().why));
    }
    let help: Cow<str> = finding.help.as_str().into();
    group = group.element(Level::HELP.message(help));
    Renderer::styled().render(&[group]).to_string()
}

/// A finding below the step that it is about: the fact, then places and the remedy.
pub fn beside_step(finding: &Finding) -> String {
    let tone = match finding.severity {
        Severity::Error => Tone::Error,
        Severity::Warning => Tone::Warning,
        Severity::Hint => Tone::Quiet,
    };
    let head = paint(tone, &format!("{} {}:", finding.severity.name(), finding.code));
    let mut text = format!("        {head} {}", finding.fact);
    for remark in &finding.history {
        let place = console::plain(&render::place_line(&remark.place));
        text.push_str(&format!("\n          {} ({place})", remark.text));
    }
    let help = finding.help.replace('\n', "\n          ");
    text.push_str(&format!("\n          {} {help}", paint(Tone::Quiet, "help:")));
    text
}

/// How many findings there are of each severity, in words: `1 error, 2 warnings`.
pub fn counts(findings: &[Finding]) -> String {
    let severities = [Severity::Error, Severity::Warning, Severity::Hint];
    let parts: Vec<String> = severities
        .iter()
        .filter_map(|severity| {
            let count = findings.iter().filter(|finding| finding.severity == *severity).count();
            let plural = if count == 1 { "" } else { "s" };
            (count > 0).then(|| format!("{count} {}{plural}", severity.name()))
        })
        .collect();
    parts.join(", ")
}
