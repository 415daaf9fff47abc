//! Analog outputs and what they can do.

use crate::injection::measuring::Coupling;
use crate::quantity::{Angle, Frequency, Measure, Time};
use crate::text::name::Name;
use crate::uncertainty::Accuracy;

/// One analog output.
#[derive(Clone, Debug, PartialEq)]
pub struct Channel<Q> {
    /// Its id, such as `ia`.
    pub id: Name,
    /// What it is connected to, such as `primary current`; the id where the file names nothing.
    pub meaning: Name,
    /// The outputs that it is set together with, by a name of their own such as `i2`: three of them as
    /// phases A, B, C.
    pub group: Option<Name>,
    /// The largest RMS value it puts out.
    pub range: Q,
    /// Accuracy of what it puts out.
    pub accuracy: Accuracy,
    /// Accuracy of an angle, against what else is put out; it means what that of its size means.
    pub angle_accuracy: Angle,
    /// What it can put out.
    pub ability: Ability,
}

/// What an output can do.
#[derive(Clone, Copy, Debug, Default, PartialEq)]
pub struct Ability {
    /// Alternating values, direct ones, or both.
    pub coupling: Coupling,
    /// The lowest and the highest frequency, where they are known.
    pub frequency: Option<(Frequency, Frequency)>,
    /// What it drives at most, in SI: of a current output a voltage, of a voltage output a current.
    pub compliance: Option<f64>,
    /// The power that it gives at most, in VA.
    pub power: Option<f64>,
    /// The longest that it puts anything out at once, where that is bounded: a source with a store, or one that
    /// gives far more than it could for ever.
    pub longest: Option<Time>,
}

impl<Q: Measure> Channel<Q> {
    /// An output that is called by its id and puts out anything up to its range, at the angle that is asked for.
    pub fn new(id: impl Into<Name>, range: Q, accuracy: impl Into<Accuracy>) -> Self {
        let (id, accuracy) = (id.into(), accuracy.into());
        Self {
            meaning: id.clone(),
            id,
            group: None,
            range,
            accuracy,
            angle_accuracy: Angle::default(),
            ability: Ability::default(),
        }
    }
}
