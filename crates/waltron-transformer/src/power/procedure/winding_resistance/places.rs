//! Where the current is driven, in which order, and what is graded there.

use super::keys::WindingResistanceTest;
use super::{CHANGE, DIFFERENCE, RESISTANCE};
use crate::measure::{between, point};
use crate::power::asset::{ChangerKind, Difference, PowerTransformer, Stand, Winding};
use crate::power::pairs::{Pair, Shot, Terminal};
use crate::power::procedure::positions::{as_stands, prefix};
use crate::power::vector_group::Connection;
use waltron_core::grading::{Limits, PointId, Value, Values};
use waltron_core::injection::program;
use waltron_core::procedure::{PlannedPoint, SetupError};
use waltron_core::quantity::tolerance::AnyTolerance;
use waltron_core::quantity::{Dimension, Quantity};
use waltron_core::text::name::Name;

/// A position with the leads on one phase.
#[derive(Clone, Debug, PartialEq)]
pub(super) struct Place {
    /// The pair of terminals.
    pub(super) leads: Name,
    /// Where the tap changers stand.
    pub(super) stands: Vec<program::Stand>,
    /// The position in the pointer's order.
    pub(super) position: usize,
    /// The resistance's point.
    pub(super) point: PointId,
    /// The point of the change that leads here under current, where one does.
    pub(super) change: Option<PointId>,
    pub(super) expected: Values,
    pub(super) limits: Limits,
    /// The line voltage here, which turns follow.
    pub(super) volts: f64,
    /// What of another winding in the same circuit is graded here.
    pub(super) beside: Option<Beside>,
}

/// A phase of another winding in the same circuit.
#[derive(Clone, Debug, PartialEq)]
pub(super) struct Beside {
    pub(super) point: PointId,
    pub(super) expected: Values,
    pub(super) limits: Limits,
}

/// The other winding of a circuit.
#[derive(Clone, Debug, PartialEq)]
pub(super) struct Second {
    /// Its phases against each other.
    pub(super) difference: PointId,
    pub(super) told_at: ToldAt,
}

/// What the phases at a position are held against.
#[derive(Clone, Debug, PartialEq)]
pub(super) struct Alike {
    pub(super) point: PointId,
    pub(super) stands: Vec<program::Stand>,
}

/// All places, in order.
#[derive(Clone, Debug)]
pub(super) struct Places {
    pub(super) all: Vec<Place>,
    pub(super) alike: Vec<Alike>,
    /// Whether the tap changer is moved under current.
    pub(super) is_under_current: bool,
    pub(super) difference: AnyTolerance,
    pub(super) by: Difference,
    pub(super) interruption_s: f64,
    pub(super) ripple: Option<f64>,
    pub(super) told_at: ToldAt,
    pub(super) temperature_k: f64,
    pub(super) temperature_u_k: f64,
    /// Another winding in the same circuit.
    pub(super) second: Option<Second>,
    /// What a phase of the winding has of what is measured between its terminals.
    pub(super) connection: Connection,
    pub(super) neutral: bool,
}

pub(super) fn ohms(si: f64) -> Quantity {
    Quantity { si, dimension: Dimension::RESISTANCE }
}

impl Beside {
    fn of(
        test: &WindingResistanceTest,
        of: &PowerTransformer,
        other: &Winding,
        pair: Pair,
    ) -> Self {
        let name = match pair.to {
            Terminal::Neutral => format!("second/{}", pair.from.letter()),
            to => format!("second/{}-{}", pair.from.letter(), to.letter()),
        };
        let of_maker = of.maker_ohm(other.number, &of.principal());
        let limits = of_maker.map_or(Limits::None, |ohm| {
            between(of.allowed.resistance.limits(ohm), Dimension::RESISTANCE)
        });
        let expected = of_maker
            .map_or(Values::none(), |ohm| Values::none().with_quantity("resistance", ohms(ohm)));
        Self { point: point(&test.test, &name), expected, limits }
    }
}

/// The pairs of another winding that share a limb with the phases of this one, so that a current through both drives
/// the flux the same way.
fn in_circuit(of: &PowerTransformer, fed: u8, other: u8) -> Result<[Pair; 3], SetupError> {
    let shots = of.limbs().shots(fed, other);
    let plain = |shot: &Shot| shot.fed.joined.is_none() && shot.measured.joined.is_none();
    let found = shots.filter(|shots| {
        let neutral = of.group.sides[usize::from(fed) - 1].neutral;
        let own = |k: usize| {
            let to = if neutral { Terminal::Neutral } else { Terminal::Phase((k as u8 + 1) % 3) };
            Pair::of(fed, Terminal::Phase(k as u8), to)
        };
        (0..3).all(|k| plain(&shots[k]) && shots[k].fed == own(k))
    });
    found.map(|shots| shots.map(|shot| shot.measured)).ok_or_else(|| {
        SetupError::Unknown(format!(
            "windings {fed} and {other} of {} have no phases that can be in one circuit: leave `with` out",
            of.group
        ))
    })
}

/// At which temperature a winding's resistance is told.
#[derive(Clone, Copy, Debug, PartialEq)]
pub(super) struct ToldAt {
    pub(super) reference_k: f64,
    /// By how much it is larger there.
    pub(super) factor: f64,
    /// By how much that changes for each kelvin that the winding is warmer, in 1/K.
    pub(super) slope: f64,
}

impl ToldAt {
    fn of(winding: &Winding, temperature_k: f64) -> Self {
        let (material, reference_k) = (winding.material, winding.reference_k);
        Self {
            reference_k,
            factor: material.factor(false, temperature_k, reference_k),
            slope: material.slope(false, temperature_k, reference_k),
        }
    }
}

