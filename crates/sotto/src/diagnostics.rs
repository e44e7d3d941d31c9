//! Diagnostics of the assembler and the linker, as text and as data.

use std::borrow::Cow;
use std::cell::RefCell;
use std::io::Write;

use annotate_snippets::{AnnotationKind, Group, Level, Renderer, Snippet};
use serde_json::{Value, json};
use sotto_asm::{Diagnostic, Inference, Origin, Severity, Sources, Span, nearest};
use sotto_isa::Arch;
use sotto_object::{LinkError, Reference};

use crate::console;

thread_local! {
    /// What is said while somebody else has the screen.
    static HELD: RefCell<Option<Vec<u8>>> = const { RefCell::new(None) };
}

/// What an action says, as text with its styles, instead of on standard error: while the full screen is
/// drawn, nobody else may write to the terminal.
pub fn held<T>(action: impl FnOnce() -> T) -> (T, String) {
    HELD.with(|held| held.replace(Some(Vec::new())));
    let result = action();
    let said = HELD.with(|held| held.replace(None)).unwrap_or_default();
    (result, String::from_utf8_lossy(&said).into_owned())
}

/// Says something.
fn say(write: impl FnOnce(&mut dyn Write) -> std::io::Result<()>) {
    HELD.with(|held| {
        // If standard error is closed there is nobody left to tell.
        let _ = match held.borrow_mut().as_mut() {
            Some(text) => write(text),
            None => write(&mut anstream::stderr().lock()),
        };
    });
}

/// Prints what there is to say about a source to standard error.
pub fn print(sources: &Sources, diagnostics: &[Diagnostic], as_json: bool) {
    for diagnostic in diagnostics {
        say(|out| match as_json {
            true => writeln!(out, "{}", console::json_line(&to_json(sources, diagnostic))),
            false => writeln!(out, "{}\n", to_text(sources, diagnostic)),
        });
    }
}

/// The lines that a span lies on, as an excerpt with the span marked.
fn excerpt<'a>(
    sources: &'a Sources,
    span: Span,
    label: &'a str,
    kind: AnnotationKind,
) -> Snippet<'a, annotate_snippets::Annotation<'a>> {
    let mut excerpt = sources.excerpt(span);
    shorten(&mut excerpt);
    // Control characters are shown as escapes, which moves what stands behind them.
    let text = console::sanitized(excerpt.text);
    let range = match &text {
        Cow::Borrowed(_) => excerpt.range.clone(),
        Cow::Owned(_) => {
            let place = |at: usize| console::sanitized(&excerpt.text[..at]).len();
            place(excerpt.range.start)..place(excerpt.range.end)
        }
    };
    let annotation = kind.span(range);
    let annotation = match label.is_empty() {
        true => annotation,
        false => annotation.label(console::in_line(label)),
    };
    Snippet::source(text)
        .line_start(excerpt.line as usize)
        .path(console::in_line(excerpt.file))
        .annotation(annotation)
}

/// Cuts off what follows the place in a line that is too long to show.
fn shorten(excerpt: &mut sotto_asm::Excerpt) {
    const SHOWN: usize = 160;
    let most = (excerpt.range.start + SHOWN / 2).max(SHOWN);
    if excerpt.text.len() <= most || excerpt.text.contains('\n') {
        return;
    }
    let end = (0..=most).rev().find(|&at| excerpt.text.is_char_boundary(at)).unwrap_or(0);
    excerpt.text = &excerpt.text[..end];
    excerpt.range.end = excerpt.range.end.min(end);
}

/// How many calls of a chain are shown at its start and at its end.
const CALLS_SHOWN: usize = 3;

/// The calls and includes that led to a place, in words.
fn chain(sources: &Sources, at: u32) -> Vec<(String, Span)> {
    let said = |origin: &Origin| match origin {
        Origin::Expanded { name, .. } => format!("in this use of `{name}`"),
        _ => "included here".to_string(),
    };
    sources.chain(at).into_iter().map(|(origin, span)| (said(origin), span)).collect()
}

