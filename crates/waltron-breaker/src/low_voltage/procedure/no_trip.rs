//! A current that must not trip, for a stated time.

use super::super::asset::{Acts, LvBreaker};
use super::shots::{Shooting, Shot, Shots, tripped};
use super::timed::{function, not_tripped_rightly, point, poles, trips, until_trip};
use super::way::{Through, Way};
use schemars::JsonSchema;
use serde::Deserialize;
use std::sync::Arc;
use waltron_core::grading::{Criterion, Finding, Judgement, Limits, Values, Verdict};
use waltron_core::injection::observation::Observation;
use waltron_core::procedure::{Bench, FamilyKeys, Method, SetupError, TestHead};
use waltron_core::quantity::{Current, Dimension, Measure, Quantity, Ratio, Time, seconds};
use waltron_core::text::document::{Problems, QuantityText, Spannable, Text};
use waltron_core::text::name::Name;

/// That nothing trips.
const NO_TRIP: Criterion = Criterion::named("no_trip");

/// The conventional non-tripping current, and for how long (IEC 60947-2, table 6).
const CONVENTIONAL: (f64, f64) = (1.05, 7200.0);

/// A multiple of the long-time pickup that must not trip.
#[derive(Clone, Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct NoTripKeys {
    /// The multiple of the long-time pickup; 1.05 x, the conventional non-tripping current, if not given.
    at: Option<QuantityText<Ratio>>,
    /// For how long; 2 h, the conventional time, if not given.
    time: Option<QuantityText<Time>>,
    /// Poles; each if not given.
    poles: Option<Vec<Text>>,
    /// Through what: `poles`, or `test-port` (secondary injection); the poles if not given.
    through: Option<Spannable<Through>>,
}

#[derive(Clone, Debug, PartialEq)]
struct Holding {
    test: Name,
    at: f64,
    time: Time,
    places: Vec<String>,
    way: Way,
}

impl FamilyKeys for NoTripKeys {
    type Family = LvBreaker;

    fn read_for(
        &self,
        head: TestHead<'_>,
        of: &LvBreaker,
        problems: &mut Problems,
    ) -> Option<Arc<dyn Method>> {
        function(Acts::LongTime, head, of, problems)?;
        let at = self.at.as_ref();
        let at = at.map_or(Some(CONVENTIONAL.0), |f| f.positive(problems).map(|r| r.value))?;
        let usual = seconds(CONVENTIONAL.1);
        let time = self.time.as_ref().map_or(Some(usual), |t| t.positive(problems))?;
        let places = poles(self.poles.as_deref(), of, problems)?;
        let way = Way::read(self.through.as_ref(), head, of, problems)?;
        Some(Arc::new(Shots(Holding { test: head.name(), at, time, places, way })))
    }
}

impl Shooting for Holding {
    fn word(&self) -> &'static str {
        "no-trip"
    }

    fn test(&self) -> &Name {
        &self.test
    }

    fn defeats(&self) -> bool {
        true
    }

    fn way(&self) -> Way {
        self.way
    }

    fn shots(&self, of: &LvBreaker, bench: Bench<'_>) -> Result<Vec<Shot>, SetupError> {
        let lacks = || SetupError::Unknown("it has no function `long-time`".to_owned());
        let long = of.function(Acts::LongTime).ok_or_else(lacks)?;
        let amps = self.at * long.pickup_a;
        let may = of.times_of_all(amps, &[Acts::GroundFault]).earliest;
        let not_tested = (may < self.time.si()).then(|| {
            let may = Quantity { si: may, dimension: Dimension::TIME };
            format!(
                "its band lets it trip at this current from {may} on: less current, or less time"
            )
        });
        let way = self.way;
        let not_tested = not_tested.or_else(|| way.beyond(bench.capability, amps));
        let shot = |place: &String| {
            let program =
                until_trip(bench.capability, (amps, amps), self.time, place, true, bench, way)?;
            let at = point(&self.test, place);
            let stimulus = way.told(Values::none().with("current", Current::from_si(amps)), amps);
            let (fed, of_place, time) = (stimulus.clone(), at.clone(), self.time);
            let rig = bench.capability.clone();
            let grade = move |seen: &Observation| {
                let found = Finding::not_tested(of_place.clone(), NO_TRIP, fed.clone(), "");
                let found = Finding { limits: Limits::NoOperation, ..found };
                let told = |si: f64| Quantity { si, dimension: Dimension::TIME };
                vec![match tripped(seen, &rig, way) {
                    None => {
                        let why = format!("no trip for {}", told(time.si()));
                        not_tripped_rightly(found, (seen, &rig, way), amps, &why)
                    }
                    Some(at) => {
                        let measured = Values::none().with_quantity("time", told(at));
                        let why = format!("it tripped after {}, and must not", told(at));
                        Finding { measured, ..found }.judged(Judgement::new(Verdict::Fail, why))
                    }
                }]
            };
            Ok(Shot {
                place: place.clone(),
                points: vec![(at, NO_TRIP)],
                stimulus,
                limits: Limits::NoOperation,
                amps,
                most: amps,
                likely: self.time,
                program: Arc::new(program),
                grade: Arc::new(grade),
                trips: trips(bench.capability, way),
                not_tested: not_tested.clone(),
                foreseen: Vec::new(),
            })
        };
        self.places.iter().map(shot).collect()
    }
}
