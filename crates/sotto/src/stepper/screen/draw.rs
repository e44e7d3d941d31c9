//! Drawing: a function of the picture, the arrangement and the area.
//!
//! Panes have a title line and no frame; a line sets the columns apart. On a small screen what matters
//! least goes first: the lower panes, then the stack and the registers, then everything but the code.

use ratatui::Frame;
use ratatui::layout::Rect;
use ratatui::style::Style;
use ratatui::text::{Line, Span};
use ratatui::widgets::{Clear, Paragraph};
use sotto_isa::RegisterValue;

use super::fold::fold;
use super::state::{Pane, State};
use super::theme::{Theme, clean};
use crate::console;
use crate::render;
use crate::stepper::screen::view_model::{
    CodeLine, FlagRow, RegisterRow, VectorRow, ViewModel, ViewRequest,
};

/// Where everything goes in an area.
#[derive(Clone, PartialEq, Eq, Debug, Default)]
pub struct Layout {
    pub header: Option<Rect>,
    pub timeline: Option<Rect>,
    pub panes: Vec<(Pane, Rect)>,
    /// The line between the columns.
    pub column: Option<Rect>,
    pub line: Rect,
    pub keys: Option<Rect>,
    pub registers: Registers,
}

/// How registers and flags stand in their pane.
#[derive(Copy, Clone, PartialEq, Eq, Debug, Default)]
pub enum Registers {
    /// One a line, with what it points to; flags likewise.
    #[default]
    Single,
    /// Two a line, flags one a line.
    Pairs,
    /// Two a line, the flags that are set on one.
    Dense,
}

impl Registers {
    /// Lines that they take, with the title.
    fn rows(self, state: &State) -> u16 {
        let State { registers, flags, .. } = *state;
        1 + match self {
            Registers::Single => registers + flags,
            Registers::Pairs => registers.div_ceil(2) + flags,
            Registers::Dense => registers.div_ceil(2) + 1,
        }
    }

    /// The most generous way that leaves room for a stack.
    fn that_fit(state: &State, width: u16, height: u16) -> Registers {
        const STACK: u16 = 9;
        const WIDE: u16 = 44;
        [Registers::Single, Registers::Pairs]
            .into_iter()
            .find(|way| width >= WIDE && way.rows(state) + STACK <= height)
            .unwrap_or(Registers::Dense)
    }
}

impl Layout {
    /// Cuts up an area.
    pub fn of(area: Rect, state: &State) -> Layout {
        let Rect { width, height, .. } = area;
        let row = |y: u16| Rect { x: 0, y, width, height: 1 };
        let mut layout = Layout::default();
        if width == 0 || height == 0 {
            return layout;
        }
        layout.line = row(height - 1);
        let (mut top, mut bottom) = (0, height - 1);
        if height >= 4 {
            layout.header = Some(row(0));
            top = 1;
        }
        if height >= 12 {
            layout.timeline = Some(row(1));
            layout.keys = Some(row(height - 1));
            layout.line = row(height - 2);
            (top, bottom) = (2, height - 2);
        }
        let body = Rect { x: 0, y: top, width, height: bottom.saturating_sub(top) };
        if width < 60 || body.height < 8 {
            // One pane: the one with the focus.
            layout.panes.push((state.focus, body));
            return layout;
        }
        let usual = (body.height / 4).clamp(4, 10) as i16;
        let lower = (usual + state.higher).clamp(2, body.height as i16 - 5) as u16;
        let upper = body.height - lower;
        let right = match width {
            0..=99 => 40,
            100..=139 => 52,
            _ => width * 2 / 5,
        } as i16;
        let right = (right - state.wider).clamp(16, width as i16 - 20) as u16;
        let left = width - right - 1;
        layout.registers = Registers::that_fit(state, right, upper);
        let registers = layout.registers.rows(state).min(upper.saturating_sub(4)).max(3);
        let panes = [
            (Pane::Source, Rect { x: 0, y: top, width: left, height: upper }),
            (Pane::Registers, Rect { x: left + 1, y: top, width: right, height: registers }),
            (
                Pane::Stack,
                Rect {
                    x: left + 1,
                    y: top + registers,
                    width: right,
                    height: upper.saturating_sub(registers),
                },
            ),
        ];
        layout.panes.extend(panes);
        let y = top + upper;
        layout.column = Some(Rect { x: left, y: top, width: 1, height: body.height });
        layout.panes.push((Pane::Answers, Rect { x: 0, y, width: left, height: lower }));
        // Memory above output where there is room, else the one with the focus.
        let both = lower >= 8;
        let lower_right = Rect { x: left + 1, y, width: right, height: lower };
        if both {
            let half = lower / 2;
            let memory = Rect { height: lower - half, ..lower_right };
            let output = Rect { y: y + lower - half, height: half, ..lower_right };
            layout.panes.extend([(Pane::Memory, memory), (Pane::Output, output)]);
        } else {
            let pane = if state.focus == Pane::Memory { Pane::Memory } else { Pane::Output };
            layout.panes.push((pane, lower_right));
        }
        layout
    }

