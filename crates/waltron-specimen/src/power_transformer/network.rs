//! Which currents can flow: coils, leads and joins between terminals make a network, and every closed way
//! through it is a loop with a current of its own.

/// Something between two nodes that a current can flow through.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) struct Edge {
    pub(super) from: usize,
    pub(super) to: usize,
}

/// A closed way: the edges that it takes, each along its direction (1) or against it (-1).
#[derive(Clone, Debug, PartialEq)]
pub(super) struct Loop {
    pub(super) edges: Vec<(usize, f64)>,
}

impl Loop {
    /// How an edge is taken: 1, -1, or not at all.
    pub(super) fn sign(&self, edge: usize) -> f64 {
        self.edges.iter().find(|(e, _)| *e == edge).map_or(0.0, |(_, sign)| *sign)
    }
}

/// Independent loops of a network: one for each edge that closes a way, which runs along it. Later edges
/// close ways through earlier ones, so that the last one is in a loop of its own only.
pub(super) fn loops(edges: &[Edge]) -> Vec<Loop> {
    let mut tree: Vec<usize> = Vec::new();
    let mut all = Vec::new();
    for (k, edge) in edges.iter().enumerate() {
        match way(edges, &tree, edge.to, edge.from) {
            Some(back) => {
                let edges = std::iter::once((k, 1.0)).chain(back).collect();
                all.push(Loop { edges });
            }
            None => tree.push(k),
        }
    }
    all
}

/// The way from one node to another through some of the edges.
pub(super) fn way(
    edges: &[Edge],
    through: &[usize],
    from: usize,
    to: usize,
) -> Option<Vec<(usize, f64)>> {
    // Each node with the one before in this list, the edge from there, and its direction.
    type Step = (usize, usize, f64);
    let mut reached: Vec<(usize, Option<Step>)> = vec![(from, None)];
    let mut next = 0;
    while let Some(&(node, _)) = reached.get(next) {
        if node == to {
            break;
        }
        for &e in through {
            let (other, sign) = match edges[e] {
                edge if edge.from == node => (edge.to, 1.0),
                edge if edge.to == node => (edge.from, -1.0),
                _ => continue,
            };
            if !reached.iter().any(|(known, _)| *known == other) {
                reached.push((other, Some((next, e, sign))));
            }
        }
        next += 1;
    }
    let mut at = reached.iter().position(|(node, _)| *node == to)?;
    let mut back = Vec::new();
    while let Some((before, e, sign)) = reached[at].1 {
        back.push((e, sign));
        at = before;
    }
    back.reverse();
    Some(back)
}

#[cfg(test)]
mod tests {
    use super::*;

    /// A delta with a lead across one of its coils: two loops, the lead in one of them only, and whatever
    /// flows around, as much comes to each node as leaves it.
    #[test]
    fn every_loop_is_closed() {
        let edge = |from, to| Edge { from, to };
        let edges = [edge(0, 1), edge(1, 2), edge(2, 0), edge(0, 1), edge(3, 3)];
        let found = loops(&edges);
        assert_eq!(found.len(), 3);
        assert_eq!(found.iter().filter(|l| l.sign(3) != 0.0).count(), 1);
        assert_eq!(found[2].edges, [(4, 1.0)], "what is shorted in itself");
        for l in &found {
            let mut left = [0.0; 4];
            for (e, sign) in &l.edges {
                left[edges[*e].from] -= sign;
                left[edges[*e].to] += sign;
            }
            assert_eq!(left, [0.0; 4]);
        }
        assert_eq!(way(&edges, &[0, 1], 2, 0), Some(vec![(1, -1.0), (0, -1.0)]));
        assert_eq!(way(&edges, &[0, 1], 2, 3), None);
    }
}
