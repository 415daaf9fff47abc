use super::*;
use crate::injection::program::{Profile, Program, Segment, Slope};
use crate::injection::samples::spectrum::Spectrum;
use crate::injection::stimulus::{Dc, Drive, Harmonic, Stimulus};
use crate::quantity::phasor::Phasor;
use crate::quantity::{Frequency, Measure, Voltage, amperes, degrees, seconds};
use crate::text::name::Name;
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
        let found = crate::injection::samples::spectrum::frequency(
            &samples(&program, 10_000.0),
            10_000.0,
            50.0,
        )
        .unwrap();
        assert!((found - hz).abs() < 0.003, "{hz}: {found}");
    }
    assert_eq!(crate::injection::samples::spectrum::frequency(&[0.0; 2000], 10_000.0, 50.0), None);
    assert_eq!(
        crate::injection::samples::spectrum::frequency(&[1.0; 2000], 10_000.0, 50.0),
        None,
        "no swing, no frequency"
    );
    assert_eq!(crate::injection::samples::spectrum::frequency(&[1.0, -1.0], 10_000.0, 50.0), None);
}

/// A wave as its formula says, sample by sample: RMS and phase of each order, and an offset.
fn formula(hz: f64, rate: f64, count: usize, orders: &[(f64, f64, f64)], dc: f64) -> Vec<f64> {
    let at = |k: usize| {
        let turn = std::f64::consts::TAU * hz * k as f64 / rate;
        let one = |(n, rms, phase): &(f64, f64, f64)| {
            rms * std::f64::consts::SQRT_2 * (n * turn + phase).cos()
        };
        dc + orders.iter().map(one).sum::<f64>()
    };
    (0..count).map(at).collect()
}

/// 5 A at 49.4 Hz over 100 cycles, as a generator off the grid gives it.
#[test]
fn long_windows_find_a_frequency_far_from_nominal() {
    for rate in [600.0, 1000.0, 4800.0, 10_000.0] {
        let orders = [(1.0, 5.0, 0.3), (3.0, 0.5, -1.0), (5.0, 0.25, 2.0)];
        let samples = formula(49.4, rate, (2.0 * rate) as usize, &orders, 0.2);
        let hz = crate::injection::samples::spectrum::frequency(&samples, rate, 50.0).unwrap();
        assert!((hz - 49.4).abs() < 1e-5, "{rate}: {hz}");
        let found = Spectrum::of(&samples, rate, hz, 5);
        let near = |a: f64, b: f64| assert!((a - b).abs() < 1e-4, "{rate}: {a}, not {b}");
        near(found.fundamental.norm(), 5.0);
        near(found.fundamental.arg(), 0.3);
        near(found.share(3), 0.1);
        near(found.share(5), 0.05);
        near(found.dc, 0.2);
        near(found.rms, (25.0_f64 + 0.25 + 0.0625 + 0.04).sqrt());
        near(found.thd(), 0.0125_f64.sqrt());
    }
}

