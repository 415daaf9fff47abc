//! What a breaker is really like.

/// A simulated breaker: drives with their coils and contacts.
#[derive(Clone, Debug, PartialEq)]
pub struct BreakerTruth {
    /// The mechanism; one for all poles, or each pole's own.
    pub drives: Vec<DriveTruth>,
    /// Main contacts, each of a drive.
    pub contacts: Vec<ContactTruth>,
    /// Auxiliary contacts of the first drive.
    pub auxiliaries: Vec<AuxiliaryTruth>,
    /// Coils, one of each for every drive.
    pub coils: Vec<CoilTruth>,
    /// What charges the closing spring; always charged if there is none.
    pub motor: Option<MotorTruth>,
    /// The voltage of the station's battery, in V, where the rig feeds the coils with none of its own.
    pub battery_v: f64,
    /// Whether the contacts are closed when everything begins.
    pub is_closed: bool,
    /// Whether the closing spring is charged then.
    pub is_charged: bool,
    /// Whether a release without voltage, or a blocking coil, holds it open.
    pub held_off: bool,
    /// Standard deviation of what an operation takes more or less than the one before, in s.
    pub scatter_s: f64,
    /// Standard deviation of a sample, as a share of the largest.
    pub noise: f64,
    /// What a transducer at the shaft shows over the whole stroke, in V, where there is one.
    pub transducer_v: Option<f64>,
}

/// A mechanism: a mass that moves one stroke from open (0) to closed (1).
#[derive(Clone, Debug, PartialEq)]
pub struct DriveTruth {
    /// Acceleration when closing, in strokes/s².
    pub closing: f64,
    /// Acceleration when opening, in strokes/s².
    pub opening: f64,
    /// Friction, in 1/s: what an old bearing adds.
    pub friction: f64,
    /// From a latch let go to the mass moving, in s: closing, opening.
    pub latch_s: [f64; 2],
    /// Where the damper takes the opening mass, in strokes, and how hard, in 1/s.
    pub damper: (f64, f64),
}

/// A main contact: of a pole, or of one of its interrupting units.
#[derive(Clone, Debug, PartialEq)]
pub struct ContactTruth {
    /// What it is called: `L1`, or `L1/2` of a unit.
    pub name: String,
    /// Its drive.
    pub drive: usize,
    /// The place of the stroke at which it touches.
    pub touch: f64,
    /// By how much it lags behind its drive, in s.
    pub lag_s: f64,
    /// How long it stays open after its first touch, in s, and which share of that the next time.
    pub bounce: (f64, f64),
    /// Resistance when closed, in ohms.
    pub resistance_ohm: f64,
    /// Resistance just before it parts, in ohms, and over which part of the stroke before that.
    pub arcing: (f64, f64),
}

/// An auxiliary contact.
#[derive(Clone, Debug, PartialEq)]
pub struct AuxiliaryTruth {
    /// What it is called: `52a`.
    pub name: String,
    /// Whether it is closed when the breaker is.
    pub follows: bool,
    /// Where it changes when the breaker closes, and when it opens, in strokes.
    pub at: (f64, f64),
    /// Whether it is welded: it never changes.
    pub is_welded: bool,
}

/// A coil with its plunger and its latch.
#[derive(Clone, Debug, PartialEq)]
pub struct CoilTruth {
    /// What it is called: `close`, `trip 1`.
    pub name: String,
    /// Whether it closes; else it opens.
    pub closes: bool,
    /// Rated voltage, in V.
    pub rated_v: f64,
    /// Resistance, in ohms.
    pub ohm: f64,
    /// Inductance with the plunger out, in H, and how much more of it when it is in.
    pub henry: (f64, f64),
    /// Acceleration of the plunger at its rated current, in its strokes/s².
    pub plunger: f64,
    /// The share of the rated voltage at which the plunger gets over its latch.
    pub pickup: f64,
    /// Whether an auxiliary contact cuts it off when the breaker has moved.
    pub cuts_off: bool,
}

/// A spring-charging motor.
#[derive(Clone, Debug, PartialEq)]
pub struct MotorTruth {
    /// Its voltage, in V.
    pub volts: f64,
    /// Its armature's resistance, in ohms.
    pub ohm: f64,
    /// Current that it takes while it charges, in A.
    pub amps: f64,
    /// How long it charges, in s.
    pub time_s: f64,
    /// The time constant with which its inrush goes, in s.
    pub start_s: f64,
    /// Whether the rig switches its supply; else the station feeds it always.
    pub is_switched: bool,
}
