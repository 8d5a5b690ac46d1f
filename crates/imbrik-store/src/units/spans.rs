//! Sets of bytes: spans in order that neither touch nor overlap.

use super::Span;

/// Puts spans in order and joins those that touch or overlap.
#[must_use]
pub fn joined(mut spans: Vec<Span>) -> Vec<Span> {
    spans.retain(|span| !span.is_empty());
    spans.sort_unstable();
    let mut out: Vec<Span> = Vec::new();
    for span in spans {
        match out.last_mut() {
            Some(last) if span.start() <= last.end() => {
                *last = Span::between(last.start(), last.end().max(span.end()));
            }
            _ => out.push(span),
        }
    }
    out
}

/// The ranges of `spans` outside of `holes`; both are in order and joined.
#[must_use]
pub fn without(spans: &[Span], holes: &[Span]) -> Vec<Span> {
    let mut rest = Vec::new();
    for span in spans {
        let mut at = span.start();
        let first = holes.partition_point(|hole| hole.end() <= span.start());
        let inside = holes.get(first..).unwrap_or_default().iter();
        for hole in inside.take_while(|hole| hole.start() < span.end()) {
            rest.push(Span::between(at, hole.start()));
            at = hole.end();
        }
        rest.push(Span::between(at, span.end()));
    }
    rest.retain(|span| !span.is_empty());
    rest
}

/// The ranges in both `spans` and `others`; both are in order and joined.
#[must_use]
pub fn common(spans: &[Span], others: &[Span]) -> Vec<Span> {
    let mut both = Vec::new();
    for span in spans {
        let first = others.partition_point(|other| other.end() <= span.start());
        let near = others.get(first..).unwrap_or_default().iter();
        both.extend(near.map_while(|other| other.intersect(*span)));
    }
    both
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::units::{ByteLen, ByteOffset};
    use proptest::prelude::*;

    fn span(start: u64, len: u64) -> Span {
        Span::new(ByteOffset::new(start), ByteLen::new(len)).unwrap()
    }

    #[test]
    fn spans_that_touch_or_overlap_are_joined() {
        let joined = joined(vec![span(30, 5), span(0, 10), span(10, 5), span(31, 20), span(9, 0)]);
        assert_eq!(joined, vec![span(0, 15), span(30, 21)]);
    }

    fn set() -> impl Strategy<Value = Vec<Span>> {
        proptest::collection::vec((0u64..60, 0u64..9), 0..8)
            .prop_map(|spans| joined(spans.into_iter().map(|(at, len)| span(at, len)).collect()))
    }

    proptest! {
        /// Each byte is tested by itself: fails if a span is split at the wrong place.
        #[test]
        fn span_set_operations_match_a_byte_map(a in set(), b in set()) {
            let has = |set: &[Span], at: u64| set.iter().any(|one| one.intersect(span(at, 1)).is_some());
            let (both, rest) = (common(&a, &b), without(&a, &b));
            for at in 0..80 {
                prop_assert_eq!(has(&both, at), has(&a, at) && has(&b, at));
                prop_assert_eq!(has(&rest, at), has(&a, at) && !has(&b, at));
            }
            prop_assert_eq!(&joined(both.clone()), &both);
            prop_assert_eq!(&joined(rest.clone()), &rest);
        }
    }
}
