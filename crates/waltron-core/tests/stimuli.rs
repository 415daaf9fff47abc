//! Loops, stimuli and programs: laws that hold whatever the values.

use proptest::prelude::*;
use waltron_core::injection::program::{Profile, Program, Rest, Segment, Stairs, Stop, Then};
use waltron_core::injection::stimulus::Stimulus;
use waltron_core::quantity::fault_loop::FaultLoop;
use waltron_core::quantity::measures::Measures;
use waltron_core::quantity::phasor::{Phasor, Sequence};
use waltron_core::quantity::{Frequency, Measure, amperes, degrees, seconds};

fn hertz(f: f64) -> Frequency {
    Frequency::from_si(f)
}

fn one_phase(i: f64) -> Stimulus {
    Stimulus::phase_currents(FaultLoop::AN.currents(amperes(i)), hertz(50.0))
}

fn any_loop() -> impl Strategy<Value = FaultLoop> {
    prop::sample::select(FaultLoop::ALL.to_vec())
}

proptest! {
    /// A phase-to-phase or balanced injection has no residual; each loop's name reads back.
    #[test]
    fn loops_feed_what_their_names_say(fault_loop in any_loop(), i in 0.01f64..50.0) {
        let phases = fault_loop.currents(amperes(i)).map(Phasor::complex);
        let fed = phases.iter().filter(|p| p.norm() > 0.0).count();
        prop_assert_eq!(fed, fault_loop.name().split('-').filter(|p| *p != "N").count());
        let residual = Measures::Residual.value(phases).si();
        let expected = if fault_loop.name().ends_with('N') { i } else { 0.0 };
        prop_assert!((residual - expected).abs() < 1e-12 * i.max(1.0));
        prop_assert_eq!(FaultLoop::parse(fault_loop.name()), Some(fault_loop));
    }

    /// Components add up to the phases again: Ia = I0 + I1 + I2.
    #[test]
    fn components_add_up(values in prop::array::uniform3((0.0f64..10.0, -180.0f64..180.0))) {
        let phases = values.map(|(rms, deg)| Phasor::new(amperes(rms), degrees(deg)).complex());
        let s = Sequence::of(phases);
        prop_assert!((s.zero + s.positive + s.negative - phases[0]).norm() < 1e-12);
        // Turning all phases turns all components and changes no magnitude.
        let turned = Sequence::of(phases.map(|p| p * num_complex::Complex64::from_polar(1.0, 0.7)));
        prop_assert!((turned.negative.norm() - s.negative.norm()).abs() < 1e-12);
    }

    /// What the stair puts out at its ends is what was asked, and levels rise evenly between.
    #[test]
    fn stairs_begin_and_end_where_they_should(from in 0.1f64..5.0, rise in 0.1f64..5.0, steps in 1u32..200, pulses: bool) {
        let rest = pulses.then(|| Rest { stimulus: Stimulus::off(), time: seconds(0.3) });
        let stairs = Stairs { from: one_phase(from), to: one_phase(from + rise), steps, dwell: seconds(0.1), rest };
        let level = |n: u32| stairs.level(n).complex_phase_currents()[0].norm();
        prop_assert!((level(0) - from).abs() < 1e-12);
        prop_assert!((level(steps) - from - rise).abs() < 1e-9);
        for n in 1..=steps.min(20) {
            prop_assert!((level(n) - level(n - 1) - rise / f64::from(steps)).abs() < 1e-9);
        }
        // Time tells the level again, in the middle of any level.
        let n = steps / 2;
        let middle = stairs.period() * f64::from(n) + seconds(0.05);
        prop_assert_eq!(stairs.level_at(middle), n);
        prop_assert_eq!(stairs.level_at(stairs.length() * 2.0), steps);
        let segment = Segment::new("ramp", Profile::Stairs(stairs.clone()), vec![]);
        let total: f64 = segment.levels().iter().map(|(_, t)| t.si()).sum();
        prop_assert!((total - stairs.length().si()).abs() < 1e-9);
    }

    /// Programs come back from their written form unchanged, and so does their digest.
    #[test]
    fn programs_round_trip(i in 0.0f64..30.0, angle in -180i32..180, t in 0.001f64..100.0, steps in 0u32..9) {
        let phasor = Phasor::new(amperes(i), degrees(f64::from(angle)));
        let held = Stimulus::phase_currents([phasor, Phasor::zero(), phasor], hertz(49.5));
        let stairs = Stairs { from: held.clone(), to: one_phase(2.0), steps, dwell: seconds(t), rest: None };
        let program = Program::of(vec![
            Segment::hold("fault", held, seconds(t)).until(Stop::on_contact("trip".into(), true)),
            Segment::new("ramp", Profile::Stairs(stairs), vec![Stop::after(seconds(t))]),
        ]);
        let text = serde_json::to_string(&program).unwrap();
        let back: Program = serde_json::from_str(&text).unwrap();
        prop_assert_eq!(serde_json::to_string(&back).unwrap(), text);
        prop_assert_eq!(back.longest(), program.longest());
    }
}

