//! Plain tables: columns by alignment alone, no frames.

use super::layout;
use comfy_table::{CellAlignment, ContentArrangement, Table, presets};

/// Rows with their columns aligned, indented by two blanks. Columns in `right` are flush right.
pub(crate) fn rows(rows: impl IntoIterator<Item = Vec<String>>, right: &[usize]) -> Vec<String> {
    let mut table = Table::new();
    table.load_style(presets::NOTHING).set_content_arrangement(ContentArrangement::Disabled);
    for row in rows {
        table.add_row(row);
    }
    for (index, column) in table.column_iter_mut().enumerate() {
        column.set_padding((0, 2));
        if right.contains(&index) {
            column.set_cell_alignment(CellAlignment::Right);
        }
    }
    table.lines().map(|line| format!("  {}", line.trim_end())).collect()
}

/// The same for at most `width` columns: where the table is wider, each row becomes a line of its
/// own, with the heads of the first row in front of what they are of.
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
