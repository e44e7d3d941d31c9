//! Lines that are longer than their pane, as several.

use ratatui::style::Style;
use ratatui::text::{Line, Span, StyledGrapheme};

/// Columns by which what goes on stands further in than the line's own start: further than the facts below a step,
/// so that it is not taken for one.
const HANG: usize = 6;

/// A line as rows of at most so many columns, broken at spaces where there are some; what goes on is set in, so
/// that each line can still be told by where it starts.
pub(super) fn fold(line: Line<'static>, columns: usize) -> Vec<Line<'static>> {
    if line.width() <= columns || columns == 0 {
        return vec![line];
    }
    let cells: Vec<StyledGrapheme> = line.styled_graphemes(Style::new()).collect();
    let start = cells.iter().take_while(|cell| cell.symbol == " ").count();
    let hang = if start + HANG < columns / 2 { start + HANG } else { 0 };
    let mut rows = Vec::new();
    let mut rest = &cells[..];
    while !rest.is_empty() {
        let indent = if rows.is_empty() { 0 } else { hang };
        let (row, behind) = split(rest, columns - indent, if rows.is_empty() { start } else { 0 });
        rows.push(row_of(indent, row));
        let spaces = behind.iter().take_while(|cell| cell.symbol == " ").count();
        rest = &behind[spaces..];
    }
    rows
}

/// What fits, and what does not, with at least one cell in the first part; spaces before `start` are no place to
/// break at.
fn split<'a, 'b>(
    cells: &'a [StyledGrapheme<'b>],
    columns: usize,
    start: usize,
) -> (&'a [StyledGrapheme<'b>], &'a [StyledGrapheme<'b>]) {
    let mut used = 0;
    let fits = cells.iter().take_while(|cell| {
        used += Span::raw(cell.symbol).width();
        used <= columns
    });
    let fits = fits.count().max(1);
    if fits == cells.len() {
        return (cells, &[]);
    }
    let space = (start + 1..=fits).rev().find(|at| cells[*at].symbol == " ");
    cells.split_at(space.unwrap_or(fits))
}

/// The cells as a line, those of one style as one span.
fn row_of(indent: usize, cells: &[StyledGrapheme]) -> Line<'static> {
    let mut spans = Vec::new();
    if indent > 0 {
        spans.push(Span::raw(" ".repeat(indent)));
    }
    for same in cells.chunk_by(|a, b| a.style == b.style) {
        let text: String = same.iter().map(|cell| cell.symbol).collect();
        spans.push(Span::styled(text, same[0].style));
    }
    Line::from(spans)
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;
    use ratatui::style::Stylize;

    fn folded(text: &str, columns: usize) -> Vec<String> {
        fold(Line::raw(text.to_string()), columns).iter().map(Line::to_string).collect()
    }

    #[test]
    fn what_goes_on_is_set_in_and_breaks_at_spaces() {
        assert_eq!(folded("  the lamp is lit", 20), ["  the lamp is lit"]);
        assert_eq!(
            folded("  the lamp of the light station is lit", 18),
            ["  the lamp of the", "        light", "        station is", "        lit"]
        );
        // A word that is too long is cut, and a start that is too far in is given up.
        assert_eq!(folded("foghorn_of_skerry", 14), ["foghorn_of_ske", "      rry"]);
        assert_eq!(folded("        far in", 10), ["        fa", "r in"]);
        // Wide characters take two columns.
        assert_eq!(folded("潮潮潮", 4), ["潮潮", "潮"]);
    }

    #[test]
    fn styles_stay_with_their_words() {
        let line = Line::from(vec!["edi ".bold(), "0x1cc -> ".into(), "0xe6".green()]);
        let rows = fold(line, 10);
        assert_eq!(rows[0].spans[0], "edi ".bold());
        assert_eq!(rows[1].spans.last(), Some(&"0xe6".green()));
    }

    proptest! {
        #[test]
        fn nothing_is_lost_and_nothing_is_wider(text in "[ a-z潮]{0,60}", columns in 2usize..40) {
            let rows = folded(&text, columns);
            prop_assert!(rows.iter().all(|row| Span::raw(row).width() <= columns));
            let without = |text: &str| text.replace(' ', "");
            prop_assert_eq!(without(&rows.concat()), without(&text));
        }
    }
}
