//! Patterns that choose points of a plan by their ids.

use crate::grading::PointId;

/// Patterns of point ids, of which one must fit: `*` stands for any text; a test's id stands for all
/// its points.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Selection {
    patterns: Vec<String>,
}

impl Selection {
    /// A pattern as it is written, such as `51P-times/A-N/*` or `51P-times`.
    pub fn new(pattern: &str) -> Self {
        Self { patterns: vec![pattern.to_owned()] }
    }

    /// Several patterns.
    pub fn any_of(patterns: &[String]) -> Self {
        Self { patterns: patterns.to_vec() }
    }

    /// Whether a point is chosen.
    pub fn matches(&self, point: &PointId) -> bool {
        self.patterns.iter().any(|pattern| {
            is_like(&point.id, pattern)
                || is_like(&point.id, &format!("{pattern}/*"))
                || is_like(point.test.as_str(), pattern)
        })
    }
}

/// Whether a text fits a pattern in which `*` stands for any text, also none.
pub fn is_like(text: &str, pattern: &str) -> bool {
    let mut parts = pattern.split('*');
    let first = parts.next().unwrap_or_default();
    let Some(mut rest) = text.strip_prefix(first) else { return false };
    let Some(last) = parts.next_back() else { return rest.is_empty() };
    for part in parts {
        match rest.find(part) {
            Some(at) => rest = &rest[at + part.len()..],
            None => return false,
        }
    }
    rest.len() >= last.len() && rest.ends_with(last)
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn point(id: &str) -> PointId {
        let test = id.split('/').next().unwrap().into();
        PointId { id: id.into(), test, element: None, fault_loop: None }
    }

    #[test]
    fn patterns_choose_points_tests_and_parts() {
        let p = point("51P-times/A-N/2x#1");
        for yes in ["51P-times", "51P-times/A-N", "*/A-N/*", "51P*", "*", "51P-times/A-N/2x#1"] {
            assert!(Selection::new(yes).matches(&p), "{yes}");
        }
        for no in ["51P", "51P-time", "*/B-N/*", "", "A-N", "51P-times/A-N/2x#1#"] {
            assert!(!Selection::new(no).matches(&p), "{no}");
        }
    }

    proptest! {
        /// Cutting any piece out of a text and putting a star in its place still fits the text.
        #[test]
        fn a_star_stands_for_any_piece(text in "[a-c/]{0,12}", a in 0usize..13, b in 0usize..13) {
            let (a, b) = (a.min(b).min(text.len()), a.max(b).min(text.len()));
            let pattern = format!("{}*{}", &text[..a], &text[b..]);
            prop_assert!(is_like(&text, &pattern));
            let longer = format!("{text}x");
            prop_assert!(!is_like(&longer, &text));
        }
    }
}
