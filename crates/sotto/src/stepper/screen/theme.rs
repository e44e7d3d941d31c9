//! Colours and marks of the full screen: from true colour down to none, and without Unicode.

use ratatui::style::{Color, Modifier, Style};
use ratatui::text::{Line, Span};

use crate::console::{self, Tone};

/// How things look.
#[derive(Clone, Debug)]
pub struct Theme {
    colours: Colours,
    pub marks: Marks,
}

#[derive(Copy, Clone, PartialEq, Eq, Debug)]
enum Colours {
    None,
    Sixteen,
    True,
}

/// Signs beside lines.
#[derive(Copy, Clone, PartialEq, Eq, Debug)]
pub struct Marks {
    /// The next line.
    pub next: &'static str,
    /// What just changed.
    pub changed: &'static str,
    /// What the next instruction will write.
    pub about: &'static str,
    pub breakpoint: &'static str,
    /// Of the line at the top of a pane.
    pub rule: &'static str,
    /// Between columns.
    pub column: &'static str,
    /// The timeline: behind us, ahead of us, here, a mark, a change by hand.
    pub past: &'static str,
    pub future: &'static str,
    pub here: &'static str,
    pub mark: &'static str,
    pub edit: &'static str,
    /// What does not fit goes on.
    pub more: &'static str,
}

const UNICODE: Marks = Marks {
    next: "▶",
    changed: "•",
    about: "›",
    breakpoint: "◉",
    rule: "─",
    column: "│",
    past: "━",
    future: "┄",
    here: "◆",
    mark: "▾",
    edit: "✎",
    more: "…",
};

const PLAIN: Marks = Marks {
    next: ">",
    changed: "*",
    about: "+",
    breakpoint: "o",
    rule: "-",
    column: "|",
    past: "=",
    future: ".",
    here: "#",
    mark: "v",
    edit: "!",
    more: "~",
};

impl Theme {
    /// What the environment asks for. Source: no-color.org; setlocale(3) for the order of variables.
    pub fn of_environment() -> Theme {
        let variable = |name: &str| std::env::var(name).ok().filter(|value| !value.is_empty());
        let colours = match (variable("NO_COLOR"), variable("COLORTERM")) {
            (Some(_), _) => Colours::None,
            (None, Some(kind)) if kind == "truecolor" || kind == "24bit" => Colours::True,
            _ => Colours::Sixteen,
        };
        let locale = ["LC_ALL", "LC_CTYPE", "LANG"].into_iter().find_map(variable);
        let unicode = locale.is_some_and(|locale| {
            let locale = locale.to_ascii_lowercase();
            locale.contains("utf-8") || locale.contains("utf8")
        });
        Theme { colours, marks: if unicode { UNICODE } else { PLAIN } }
    }

    fn colour(&self, colour: Color) -> Style {
        match self.colours {
            Colours::None => Style::new(),
            _ => Style::new().fg(colour),
        }
    }

    /// A name that the eye looks for.
    pub fn strong(&self) -> Style {
        Style::new().add_modifier(Modifier::BOLD)
    }

    /// Less important.
    pub fn quiet(&self) -> Style {
        match self.colours {
            Colours::True => Style::new().fg(Color::Rgb(0x7d, 0x8b, 0x99)),
            Colours::Sixteen => Style::new().fg(Color::DarkGray),
            Colours::None => Style::new().add_modifier(Modifier::DIM),
        }
    }

    /// Something that just changed.
    pub fn changed(&self) -> Style {
        self.colour(Color::LightGreen).add_modifier(Modifier::BOLD)
    }

    /// Something that the next instruction will write.
    pub fn about(&self) -> Style {
        self.colour(Color::LightCyan)
    }

    /// A pane's title; of the one that keys go to if `focused`.
    pub fn title(&self, focused: bool) -> Style {
        match focused {
            true => self.colour(Color::LightYellow).add_modifier(Modifier::BOLD),
            false => self.quiet(),
        }
    }

