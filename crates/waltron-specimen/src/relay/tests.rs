use super::*;
use proptest::prelude::*;
use waltron_core::characteristic::{Characteristic, Coefficients, Form, Reset};
use waltron_core::quantity::fault_loop::FaultLoop;
use waltron_core::quantity::measures::Measures;
use waltron_core::quantity::{Frequency, amperes};

/// The very inverse curve, written out here so that the test does not ask the table it checks.
fn very_inverse(tms: f64) -> Characteristic {
    let coefficients = Coefficients { k: 13.5, c: 0.0, alpha: 1.0, reset: None };
    Characteristic::plain(Form::Inverse { coefficients, tms })
}

fn element(pickup_a: f64, characteristic: Characteristic) -> TrueElement {
    TrueElement {
        blocked_by: None,
        id: "51P".into(),
        measures: TrueMeasure::Current(Measures::Phase),
        pickup: pickup_a,
        reset_ratio: 0.95,
        characteristic,
        trip: "trip".into(),
        start: "start".into(),
        enabled: true,
    }
}

fn relay(elements: Vec<TrueElement>) -> Relay {
    let truth = Truth {
        measuring_delay_s: 0.0,
        contact_delay_s: 0.0,
        current_noise: 0.0,
        time_noise_s: 0.0,
        elements,
    };
    Relay::new(truth, 1)
}

fn one_phase(i: f64) -> Stimulus {
    Stimulus::phase_currents(FaultLoop::AN.currents(amperes(i)), Frequency::from_si(50.0))
}

/// Plays levels of (amperes, seconds) and returns every edge as (signal, time, closed).
fn play(relay: &mut Relay, levels: &[(f64, f64)]) -> Vec<(String, f64, bool)> {
    relay.begin(1);
    let (mut edges, mut end) = (Vec::new(), 0.0);
    for (i, time) in levels {
        relay.apply(&one_phase(*i));
        end += time;
        while let Some(e) = relay.advance(seconds(end)) {
            edges.push((e.signal.to_string(), e.time.si(), e.closed));
        }
    }
    edges
}

fn trip_time(edges: &[(String, f64, bool)]) -> Option<f64> {
    edges.iter().find(|(s, _, closed)| s == "trip" && *closed).map(|(_, t, _)| *t)
}

#[test]
fn trips_at_the_curves_time_and_resets() {
    let mut r = relay(vec![element(1.0, very_inverse(0.3))]);
    let edges = play(&mut r, &[(0.0, 1.0), (2.0, 10.0), (0.0, 1.0)]);
    let expected =
        [("start", 1.0, true), ("trip", 5.05, true), ("start", 11.0, false), ("trip", 11.0, false)];
    assert_eq!(edges.len(), expected.len(), "{edges:?}");
    for ((signal, time, closed), (s, t, c)) in edges.iter().zip(expected) {
        assert!(signal == s && (time - t).abs() < 1e-9 && *closed == c, "{edges:?}");
    }
}

/// IEEE C37.112: half the way at 2x (4.05 s), the other half at 5x (1.0125 s).
#[test]
fn a_varying_current_integrates() {
    let mut r = relay(vec![element(1.0, very_inverse(0.3))]);
    let edges = play(&mut r, &[(2.0, 2.025), (5.0, 10.0)]);
    assert!((trip_time(&edges).unwrap() - (2.025 + 0.506_25)).abs() < 1e-9);
}

#[test]
fn what_happens_below_pickup_depends_on_the_reset() {
    let levels = [(2.0, 2.025), (0.0, 1.0), (2.0, 20.0)];
    let time = |reset: Reset| {
        let mut c = very_inverse(0.3);
        c.reset = reset;
        trip_time(&play(&mut relay(vec![element(1.0, c)]), &levels)).unwrap()
    };
    // Cleared: starts anew at 3.025 s.
    assert!((time(Reset::Instant) - (3.025 + 4.05)).abs() < 1e-9);
    assert!((time(Reset::Delay(seconds(0.5))) - (3.025 + 4.05)).abs() < 1e-9);
    // Kept: half the way is done.
    assert!((time(Reset::Delay(seconds(2.0))) - (3.025 + 2.025)).abs() < 1e-9);
    // Falls by 1 s / 4 s from 0.5 to 0.25 at zero current.
    assert!((time(Reset::Curve(seconds(4.0))) - (3.025 + 0.75 * 4.05)).abs() < 1e-9);
}

#[test]
fn the_pickup_has_hysteresis() {
    let mut r = relay(vec![element(1.0, very_inverse(0.3))]);
    let starts: Vec<_> = play(&mut r, &[(0.99, 1.0), (1.01, 1.0), (0.96, 1.0), (0.94, 1.0)])
        .into_iter()
        .filter(|(s, _, _)| s == "start")
        .collect();
    assert_eq!(starts.len(), 2);
    assert!((starts[0].1 - 1.0).abs() < 1e-12 && starts[0].2);
    assert!((starts[1].1 - 3.0).abs() < 1e-12 && !starts[1].2);
}