    fn pane(&self, wanted: Pane) -> Rect {
        let found = self.panes.iter().find(|(pane, _)| *pane == wanted);
        found.map_or(Rect::default(), |(_, area)| *area)
    }

    /// What to gather for panes of these sizes.
    pub fn wanted(&self, state: &State) -> ViewRequest {
        let rows = |pane: Pane| usize::from(self.pane(pane).height.saturating_sub(1));
        let memory = self.pane(Pane::Memory);
        ViewRequest {
            code_lines: rows(Pane::Source).max(1),
            code_first: state.code_first,
            instructions: state.instructions,
            vectors: state.vectors,
            stack_lines: rows(Pane::Stack),
            stack_scroll: -state.scrolled(Pane::Stack),
            memory: state.memory.clone(),
            memory_lines: rows(Pane::Memory),
            memory_scroll: state.scrolled(Pane::Memory),
            memory_bytes: if memory.width >= 80 { 16 } else { 8 },
        }
    }
}

/// Draws everything.
pub fn draw(frame: &mut Frame, picture: &ViewModel, state: &mut State, theme: &Theme, name: &str) {
    let area = frame.area();
    let layout = Layout::of(area, state);
    if area.width == 0 || area.height == 0 {
        return;
    }
    state.places.clone_from(&layout.panes);
    if let Some(area) = layout.header {
        header(frame, area, picture, theme, name);
    }
    if let Some(area) = layout.timeline {
        timeline(frame, area, picture, theme);
    }
    if let Some(area) = layout.column {
        let lines = vec![Line::styled(theme.marks.column, theme.quiet()); usize::from(area.height)];
        frame.render_widget(Paragraph::new(lines), area);
    }
    for &(pane, area) in &layout.panes {
        let (title, lines) = match pane {
            Pane::Source => source(picture, theme, area),
            Pane::Registers => registers(picture, theme, area, state, layout.registers),
            Pane::Stack => stack(picture, theme),
            Pane::Answers => answers(picture, state, theme, area),
            Pane::Memory => memory(picture, state, theme),
            Pane::Output => output(picture, state, theme, area),
        };
        let focused = state.focus == pane;
        draw_pane(frame, area, &title, lines, focused, theme);
    }
    line(frame, layout.line, state, picture, theme);
    if let Some(area) = layout.keys {
        keys(frame, area, theme);
    }
    if state.help {
        help(frame, area, theme);
    }
}

fn draw_pane(
    frame: &mut Frame,
    area: Rect,
    title: &str,
    lines: Vec<Line<'static>>,
    focused: bool,
    theme: &Theme,
) {
    if area.height == 0 || area.width == 0 {
        return;
    }
    let rule = theme.marks.rule;
    let used = title.chars().count() + 4;
    let rest = rule.repeat(usize::from(area.width).saturating_sub(used));
    let mark = if focused { theme.marks.next } else { rule };
    let head = Line::from(vec![
        Span::styled(format!("{rule}{mark} "), theme.title(focused)),
        Span::styled(title.to_string(), theme.title(focused)),
        Span::styled(format!(" {rest}"), theme.quiet()),
    ]);
    frame.render_widget(Paragraph::new(head), Rect { height: 1, ..area });
    let body = Rect { y: area.y + 1, height: area.height - 1, ..area };
    frame.render_widget(Paragraph::new(lines), body);
}

fn header(frame: &mut Frame, area: Rect, picture: &ViewModel, theme: &Theme, name: &str) {
    let state = picture.state.clone().unwrap_or_else(|| picture.place.clone());
    let task = picture.task.map_or_else(String::new, |task| format!("  task {task}"));
    let text = format!(" {name}   {}{task}", clean(&state));
    let width = usize::from(area.width);
    let text: String = text.chars().take(width).collect();
    let padded = format!("{text:<width$}");
    frame.render_widget(Paragraph::new(padded).style(theme.bar()), area);
}

