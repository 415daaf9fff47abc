//! What the connections of an instrument transformer withstand, from the nameplate: each winding by itself, and where
//! nothing says which one the leads are at, the weakest.

use super::{InstrumentTransformer, Kind, Secondary, Tap, Wanted};
use waltron_core::asset::{Rating, Ratings, Withstand};
use waltron_core::quantity::{Current, Frequency, Measure, Time, Voltage};
use waltron_core::text::name::Name;

/// What the file says of the whole unit.
#[derive(Clone, Copy, Debug, Default, PartialEq)]
pub(crate) struct Limits {
    /// How many times its rated current or voltage it withstands for ever.
    pub(crate) continuous: f64,
    /// The primary's short-time current, and for how long.
    pub(crate) short: Option<(Current, Time)>,
}

/// A core or winding with the tap that the leads are at.
type Winding<'a> = (&'a Secondary, &'a Tap);

fn steady<Q: Measure>(si: f64) -> Withstand<Q> {
    Withstand::new(vec![Rating { value: Q::from_si(si), duration: None }])
}

impl InstrumentTransformer {
    /// What is withstood wherever the leads are: by the weakest of its windings.
    pub(super) fn ratings(&self, frequency: Option<Frequency>) -> Ratings {
        let of: Vec<Winding<'_>> = self.secondaries.iter().map(|s| (s, s.whole())).collect();
        self.ratings_of(frequency, &of)
    }

    /// What is withstood at a place; `None` where it is none of its own.
    pub(super) fn ratings_of_place(&self, place: &Name, known: &Ratings) -> Option<Ratings> {
        let spots = self.spots(&Wanted::default()).ok()?;
        let is_at = |connection: &Name| {
            let rest = place.as_str().strip_prefix(connection.as_str());
            rest.is_some_and(|rest| rest.is_empty() || rest.starts_with(", "))
        };
        let fits = spots.iter().filter(|spot| spot.connection.as_ref().is_some_and(is_at));
        // `1S1-1S2, 2 primary turns` begins as `1S1-1S2` does: the longest one is meant.
        let spot = fits.max_by_key(|spot| spot.connection.as_ref().map(|c| c.as_str().len()))?;
        let of = [(self.secondary(spot), self.tap(spot))];
        let mut own = self.ratings_of(known.frequency, &of);
        (own.ct, own.vt) = (known.ct.clone(), known.vt.clone());
        Some(own)
    }

    /// What is withstood where the leads may be at any of these windings. What has no rating of its own gets that of
    /// the secondary.
    fn ratings_of(&self, frequency: Option<Frequency>, of: &[Winding<'_>]) -> Ratings {
        let name = |name: &str| Name::from(name);
        let mut ratings = Ratings::unknown(frequency);
        let least = |value: &dyn Fn(&Winding<'_>) -> Option<f64>| {
            of.iter().filter_map(value).reduce(f64::min)
        };
        let continuous = self.limits.continuous;
        let rated = least(&|(s, _)| Some(s.secondary.si)).unwrap_or_default();
        let primary = least(&|(_, tap)| tap.primary.map(|p| p.si * continuous));
        match self.kind {
            Kind::Current => {
                ratings.current = Some(Current::from_si(rated));
                ratings.currents = steady(rated * continuous);
                // What a test puts through the winding, where the file allows more than service does.
                let tested = |(s, tap): &Winding<'_>| {
                    let service = s.secondary.si * continuous;
                    Some(tap.test_current_a.unwrap_or(0.0).max(service))
                };
                let tested = least(&tested).unwrap_or_default();
                ratings.own_currents = vec![
                    (name("secondary current"), steady(tested)),
                    (name("burden current"), steady(rated * continuous)),
                ];
                if let Some(primary) = primary {
                    let value = Current::from_si(primary);
                    let mut of_primary = vec![Rating { value, duration: None }];
                    let short = self.limits.short;
                    of_primary
                        .extend(short.map(|(value, time)| Rating { value, duration: Some(time) }));
                    let of_primary = Withstand::new(of_primary);
                    ratings.own_currents.push((name("primary current"), of_primary));
                }
                // Without a word about it, what the rated burden puts there in service.
                let volts = |(s, tap): &Winding<'_>| {
                    let service = tap.burden_va.map(|va| va / s.secondary.si);
                    tap.test_voltage_v.or(service)
                };
                ratings.voltages = steady(least(&volts).unwrap_or(1.0));
            }
            Kind::Voltage => {
                ratings.voltage = Some(Voltage::from_si(rated));
                // With its voltage factor it withstands more for hours, which is long for a test.
                let factor = least(&|(_, tap)| tap.voltage_factor).unwrap_or(1.0);
                let above = (factor.max(1.22) / continuous).max(1.0);
                let (secondary, primary) = (rated * continuous * above, primary.map(|p| p * above));
                ratings.voltages = steady(secondary);
                ratings.own_voltages = vec![(name("secondary voltage"), steady(secondary))];
                if let Some(primary) = primary {
                    ratings.own_voltages.push((name("primary voltage"), steady(primary)));
                }
                let amps = |(s, tap): &Winding<'_>| tap.burden_va.map(|va| va / s.secondary.si);
                ratings.currents = steady(least(&amps).unwrap_or(1.0).max(0.1));
            }
        }
        ratings
    }
}
