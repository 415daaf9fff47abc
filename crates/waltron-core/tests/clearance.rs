//! Clearance against an independent reckoning of what would come out.

use proptest::prelude::*;
use waltron_core::asset::{Rating, Ratings, Withstand};
use waltron_core::clearance::{Refusal, clear};
use waltron_core::injection::capability::Discharge;
use waltron_core::injection::measuring::{Probe, Property};
use waltron_core::injection::program::{
    Condition, Finish, Profile, Program, Relation, Rest, Segment, Slope, Stairs, Stop, Then,
};
use waltron_core::injection::stimulus::{Dc, Drive, Harmonic, Stimulus};
use waltron_core::quantity::phasor::Phasor;
use waltron_core::quantity::{Dimension, Frequency, Measure, Voltage, amperes, degrees, seconds};
use waltron_core::text::name::Name;
use waltron_test_support::{CURRENT_RANGE_A, VOLTAGE_RANGE_V, capability};

const CONTINUOUS_A: f64 = 10.0;
/// The rating above it, for so many seconds.
const SHORT: (f64, f64) = (40.0, 2.0);
const CONTINUOUS_V: f64 = 200.0;

fn ratings() -> Ratings {
    let current = |i, t| Rating { value: amperes(i), duration: t };
    let volts = |v, t| Rating { value: Voltage::from_si(v), duration: t };
    Ratings {
        currents: Withstand::new(vec![
            current(CONTINUOUS_A, None),
            current(SHORT.0, Some(seconds(SHORT.1))),
        ]),
        voltages: Withstand::new(vec![volts(CONTINUOUS_V, None)]),
        ..Ratings::unknown(Some(Frequency::from_si(50.0)))
    }
}

fn hertz(f: f64) -> Frequency {
    Frequency::from_si(f)
}

fn drive<Q: Measure>(id: &str, rms: f64, angle: f64, share: f64, dc: f64) -> Drive<Q> {
    let phasor = Phasor::new(Q::from_si(rms), degrees(angle));
    let mut drive = Drive::sine(Name::from(id), phasor, hertz(50.0));
    if share != 0.0 {
        drive.set_harmonic(Harmonic::new(3, share, degrees(0.0)));
    }
    if dc != 0.0 {
        drive.dc = Some(Dc::constant(Q::from_si(dc)));
    }
    drive
}

/// Currents and voltages of all signs and sizes, as careless arithmetic makes them.
fn stimulus() -> impl Strategy<Value = Stimulus> {
    let size = || prop_oneof![-80.0f64..80.0, Just(0.0), Just(f64::NAN), Just(f64::NEG_INFINITY)];
    let current = (size(), -180.0f64..180.0, -0.5f64..0.5, -8.0f64..8.0)
        .prop_map(|(rms, angle, share, dc)| drive("ia", rms, angle, share, dc));
    let voltage = (-400.0f64..400.0, -180.0f64..180.0)
        .prop_map(|(rms, angle)| drive("va", rms, angle, 0.0, 0.0));
    (proptest::collection::vec(current, 0..2), proptest::collection::vec(voltage, 0..2))
        .prop_map(|(currents, voltages)| Stimulus { currents, voltages })
}

fn segment() -> impl Strategy<Value = Segment> {
    let hold = (stimulus(), 0.01f64..6.0).prop_map(|(s, t)| Segment::hold("hold", s, seconds(t)));
    let stairs = (stimulus(), stimulus(), 1u32..6, 0.05f64..0.6, any::<bool>()).prop_map(
        |(from, to, steps, dwell, rests)| {
            let rest = rests.then(|| Rest { stimulus: Stimulus::off(), time: seconds(0.2) });
            let profile = Profile::Stairs(Stairs { from, to, steps, dwell: seconds(dwell), rest });
            Segment::new("stairs", profile, Vec::new())
        },
    );
    let slope = (stimulus(), stimulus(), 0.1f64..3.0).prop_map(|(from, to, time)| {
        let profile = Profile::Slope(Slope { through: vec![from, to], time: seconds(time) });
        Segment::new("slope", profile, Vec::new())
    });
    (prop_oneof![hold, stairs, slope], any::<bool>()).prop_map(|(segment, stops)| {
        let stop = Stop {
            when: Condition::Contact { signal: "trip".into(), closed: true },
            then: Then::End,
        };
        if stops { segment.until(stop) } else { segment }
    })
}