/// Where in the run we are: from the start to the latest moment that was reached.
fn timeline(frame: &mut Frame, area: Rect, picture: &ViewModel, theme: &Theme) {
    let numbers = match picture.moment == picture.furthest {
        true => format!(" #{}", render::thousands(picture.moment)),
        false => {
            let (now, end) = (picture.moment, picture.furthest);
            format!(" #{} of {}", render::thousands(now), render::thousands(end))
        }
    };
    let width = usize::from(area.width).saturating_sub(numbers.chars().count() + 2);
    if width < 4 {
        return frame.render_widget(Paragraph::new(numbers), area);
    }
    let at = |moment: u64| match picture.furthest {
        0 => 0,
        end => (moment.min(end) as u128 * (width as u128 - 1) / end as u128) as usize,
    };
    let here = at(picture.moment);
    let marks = &theme.marks;
    let mut cells: Vec<(&str, Style)> = (0..width)
        .map(|x| match x < here {
            true => (marks.past, theme.about()),
            false => (marks.future, theme.quiet()),
        })
        .collect();
    for moment in &picture.edits {
        cells[at(*moment)] = (marks.edit, theme.warning());
    }
    for (_, moment) in &picture.marks {
        cells[at(*moment)] = (marks.mark, theme.warning());
    }
    cells[here] = (marks.here, theme.changed());
    let mut spans = vec![Span::raw(" ")];
    spans.extend(cells.into_iter().map(|(text, style)| Span::styled(text.to_string(), style)));
    spans.push(Span::styled(numbers, theme.strong()));
    frame.render_widget(Paragraph::new(Line::from(spans)), area);
}

/// Text cut to a width, with a sign if something is cut off.
fn cut(text: &str, width: usize, theme: &Theme) -> String {
    if text.chars().count() <= width {
        return text.to_string();
    }
    let kept: String = text.chars().take(width.saturating_sub(1)).collect();
    kept + theme.marks.more
}

fn source(picture: &ViewModel, theme: &Theme, area: Rect) -> (String, Vec<Line<'static>>) {
    let width = usize::from(area.width);
    let digits = picture.code.iter().map(|line| line.label.len()).max().unwrap_or(1);
    let lines = picture
        .code
        .iter()
        .map(|line| code_line(line, digits, width, picture.comments, theme))
        .collect();
    (picture.file.clone(), lines)
}

fn code_line(
    line: &CodeLine,
    digits: usize,
    width: usize,
    comments: &[&str],
    theme: &Theme,
) -> Line<'static> {
    let marks = &theme.marks;
    let breakpoint = if line.breakpoint { marks.breakpoint } else { " " };
    let next = if line.is_next { marks.next } else { " " };
    let label = match line.is_instruction {
        true => format!("{:>digits$}   ", line.label),
        false => format!("{:>digits$} ", line.label),
    };
    let text = clean(&line.text);
    let room = width.saturating_sub(label.chars().count() + 3);
    // Values stand at the right end; the text gives way only where it is much longer.
    let effects = line.effects.as_ref().map(|text| clean(text)).unwrap_or_default();
    let least = room / 2;
    let shown_text = cut(&text, room, theme);
    let for_effects = room.saturating_sub(shown_text.chars().count() + 2);
    let effects = match for_effects {
        _ if effects.is_empty() => String::new(),
        enough if enough >= effects.chars().count() => effects,
        some if some >= least.min(16) => cut(&effects, some, theme),
        _ => {
            let kept = effects.chars().count().min(least);
            cut(&effects, kept, theme)
        }
    };
    let text_room = match effects.is_empty() {
        true => room,
        false => room.saturating_sub(effects.chars().count() + 2),
    };
    let text = cut(&text, text_room, theme);
    let gap = room.saturating_sub(text.chars().count() + effects.chars().count());
    let base = if line.is_next { theme.next() } else { Style::new() };
    let text_style = if line.is_instruction { base.patch(theme.quiet()) } else { base };
    let effect_style = if line.latest { theme.changed() } else { theme.quiet() };
    // A comment is fainter than what it comments on.
    let comment = match line.is_instruction {
        true => None,
        false => comments.iter().filter_map(|mark| text.find(mark)).min(),
    };
    let (text, comment) = text.split_at(comment.unwrap_or(text.len()));
    Line::from(vec![
        Span::styled(breakpoint.to_string(), base.patch(theme.breakpoint())),
        Span::styled(next.to_string(), base.patch(theme.changed())),
        Span::styled(label, base.patch(theme.quiet())),
        Span::styled(text.to_string(), text_style),
        Span::styled(comment.to_string(), base.patch(theme.quiet())),
        Span::styled(" ".repeat(gap), base),
        Span::styled(effects, base.patch(effect_style)),
        Span::styled(" ", base),
    ])
}

