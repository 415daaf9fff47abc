//! What is measured of a breaker, and between which limits it must lie.

use crate::span::{self, SpanForm};
use schemars::JsonSchema;
use serde::Deserialize;
use std::collections::BTreeMap;
use waltron_core::quantity::{Dimension, Frequency, Measure, Ratio};
use waltron_core::text::document::{Field, Problem, Problems, QuantityText, Spannable, Text};
use waltron_core::text::name::nearest;

macro_rules! measurands {
    ($($(#[$doc:meta])* $name:ident $key:ident $dimension:ident $words:literal;)*) => {
        /// What is measured of a breaker.
        #[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord)]
        pub enum Measurand {
            $($(#[$doc])* $name,)*
        }

        impl Measurand {
            /// All of them.
            pub const ALL: &[Self] = &[$(Self::$name,)*];

            /// Its key in files and in JSON: `opening_time`.
            pub fn key(self) -> &'static str {
                match self { $(Self::$name => stringify!($key),)* }
            }

            /// What it is, in words.
            pub fn words(self) -> &'static str {
                match self { $(Self::$name => $words,)* }
            }

            /// What it is measured in.
            pub fn dimension(self) -> Dimension {
                match self { $(Self::$name => Dimension::$dimension,)* }
            }
        }

        /// Limits as the maker's report, or the operator, gives them: `{ min = "20 ms", max = "35 ms" }`.
        #[derive(Clone, Debug, Default, Deserialize, JsonSchema)]
        #[serde(deny_unknown_fields)]
        pub(crate) struct LimitsForm {
            $($(#[$doc])* $key: Option<Spannable<SpanForm>>,)*
            /// What must have a limit, or be assessed by somebody who says why, before it counts.
            required: Option<Vec<Text>>,
            /// Limits at another control voltage.
            at: Option<Vec<LimitsAtForm>>,
        }

        /// Limits at another control voltage than the rated one.
        #[derive(Clone, Debug, Deserialize, JsonSchema)]
        #[serde(deny_unknown_fields)]
        pub(crate) struct LimitsAtForm {
            /// The control voltage, as a share of the rated one: `"70 %"`.
            voltage: QuantityText<Ratio>,
            $($(#[$doc])* $key: Option<Spannable<SpanForm>>,)*
        }

        impl LimitsAtForm {
            fn given(&self) -> Vec<(Measurand, &Spannable<SpanForm>)> {
                let all = [$((Measurand::$name, self.$key.as_ref()),)*];
                all.into_iter().filter_map(|(of, span)| Some((of, span?))).collect()
            }
        }

        impl LimitsForm {
            fn given(&self) -> Vec<(Measurand, &Spannable<SpanForm>)> {
                let all = [$((Measurand::$name, self.$key.as_ref()),)*];
                all.into_iter().filter_map(|(of, span)| Some((of, span?))).collect()
            }
        }
    };
}

measurands! {
    /// From the trip coil energised to the contacts parted (IEC 62271-100, 3.7.133).
    OpeningTime opening_time TIME "opening time";
    /// From the closing coil energised to the contacts touching (3.7.136).
    ClosingTime closing_time TIME "closing time";
    /// From the first pole touching to the last one parted, closed and opened at once (3.7.140).
    CloseOpenTime close_open_time TIME "close-open time";
    /// From the last pole parted to the first one touching again (3.7.141).
    OpenCloseTime open_close_time TIME "open-close time";
    /// Between the first and the last pole, opening; a sixth of a period if not given (5.101).
    PoleSpreadOpening pole_spread_opening TIME "difference between poles, opening";
    /// The same, closing; a quarter of a period if not given.
    PoleSpreadClosing pole_spread_closing TIME "difference between poles, closing";
    /// Between the interrupting units of a pole, opening; an eighth of a period if not given.
    UnitSpreadOpening unit_spread_opening TIME "difference between units, opening";
    /// The same, closing; a sixth of a period if not given.
    UnitSpreadClosing unit_spread_closing TIME "difference between units, closing";
    /// From the first touch to the last one.
    BounceTime bounce_time TIME "bounce";
    /// Between the opening times by one trip coil and by another.
    CoilSpread coil_spread TIME "difference between trip coils";
    /// From a main contact's change to the auxiliary contact's, of either sign.
    AuxiliaryLag auxiliary_lag TIME "auxiliary contact behind the main one";
    /// First peak of a coil's current.
    CoilPeak coil_peak CURRENT "coil current, first peak";
    /// Where a coil's current settles.
    CoilPlateau coil_plateau CURRENT "coil current, plateau";
    /// From the command to the bottom of the dip: the plunger is through.
    NotchTime notch_time TIME "coil current, time of the dip";
    /// How long the motor charges the spring.
    MotorTime motor_time TIME "charging time";
    /// The motor's current while it charges.
    MotorCurrent motor_current CURRENT "motor current";
    /// The motor's largest current.
    MotorInrush motor_inrush CURRENT "motor inrush";
    /// The lowest control voltage at which a coil operates; 85 % of the rated one closing, 70 % tripping if
    /// not given (IEC 62271-1, 5.8).
    PickupVoltage pickup_voltage VOLTAGE "lowest pickup";
    /// Of a pole that is closed.
    ContactResistance contact_resistance RESISTANCE "contact resistance";
    /// From rest to rest.
    Stroke stroke ANGLE "stroke";
    /// Of the shaft over the 5 ms before the first contact touches.
    ClosingSpeed closing_speed ANGULAR_SPEED "closing speed";
    /// Of the shaft over the 5 ms after the first contact has parted.
    OpeningSpeed opening_speed ANGULAR_SPEED "opening speed";
    /// How long the arcing contacts still carry after the main ones have parted.
    ArcingTime arcing_time TIME "arcing contact, time alone";
    /// The mean resistance of the arcing contacts in that time.
    ArcingResistance arcing_resistance RESISTANCE "arcing contact, resistance";
    /// By how much the shaft goes beyond its end.
    Overtravel overtravel ANGLE "overtravel";
    /// From the contacts touching or parting until the shaft rests within 2 % of its stroke.
    DampingTime damping_time TIME "damping time";
}

/// Between two values in SI, and who says so.
#[derive(Clone, Copy, Debug, Default, PartialEq)]
pub struct Span {
    /// The least.
    pub min: Option<f64>,
    /// The most.
    pub max: Option<f64>,
    /// The standard that says so, where it is not the file.
    pub standard: Option<&'static str>,
}

impl Measurand {
    /// Whether a coil's voltage moves it; the rest is the mechanism's alone.
    fn follows_voltage(self) -> bool {
        matches!(
            self,
            Self::OpeningTime
                | Self::ClosingTime
                | Self::OpenCloseTime
                | Self::CloseOpenTime
                | Self::CoilPeak
                | Self::CoilPlateau
                | Self::NotchTime
        )
    }
}

/// All limits of a breaker.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct Limits {
    spans: BTreeMap<Measurand, Span>,
    /// Those of other control voltages, by the share of the rated one.
    at: Vec<(f64, BTreeMap<Measurand, Span>)>,
    required: Vec<Measurand>,
}

impl Limits {
    /// The limits of something at a share of the rated control voltage; nothing where there are none. What
    /// a coil's voltage moves has at another voltage only the limits that are given for that one.
    pub fn of(&self, what: Measurand, share: f64) -> Option<Span> {
        let is_near = |other: f64| (share - other).abs() < 1e-6;
        let at = self.at.iter().find(|(other, _)| is_near(*other));
        let own = at.and_then(|(_, spans)| spans.get(&what)).copied();
        let holds = is_near(1.0) || !what.follows_voltage();
        own.or_else(|| self.spans.get(&what).copied().filter(|_| holds))
    }

    /// Whether it must have a limit, or be assessed.
    pub fn is_required(&self, what: Measurand) -> bool {
        self.required.contains(&what)
    }

    /// All of them in order, with the share of the rated control voltage where it is another one.
    pub fn all(&self) -> impl Iterator<Item = (Measurand, Option<f64>, Span)> {
        let usual = self.spans.iter().map(|(what, span)| (*what, None, *span));
        let others = self.at.iter().flat_map(|(share, spans)| {
            spans.iter().map(move |(what, span)| (*what, Some(*share), *span))
        });
        usual.chain(others)
    }
}

fn read(what: Measurand, form: &Spannable<SpanForm>, problems: &mut Problems) -> Option<Span> {
    let may_be_negative = what == Measurand::AuxiliaryLag;
    let (min, max) = span::read(form, what.dimension(), may_be_negative, problems)?;
    Some(Span { min, max, standard: None })
}

impl LimitsForm {
    pub(crate) fn read(
        &self,
        frequency: Frequency,
        poles: usize,
        units: usize,
        problems: &mut Problems,
    ) -> Option<Limits> {
        let mut limits = Limits::default();
        let period = 1.0 / frequency.si();
        let standards = [
            (Measurand::PoleSpreadOpening, 6.0, poles),
            (Measurand::PoleSpreadClosing, 4.0, poles),
            (Measurand::UnitSpreadOpening, 8.0, units),
            (Measurand::UnitSpreadClosing, 6.0, units),
        ];
        for (what, part, of) in standards {
            if of > 1 {
                let span =
                    Span { min: None, max: Some(period / part), standard: Some("IEC 62271-100") };
                limits.spans.insert(what, span);
            }
        }
        let mut is_fine = true;
        for (what, form) in self.given() {
            let span = read(what, form, problems);
            is_fine &= span.is_some();
            limits.spans.extend(span.map(|span| (what, span)));
        }
        for form in self.at.iter().flatten() {
            let Some(share) = form.voltage.positive(problems).map(|share| share.value) else {
                is_fine = false;
                continue;
            };
            if limits.at.iter().any(|(other, _)| (other - share).abs() < 1e-6) {
                let message = "two tables of limits are of this voltage";
                problems.push(Problem::new(form.voltage.span(), message));
                is_fine = false;
            }
            let mut spans = BTreeMap::new();
            for (what, form) in form.given() {
                let span = read(what, form, problems);
                is_fine &= span.is_some();
                spans.extend(span.map(|span| (what, span)));
            }
            limits.at.push((share, spans));
        }
        for text in self.required.iter().flatten() {
            let found = Measurand::ALL.iter().find(|what| what.key() == text.as_str());
            let Some(what) = found else {
                let known = || Measurand::ALL.iter().map(|what| what.key());
                let near = nearest(text.as_str(), known());
                let problem =
                    Problem::new(text.span(), format!("nothing is called `{}`", text.as_str()));
                let list = || format!("use one of {}", known().collect::<Vec<_>>().join(", "));
                problems.push(problem.did_you_mean(near, list));
                is_fine = false;
                continue;
            };
            limits.required.push(*what);
        }
        is_fine.then_some(limits)
    }
}