/// The largest true RMS value on a channel at a moment of the profile, by its own arithmetic.
fn size<Q: Measure>(drives: &[Drive<Q>]) -> f64 {
    let of = |d: &Drive<Q>| {
        let shares: f64 = d.harmonics.iter().map(|h| h.share().powi(2)).sum();
        let dc = d.dc.map_or(0.0, |dc| dc.value().si());
        (d.phasor.rms().si().powi(2) * (1.0 + shares) + dc * dc).sqrt()
    };
    drives.iter().map(of).fold(0.0, f64::max)
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(600))]

    /// Whatever is cleared stays within range and ratings when it is looked at moment by moment,
    /// whatever its signs; and what stays on can be withstood for ever.
    #[test]
    fn what_is_cleared_stays_within_every_limit(
        segments in proptest::collection::vec(segment(), 1..4), keep: bool,
    ) {
        let finish = if keep { Finish::Keep } else { Finish::Off };
        let program = Program { segments, finish, ..Program::default() };
        let cleared = clear(program.clone(), &ratings(), &capability(&["trip"]));
        let (mut worst_a, mut worst_v, mut used) = (0.0_f64, 0.0_f64, 0.0_f64);
        for segment in &program.segments {
            let length = segment.longest().unwrap().si();
            let n = 400;
            for k in 0..n {
                let at = segment.profile.at(seconds(length * (f64::from(k) + 0.5) / f64::from(n)));
                let (i, v) = (size(&at.currents), size(&at.voltages));
                prop_assert!(i >= 0.0 && v >= 0.0);
                worst_a = worst_a.max(i);
                worst_v = worst_v.max(v);
                if i > CONTINUOUS_A {
                    used += i * i * length / f64::from(n) / (SHORT.0 * SHORT.0 * SHORT.1);
                }
            }
        }
        let fits = worst_a <= SHORT.0.min(CURRENT_RANGE_A)
            && worst_v <= CONTINUOUS_V.min(VOLTAGE_RANGE_V)
            && used <= 1.0 + 1e-6;
        if cleared.is_ok() {
            prop_assert!(fits, "cleared with {worst_a} A, {worst_v} V, {used} of the rating");
            if keep {
                let last = program.segments.last().unwrap().profile.last();
                prop_assert!(size(&last.currents) <= CONTINUOUS_A);
            }
        }
    }
}

fn refusals(program: Program) -> Vec<Refusal> {
    clear(program, &ratings(), &capability(&["trip"])).err().unwrap_or_default()
}

fn current(rms: f64) -> Stimulus {
    Stimulus { currents: vec![drive("ia", rms, 0.0, 0.0, 0.0)], voltages: Vec::new() }
}

fn voltage(rms: f64) -> Stimulus {
    Stimulus { currents: Vec::new(), voltages: vec![drive("va", rms, 0.0, 0.0, 0.0)] }
}

/// A negative magnitude is as large as a positive one; a number that is none is refused.
#[test]
fn no_sign_slips_through() {
    let held = |s| refusals(Program::of(vec![Segment::hold("h", s, seconds(1.0))]));
    for rms in [-500.0, 500.0, f64::NAN, f64::NEG_INFINITY] {
        let found = held(current(rms));
        assert!(found.iter().any(|r| matches!(r, Refusal::AboveRange { .. })), "{rms}: {found:?}");
        assert!(found.iter().any(|r| matches!(r, Refusal::AboveRating { .. })), "{rms}: {found:?}");
    }
    assert!(held(current(-9.0)).is_empty());
}