fn mark_of(changed: bool, about: bool, theme: &Theme) -> Span<'static> {
    match (changed, about) {
        (true, true) => {
            Span::styled(format!("{}{}", theme.marks.changed, theme.marks.about), theme.changed())
        }
        (true, false) => Span::styled(format!("{} ", theme.marks.changed), theme.changed()),
        (false, true) => Span::styled(format!(" {}", theme.marks.about), theme.about()),
        (false, false) => Span::raw("  "),
    }
}

fn registers(
    picture: &ViewModel,
    theme: &Theme,
    area: Rect,
    state: &State,
    way: Registers,
) -> (String, Vec<Line<'static>>) {
    let mut lines = Vec::new();
    if !picture.vectors.is_empty() {
        lines.extend(picture.vectors.iter().map(|row| vector_line(row, theme)));
        if way == Registers::Dense {
            lines.push(flags_in_one_line(&picture.flags, theme));
        }
    } else if way != Registers::Single {
        let column = usize::from(area.width) / 2;
        for pair in picture.registers.chunks(2) {
            let mut spans = Vec::new();
            for row in pair {
                spans.extend(narrow_register(row, column, theme));
            }
            lines.push(Line::from(spans));
        }
        if way == Registers::Dense {
            lines.push(flags_in_one_line(&picture.flags, theme));
        }
    } else {
        let mut role = "";
        for row in &picture.registers {
            let title = if row.role == role { "" } else { row.role };
            role = row.role;
            lines.push(wide_register(title, row, theme));
        }
    }
    if way != Registers::Dense {
        lines.extend(picture.flags.iter().map(|flag| flag_line(flag, theme)));
    }
    let skip = state.scrolled(Pane::Registers) as usize;
    let skip = skip.min(lines.len().saturating_sub(1));
    let title = match picture.vectors.is_empty() {
        true => "registers".to_string(),
        false => format!("vectors of {}, the lowest element first", picture.lanes),
    };
    (title, lines.split_off(skip))
}

fn vector_line(row: &VectorRow, theme: &Theme) -> Line<'static> {
    let style = match (row.changed, row.value == RegisterValue::ZERO) {
        (true, _) => theme.changed(),
        (false, true) => theme.quiet(),
        _ => Style::new(),
    };
    Line::from(vec![
        mark_of(row.changed, row.about, theme),
        Span::styled(format!("{:<6}", row.name), theme.strong()),
        Span::styled(row.elements.clone(), style),
    ])
}

fn value_style(row: &RegisterRow, theme: &Theme) -> Style {
    match (row.changed, row.value) {
        (true, _) => theme.changed(),
        (false, 0) => theme.quiet(),
        _ => Style::new(),
    }
}

fn narrow_register(row: &RegisterRow, width: usize, theme: &Theme) -> Vec<Span<'static>> {
    let room = width.saturating_sub(7);
    let with_readings = render::value(row.value, 64);
    let value = match with_readings.len() <= room {
        true => with_readings,
        false => cut(&format!("{:#x}", row.value), room, theme),
    };
    vec![
        mark_of(row.changed, row.about, theme),
        Span::styled(format!("{:<3} ", row.name), theme.strong()),
        Span::styled(format!("{value:<room$} "), value_style(row, theme)),
    ]
}

fn wide_register(title: &str, row: &RegisterRow, theme: &Theme) -> Line<'static> {
    let points_to = row.points_to.as_ref().map(|name| format!("  = {name}"));
    Line::from(vec![
        Span::styled(format!("{title:<10}"), theme.quiet()),
        mark_of(row.changed, row.about, theme),
        Span::styled(format!("{:<4}", row.name), theme.strong()),
        Span::styled(render::value(row.value, 64), value_style(row, theme)),
        Span::styled(points_to.unwrap_or_default(), theme.about()),
    ])
}

