use super::spectrum::Spectrum;
use super::*;
use crate::name::Name;
use crate::phasor::Phasor;
use crate::program::{Profile, Program, Segment, Slope};
use crate::quantity::{Frequency, Measure, Voltage, amperes, degrees, seconds};
use crate::stimulus::{Dc, Drive, Harmonic, Stimulus};
use proptest::prelude::*;

fn wave(rms: f64, deg: f64, hz: f64) -> Drive<Voltage> {
    let phasor = Phasor::new(Voltage::from_si(rms), degrees(deg));
    Drive::sine(Name::from("va"), phasor, Frequency::from_si(hz))
}

fn volts(drive: Drive<Voltage>) -> Stimulus {
    Stimulus { currents: Vec::new(), voltages: vec![drive] }
}

fn samples(program: &Program, rate: f64) -> Vec<f64> {
    render(&pieces(program, None), rate).unwrap().channels.remove(0).samples
}

/// What goes in comes out: amplitudes, angles and DC, by a formula written apart from the synthesis.
#[test]
fn a_harmonic_mix_reads_back() {
    let mut drive = wave(100.0, 30.0, 50.0);
    let given = [(3, 0.2, 0.0), (5, 0.1, 180.0), (7, 0.05, -45.0)];
    for (order, share, deg) in given {
        drive.set_harmonic(Harmonic::new(order, share, degrees(deg)));
    }
    drive.dc = Some(Dc::constant(Voltage::from_si(4.0)));
    let expected_rms = drive.true_rms().si();
    let program = Program::of(vec![Segment::hold("x", volts(drive.clone()), seconds(0.2))]);
    let s = samples(&program, 10_000.0);
    let psi = |k: usize| std::f64::consts::TAU * 50.0 * k as f64 / 10_000.0 + 120f64.to_radians();
    for k in [0, 1, 777, 1999] {
        let by_hand = 100.0
            * 2f64.sqrt()
            * (psi(k).sin()
                + 0.2 * (3.0 * psi(k)).sin()
                + 0.1 * (5.0 * psi(k) + std::f64::consts::PI).sin()
                + 0.05 * (7.0 * psi(k) - std::f64::consts::FRAC_PI_4).sin())
            + 4.0;
        assert!((s[k] - by_hand).abs() < 1e-9, "sample {k}: {} {by_hand}", s[k]);
    }
    let found = Spectrum::of(&s, 10_000.0, 50.0, 20);
    assert!((found.fundamental.norm() - 100.0).abs() < 1e-9);
    assert!((found.fundamental.arg().to_degrees() - 30.0).abs() < 1e-9);
    for (order, share, deg) in given {
        assert!((found.share(order) - share).abs() < 1e-12);
        let off =
            (found.harmonic_angle(order).to_degrees() - deg + 540.0).rem_euclid(360.0) - 180.0;
        assert!(off.abs() < 1e-6, "order {order}: {off} deg off");
    }
    assert!((found.dc - 4.0).abs() < 1e-9);
    assert!((found.rms - expected_rms).abs() < 1e-9);
    assert!((found.thd() - (0.04f64 + 0.01 + 0.0025).sqrt()).abs() < 1e-12);
}

#[test]
fn the_frequency_is_found_off_nominal() {
    for hz in [47.3, 49.99, 50.0, 51.7] {
        let program =
            Program::of(vec![Segment::hold("x", volts(wave(60.0, 10.0, hz)), seconds(0.2))]);
        let found = spectrum::frequency(&samples(&program, 10_000.0), 10_000.0, 50.0).unwrap();
        assert!((found - hz).abs() < 0.003, "{hz}: {found}");
    }
    assert_eq!(spectrum::frequency(&[0.0; 2000], 10_000.0, 50.0), None);
}

#[test]
fn a_decaying_offset_decays_with_its_time_constant() {
    let mut drive = wave(0.0, 0.0, 50.0);
    drive.dc = Dc::constant(Voltage::from_si(10.0)).decaying(seconds(0.05));
    let program = Program::of(vec![
        Segment::hold("before", volts(wave(0.0, 0.0, 50.0)), seconds(0.03)),
        Segment::hold("x", volts(drive), seconds(0.2)),
    ]);
    let s = samples(&program, 1000.0);
    assert_eq!(s[29], 0.0);
    assert!((s[30] - 10.0).abs() < 1e-9 && (s[80] - 10.0 / std::f64::consts::E).abs() < 1e-9);
}

#[test]
fn what_was_stopped_early_is_shorter_and_what_is_too_long_is_refused() {
    let slope = Slope {
        through: vec![volts(wave(0.0, 0.0, 50.0)), volts(wave(100.0, 0.0, 50.0))],
        time: seconds(10.0),
    };
    let segment = Segment { name: "up".into(), profile: Profile::Slope(slope), stops: Vec::new() };
    let program = Program::of(vec![segment]);
    let seen = crate::observation::Observation {
        segments: vec![crate::observation::Span {
            start: seconds(0.0),
            end: seconds(4.0),
            ended: crate::observation::Ended::Stop(0),
        }],
        ..Default::default()
    };
    let stopped = pieces(&program, Some(&seen));
    assert!((stopped[0].to.as_ref().unwrap().voltages[0].phasor.rms().si() - 40.0).abs() < 1e-9);
    assert_eq!(render(&stopped, 1000.0).unwrap().channels[0].samples.len(), 4000);
    assert!(render(&pieces(&program, None), 1e9).unwrap_err().to_string().contains("lower rate"));
}

proptest! {
    /// Phase continuity: over changes of segment and frequency ramps of one amplitude, no two
    /// samples differ by more than the steepest slope of a sine of the highest frequency explains.
    #[test]
    fn there_are_no_jumps(hz in proptest::collection::vec(40.0f64..60.0, 2..6), ramp in proptest::collection::vec(any::<bool>(), 5), ms in 7u32..300) {
        let mut segments = Vec::new();
        for (k, pair) in hz.windows(2).enumerate() {
            let (a, b) = (volts(wave(100.0, 20.0, pair[0])), volts(wave(100.0, 20.0, pair[1])));
            let time = seconds(f64::from(ms) / 1000.0 + 0.00037);
            segments.push(if ramp[k] {
                Segment { name: "ramp".into(), profile: Profile::Slope(Slope { through: vec![a, b], time }), stops: Vec::new() }
            } else {
                Segment::hold("hold", a, time)
            });
        }
        let s = samples(&Program::of(segments), 8000.0);
        let steepest = 100.0 * 2f64.sqrt() * std::f64::consts::TAU * 60.0 / 8000.0;
        for pair in s.windows(2) {
            prop_assert!((pair[1] - pair[0]).abs() <= steepest * (1.0 + 1e-9));
        }
    }

    /// The rotating phasors do not drift: an hour's worth of angle is as exact as the first cycle.
    #[test]
    fn long_waves_stay_exact(hz in 45.0f64..65.0, deg in -180.0f64..180.0) {
        let drive = Drive::sine(Name::from("ia"), Phasor::new(amperes(5.0), degrees(deg)), Frequency::from_si(hz));
        let program = Program::of(vec![Segment::hold("x", Stimulus { currents: vec![drive], voltages: vec![] }, seconds(20.0))]);
        let s = samples(&program, 5000.0);
        for k in [0usize, 1023, 1024, 50_001, 99_999] {
            let by_hand = 5.0 * 2f64.sqrt() * (std::f64::consts::TAU * hz * k as f64 / 5000.0 + deg.to_radians()).cos();
            prop_assert!((s[k] - by_hand).abs() < 1e-7);
        }
    }
}