impl Places {
    pub(super) fn new(
        test: &WindingResistanceTest,
        of: &PowerTransformer,
    ) -> Result<Self, SetupError> {
        let unknown = || SetupError::Unknown(format!("there is no winding {}", test.winding));
        let winding = of.winding(test.winding).ok_or_else(unknown)?;
        let side = of.group.sides[usize::from(test.winding) - 1];
        let changer = of.changer_of(test.winding);
        let is_on_load = changer.is_some_and(|(_, c)| c.kind == ChangerKind::OnLoad);
        let is_under_current = is_on_load && test.under_current;
        let stands = test.positions.stands(of);
        let position = |stand: &Stand| changer.map_or(0, |(k, _)| stand.0[k]);
        let other = test.with.and_then(|n| of.winding(n));
        let pairs = match other {
            Some(other) => Some(in_circuit(of, test.winding, other.number)?),
            None => None,
        };
        let mut all = Vec::new();
        for phase in 0..3u8 {
            let to =
                if side.neutral { Terminal::Neutral } else { Terminal::Phase((phase + 1) % 3) };
            let pair = Pair::of(test.winding, Terminal::Phase(phase), to);
            // Up with one phase, down with the next: the flux keeps its direction, and nobody goes back.
            let mut order: Vec<&Stand> = stands.iter().collect();
            if phase == 1 {
                order.reverse();
            }
            for (k, stand) in order.iter().enumerate() {
                let of_maker = of.maker_ohm(test.winding, stand);
                let limits = of_maker.map_or(Limits::None, |ohm| {
                    between(of.allowed.resistance.limits(ohm), Dimension::RESISTANCE)
                });
                let expected = of_maker.map_or(Values::none(), |ohm| {
                    Values::none().with_quantity("resistance", ohms(ohm))
                });
                let name = match side.neutral {
                    true => format!("{}", pair.from.letter()),
                    false => format!("{}-{}", pair.from.letter(), pair.to.letter()),
                };
                let id = point(&test.test, &format!("{}{name}", prefix(of, stand)));
                // A change that leaves positions out would be several, of which one is looked at: the current
                // goes off before it.
                let is_step =
                    |before: &usize| position(order[*before]).abs_diff(position(stand)) == 1;
                let before = k.checked_sub(1).filter(|_| is_under_current).filter(is_step);
                let moved = before.map(|before| {
                    let label = prefix(of, order[before]);
                    let (from, to) = (label.trim_end_matches('/').to_owned(), prefix(of, stand));
                    point(&test.test, &format!("{from}-{to}{name}"))
                });
                let second = pairs.as_ref().map(|pairs| pairs[usize::from(phase)]);
                let leads = match second {
                    Some(second) => format!("{pair} + {second}"),
                    None => pair.to_string(),
                };
                // Once in each phase: it has no positions of its own here.
                let beside = second.zip(other).filter(|_| **stand == stands[0]);
                let beside = beside.map(|(pair, other)| Beside::of(test, of, other, pair));
                all.push(Place {
                    leads: leads.as_str().into(),
                    stands: as_stands(of, stand),
                    position: position(stand),
                    point: id,
                    change: moved,
                    expected,
                    limits,
                    volts: of.volts(test.winding, stand),
                    beside,
                });
            }
        }
        let alike = stands.iter().map(|stand| Alike {
            point: point(&test.test, &format!("{}difference", prefix(of, stand))),
            stands: as_stands(of, stand),
        });
        let alike = alike.collect();
        Ok(Self {
            all,
            alike,
            is_under_current,
            difference: of.allowed.difference,
            by: of.allowed.by,
            interruption_s: of.allowed.interruption_s,
            ripple: of.allowed.ripple,
            told_at: ToldAt::of(winding, test.temperature_k),
            temperature_k: test.temperature_k,
            temperature_u_k: test.temperature_u_k,
            second: other.map(|other| Second {
                difference: point(&test.test, "second/difference"),
                told_at: ToldAt::of(other, test.temperature_k),
            }),
            connection: side.connection,
            neutral: side.neutral,
        })
    }

    /// The places where the other winding of the circuit is read.
    pub(super) fn besides(&self) -> impl Iterator<Item = usize> + '_ {
        (0..self.all.len()).filter(|at| self.all[*at].beside.is_some())
    }

    /// What is graded of the phases of a place together.
    pub(super) fn alike(&self, place: &Place) -> Option<&Alike> {
        self.alike.iter().find(|alike| alike.stands == place.stands)
    }

    /// The points that a place may grade: its own, the change that led there, the phases together.
    pub(super) fn points(&self, at: usize) -> Vec<PlannedPoint> {
        let place = &self.all[at];
        let mut all = vec![PlannedPoint::certain(place.point.clone(), RESISTANCE)];
        if let Some(change) = &place.change {
            all.insert(0, PlannedPoint::certain(change.clone(), CHANGE));
        }
        if let Some(beside) = &place.beside {
            all.push(PlannedPoint::certain(beside.point.clone(), RESISTANCE));
            if let Some(second) = self.second.as_ref().filter(|_| self.besides().last() == Some(at))
            {
                all.push(PlannedPoint::certain(second.difference.clone(), DIFFERENCE));
            }
        }
        let last = self.all.iter().rposition(|p| p.stands == place.stands);
        if let Some(alike) = self.alike(place).filter(|_| last == Some(at)) {
            all.push(PlannedPoint::certain(alike.point.clone(), DIFFERENCE));
        }
        all
    }

    /// What the differences must be at a mean resistance.
    pub(super) fn allowed(&self, mean: f64) -> Limits {
        let (_, high) = self.difference.limits(mean);
        Limits::Between { lower: None, upper: Some(Value::Percent(high / mean - 1.0)) }
    }
}