proptest! {
    /// Whatever the frequency, the length, the rate and what is mixed in, the wave reads back.
    #[test]
    fn a_steady_wave_reads_back(
        off in 0.45f64..2.0, cycles in 4.0f64..120.0, per_cycle in 16.0f64..200.0,
        phase in -3.0f64..3.0, third in 0.0f64..0.3, dc in -1.0f64..1.0,
    ) {
        let (hz, rate) = (50.0 * off, 50.0 * off * per_cycle);
        let count = (cycles * per_cycle / off.min(1.0)) as usize + 2;
        let orders = [(1.0, 5.0, phase), (3.0, 5.0 * third, 1.0)];
        let samples = formula(hz, rate, count, &orders, dc);
        let found = crate::injection::samples::spectrum::frequency(&samples, rate, 50.0);
        let found = found.ok_or_else(|| TestCaseError::fail("no frequency"))?;
        prop_assert!((found - hz).abs() < 2e-3 * hz / cycles, "{hz} Hz: {found}");
        let spectrum = Spectrum::of(&samples, rate, found, 3);
        prop_assert!((spectrum.fundamental.norm() - 5.0).abs() < 0.01);
        prop_assert!((spectrum.share(3) - third).abs() < 5e-3);
        prop_assert!((spectrum.dc - dc).abs() < 0.01);
    }
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
    let segment = Segment::new("up", Profile::Slope(slope), Vec::new());
    let program = Program::of(vec![segment]);
    let seen = crate::injection::observation::Observation {
        segments: vec![crate::injection::observation::Span {
            start: seconds(0.0),
            end: seconds(4.0),
            ended: crate::injection::observation::Ended::Stop(0),
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
                Segment::new("ramp", Profile::Slope(Slope { through: vec![a, b], time }), Vec::new())
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

/// Samples of one channel of a program.
fn channel(program: &Program, name: &str, rate: f64) -> Vec<f64> {
    let wave = render(&pieces(program, None), rate).unwrap();
    wave.channels.into_iter().find(|c| c.name == name).unwrap().samples
}

fn amps(rms: f64, deg: f64, hz: f64) -> Drive<crate::quantity::Current> {
    Drive::sine(Name::from("ia"), Phasor::new(amperes(rms), degrees(deg)), Frequency::from_si(hz))
}

proptest! {
    /// A current that comes on late has its angle against the voltage that was there before, whatever
    /// the time, and whatever the frequency did meanwhile: shifted onto the voltage it is the voltage.
    #[test]
    fn what_comes_on_late_keeps_its_angle(ms in 1u32..900, hz in 45.0f64..55.0, ramped: bool, deg in -180.0f64..180.0) {
        let before = volts(wave(100.0, 0.0, 50.0));
        let first = if ramped {
            let through = vec![before, volts(wave(100.0, 0.0, hz))];
            let time = seconds(f64::from(ms) / 1000.0);
            Segment::new("ramp", Profile::Slope(Slope { through, time }), Vec::new())
        } else {
            Segment::hold("before", volts(wave(100.0, 0.0, hz)), seconds(f64::from(ms) / 1000.0))
        };
        let mut both = volts(wave(100.0, 0.0, hz));
        both.currents.push(amps(100.0, 0.0, hz));
        let mut turned = both.clone();
        turned.currents = vec![amps(100.0, deg, hz)];
        let rate = 20_000.0;
        let with = |s: Stimulus| Program::of(vec![first.clone(), Segment::hold("fault", s, seconds(0.1))]);
        let (v, i) = (channel(&with(both.clone()), "va", rate), channel(&with(both), "ia", rate));
        let from = (f64::from(ms) * 20.0) as usize + 1;
        for k in from..v.len() {
            prop_assert!((v[k] - i[k]).abs() < 1e-6, "sample {k}: {} {}", v[k], i[k]);
        }
        // Turned by an angle it is a quadrature mix of itself and of itself a quarter turn on.
        let quarter = |s: &mut Stimulus| s.currents = vec![amps(100.0, 90.0, hz)];
        let mut ahead = turned.clone();
        quarter(&mut ahead);
        let (t, a) = (channel(&with(turned), "ia", rate), channel(&with(ahead), "ia", rate));
        let (sin, cos) = deg.to_radians().sin_cos();
        for k in from..t.len() {
            prop_assert!((t[k] - (cos * i[k] + sin * a[k])).abs() < 1e-6);
        }
    }

    /// What goes off at zero is at zero then: direct component and harmonics included, and no earlier
    /// zero was passed over.
    #[test]
    fn zeros_are_those_of_the_whole_wave(
        deg in -180.0f64..180.0, share in 0.0f64..0.3, dc in -1.3f64..1.3, tau in 0.02f64..0.2, ms in 5u32..400,
    ) {
        let mut drive = amps(5.0, deg, 50.0);
        drive.set_harmonic(crate::injection::stimulus::Harmonic::new(3, share, degrees(40.0)));
        let peak = 5.0 * 2f64.sqrt();
        drive.dc = Dc::constant(amperes(dc * peak)).decaying(seconds(tau));
        let on = Stimulus { currents: vec![drive], voltages: vec![] };
        let time = f64::from(ms) / 1000.0;
        let short = Program::of(vec![Segment::hold("on", on.clone(), seconds(time))]);
        let zeros = next_zeros(&pieces(&short, None));
        let at = zeros[0].1.si();
        prop_assert!(at >= time && at < time + 1.0);
        // The same wave going on: beside the zero it has both signs, before it only one.
        let longer = Program::of(vec![Segment::hold("on", on, seconds(at + 0.01))]);
        let rate = 1e6;
        let s = channel(&longer, "ia", rate);
        let k = (at * rate).round() as usize;
        prop_assert!(s[k].abs() < peak * 2.0 * std::f64::consts::TAU * 50.0 / rate * 4.0, "{} at {at}", s[k]);
        let first = (time * rate).ceil() as usize + 1;
        if first + 2 < k {
            let sign = s[first].signum();
            prop_assert!(s[first..k - 2].iter().all(|v| v.signum() == sign));
        }
    }
}

#[test]
fn a_wave_without_zeros_goes_off_at_once_and_none_hangs() {
    let with = |rms: f64, dc: f64, hz: f64| {
        let mut drive = amps(rms, 0.0, hz);
        drive.dc = Some(Dc::constant(amperes(dc)));
        let on = Stimulus { currents: vec![drive], voltages: vec![] };
        let program = Program::of(vec![Segment::hold("on", on, seconds(0.1))]);
        next_zeros(&pieces(&program, None))[0].1.si()
    };
    assert_eq!(with(1.0, 5.0, 50.0), 0.1);
    assert_eq!(with(0.0, 5.0, 50.0), 0.1);
    assert_eq!(with(1.0, 0.0, 0.0), 0.1, "what does not swing");
    assert!((with(1.0, 0.0, 50.0) - 0.105).abs() < 1e-9, "a cosine, five periods on");
}

/// The reference passes an angle at a time that is counted on through what was really put out.
#[test]
fn the_reference_runs_on_through_everything() {
    let held = volts(wave(57.7, 0.0, 50.0));
    let through = |time: f64| {
        let program = Program::of(vec![Segment::hold("x", held.clone(), seconds(time))]);
        Reference::of(&pieces(&program, None))
    };
    // Angle 0 is the rising zero, a quarter period before the peak at t = 0: 15 ms after it.
    for (before, angle, after, expected) in [
        (0.0, 0.0, 0.0, 0.015),
        (0.1, 90.0, 0.0, 0.0),
        (0.107, 90.0, 0.0, 0.013),
        (0.107, 90.0, 0.05, 0.053),
    ] {
        let at = through(before).reaches(&held, degrees(angle), seconds(after)).unwrap().si();
        assert!((at - expected).abs() < 1e-9, "{before} {angle}: {at}");
    }
    assert_eq!(through(0.1).reaches(&Stimulus::off(), degrees(0.0), seconds(0.0)), None);
}

/// A long window tells the frequency as well as a short one, whichever way its samples were made.
#[test]
fn a_frequency_is_found_in_windows_of_any_length() {
    use crate::injection::samples::spectrum::{frequency, frequency_near};
    for (hertz, seconds) in [(50.0, 0.2), (50.0, 2.0), (50.0, 20.0), (49.37, 20.0), (60.0, 7.3)] {
        let samples: Vec<f64> = (0..(seconds * 12_800.0) as usize)
            .map(|k| (std::f64::consts::TAU * hertz * k as f64 / 12_800.0 + 1.0).sin())
            .collect();
        let found = frequency(&samples, 12_800.0, 50.0);
        assert!((found.unwrap_or(0.0) - hertz).abs() < 1e-6, "{hertz} Hz, {seconds} s: {found:?}");
        let near = frequency_near(&samples, 12_800.0, hertz);
        assert!((near.unwrap_or(0.0) - hertz).abs() < 1e-6, "{hertz} Hz, {seconds} s: {near:?}");
    }
}

proptest! {
    /// However it is cut into blocks, a stream has the samples of the whole wave: frequencies that
    /// change and move, harmonics, decaying offsets, channels that come and go, changes between samples.
    #[test]
    fn a_stream_has_the_samples_of_the_whole_wave(
        parts in proptest::collection::vec(
            (1u32..80_000, 40.0f64..60.0, -5.0f64..5.0, -180.0f64..180.0, 0.0f64..0.5, any::<bool>()),
            1..6,
        ),
        blocks in proptest::collection::vec(1usize..700, 1..8),
    ) {
        let held = |(hz, rate, deg, share, second): (f64, f64, f64, f64, bool)| {
            let mut first = wave(57.7, deg, hz);
            first.rate_hz_per_s = rate;
            first.set_harmonic(Harmonic::new(3, share, degrees(30.0)));
            first.dc = Dc::constant(Voltage::from_si(12.0)).decaying(seconds(0.03));
            let mut out = volts(first);
            if second {
                out.currents.push(amps(5.0, -deg, hz));
            }
            out
        };
        let mut segments = Vec::new();
        let mut stream = Stream::new(4000.0);
        let mut at = 0.0;
        for (n, (tens_us, hz, rate, deg, share, second)) in parts.into_iter().enumerate() {
            let length = f64::from(tens_us) * 1e-5;
            let out = held((hz, rate, deg, share, second));
            stream.put_out(at, out.clone());
            segments.push(Segment::hold(&format!("s{n}"), out, seconds(length)));
            at += length;
        }
        let program = Program::of(segments);
        let whole = render(&pieces(&program, None), 4000.0).unwrap();
        let channels: Vec<(Name, bool)> =
            whole.channels.iter().map(|c| (c.name.clone(), c.is_current)).collect();
        let mut rows = vec![Vec::new(); channels.len()];
        for block in blocks.iter().cycle() {
            let left = whole.channels[0].samples.len() - rows[0].len();
            if left == 0 {
                break;
            }
            let taken = stream.take(&channels, (*block).min(left));
            rows.iter_mut().zip(taken).for_each(|(row, mut more)| row.append(&mut more));
        }
        for (row, channel) in rows.iter().zip(&whole.channels) {
            for (k, (a, b)) in row.iter().zip(&channel.samples).enumerate() {
                prop_assert!((a - b).abs() < 1e-6, "{} {k}: {a} {b}", channel.name);
            }
        }
    }
}