fn flags_in_one_line(flags: &[FlagRow], theme: &Theme) -> Line<'static> {
    let mut spans = vec![Span::raw(" ")];
    for flag in flags.iter().filter(|flag| flag.set || flag.changed) {
        let style = if flag.changed { theme.changed() } else { Style::new() };
        let not = if flag.set { "" } else { "no " };
        let mark = if flag.changed { theme.marks.changed } else { " " };
        spans.push(Span::styled(format!("{mark}{not}{}", flag.word), style));
    }
    if spans.len() == 1 {
        spans.push(Span::styled(" no flag set", theme.quiet()));
    }
    Line::from(spans)
}

fn flag_line(flag: &FlagRow, theme: &Theme) -> Line<'static> {
    let value = if flag.set { "yes" } else { "no" };
    let style = match (flag.changed, flag.set) {
        (true, _) => theme.changed(),
        (false, true) => Style::new(),
        (false, false) => theme.quiet(),
    };
    let reason = flag.reason.as_ref().filter(|_| flag.changed);
    Line::from(vec![
        Span::styled(format!("{:<10}", flag.word), theme.quiet()),
        mark_of(flag.changed, flag.about, theme),
        Span::styled(format!("{:<4}", flag.name), theme.strong()),
        Span::styled(format!("{value:<4}"), style),
        Span::styled(reason.cloned().unwrap_or_default(), theme.quiet()),
    ])
}

fn stack(picture: &ViewModel, theme: &Theme) -> (String, Vec<Line<'static>>) {
    let Some(view) = &picture.stack else { return ("stack".to_string(), Vec::new()) };
    let mut lines = Vec::new();
    // The lowest address at the bottom: the stack grows downwards.
    for slot in view.slots.iter().rev() {
        let changed = picture.stack_changed.contains(&slot.address);
        let about = picture.stack_about.contains(&slot.address);
        let is_top = slot.offset == 0;
        let style = match (changed, slot.offset < 0) {
            (true, _) => theme.changed(),
            (false, true) => theme.quiet(),
            (false, false) => Style::new(),
        };
        let name = slot.name.clone().unwrap_or_else(|| format!("{:+}", slot.offset));
        let role = render::slot_role(slot);
        let meaning = render::slot_meaning(slot).map(|text| format!("  {text}"));
        let edge = match slot.frame {
            // The frame of every other routine has another edge.
            Some(frame) if frame % 2 == 0 => theme.marks.column,
            Some(_) => ":",
            None => " ",
        };
        lines.push(Line::from(vec![
            Span::styled(if is_top { theme.marks.next } else { " " }, theme.changed()),
            mark_of(changed, about, theme),
            Span::styled(edge, theme.about()),
            Span::styled(format!(" {name:<11}"), theme.quiet()),
            Span::styled(format!("{:<16} ", short(slot.value)), style),
            Span::styled(role, if slot.offset < 0 { theme.quiet() } else { Style::new() }),
            Span::styled(clean(&meaning.unwrap_or_default()), theme.quiet()),
        ]));
    }
    let frames: Vec<&str> = view.frames.iter().take(3).map(String::as_str).collect();
    let more = if view.frames.len() > 3 { " < ..." } else { "" };
    (format!("stack of {}{more}", frames.join(" < ")), lines)
}

/// A value in few columns.
fn short(value: u64) -> String {
    match value {
        0..=9 => value.to_string(),
        value if value < 1 << 20 => format!("{value:#x} ({value})"),
        value => format!("{value:#x}"),
    }
}

/// A part of lines that are longer than their pane: from the end, or from where they are scrolled to.
fn window(
    lines: Vec<Line<'static>>,
    rows: usize,
    scrolled: i64,
    from_end: bool,
) -> Vec<Line<'static>> {
    let over = lines.len().saturating_sub(rows);
    let scrolled = scrolled.max(0) as usize;
    let skip = match from_end {
        true => over.saturating_sub(scrolled),
        false => scrolled.min(over),
    };
    lines.into_iter().skip(skip).collect()
}

