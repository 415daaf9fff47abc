use super::*;
use waltron_core::injection::stimulus::Drive;
use waltron_core::quantity::phasor::Phasor;
use waltron_core::quantity::{Current, Frequency, degrees};

fn unit(change: impl Fn(&mut TripUnitTruth)) -> TripUnit {
    let of = |acts, pickup_a, delay_s, at_a| TripFunction { acts, pickup_a, delay_s, at_a };
    let mut truth = TripUnitTruth {
        poles: ["L1", "L2", "L3"].map(str::to_owned).to_vec(),
        functions: vec![
            of(Acts::LongTime, 1000.0, 10.0, Some(6000.0)),
            of(Acts::ShortTime, 6000.0, 0.3, None),
            of(Acts::Instantaneous, 12_000.0, 0.01, None),
            of(Acts::GroundFault, 500.0, 0.2, None),
        ],
        opening_s: 0.025,
        resistance_ohm: 0.3e-3,
        reactance_ohm: 0.6e-3,
        memory_s: 240.0,
        is_discharged: true,
        auxiliary_follows: true,
        neutral_reversed: false,
        noise: 0.0,
        port: None,
        is_reset: true,
        display: Vec::new(),
    };
    change(&mut truth);
    let mut unit = TripUnit::new(truth, 1);
    unit.channels = vec!["ip".into()];
    unit
}

fn put(unit: &mut TripUnit, amps: f64, angle: f64) {
    let phasor = Phasor::new(Current::from_si(amps), degrees(angle));
    let drive = Drive::sine("ip".into(), phasor, Frequency::from_si(50.0));
    unit.apply(&Stimulus { currents: vec![drive], voltages: Vec::new() });
}

/// When the current ended by itself within a time.
fn ends(unit: &mut TripUnit, within: f64) -> Option<f64> {
    while let Some(edge) = unit.advance(seconds(within)) {
        if edge.signal == *FLOWS && !edge.closed {
            return Some(edge.time.si());
        }
    }
    None
}

fn shot(unit: &mut TripUnit, number: u64, amps: f64, defeated: bool, within: f64) -> Option<f64> {
    unit.begin(number);
    unit.switch(&DEFEAT.into(), defeated);
    put(unit, amps, 90.0);
    ends(unit, within)
}

#[test]
fn each_function_acts_on_what_it_sees() {
    let mut it = unit(|_| {});
    // I²t by hand: 10 s at 6 kA, four times that at 3 kA; then opening, and the next zero.
    let time = shot(&mut it, 1, 3000.0, true, 60.0).unwrap();
    assert!((40.025..40.036).contains(&time), "{time}");
    let time = shot(&mut it, 2, 8000.0, true, 60.0).unwrap();
    assert!((0.325..0.336).contains(&time), "{time}");
    let time = shot(&mut it, 3, 13_000.0, true, 60.0).unwrap();
    assert!((0.035..0.046).contains(&time), "{time}");
    assert_eq!(shot(&mut it, 4, 990.0, true, 7200.0), None);
    // One pole alone is a ground fault; with its way back through the neutral it is none.
    let time = shot(&mut it, 5, 600.0, false, 60.0).unwrap();
    assert!((0.225..0.236).contains(&time), "{time}");
    it.lead(&"L1-N".into()).unwrap();
    assert_eq!(shot(&mut it, 6, 600.0, false, 60.0), None);
    let mut reversed = unit(|truth| truth.neutral_reversed = true);
    reversed.lead(&"L1-N".into()).unwrap();
    assert!(shot(&mut reversed, 1, 600.0, false, 60.0).is_some());
    assert!(reversed.lead(&"L4".into()).is_err());
}

/// Peaks of a direct component trip what a sine of the same size does not.
#[test]
fn a_direct_component_trips_what_is_instantaneous() {
    let mut it = unit(|_| {});
    let at = |it: &mut TripUnit, angle: f64| {
        it.begin(9);
        it.switch(&DEFEAT.into(), true);
        put(it, 11_000.0, angle);
        ends(it, 0.2)
    };
    assert_eq!(at(&mut it, 90.0), None, "from its zero it has none");
    assert!(at(&mut it, 0.0).is_some(), "from its peak it has all");
    // From zero at the start; after many time constants the mean is zero again.
    it.begin(10);
    it.switch(&DEFEAT.into(), true);
    put(&mut it, 2000.0, 0.0);
    it.advance(seconds(0.4));
    let window = |start_s: f64, count| Window { start_s, rate_hz: 10_000.0, count };
    let first = it.samples(&CURRENT.into(), window(0.0, 200)).unwrap();
    let mean = |s: &[f64]| s.iter().sum::<f64>() / s.len() as f64;
    assert!(first[0].abs() < 1e-6 && mean(&first) < -500.0, "{} {}", first[0], mean(&first));
    let last = it.samples(&CURRENT.into(), window(0.3, 200)).unwrap();
    assert!(mean(&last).abs() < 1.0);
    // Volts by amperes are the impedance.
    let rms = |s: &[f64]| (s.iter().map(|x| x * x).sum::<f64>() / s.len() as f64).sqrt();
    let volts = it.samples(&VOLTAGE.into(), window(0.3, 200)).unwrap();
    let ohm = rms(&volts) / rms(&last);
    assert!((ohm - 0.3e-3f64.hypot(0.6e-3)).abs() < 1e-7, "{ohm}");
}

#[test]
fn heat_is_remembered_where_nobody_discharges_it() {
    let mut it = unit(|truth| truth.is_discharged = false);
    let cold = shot(&mut it, 1, 3000.0, true, 60.0).unwrap();
    let warm = shot(&mut it, 2, 3000.0, true, 60.0).unwrap();
    assert!(warm < 0.2 * cold, "{warm} after {cold}");
    let mut silent = unit(|truth| truth.auxiliary_follows = false);
    silent.begin(1);
    put(&mut silent, 13_000.0, 90.0);
    let mut seen = Vec::new();
    while let Some(edge) = silent.advance(seconds(1.0)) {
        seen.push((edge.signal.to_string(), edge.closed));
    }
    assert_eq!(seen, [(FLOWS.to_owned(), true), (FLOWS.to_owned(), false)]);
    assert_eq!(silent.closed(), [Name::from(AUXILIARY)]);
}