#[test]
fn delays_add_up_and_the_fastest_stage_holds_the_common_contact() {
    let definite = Characteristic::plain(Form::Definite { delay: seconds(0.06) });
    let mut r = relay(vec![element(1.0, very_inverse(0.3)), element(8.0, definite)]);
    r.truth.measuring_delay_s = 0.012;
    r.truth.contact_delay_s = 0.006;
    let edges = play(&mut r, &[(0.0, 1.0), (10.0, 2.0), (0.0, 1.0)]);
    assert!((trip_time(&edges).unwrap() - 1.078).abs() < 1e-9);
    let trips = edges.iter().filter(|(s, _, _)| s == "trip").count();
    assert_eq!(trips, 2, "one closing and one opening of the common contact: {edges:?}");
}

#[test]
fn a_preloaded_thermal_element_trips_as_the_standard_says() {
    let thermal = |preload| Characteristic::plain(Form::Thermal { tau: seconds(600.0), preload });
    for (preload, expected) in [(0.0, 352.671_998_9), (0.5, 282.002_177_5)] {
        let mut r = relay(vec![element(1.0, thermal(preload))]);
        let t = trip_time(&play(&mut r, &[(1.5, 1000.0)])).unwrap();
        assert!((t - expected).abs() < 1e-6, "{t}");
    }
}

proptest! {
    /// However the time is cut into pieces, the trip comes at the same moment.
    #[test]
    fn pieces_of_one_current_make_no_difference(m in 1.1f64..10.0, cuts in 1usize..40) {
        let whole = trip_time(&play(&mut relay(vec![element(1.0, very_inverse(0.3))]), &[(m, 100.0)]));
        let piece = [(m, 100.0 / cuts as f64)];
        let cut = trip_time(&play(&mut relay(vec![element(1.0, very_inverse(0.3))]), &piece.repeat(cuts)));
        prop_assert!((whole.unwrap() - cut.unwrap()).abs() < 1e-6);
    }

    /// Equal seeds give equal scatter, and scatter stays within three deviations.
    #[test]
    fn noise_is_seeded_and_bounded(seed: u64, shot in 0u64..1000) {
        let run = |seed| {
            let mut r = relay(vec![element(1.0, very_inverse(0.3))]);
            r.seed = seed;
            r.truth.time_noise_s = 0.002;
            r.truth.contact_delay_s = 0.01;
            r.begin(shot);
            r.apply(&one_phase(2.0));
            std::iter::from_fn(|| r.advance(seconds(10.0))).find(|e| e.signal == "trip").unwrap().time.si()
        };
        prop_assert_eq!(run(seed).to_bits(), run(seed).to_bits());
        prop_assert!((run(seed) - 4.06).abs() < 0.006 + 1e-9);
    }
}

proptest! {
    /// Whatever the scatter of its operations, a contact is open once nothing is put out for long
    /// enough, and its edges alternate.
    #[test]
    fn a_contact_never_sticks(seed in 0u64..500, on in 0.001f64..0.2, gap in 0.001f64..0.1) {
        let fast = Characteristic::plain(Form::Definite { delay: seconds(0.02) });
        let truth = Truth {
            measuring_delay_s: 0.003,
            contact_delay_s: 0.005,
            current_noise: 0.0,
            time_noise_s: 0.02,
            elements: vec![element(1.0, fast)],
        };
        let mut relay = Relay::new(truth, seed);
        let edges = play(&mut relay, &[(2.0, on), (0.0, gap), (2.0, on), (0.0, 2.0)]);
        prop_assert!(relay.closed().is_empty(), "{edges:?}");
        for contact in ["trip", "start"] {
            let of: Vec<bool> = edges.iter().filter(|e| e.0 == contact).map(|e| e.2).collect();
            prop_assert!(of.iter().enumerate().all(|(i, closed)| *closed == (i % 2 == 0)), "{of:?}");
        }
    }
}

/// No voltage at all is the lowest there is; a relay that is blocked then says so in its file.
#[test]
fn undervoltage_operates_on_a_dead_line_unless_it_is_blocked() {
    let trips = |blocking: f64, volts: f64| {
        let definite = Characteristic::plain(Form::Definite { delay: seconds(0.1) });
        let measures = TrueMeasure::Undervoltage(blocking);
        let mut relay = relay(vec![TrueElement { measures, ..element(40.0, definite) }]);
        relay.begin(1);
        let phases = FaultLoop::ABC.currents(amperes(volts));
        let on = Stimulus::phase_currents(phases, Frequency::from_si(50.0));
        let voltages = on.currents.iter().zip(["va", "vb", "vc"]).map(|(d, channel)| {
            let phasor = waltron_core::quantity::phasor::Phasor::new(
                waltron_core::quantity::Voltage::from_si(d.phasor.rms().si()),
                d.phasor.angle(),
            );
            waltron_core::injection::stimulus::Drive::sine(channel.into(), phasor, d.frequency)
        });
        relay.apply(&Stimulus { currents: Vec::new(), voltages: voltages.collect() });
        std::iter::from_fn(|| relay.advance(seconds(1.0))).any(|e| e.signal == "trip" && e.closed)
    };
    assert!(trips(0.0, 0.0) && trips(0.0, 5.0) && !trips(0.0, 57.7));
    assert!(!trips(10.0, 0.0) && !trips(10.0, 5.0) && trips(10.0, 15.0));
}