#[test]
fn voltages_are_checked_against_the_asset_too() {
    let held = |v| refusals(Program::of(vec![Segment::hold("h", voltage(v), seconds(1.0))]));
    assert!(held(CONTINUOUS_V).is_empty());
    assert!(
        matches!(&held(CONTINUOUS_V + 1.0)[..], [Refusal::AboveRating { channel, .. }] if channel == "va")
    );
}

/// A ramp that a contact may end leaves any of its levels on, not only the last one.
#[test]
fn any_level_that_may_stay_must_be_withstood_for_ever() {
    let down = |stops: Vec<Stop>| {
        let (from, to) = (current(30.0), current(1.0));
        let stairs = Stairs { from, to, steps: 10, dwell: seconds(0.02), rest: None };
        let segment = Segment::new("ramp", Profile::Stairs(stairs), stops);
        Program { segments: vec![segment], finish: Finish::Keep, ..Program::default() }
    };
    let contact = Condition::Contact { signal: "trip".into(), closed: true };
    let until = |when, then| vec![Stop { when, then }];
    assert!(refusals(down(Vec::new())).is_empty(), "it comes to its end at 1 A");
    let may_stay = refusals(down(until(contact.clone(), Then::End)));
    assert!(matches!(may_stay[..], [Refusal::Kept { .. }]), "{may_stay:?}");
    assert!(refusals(down(until(contact.clone(), Then::Off))).is_empty(), "a guard switches off");
    let cut = refusals(down(until(Condition::After(seconds(0.1)), Then::Next)));
    assert!(matches!(cut[..], [Refusal::Kept { .. }]), "a time limit cuts it short: {cut:?}");
    let early = Program {
        segments: vec![
            Segment::hold("first", current(30.0), seconds(0.1))
                .until(Stop { when: contact, then: Then::End }),
            Segment::hold("second", current(1.0), seconds(0.1)),
        ],
        finish: Finish::Keep,
        ..Program::default()
    };
    assert!(matches!(refusals(early)[..], [Refusal::Kept { .. }]));
}

/// What does not swing has no zero crossing and no period; nothing may wait for either.
#[test]
fn a_frequency_of_zero_or_less_is_refused() {
    let with = |f: f64, rate: f64| {
        let mut wave = current(1.0);
        wave.currents[0].frequency = hertz(f);
        wave.currents[0].rate_hz_per_s = rate;
        refusals(Program::of(vec![Segment::hold("h", wave, seconds(2.0))]))
    };
    assert!(with(50.0, 0.0).is_empty() && with(50.0, -20.0).is_empty());
    for (f, rate) in
        [(0.0, 0.0), (-50.0, 0.0), (50.0, -25.0), (f64::NAN, 0.0), (50.0, f64::INFINITY)]
    {
        let found = with(f, rate);
        assert!(
            matches!(found[..], [Refusal::NoFrequency { .. }]),
            "{f} Hz, {rate} Hz/s: {found:?}"
        );
    }
    // A direct current has none, but it is a number still.
    let direct = |f: f64, rate: f64| {
        let mut wave = current(0.0);
        wave.currents[0].dc = Some(Dc::constant(amperes(1.0)));
        wave.currents[0].frequency = hertz(f);
        wave.currents[0].rate_hz_per_s = rate;
        refusals(Program::of(vec![Segment::hold("h", wave, seconds(2.0))]))
    };
    assert!(direct(0.0, 0.0).is_empty() && direct(50.0, 0.0).is_empty());
    for (f, rate) in [(-50.0, 0.0), (f64::NAN, 0.0), (f64::INFINITY, 0.0), (0.0, f64::NAN)] {
        let found = direct(f, rate);
        assert!(matches!(found[..], [Refusal::NoFrequency { .. }]), "{f} Hz: {found:?}");
    }
}

fn stop(when: Condition) -> Stop {
    Stop { when, then: Then::End }
}

fn trip() -> Condition {
    Condition::Contact { signal: "trip".into(), closed: true }
}

fn probe(of: &str, what: Property) -> Probe {
    Probe { of: of.into(), what, dimension: Property::dimension(what, Dimension::CURRENT) }
}

