//! Plain tables: columns by alignment alone, no frames.

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