/// One diagnostic as text, with colour.
pub fn to_text(sources: &Sources, diagnostic: &Diagnostic) -> String {
    let level = match diagnostic.severity {
        Severity::Error => Level::ERROR,
        Severity::Warning => Level::WARNING,
        Severity::Note => Level::NOTE,
    };
    let primary = excerpt(sources, diagnostic.span, &diagnostic.label, AnnotationKind::Primary);
    let mut group: Group =
        level.primary_title(shown(&diagnostic.message)).id(diagnostic.code.name()).element(primary);
    let calls = chain(sources, diagnostic.span.start);
    let left = calls.len().saturating_sub(2 * CALLS_SHOWN);
    let more = format!("and {left} more between these");
    for (number, (text, span)) in calls.iter().enumerate() {
        if left > 0 && number == CALLS_SHOWN {
            group = group.element(Level::NOTE.message(&more));
        }
        if left == 0 || !(CALLS_SHOWN..CALLS_SHOWN + left).contains(&number) {
            group = group.element(excerpt(sources, *span, text, AnnotationKind::Context));
        }
    }
    for note in &diagnostic.notes {
        group = match note.span {
            Some(span) => {
                group.element(excerpt(sources, span, &note.text, AnnotationKind::Context))
            }
            None => group.element(Level::NOTE.message(shown(&note.text))),
        };
    }
    if let Some(help) = &diagnostic.help {
        group = group.element(Level::HELP.message(shown(help)));
    }
    Renderer::styled().render(&[group]).to_string()
}

/// Names and numbers are quoted in messages, and may be as long as the source makes them.
fn shown(text: &str) -> Cow<'_, str> {
    const MOST: usize = 600;
    let text = console::sanitized(text);
    match text.char_indices().nth(MOST) {
        Some((at, _)) => format!("{}...", &text[..at]).into(),
        None => text,
    }
}

fn to_json(sources: &Sources, diagnostic: &Diagnostic) -> Value {
    let at = |span: Span| {
        let (start, end) = (sources.location(span.start), sources.location(span.end));
        json!({
            "file": start.file,
            "line": start.line,
            "column": start.column,
            "end_line": end.line,
            "end_column": end.column,
        })
    };
    let notes: Vec<Value> = diagnostic
        .notes
        .iter()
        .map(|note| json!({ "text": note.text, "place": note.span.map(at) }))
        .collect();
    let calls: Vec<Value> = chain(sources, diagnostic.span.start)
        .into_iter()
        .map(|(text, span)| json!({ "text": text, "place": at(span) }))
        .collect();
    json!({
        "code": diagnostic.code.name(),
        "severity": match diagnostic.severity {
            Severity::Error => "error",
            Severity::Warning => "warning",
            Severity::Note => "note",
        },
        "message": diagnostic.message,
        "place": at(diagnostic.span),
        "label": diagnostic.label,
        "read_through": calls,
        "notes": notes,
        "help": diagnostic.help,
        "replacement": diagnostic.replacement,
    })
}

/// Says which machine was inferred, and from what.
pub fn inferred(sources: &Sources, arch: Arch, inference: &Inference, as_json: bool) {
    let name = sources.texts().first().map_or("", |text| &text.name);
    let text = match &inference.word {
        Some((word, span)) => {
            let line = sources.location(span.start).line;
            format!("{name}: assembling for {arch}, since line {line} names `{word}`")
        }
        None => format!("{name}: assembling for {arch}; nothing in it tells the machine"),
    };
    say(|out| match as_json {
        true => writeln!(
            out,
            "{}",
            console::json_line(
                &json!({ "severity": "note", "message": text, "target": arch.name() })
            )
        ),
        false => {
            let text = format!("{} {text}", console::paint(console::Tone::Quiet, "note:"));
            writeln!(out, "{}", console::rendered(&text, true))
        }
    });
}

