//! Where the leads are, as places tell it.

use super::network::Edge;

/// The ends of what is fed, what is joined with its second end, what is shorted, and what is measured; all by the
/// numbers of their nodes.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub(super) struct Leads {
    pub(super) fed: Option<(usize, usize)>,
    joined: Vec<(usize, usize)>,
    shorted: Vec<(usize, usize)>,
    pub(super) measured: Option<(usize, usize)>,
    /// The first winding of two in one circuit.
    pub(super) first: Option<(usize, usize)>,
}

/// The two ends of something, and what is joined with the second.
type Ends = ((usize, usize), Vec<(usize, usize)>);

impl Leads {
    /// A place such as `1U-1N / 2U-2V`, `1U-1V+1W`, `1U-1V / 2U+2V+2W shorted`, `1U-1N + 2W-2U`.
    pub(super) fn parse(place: &str, node: &dyn Fn(&str) -> Option<usize>) -> Option<Self> {
        let mut leads = Self::default();
        let mut parts = place.split(" / ");
        let fed = parts.next()?;
        match fed.split_once(" + ") {
            // Two windings, one after the other.
            Some((first, second)) => {
                let ((a, b), _) = ends(first, node)?;
                let ((c, d), _) = ends(second, node)?;
                (leads.first, leads.measured) = (Some((a, b)), Some((c, d)));
                (leads.fed, leads.joined) = (Some((a, d)), vec![(b, c)]);
            }
            None => {
                let (fed, joined) = ends(fed, node)?;
                (leads.fed, leads.joined) = (Some(fed), joined);
            }
        }
        for part in parts {
            match part.strip_suffix(" shorted") {
                Some(names) => {
                    let nodes: Option<Vec<usize>> = names.split('+').map(node).collect();
                    let nodes = nodes?;
                    let (first, rest) = nodes.split_first()?;
                    leads.shorted = rest.iter().map(|other| (*first, *other)).collect();
                }
                None => leads.measured = Some(ends(part, node)?.0),
            }
        }
        Some(leads)
    }

    /// What is joined and shorted, as ways without resistance.
    pub(super) fn joins(&self) -> impl Iterator<Item = Edge> + '_ {
        let all = self.joined.iter().chain(&self.shorted);
        all.map(|(from, to)| Edge { from: *from, to: *to })
    }
}

/// The two ends of something such as `1U-1N` or `1U-1V+1W`.
fn ends(text: &str, node: &dyn Fn(&str) -> Option<usize>) -> Option<Ends> {
    let (from, to) = text.trim().split_once('-')?;
    let mut others = to.split('+').map(node);
    let (from, to) = (node(from)?, others.next()??);
    let joined = others.map(|other| Some((to, other?))).collect::<Option<Vec<_>>>()?;
    Some(((from, to), joined))
}
