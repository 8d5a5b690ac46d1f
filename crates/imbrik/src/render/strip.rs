//! A card as one strip: how densely it is used, from its first byte to its last.
//!
//! ```text
//! █▇▅▃▁▁▁▁▁▁▁▁▁▁▂▁▁▁▁▁▁
//! ┳┳━━━━━━━━━━━━━━━━━━━     ━ partitions, notches where there is none
//! ┃┗ 2  hive-07
//! ┗ 1  HIVE-BOOT
//! ```

use super::layout;
use imbrik_core::{
    layout::{Occupancy, Survey},
    units::{ByteLen, ByteOffset, Span},
};

const HEIGHTS: [char; 8] = ['▁', '▂', '▃', '▄', '▅', '▆', '▇', '█'];

/// A bar with the height `part`, from 0 to 1.
pub(crate) fn bar(part: f64) -> char {
    let height = (part * 8.0).ceil().clamp(0.0, 8.0) as usize;
    height.checked_sub(1).map_or(' ', |height| HEIGHTS[height.min(7)])
}

/// The used share of each of `columns` equal parts of a card, from 0 to 1.
pub(crate) fn density(used_in: impl Fn(Span) -> ByteLen, card: ByteLen, columns: u64) -> Vec<f64> {
    let place = |column: u64| {
        let at = u128::from(card.get()) * u128::from(column) / u128::from(columns.max(1));
        ByteOffset::new(at as u64)
    };
    let pieces = (0..columns).map(|column| Span::between(place(column), place(column + 1)));
    pieces.map(|piece| used_in(piece).get() as f64 / piece.len().get().max(1) as f64).collect()
}

/// The column in which each partition starts, in the card's order: every one has its own.
pub(crate) fn starts(survey: &Survey, columns: u64) -> Vec<(usize, u64)> {
    let mut parts: Vec<_> = survey.parts.iter().enumerate().collect();
    parts.sort_by_key(|(_, part)| part.span);
    let size = u128::from(survey.size.get().max(1));
    let mut next = 0;
    let mut starts = Vec::new();
    for (index, part) in parts {
        let at = u128::from(part.span.start().get()) * u128::from(columns) / size;
        let column = (at as u64).max(next).min(columns.saturating_sub(1));
        next = column + 1;
        starts.push((index, column));
    }
    starts
}

/// The two lines of a strip of `columns`: used space, and the start of partitions.
pub(crate) fn short(
    survey: &Survey,
    columns: u64,
    used_in: impl Fn(Span) -> ByteLen,
) -> Vec<String> {
    let used = density(used_in, survey.size, columns);
    let starts = starts(survey, columns);
    let in_a_gap = |column: u64| {
        let at = u128::from(survey.size.get()) * (2 * u128::from(column) + 1);
        let middle = ByteOffset::new((at / (2 * u128::from(columns.max(1)))) as u64);
        let one = Span::between(middle, ByteOffset::new(middle.get() + 1));
        survey.gaps.iter().any(|gap| gap.intersect(one).is_some())
    };
    let mut top = String::new();
    let mut rail = String::new();
    for (column, used) in (0..columns).zip(&used) {
        let starts_here = starts.iter().any(|(_, start)| *start == column);
        let is_gap = in_a_gap(column) && !starts_here;
        top.push(if is_gap { ' ' } else { bar(*used) });
        rail.push(match (starts_here, is_gap) {
            (true, _) => '┳',
            (false, true) => ' ',
            (false, false) => '━',
        });
    }
    vec![top, rail.trim_end().to_owned()]
}

/// The lines of a strip `columns` wide, with `label` for each partition by its index.
pub(crate) fn lines(
    survey: &Survey,
    occupancy: &Occupancy,
    columns: u64,
    label: impl Fn(usize) -> String,
) -> Vec<String> {
    let starts = starts(survey, columns);
    let mut lines = short(survey, columns, |span| occupancy.used_in(span));
    for (place, (index, start)) in starts.iter().enumerate().rev() {
        let label = label(*index);
        let taken = layout::columns(&label) as u64;
        // If the label would exceed the line, it precedes its mark.
        let is_behind = start + 2 + taken <= columns;
        let until = if is_behind { *start } else { start.saturating_sub(taken + 1) };
        let mut line = String::new();
        for column in 0..until {
            let passes = starts[..place].iter().any(|(_, other)| *other == column);
            line.push(if passes { '┃' } else { ' ' });
        }
        lines.push(match is_behind || until == 0 {
            true => format!("{line}┗ {label}"),
            false => format!("{line}{label} ┛"),
        });
    }
    lines
}