#[test]
fn mixing_moves_a_channel_that_only_one_side_drives_from_or_to_zero() {
    let a = one_phase(4.0);
    let b = Stimulus::phase_currents(FaultLoop::BN.currents(amperes(2.0)), hertz(60.0));
    let middle = a.toward(&b, 0.25).complex_phase_currents();
    assert!((middle[0].norm() - 3.0).abs() < 1e-12 && (middle[1].norm() - 0.5).abs() < 1e-12);
    let maxima = Program::of(vec![Segment::hold("x", a.toward(&b, 0.5), seconds(1.0))]).maxima();
    assert_eq!(
        maxima.iter().map(|(c, v, _)| (c.as_str(), *v)).collect::<Vec<_>>(),
        [("ia", 2.0), ("ib", 1.0)]
    );
}

#[test]
fn the_written_form_carries_units_in_its_names() {
    let program = Program::of(vec![
        Segment::hold("fault", one_phase(5.0), seconds(0.2))
            .until(Stop::on_contact("trip".into(), true)),
    ]);
    let json = serde_json::to_value(&program).unwrap();
    let segment = &json["segments"][0];
    assert_eq!(segment["profile"]["hold"][0]["rms_a"], 5.0);
    assert_eq!(segment["profile"]["hold"][0]["frequency_hz"], 50.0);
    assert_eq!(segment["stops"][0]["when"]["contact"]["signal"], "trip");
    assert_eq!(segment["stops"][1]["when"]["after_s"], 0.2);
    assert_eq!(program.segments[0].stops[0].then, Then::End);
}

proptest! {
    /// A wave with everything it can have is written and read back, and moving to another one is
    /// linear in each of its parts.
    #[test]
    fn whole_waves_round_trip_and_mix_linearly(
        rms in 0.0f64..30.0, order in 2u32..50, share in 0.001f64..0.5, angle in -170i32..170,
        dc in -5.0f64..5.0, tau in 0.01f64..1.0, rate in -2.0f64..2.0, mix in 0.0f64..1.0,
    ) {
        use waltron_core::injection::stimulus::{Dc, Drive, Harmonic};
        let mut wave = Drive::sine("ia".into(), Phasor::new(amperes(rms), degrees(f64::from(angle))), hertz(50.0));
        wave.rate_hz_per_s = rate;
        wave.set_harmonic(Harmonic::new(order, share, degrees(f64::from(-angle))));
        wave.dc = Dc::constant(amperes(dc)).decaying(seconds(tau));
        let held = Stimulus { currents: vec![wave.clone()], voltages: vec![] };
        let text = serde_json::to_string(&held).unwrap();
        let back: Stimulus = serde_json::from_str(&text).unwrap();
        prop_assert_eq!(serde_json::to_string(&back).unwrap(), text);
        let expected = (rms * rms * (1.0 + share * share) + dc * dc).sqrt();
        prop_assert!((wave.true_rms().si() - expected).abs() < 1e-9);

        let plain = Drive::sine("ia".into(), Phasor::new(amperes(1.0), degrees(0.0)), hertz(60.0));
        let mixed = plain.toward(&wave, mix);
        let harmonic = mixed.harmonics.first().map_or(0.0, |h| h.share());
        prop_assert!((harmonic - share * mix).abs() < 1e-12);
        prop_assert!((mixed.dc.unwrap().value().si() - dc * mix).abs() < 1e-12);
        prop_assert!((mixed.frequency.si() - (60.0 - 10.0 * mix)).abs() < 1e-9);
        prop_assert!((mixed.phasor.rms().si() - (1.0 + (rms - 1.0) * mix)).abs() < 1e-9);
    }
}