    /// The line that is next.
    pub fn next(&self) -> Style {
        match self.colours {
            Colours::True => Style::new().bg(Color::Rgb(0x1f, 0x36, 0x44)),
            _ => Style::new().add_modifier(Modifier::BOLD),
        }
    }

    /// A warning.
    pub fn warning(&self) -> Style {
        self.colour(Color::LightYellow).add_modifier(Modifier::BOLD)
    }

    /// A breakpoint.
    pub fn breakpoint(&self) -> Style {
        self.colour(Color::LightRed)
    }

    /// The first line of the screen, and the line of keys.
    pub fn bar(&self) -> Style {
        match self.colours {
            Colours::True => {
                Style::new().bg(Color::Rgb(0x24, 0x2d, 0x36)).fg(Color::Rgb(0xd7, 0xdd, 0xe3))
            }
            _ => Style::new().add_modifier(Modifier::REVERSED),
        }
    }

    /// A line with the styles of [`console::paint`] in it, or with escape sequences of an excerpt of a source.
    pub fn styled(&self, text: &str) -> Line<'static> {
        let mut spans = Vec::new();
        for piece in console::pieces(text) {
            let style = match piece.tone {
                Some(Tone::Error) => self.colour(Color::LightRed).add_modifier(Modifier::BOLD),
                Some(Tone::Warning) => self.warning(),
                Some(Tone::Help) => self.colour(Color::LightCyan),
                Some(Tone::Quiet) => self.quiet(),
                Some(Tone::Strong) => Style::new().add_modifier(Modifier::BOLD),
                Some(Tone::Changed) => self.colour(Color::LightGreen),
                None => {
                    spans.extend(self.with_sequences(piece.text));
                    continue;
                }
            };
            spans.push(Span::styled(clean(piece.text), style));
        }
        Line::from(spans)
    }

    /// A text with the escape sequences that excerpts of sources are rendered with; everything else that a terminal
    /// would obey was made visible before.
    fn with_sequences(&self, text: &str) -> Vec<Span<'static>> {
        let mut spans = Vec::new();
        let mut style = Style::new();
        let mut rest = text;
        while let Some(at) = rest.find("\u{1b}[") {
            if at > 0 {
                spans.push(Span::styled(clean(&rest[..at]), style));
            }
            let after = &rest[at + 2..];
            let Some(end) = after.find('m') else { break };
            for number in after[..end].split(';') {
                style = match number {
                    "1" => style.add_modifier(Modifier::BOLD),
                    "2" => style.patch(self.quiet()),
                    "91" => style.patch(self.colour(Color::LightRed)),
                    "92" => style.patch(self.colour(Color::LightGreen)),
                    "93" => style.patch(self.colour(Color::LightYellow)),
                    "96" => style.patch(self.colour(Color::LightCyan)),
                    _ => Style::new(),
                };
            }
            rest = &after[end + 1..];
        }
        spans.push(Span::styled(clean(rest), style));
        spans
    }
}

/// Text without what would move the cursor: a program's output is nobody's to trust.
pub fn clean(text: &str) -> String {
    let mut out = String::new();
    for c in text.chars() {
        match c {
            '\t' => out.push_str(&" ".repeat(8 - out.chars().count() % 8)),
            c if console::is_control(c) => out.push('·'),
            c => out.push(c),
        }
    }
    out
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn painted_text_becomes_spans_and_control_characters_are_shown_not_obeyed() {
        let theme = Theme { colours: Colours::Sixteen, marks: PLAIN };
        let text = crate::console::paint(crate::console::Tone::Changed, "0x4c");
        let line = theme.styled(&format!("eax = {text} now"));
        let texts: Vec<&str> = line.spans.iter().map(|span| span.content.as_ref()).collect();
        assert_eq!(texts.concat(), "eax = 0x4c now");
        assert_eq!(line.spans[1].style.fg, Some(Color::LightGreen));
        assert_eq!(clean("a\tb\u{1b}[2J\r"), "a       b·[2J·");
    }
}
