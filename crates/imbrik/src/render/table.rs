//! Plain tables: columns by alignment alone, no frames.

use super::layout;

/// Columns between two cells.
const GAP: usize = 2;

/// Rows with their columns aligned, indented by two blanks. Columns in `right` are flush right.
pub(crate) fn rows(rows: impl IntoIterator<Item = Vec<String>>, right: &[usize]) -> Vec<String> {
    let rows: Vec<Vec<String>> = rows.into_iter().collect();
    let count = rows.iter().map(Vec::len).max().unwrap_or(0);
    let width = |column: usize| {
        let cells = rows.iter().filter_map(|row| row.get(column));
        cells.map(|cell| layout::columns(cell)).max().unwrap_or(0)
    };
    let widths: Vec<usize> = (0..count).map(width).collect();
    let line = |row: &Vec<String>| {
        let mut line = " ".repeat(GAP);
        for (column, (cell, width)) in row.iter().zip(&widths).enumerate() {
            let padding = " ".repeat(width.saturating_sub(layout::columns(cell)));
            let (before, after) = match right.contains(&column) {
                true => (padding.as_str(), ""),
                false => ("", padding.as_str()),
            };
            line.extend([before, cell, after, "  "]);
        }
        line.trim_end().to_owned()
    };
    rows.iter().map(line).collect()
}

/// The same for at most `width` columns: if the table is wider, each cell becomes a separate line, with its heading.
pub(crate) fn fitted(lines: Vec<Vec<String>>, right: &[usize], width: usize) -> Vec<String> {
    let table = rows(lines.clone(), right);
    if table.iter().all(|line| layout::columns(line) <= width) {
        return table;
    }
    let mut lines = lines.into_iter();
    let head = lines.next().unwrap_or_default();
    let told = |row: Vec<String>| {
        let cells = head.iter().zip(row).enumerate().filter(|(_, (_, cell))| !cell.is_empty());
        let cells = cells.map(|(index, (head, cell))| match index {
            0 => cell,
            _ => format!("{} {cell}", head.to_lowercase()),
        });
        format!("  {}", cells.collect::<Vec<_>>().join(", ").replacen(", ", "  ", 1))
    };
    std::iter::once(String::new()).chain(lines.map(told)).collect()
}