/// Prints the errors of the linker to standard error.
///
/// `runs` says that the program is to be run here, where the C library can be linked in one step.
pub fn print_link(errors: &[LinkError], runs: bool, as_json: bool) {
    // A program with a `main` is written for the C library, which then has what is missing.
    let for_c = errors.iter().any(|e| matches!(e, LinkError::NoEntry { has_main: true, .. }));
    for error in errors {
        let (code, notes, mut help) = explain_link(error);
        if for_c && matches!(error, LinkError::Undefined { .. }) {
            let text = match runs {
                true => "if it is the C library's, add `--with-c`",
                false => {
                    "if it is the C library's, make an object with `--object` and link it with the C compiler"
                }
            };
            help = Some(text.to_string());
        }
        if runs && let LinkError::NoEntry { has_main: true, .. } = error {
            help = Some("there is a `main`: add `--with-c`, which links the C library that calls it, or start at it with `--entry main` and end it with an exit call".to_string());
        }
        if as_json {
            let value = json!({ "code": code, "severity": "error", "message": error.to_string(), "notes": notes, "help": help });
            say(|out| writeln!(out, "{}", console::json_line(&value)));
        } else {
            let mut group = Group::with_title(
                Level::ERROR.primary_title(shown(&error.to_string()).into_owned()).id(code),
            );
            for note in notes {
                group = group.element(Level::NOTE.message(shown(&note).into_owned()));
            }
            if let Some(help) = help {
                group = group.element(Level::HELP.message(shown(&help).into_owned()));
            }
            say(|out| writeln!(out, "{}\n", Renderer::styled().render(&[group])));
        }
    }
}

fn place(reference: &Reference) -> String {
    match reference.line {
        0 => reference.file.clone(),
        line => format!("{}:{line}", reference.file),
    }
}

/// Code, remarks and remedy of a linker's error.
fn explain_link(error: &LinkError) -> (&'static str, Vec<String>, Option<String>) {
    match error {
        LinkError::Undefined { name, references, known } => {
            let places: Vec<String> = references.iter().map(place).collect();
            let near = nearest(name, known.iter().map(String::as_str));
            let help = match near {
                Some(near) => format!("did you mean `{near}`?"),
                None => format!("define it in one of the files and make it `.global {name}`"),
            };
            ("L201", vec![format!("needed at {}", places.join(", "))], Some(help))
        }
        LinkError::Duplicate { first, second, .. } => (
            "L202",
            vec![format!("at {} and at {}", place(first), place(second))],
            Some("rename one, or leave out its `.global`".to_string()),
        ),
        LinkError::NoEntry { name, local, has_main } => {
            let help = match (local, has_main) {
                (true, _) => format!("`{name}` is there, but not visible: add `.global {name}`"),
                (_, true) => "there is a `main`: start at it with `--entry main` and end it with an exit call, or make an object with `--object` and let the C compiler link it with the C library, which calls `main`".to_string(),
                _ => format!("name the first instruction `{name}:` and add `.global {name}`, or choose another with `--entry`"),
            };
            ("L203", Vec::new(), Some(help))
        }
        LinkError::OutOfReach { reference, .. } => {
            ("L204", vec![format!("at {}", place(reference))], None)
        }
        LinkError::NeedsAddress { references, .. } => {
            let places: Vec<String> = references.iter().map(place).collect();
            (
                "L206",
                vec![format!("needed at {}", places.join(", "))],
                Some(
                    "leave out `--pie`, or count from the instruction pointer: `lea rdi, [name]`"
                        .to_string(),
                ),
            )
        }
        LinkError::WritableCode { file, .. } => (
            "L207",
            vec![format!("in {file}")],
            Some("give code and data sections of their own: `\"ax\"` and `\"aw\"`".to_string()),
        ),
        LinkError::Empty => {
            ("L209", Vec::new(), Some("write an instruction after the entry label".to_string()))
        }
        LinkError::TooLarge { .. } => (
            "L208",
            Vec::new(),
            Some("reserve less room, or map it when the program runs".to_string()),
        ),
        LinkError::LaterModule { reference, .. } => (
            "L210",
            vec![format!("at {}", place(reference))],
            Some(
                "a program has its variables at fixed offsets: use the operators for those (initial exec or local exec), or compile with `-ftls-model=initial-exec`"
                    .to_string(),
            ),
        ),
        LinkError::NotThreadLocal { name, reference } => (
            "L211",
            vec![format!("at {}", place(reference))],
            Some(format!("define `{name}` in `.tdata` or `.tbss`, or use it as other data is used")),
        ),
        LinkError::ThreadLocal { name, reference } => (
            "L212",
            vec![format!("at {}", place(reference))],
            Some(format!(
                "reach it from the thread pointer: `[fs:{name}@tpoff]` on x86-64, `[gs:{name}@ntpoff]` on 32-bit x86, `:tprel_lo12:{name}` on 64-bit ARM"
            )),
        ),
        LinkError::MixedTargets { .. } => {
            ("L205", Vec::new(), Some("assemble all files for one machine".to_string()))
        }
        _ => ("L200", Vec::new(), None),
    }
}