/// The answers to the last command. What a motion did ends at the bottom, and stands below what led there if there is
/// room; what else was asked for begins at the top.
fn answers(
    picture: &ViewModel,
    state: &State,
    theme: &Theme,
    area: Rect,
) -> (String, Vec<Line<'static>>) {
    let columns = usize::from(area.width);
    let rows = usize::from(area.height.saturating_sub(1));
    let mut lines: Vec<Line<'static>> =
        state.answers.iter().flat_map(|line| fold(theme.styled(line), columns)).collect();
    if state.moved && lines.len() < rows {
        let room = rows - lines.len();
        let known = &picture.earlier[picture.earlier.len().saturating_sub(room)..];
        let earlier = known.iter().map(|line| {
            Line::styled(cut(&clean(&console::plain(line)), columns, theme), theme.quiet())
        });
        lines = earlier.chain(lines).collect();
    }
    let scrolled = state.scrolled(Pane::Answers);
    ("what happened".to_string(), window(lines, rows, scrolled, state.moved))
}

fn memory(picture: &ViewModel, state: &State, theme: &Theme) -> (String, Vec<Line<'static>>) {
    let mut lines: Vec<Line<'static>> = Vec::new();
    for row in &picture.memory {
        let line = &row.line;
        let style = if row.changed { theme.changed() } else { Style::new() };
        lines.push(Line::from(vec![
            mark_of(row.changed, false, theme),
            Span::styled(format!("{:<13} ", short_name(line)), theme.quiet()),
            Span::styled(clean(&render::memory_values(line)), style),
            Span::styled(format!("  {}", line.text.clone().unwrap_or_default()), theme.quiet()),
        ]));
    }
    if let Some(error) = &picture.memory_error {
        lines.push(Line::styled(error.clone(), theme.warning()));
    }
    (format!("memory at {}", state.memory), lines)
}

fn short_name(line: &sotto_session::MemoryLine) -> String {
    match line.name.is_empty() {
        true => format!("{:#x}", line.address),
        false => line.name.clone(),
    }
}

fn output(
    picture: &ViewModel,
    state: &State,
    theme: &Theme,
    area: Rect,
) -> (String, Vec<Line<'static>>) {
    let rows = usize::from(area.height.saturating_sub(1));
    let mut lines: Vec<Line<'static>> = Vec::new();
    for (text, value, changed) in &picture.shown {
        let style = if *changed { theme.changed() } else { Style::new() };
        lines.push(Line::from(vec![
            mark_of(*changed, false, theme),
            Span::styled(format!("{text} = "), theme.strong()),
            Span::styled(value.clone(), style),
        ]));
    }
    let shown = lines.len().min(rows.saturating_sub(1));
    lines.truncate(shown);
    let output: Vec<Line<'static>> = match picture.output.is_empty() {
        true => vec![Line::styled("nothing written yet", theme.quiet())],
        false => picture.output.iter().map(|line| Line::raw(clean(line))).collect(),
    };
    let scrolled = state.scrolled(Pane::Output);
    lines.extend(window(output, rows - shown, scrolled, true));
    let title = if picture.shown.is_empty() { "output" } else { "shown, and output" };
    (title.to_string(), lines)
}

/// The command line, or what could be typed there.
fn line(frame: &mut Frame, area: Rect, state: &State, picture: &ViewModel, theme: &Theme) {
    if area.height == 0 {
        return;
    }
    let prompt = "> ";
    if state.line.is_empty() {
        let hint = match &picture.state {
            Some(ended) => format!("{ended}; Left goes back, Home to the start"),
            None => "type a command, or Right to step".to_string(),
        };
        let text = Line::from(vec![
            Span::styled(prompt, theme.strong()),
            Span::styled(hint, theme.quiet()),
        ]);
        frame.render_widget(Paragraph::new(text), area);
        frame.set_cursor_position((area.x + prompt.len() as u16, area.y));
        return;
    }
    let offered: String =
        state.offered.iter().map(|word| format!("  {}", word.trim_end())).collect();
    let width = usize::from(area.width).saturating_sub(prompt.len() + 1);
    // A long line shows the part around the cursor.
    let before = state.line[..state.cursor].chars().count();
    let skip = before.saturating_sub(width);
    let shown: String = state.line.chars().skip(skip).take(width).collect();
    let usage = usage_of(&state.line).filter(|_| offered.is_empty());
    let text = Line::from(vec![
        Span::styled(prompt, theme.strong()),
        Span::raw(clean(&shown)),
        Span::styled(offered, theme.about()),
        Span::styled(usage.map(|usage| format!("   {usage}")).unwrap_or_default(), theme.quiet()),
    ]);
    frame.render_widget(Paragraph::new(text), area);
    frame.set_cursor_position((area.x + (prompt.len() + before - skip) as u16, area.y));
}

