//! Which positions of the tap changers a test takes, as its keys say.

use crate::power::asset::{PowerTransformer, Stand};
use waltron_core::injection::program;
use waltron_core::text::document::{Field, Problem, Problems, Text};

/// Positions as a plan chooses them.
#[derive(Clone, Debug, Default, PartialEq)]
pub(super) enum Positions {
    /// All of the tap changer that matters.
    #[default]
    All,
    /// All of every tap changer with all of the others.
    Matrix,
    /// These of one tap changer, by its place in the file.
    Of(usize, Vec<usize>),
}

/// The tap changer that positions are meant of: the one that is named, else the first one of these windings.
fn changer(
    of: &PowerTransformer,
    named: Option<&Text>,
    windings: &[u8],
    problems: &mut Problems,
) -> Option<Option<usize>> {
    let Some(name) = named else {
        let of_winding = |w: &u8| of.changer_of(*w).map(|(k, _)| k);
        return Some(windings.iter().find_map(of_winding));
    };
    let found = of.changers.iter().position(|c| c.name == name.as_str());
    if found.is_none() {
        let names: Vec<&str> = of.changers.iter().map(|c| c.name.as_str()).collect();
        let message = format!("the transformer has no tap changer `{}`", name.as_str());
        let help = match names.is_empty() {
            true => "its file has no `[[tap_changer]]`".to_owned(),
            false => format!("it has {}", names.join(", ")),
        };
        problems.push(Problem::new(name.span(), message).help(help));
        return None;
    }
    Some(found)
}

/// Reads the keys `positions`, `tap_changer` and `matrix`.
pub(super) fn read(
    of: &PowerTransformer,
    list: Option<&[Text]>,
    named: Option<&Text>,
    matrix: bool,
    windings: &[u8],
    problems: &mut Problems,
) -> Option<Positions> {
    let at = changer(of, named, windings, problems)?;
    let first = list.and_then(<[Text]>::first);
    match (list, at) {
        (Some(_), _) if matrix => {
            let place = first.map_or(0..0, Field::span);
            let message = "the full matrix takes all positions: leave `positions` out";
            problems.push(Problem::new(place, message));
            None
        }
        (None, _) if matrix => Some(Positions::Matrix),
        (None, None) => Some(Positions::All),
        (None, Some(at)) => Some(Positions::Of(at, (0..of.changers[at].positions.len()).collect())),
        (Some(_), None) => {
            let place = first.map_or(0..0, Field::span);
            let message = "the windings that are tested have no tap changer";
            problems.push(Problem::new(place, message).help("leave `positions` out"));
            None
        }
        (Some(list), Some(at)) => {
            let chosen: Option<Vec<Vec<usize>>> =
                list.iter().map(|text| range(of, at, text, problems)).collect();
            let mut all: Vec<usize> = Vec::new();
            for position in chosen?.concat() {
                if !all.contains(&position) {
                    all.push(position);
                }
            }
            Some(Positions::Of(at, all))
        }
    }
}

/// A label, or two with all between: `5..9`.
fn range(
    of: &PowerTransformer,
    at: usize,
    text: &Text,
    problems: &mut Problems,
) -> Option<Vec<usize>> {
    let changer = &of.changers[at];
    let (from, to) = match changer.at(text.as_str()) {
        Some(_) => (text.as_str(), text.as_str()),
        None => text.as_str().split_once("..").unwrap_or((text.as_str(), text.as_str())),
    };
    let mut find = |label: &str| {
        let found = changer.at(label.trim());
        if found.is_none() {
            let message = format!("{} has no position `{}`", changer.name, label.trim());
            let near = waltron_core::text::name::nearest(label, changer.labels());
            let all = || {
                let labels: Vec<&str> = changer.labels().collect();
                format!(
                    "it has {}; a range is written `{}..{}`",
                    labels.join(", "),
                    labels[0],
                    labels[1]
                )
            };
            problems.push(Problem::new(text.span(), message).did_you_mean(near, all));
        }
        found
    };
    let (from, to) = (find(from)?, find(to)?);
    Some(if from <= to { (from..=to).collect() } else { (to..=from).rev().collect() })
}

impl Positions {
    /// The principal position of every tap changer.
    pub(super) fn principal(of: &PowerTransformer) -> Self {
        match of.changers.first() {
            Some(first) => Self::Of(0, vec![first.principal]),
            None => Self::All,
        }
    }

    /// Where the tap changers stand one after the other; once where there are none.
    pub(super) fn stands(&self, of: &PowerTransformer) -> Vec<Stand> {
        let principal = of.principal();
        match self {
            Self::All => vec![principal],
            Self::Of(at, positions) => {
                let to = |position: &usize| {
                    let mut stand = principal.clone();
                    stand.0[*at] = *position;
                    stand
                };
                positions.iter().map(to).collect()
            }
            Self::Matrix => {
                let mut all = vec![principal];
                for (k, changer) in of.changers.iter().enumerate() {
                    let each = all.into_iter().flat_map(|stand| {
                        (0..changer.positions.len()).map(move |position| {
                            let mut stand = stand.clone();
                            stand.0[k] = position;
                            stand
                        })
                    });
                    all = each.collect();
                }
                all
            }
        }
    }
}

/// A stand as programs tell it.
pub(super) fn as_stands(of: &PowerTransformer, stand: &Stand) -> Vec<program::Stand> {
    let each = of.changers.iter().zip(&stand.0).filter_map(|(changer, at)| {
        let position = changer.positions.get(*at)?;
        Some(program::Stand::new(changer.name.as_str(), position.label.as_str()))
    });
    each.collect()
}

/// A stand in points' ids: `7/`, or `7+2/` of two tap changers; nothing of a transformer without any.
pub(super) fn prefix(of: &PowerTransformer, stand: &Stand) -> String {
    let labels = of.changers.iter().zip(&stand.0);
    let labels: Vec<String> =
        labels.map(|(c, at)| c.positions[*at].label.replace(' ', "-")).collect();
    if labels.is_empty() { String::new() } else { format!("{}/", labels.join("+")) }
}