/// What each refusal says, and about what: the attendant has nothing else to go by.
#[test]
fn every_refusal_names_its_cause_and_its_limit() {
    let held = |stimulus, time: f64| {
        let program = Program::of(vec![Segment::hold("h", stimulus, seconds(time))]);
        refusals(program).iter().map(ToString::to_string).collect::<Vec<_>>()
    };
    let nobody = Stimulus { currents: vec![drive("id", 1.0, 0.0, 0.0, 0.0)], voltages: Vec::new() };
    assert_eq!(held(nobody, 1.0), ["the rig has no output channel `id`"]);
    assert_eq!(
        held(current(41.0), 0.1),
        ["41 A on ia is above the asset's highest thermal rating, 40 A for 2 s"]
    );
    assert_eq!(
        held(current(65.0), 0.1),
        [
            "65 A on ia is above the rig's range of 64 A",
            "65 A on ia is above the asset's highest thermal rating, 40 A for 2 s"
        ]
    );
    assert_eq!(
        held(voltage(301.0), 0.1),
        [
            "301 V on va is above the rig's range of 300 V",
            "301 V on va is above the asset's highest thermal rating, 200 V continuous"
        ]
    );
    assert_eq!(
        held(current(20.0), 9.0),
        [
            "up to 20 A for up to 9 s on ia heats more than the asset's thermal rating of 40 A for 2 s allows"
        ]
    );
    let mut still = voltage(1.0);
    still.voltages[0].frequency = hertz(0.0);
    assert_eq!(held(still, 1.0), ["va would have a frequency of 0 Hz; it must be above 0 Hz"]);
    let mut watched = Program::of(vec![Segment::hold("h", current(1.0), seconds(1.0))]);
    watched.discharge = Some(Discharge { meter: "clamp".into(), below_a: 0.01 });
    let told: Vec<String> = refusals(watched).iter().map(ToString::to_string).collect();
    assert_eq!(
        told,
        ["the rig has no meter `clamp`, which is to tell when nothing flows any more"]
    );
}

/// 20 A are a quarter of 40 A's I²t: 8 s of them are all that 40 A for 2 s stands for, however
/// they are cut up; other channels and what may last for ever count for nothing.
#[test]
fn shares_of_a_rating_add_up_channel_by_channel() {
    let pulses = |times: &[f64], on: &str| {
        let pulse = |t: &f64| {
            let stimulus =
                Stimulus { currents: vec![drive(on, 20.0, 0.0, 0.0, 0.0)], voltages: Vec::new() };
            Segment::hold("pulse", stimulus, seconds(*t))
        };
        times.iter().map(pulse).collect::<Vec<_>>()
    };
    assert!(refusals(Program::of(pulses(&[8.0], "ia"))).is_empty());
    assert!(refusals(Program::of(pulses(&[4.0, 3.0, 1.0], "ia"))).is_empty());
    let mixed = [pulses(&[8.0], "ia"), pulses(&[8.0], "ib")].concat();
    assert!(refusals(Program::of(mixed)).is_empty());
    let mut long = pulses(&[8.0], "ia");
    long.push(Segment::hold("warm", current(CONTINUOUS_A), seconds(1e6)));
    assert!(refusals(Program::of(long)).is_empty());
    let found = refusals(Program::of(pulses(&[4.0, 3.0, 1.01], "ia")));
    let [Refusal::TooLong { channel, value, duration, limit }] = &found[..] else {
        panic!("{found:?}");
    };
    assert_eq!(
        [channel.as_str(), value, duration, limit],
        ["ia", "20 A", "8.01 s", "40 A for 2 s"]
    );
    // The largest of several values is told, in whatever order they come.
    let down = |first: f64, then: f64| {
        let segments = [first, then].map(|i| Segment::hold("h", current(i), seconds(4.0)));
        refusals(Program::of(segments.to_vec()))
    };
    for found in [down(30.0, 15.0), down(15.0, 30.0)] {
        assert!(
            matches!(&found[..], [Refusal::TooLong { value, .. }] if value == "30 A"),
            "{found:?}"
        );
    }
}

