//! Tables, sizes and spans of time for people.

use std::fmt;
use std::time::Duration;

use bytesize::ByteSize;
use comfy_table::{CellAlignment, Table as Grid, presets};

/// A table under construction: one line for a row, figures to the right.
pub(crate) struct Table {
    grid: Grid,
    figures: Vec<usize>,
    /// What is said when there is no row.
    empty: &'static str,
}

impl Table {
    /// Columns whose names begin with `#` hold figures.
    pub(crate) fn new(head: &[&str], empty: &'static str) -> Self {
        let mut grid = Grid::new();
        grid.load_preset(presets::NOTHING).set_header(head.iter().map(|h| h.trim_start_matches('#')));
        let figures = head.iter().enumerate().filter(|(_, h)| h.starts_with('#')).map(|(n, _)| n).collect();
        Self { grid, figures, empty }
    }

    pub(crate) fn row(&mut self, cells: impl IntoIterator<Item = String>) {
        // one line each, whatever is in them
        self.grid.add_row(cells.into_iter().map(|c| c.replace(['\n', '\r', '\t'], " ")));
    }
}

impl fmt::Display for Table {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        if self.grid.is_empty() {
            return writeln!(f, "{}", self.empty);
        }
        let mut grid = self.grid.clone();
        for figure in &self.figures {
            if let Some(column) = grid.column_mut(*figure) {
                column.set_cell_alignment(CellAlignment::Right);
            }
        }
        for line in grid.lines() {
            writeln!(f, "{}", line.trim_end())?;
        }
        Ok(())
    }
}

/// Bytes for people.
pub(crate) fn bytes(count: i64) -> String {
    ByteSize::b(count.unsigned_abs()).display().iec().to_string()
}

/// A span of time for people, from milliseconds: its largest unit and the next.
pub(crate) fn span(ms: i64) -> String {
    let whole = match ms.unsigned_abs() {
        ms if ms < 10_000 => ms,
        ms if ms < 3_600_000 => ms / 1_000 * 1_000,
        ms => ms / 60_000 * 60_000,
    };
    humantime::format_duration(Duration::from_millis(whole)).to_string()
}

/// Reads a span of time like `90s`, `15m`, `12h` or `7d` as milliseconds.
pub(crate) fn parse_span(text: &str) -> Result<i64, String> {
    let wrong = |e: String| format!("{e}; write a span of time like 90s, 15m, 12h or 7d");
    let span = humantime::parse_duration(text).map_err(|e| wrong(e.to_string()))?;
    i64::try_from(span.as_millis()).map_err(|e| wrong(e.to_string()))
}

/// Reads a size like `500MiB` or `2GB` as bytes.
pub(crate) fn parse_bytes(text: &str) -> Result<i64, String> {
    let wrong = |e: String| format!("{e}; write a size like 500MiB or 2GB");
    let size: ByteSize = text.parse().map_err(wrong)?;
    i64::try_from(size.as_u64()).map_err(|e| wrong(e.to_string()))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn tables_line_up_and_keep_one_line_for_a_row() {
        let mut table = Table::new(&["topic", "#records"], "no topic");
        assert_eq!(table.to_string(), "no topic\n");
        table.row(["bins\nweighed".into(), "7".into()]);
        table.row(["apples".into(), "1200".into()]);
        assert_eq!(table.to_string(), " topic         records\n bins weighed        7\n apples           1200\n");
    }

    #[test]
    fn spans_and_sizes_are_read_and_refused() {
        assert_eq!(parse_span("90s"), Ok(90_000));
        assert_eq!(parse_span("7d"), Ok(604_800_000));
        assert_eq!(parse_bytes("2GiB"), Ok(2 << 30));
        assert_eq!(parse_bytes("12"), Ok(12));
        for bad in ["", "d", "7 moons", "99999999999999999d"] {
            assert!(parse_span(bad).unwrap_err().contains("like 90s"), "{bad}");
        }
        assert!(parse_bytes("2 stone").unwrap_err().contains("like 500MiB"));
        assert_eq!((span(90_500), bytes(1536)), ("1m 30s".into(), "1.5 KiB".into()));
    }
}