/// How the command that is being typed goes on.
fn usage_of(line: &str) -> Option<String> {
    let word = line.split_whitespace().next()?;
    let (arguments, text) = crate::stepper::line::grammar::usage(word)?;
    Some(if arguments.is_empty() { text.to_string() } else { format!("{arguments}: {text}") })
}

/// What the keys do that are used most.
const KEYS: &[(&str, &str)] = &[
    ("Right", "step"),
    ("Left", "back"),
    ("Down", "line"),
    ("Up", "line back"),
    ("S-Right", "over"),
    ("End", "run"),
    ("Home", "start"),
    ("Tab", "pane"),
    ("F2", "instructions"),
    ("F3", "vectors"),
    ("F5", "reload"),
    ("F1", "help"),
    ("C-q", "leave"),
];

fn keys(frame: &mut Frame, area: Rect, theme: &Theme) {
    let mut spans = Vec::new();
    let mut used = 0;
    for (key, word) in KEYS {
        let text = format!(" {key} {word} ");
        if used + text.len() > usize::from(area.width) {
            continue;
        }
        used += text.len();
        spans.push(Span::styled(format!(" {key}"), theme.strong()));
        spans.push(Span::raw(format!(" {word} ")));
    }
    frame.render_widget(Paragraph::new(Line::from(spans)).style(theme.bar()), area);
}

/// Keys that are not in the line of keys.
const MORE_KEYS: &[(&str, &str)] = &[
    ("Right, Space", "step an instruction"),
    ("Left", "go back by one"),
    ("Down", "step a source line, with what it calls"),
    ("Up", "go back by a line"),
    ("Shift-Right", "step over a call"),
    ("Shift-Left", "go back to this routine's call"),
    ("End", "run to a breakpoint or the end; Esc stops it"),
    ("Home", "go back to the start"),
    ("Enter", "carry out what is typed, or repeat the last"),
    ("Tab", "complete what is typed; else the next pane"),
    ("PgUp, PgDn", "scroll the pane; Esc follows the program"),
    ("Shift-Up, -Down", "scroll by a line"),
    ("Ctrl-arrows", "left part wider, lower part higher"),
    ("F2", "instructions below source lines"),
    ("F3", "vector registers, or the general ones"),
    ("F5", "assemble again and return to this line"),
    ("Ctrl-L, Ctrl-Z", "draw anew; suspend"),
    ("F10, Ctrl-Q", "leave"),
];

fn help(frame: &mut Frame, area: Rect, theme: &Theme) {
    /// Columns of the keys, where the commands stand beside them.
    const KEY_COLUMNS: u16 = 62;
    const BOTH: u16 = 150;
    let marks = &theme.marks;
    let legend = format!(
        "{} next   {} just changed   {} about to change   {} breakpoint   {} mark   {} changed by hand",
        marks.next, marks.changed, marks.about, marks.breakpoint, marks.mark, marks.edit
    );
    let mut keys = vec![Line::styled("Keys, while nothing is typed", theme.title(true))];
    for (key, text) in MORE_KEYS {
        keys.push(Line::from(vec![
            Span::styled(format!("  {key:<16}"), theme.strong()),
            Span::raw((*text).to_string()),
        ]));
    }
    let mut commands = vec![Line::styled("Commands", theme.title(true))];
    let help = crate::stepper::line::grammar::help();
    commands.extend(help.lines().map(|line| Line::raw(line.to_string())));
    frame.render_widget(Clear, area);
    let rows = area.height.saturating_sub(2);
    let body = Rect { y: 1.min(area.height), height: rows, ..area };
    let first = Rect { height: area.height.min(1), ..area };
    frame.render_widget(Paragraph::new(legend).style(theme.quiet()), first);
    if area.width >= BOTH {
        let right = Rect { x: KEY_COLUMNS, width: area.width - KEY_COLUMNS, ..body };
        frame.render_widget(Paragraph::new(keys), Rect { width: KEY_COLUMNS, ..body });
        frame.render_widget(Paragraph::new(commands), right);
    } else {
        keys.extend(commands);
        frame.render_widget(Paragraph::new(keys), body);
    }
    if area.height > 2 {
        let last = Rect { y: area.height - 1, height: 1, ..area };
        let text = Line::styled("any key closes this; `help` lists the commands", theme.quiet());
        frame.render_widget(Paragraph::new(text), last);
    }
}