/// A kind of refusal is told once for each channel, and again for another channel.
#[test]
fn the_same_cause_is_told_once() {
    let both = Stimulus {
        currents: vec![drive("ia", 41.0, 0.0, 0.0, 0.0), drive("ib", 41.0, 0.0, 0.0, 0.0)],
        voltages: Vec::new(),
    };
    let segments = vec![
        Segment::hold("a", current(41.0), seconds(0.1)),
        Segment::hold("b", both, seconds(0.1)),
    ];
    let found = refusals(Program::of(segments));
    let channels: Vec<_> = found
        .iter()
        .map(|r| match r {
            Refusal::AboveRating { channel, .. } => channel.as_str(),
            other => panic!("{other}"),
        })
        .collect();
    assert_eq!(channels, ["ia", "ib"]);
    assert!(found[0].is_same_kind(&found[1]));
    assert!(!found[0].is_same_kind(&Refusal::Unbounded { segment: "a".into() }));
}

/// Nothing waits for what the rig cannot see, nothing lasts without an end.
#[test]
fn what_a_segment_waits_for_must_be_seen_and_come_to_an_end() {
    let until = |when: Condition| {
        let segment =
            Segment { stops: Vec::new(), ..Segment::hold("wait", current(1.0), seconds(1.0)) };
        refusals(Program::of(vec![segment.until(stop(when)).until(Stop::after(seconds(1.0)))]))
    };
    let contact = |signal: &str| Condition::Contact { signal: signal.into(), closed: true };
    let edge = |signal: &str| Condition::Edge { signal: signal.into(), closed: true };
    let reading = |of: &str| Condition::Reading {
        probe: probe(of, Property::Rms),
        relation: Relation::AtLeast,
        limit_si: 1.0,
    };
    let steady = |of: &str| Condition::Stable {
        probe: probe(of, Property::Rms),
        within: 0.1,
        time: seconds(0.1),
    };
    for fine in [contact("trip"), edge("trip"), reading("ia"), steady("va"), Condition::Mark] {
        assert_eq!(until(fine.clone()), [], "{fine:?}");
        assert_eq!(until(Condition::All(vec![fine.clone(), Condition::Mark])), [], "{fine:?}");
    }
    for (unseen, told) in [
        (contact("start"), "no input of the rig is wired to `start`"),
        (edge("start"), "no input of the rig is wired to `start`"),
        (reading("id"), "the rig does not measure `id`; is `ia` meant?"),
        (steady("id"), "the rig does not measure `id`; is `ia` meant?"),
    ] {
        for when in [unseen.clone(), Condition::Any(vec![trip(), unseen.clone()])] {
            let found = until(when);
            assert_eq!(found.iter().map(ToString::to_string).collect::<Vec<_>>(), [told]);
        }
    }
    let open =
        Segment { stops: vec![stop(trip())], ..Segment::hold("open", current(1.0), seconds(1.0)) };
    let found = refusals(Program::of(vec![open]));
    assert!(
        matches!(&found[..], [Refusal::Unbounded { segment }] if segment == "open"),
        "{found:?}"
    );
    let never = Segment::hold("never", current(1.0), seconds(f64::INFINITY));
    assert!(matches!(refusals(Program::of(vec![never]))[..], [Refusal::Unbounded { .. }]));
    let read = |of: &str| Program {
        reads: vec![probe(of, Property::Rms)],
        ..Program::of(vec![Segment::hold("h", current(1.0), seconds(1.0))])
    };
    assert!(refusals(read("vc")).is_empty());
    assert!(
        matches!(&refusals(read("id"))[..], [Refusal::NotMeasured { probe, .. }] if probe == "true_rms(id)")
    );
}

/// Only what cannot end before the last level leaves that level alone on; voltages count too.
#[test]
fn what_stays_on_is_judged_by_where_it_may_end() {
    let stairs = |stops: Vec<Stop>, finish| {
        let stairs = Stairs {
            from: voltage(250.0),
            to: voltage(100.0),
            steps: 9,
            dwell: seconds(0.1),
            rest: None,
        };
        let profile = Profile::Stairs(stairs);
        Program { finish, ..Program::of(vec![Segment::new("down", profile, stops)]) }
    };
    let ratings = Ratings {
        voltages: Withstand::new(vec![
            Rating { value: Voltage::from_si(CONTINUOUS_V), duration: None },
            Rating { value: Voltage::from_si(280.0), duration: Some(seconds(60.0)) },
        ]),
        ..ratings()
    };
    let refused =
        |program| clear(program, &ratings, &capability(&["trip"])).err().unwrap_or_default();
    let after = |t: f64, then| vec![Stop { when: Condition::After(seconds(t)), then }];
    assert!(refused(stairs(Vec::new(), Finish::Keep)).is_empty());
    assert!(refused(stairs(after(1.0, Then::Next), Finish::Keep)).is_empty(), "just its length");
    assert!(refused(stairs(after(0.5, Then::Off), Finish::Keep)).is_empty());
    assert!(refused(stairs(vec![stop(trip())], Finish::Off)).is_empty());
    for stops in [after(0.5, Then::Next), vec![stop(trip())], vec![stop(Condition::Mark)]] {
        let found = refused(stairs(stops, Finish::Keep));
        assert!(
            matches!(&found[..], [Refusal::Kept { channel, value }] if channel == "va" && value == "250 V")
        );
        assert!(found[0].to_string().contains("`then off`"));
    }
    // Going on after the first segment, only the last one can leave its outputs on.
    let then = |stops: Vec<Stop>| {
        let mut first = Segment::hold("first", voltage(250.0), seconds(1.0));
        first.stops.extend(stops);
        let last = Segment::hold("last", voltage(100.0), seconds(1.0));
        refused(Program { finish: Finish::Keep, ..Program::of(vec![first, last]) })
    };
    assert!(then(vec![Stop { when: trip(), then: Then::Next }]).is_empty());
    assert_eq!(then(vec![stop(trip())]).len(), 1);
}

/// Looking at other things is no new clearance, changing what comes out is.
#[test]
fn a_cleared_program_may_be_watched_otherwise_but_not_changed() {
    let hold = |i: f64, t: f64| Segment::hold("h", current(i), seconds(t));
    let first = Program::of(vec![hold(2.0, 1.0), hold(1.0, 1.0)]);
    let cleared = clear(first.clone(), &ratings(), &capability(&["trip"])).unwrap();
    assert_eq!(*cleared.program(), first);
    let watched = Program::of(vec![hold(2.0, 1.0).until(stop(trip())), hold(1.0, 1.0)]);
    assert_eq!(*cleared.watching(watched.clone()).unwrap().program(), watched);
    for other in [
        Program::of(vec![hold(2.0, 1.0), hold(1.5, 1.0)]),
        Program::of(vec![hold(2.0, 1.0), hold(1.0, 2.0)]),
        Program::of(vec![hold(2.0, 1.0)]),
        Program { finish: Finish::Keep, ..first },
    ] {
        assert_eq!(cleared.watching(other), None);
    }
}

proptest! {
    #![proptest_config(ProptestConfig { failure_persistence: None, ..ProptestConfig::default() })]

    /// Outputs that are connected to the same are withstood together, whichever of them carries what; each by itself
    /// where they are not.
    #[test]
    fn outputs_of_one_connection_are_withstood_together(a in 0.1f64..12.0, b in 0.1f64..12.0, joined: bool) {
        let mut rig = capability(&[]);
        if joined {
            for channel in &mut rig.currents[..2] {
                channel.meaning = "winding".into();
            }
        }
        let out = Stimulus {
            currents: vec![drive("ia", a, 0.0, 0.0, 0.0), drive("ib", b, 120.0, 0.0, 0.0)],
            voltages: Vec::new(),
        };
        let mut program = Program::of(vec![Segment::hold("x", out, seconds(1.0))]);
        program.finish = Finish::Keep;
        let most = if joined { a + b } else { a.max(b) };
        prop_assert_eq!(clear(program, &ratings(), &rig).is_ok(), most <= CONTINUOUS_A);
    }
}
