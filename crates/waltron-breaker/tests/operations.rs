//! Operations on simulated breakers: what is measured is what the mechanism does, and each defect fails
//! where it must.

mod support;

use support::{ASSET, Played, WINGS, asset, failed, nobody, of, rig, specimen};
use waltron_core::grading::{Finding, Verdict};
use waltron_core::procedure::Answer;

const ALL: &str =
    "procedure = \"operation\"\noperations = [\"C\", \"O\", \"CO\", \"OC\", \"O-C-O\"]\n";

fn value(found: &[Finding], what: &str) -> f64 {
    let f = of(found, what);
    f.measured.get("value").unwrap_or_else(|| panic!("{what}: {}", f.reason))
}

fn played(specimen: &str, test: &str) -> Vec<Finding> {
    Played::new(WINGS, &rig(), specimen, 1).play(&asset(ASSET), test, &nobody).0
}

#[test]
fn a_healthy_breaker_passes_every_operation() {
    let found = played(&specimen("", ""), ALL);
    assert_eq!(failed(&found), Vec::<&str>::new());
    assert_eq!(found.len(), 67);
    // By hand: from 80 % to 90 % of a stroke of 28 ms the auxiliary contact follows; friction of 5/s is little.
    let lag = value(&found, "C/auxiliary-lag/52a");
    let by_hand = 28e-3 * (0.9f64.sqrt() - 0.8f64.sqrt());
    assert!((lag - by_hand).abs() < 1.5e-4, "{lag}, by hand {by_hand}");
    // The same opening by itself, and in a compound operation.
    let alone = value(&found, "O/trip-1/opening-time/L1");
    assert!((alone - value(&found, "O-C-O/trip-1/opening-time/L1")).abs() < 1e-4);
    // From parting to touching: the pause and the closing, which begins when the last pole has parted.
    let (pause, closing) = (0.3, value(&found, "O-C-O/trip-1/closing-time/L1"));
    let between = value(&found, "O-C-O/trip-1/open-close-time");
    assert!((between - pause - closing).abs() < 2e-4, "{between}");
    // 110 V at 55 Ohm.
    assert!((value(&found, "C/coil-plateau/close") - 2.0).abs() < 0.01);
    // Closing from rest under a constant force: at 80 % of 60 deg in 28 ms, over the 5 ms before that. What
    // friction of 5/s takes is some 7 % of the way by then.
    let touch = 28e-3 * 0.8f64.sqrt();
    let place = |time: f64| 60f64.to_radians() * (time / 28e-3).powi(2);
    let speed = (place(touch) - place(touch - 5e-3)) / 5e-3;
    let seen = value(&found, "C/closing-speed");
    assert!((seen / speed - 1.0).abs() < 0.08, "{seen} rad/s, by hand {speed}");
    // 0.6 ms open, and 0.4 of it each time again, with 0.6 of that closed before: by hand.
    let bounce: f64 = [0.6, 0.24, 0.096].iter().map(|open| 1.6 * open * 1e-3).sum();
    let seen = value(&found, "C/bounce-time/L2");
    assert!((seen - bounce).abs() < 1e-4, "{seen}, by hand {bounce}");
}

/// Each defect fails on what it is about, and the words say where to look.
#[test]
fn defects_fail_where_they_must() {
    let slow = specimen("", "").replace("at = \"L2\"\n", "at = \"L2\"\nlag = \"4 ms\"\n");
    let found = played(&slow, ALL);
    for what in [
        "C/pole-spread-closing",
        "O/trip-1/pole-spread-opening",
        "O-C-O/trip-1/pole-spread-opening",
    ] {
        assert_eq!(of(&found, what).verdict, Verdict::Fail, "{what}");
        assert!((value(&found, what) - 4e-3).abs() < 1e-4, "{what}");
    }
    assert!(!failed(&found).iter().any(|f| f.contains("coil") || f.contains("stroke")));
    let welded = specimen("", "").replace("at = \"52b\"\n", "at = \"52b\"\nwelded = true\n");
    let found = played(&welded, ALL);
    let bad = of(&found, "C/auxiliary-lag/52b");
    assert!(bad.verdict == Verdict::Fail && bad.reason.contains("welded"), "{}", bad.reason);
    assert!(failed(&found).iter().all(|f| f.ends_with("52b")), "{:?}", failed(&found));
    let weak =
        specimen("opening_latch = \"16 ms\"\n", "").replacen("opening_latch = \"2 ms\"\n", "", 1);
    let found =
        played(&weak, "procedure = \"operation\"\noperations = [\"O\"]\ncoil = \"trip 1\"\n");
    assert_eq!(of(&found, "O/opening-time/L1").verdict, Verdict::Fail);
    assert_eq!(of(&found, "O/coil-peak/trip-1").verdict, Verdict::Pass, "it is behind the coil");
}

/// Where nothing moves, nothing passes, and the coil's current tells where to look.
#[test]
fn nothing_that_did_not_move_passes() {
    let close = "procedure = \"operation\"\noperations = [\"C\"]\n";
    let told = |specimen: &str, test: &str, why: &str| {
        let found = played(specimen, test);
        // What its coil took is there whether it moved or not.
        let is_of_coil =
            |f: &&Finding| ["/coil-", "/notch-"].iter().any(|name| f.point.id.contains(name));
        let moved = |f: &&Finding| !is_of_coil(f) && f.verdict == Verdict::Pass;
        assert!(!found.iter().any(|f| moved(&f)), "{:?}", failed(&found));
        // It was commanded, and did not do it: that fails, with where to look.
        let commanded = found.iter().filter(|f| f.reason.contains("no contact changed"));
        assert!(commanded.into_iter().all(|f| f.verdict == Verdict::Fail));
        assert!(found.iter().any(|f| f.reason.contains(why)), "{why}: {}", found[0].reason);
    };
    told(&specimen("held_off = true\n", ""), close, "under-voltage release or blocking coil");
    let stuck = specimen("", "").replacen(
        "plunger = \"5 ms\"",
        "plunger = \"5 ms\"\npickup = \"150 %\"",
        1,
    );
    told(&stuck, close, "its plunger did not move");
    // What cannot be brought into the state to begin with is not tested in another one.
    told(
        &stuck,
        "procedure = \"operation\"\noperations = [\"O\"]\n",
        "stayed open and must be closed",
    );
    let first =
        "procedure = \"operation\"\noperations = [\"O\"]\ncoil = \"trip 1\"\nfirst = true\n";
    told(&specimen("", ""), first, "its first operation after the rest was made already");
    let found = played(&specimen("closed = true\n", ""), first);
    assert_eq!(failed(&found), Vec::<&str>::new());
    // Poles that do not agree tell nothing of an operation.
    let unlike = specimen("", "").replace("at = \"L3\"\n", "at = \"L3\"\nlag = \"700 ms\"\n");
    told(
        &unlike,
        "procedure = \"operation\"\noperations = [\"O\"]\ncoil = \"trip 1\"\n",
        "do not agree",
    );
}

/// What has no limit is told; where the file asks for it, somebody says whether it is in order, and why.
#[test]
fn what_has_no_limit_is_assessed_by_somebody() {
    let text = ASSET.replace("opening_time = { min = \"18 ms\", max = \"32 ms\" }\n", "");
    let open = "procedure = \"operation\"\noperations = [\"O\"]\ncoil = \"trip 1\"\n";
    let unit = specimen("closed = true\n", "");
    let bench = || Played::new(WINGS, &rig(), &unit, 1);
    let (found, _) = bench().play(&asset(&text), open, &nobody);
    assert_eq!(of(&found, "O/opening-time/L1").verdict, Verdict::Measured);
    let required = asset(&format!("{text}required = [\"opening_time\"]\n"));
    let mut unattended = bench();
    let (found, _) = unattended.play(&required, open, &nobody);
    let all = ["L1", "L2", "L3"].map(|pole| format!("O/opening-time/{pole}"));
    for point in &all {
        assert_eq!(of(&found, point).verdict, Verdict::Inconclusive);
    }
    assert_eq!(unattended.asked.len(), 1, "once for all poles");
    assert!(
        unattended.asked[0].text.contains("opening time of L3 20."),
        "{}",
        unattended.asked[0].text
    );
    for (word, verdict) in [("in order", Verdict::Pass), ("not in order", Verdict::Fail)] {
        let said =
            |question: &waltron_core::procedure::Question| match question.text.starts_with("Why") {
                true => Answer::Text("as the sister breaker".into()),
                false => Answer::Text(word.into()),
            };
        let (found, _) = bench().play(&required, open, &said);
        for point in &all {
            let f = of(&found, point);
            assert_eq!(f.verdict, verdict, "{}", f.reason);
            assert!(f.reason.contains(word) && f.reason.contains("as the sister breaker"));
        }
        assert_eq!(found.iter().filter(|f| f.point.id.contains("opening-time")).count(), 3);
    }
}

/// Resistance, lowest pickup and motor of a healthy breaker by hand, and of a bad one.
#[test]
fn resistance_pickup_and_motor_are_those_of_the_breaker() {
    let limits = "contact_resistance = { max = \"45 uOhm\" }\nmotor_time = { max = \"8 s\" }\nmotor_inrush = { max = \"20 A\" }\nmotor_current = { max = \"4 A\" }\n";
    let asset = asset(&format!("{ASSET}{limits}"));
    let play = |specimen: &str, test: &str| {
        Played::new(WINGS, &rig(), specimen, 1).play(&asset, test, &nobody).0
    };
    let resistance = "procedure = \"contact-resistance\"\n";
    let worn = specimen("", "").replace(
        "at = \"L2\"\nbounce = \"0.6 ms\"\nresistance = \"30 uOhm\"",
        "at = \"L2\"\nresistance = \"80 uOhm\"",
    );
    let found = play(&worn, resistance);
    let ohms = |pole: &str| value(&found, &format!("contact-resistance/{pole}"));
    assert!((ohms("L1") - 30e-6).abs() < 3e-7 && (ohms("L2") - 80e-6).abs() < 5e-7);
    assert_eq!(failed(&found), ["contact-resistance/L2"]);
    let pickup = "procedure = \"lowest-pickup\"\n";
    let heavy =
        specimen("", "").replacen("at = \"trip 1\"\n", "at = \"trip 1\"\npickup = \"74 %\"\n", 1);
    let found = play(&heavy, pickup);
    // Half of 110 V, and 74 % of it, within half a step of 2.75 V; more than 70 % fails (IEC 62271-1).
    for (coil, truth) in [("close", 55.0), ("trip-1", 81.4)] {
        let grade = of(&found, &format!("pickup-voltage/{coil}"));
        let volts = grade.measured.get("value").unwrap();
        let u = grade.uncertainty.get("u").unwrap();
        assert!((volts - truth).abs() < 1.375 + 0.2, "{coil}: {volts}");
        // Half a step and 0.1 % of the output, both limits.
        let expected = 2.0 / 3f64.sqrt() * 1.375f64.hypot(1e-3 * volts);
        assert!((u / expected - 1.0).abs() < 1e-3, "{coil}: {u}, not {expected}");
    }
    assert_eq!(failed(&found), ["pickup-voltage/trip-1"]);
    let found = play(&specimen("charged = false\n", ""), "procedure = \"motor\"\n");
    assert_eq!(failed(&found), Vec::<&str>::new());
    assert!((value(&found, "motor-time") - 6.0).abs() < 1e-3);
    assert!((value(&found, "motor-inrush") - 12.0).abs() < 0.1);
    assert!((value(&found, "motor-current") - 3.0).abs() < 0.02);
    // A spring that is charged is let go before; where nothing does that, nothing is timed.
    let found = play(&specimen("", ""), "procedure = \"motor\"\n");
    assert_eq!(failed(&found), Vec::<&str>::new());
    assert!((value(&found, "motor-inrush") - 12.0).abs() < 0.1);
    let held = play(&specimen("held_off = true\n", ""), "procedure = \"motor\"\n");
    let told = |f: &Finding| f.verdict == Verdict::Inconclusive && f.reason.contains("already");
    assert!(held.iter().all(told), "{}", held[0].reason);
}

/// What a coil's voltage moves is held against the limits of that voltage, and against no others; the
/// mechanism's own limits hold at every voltage.
#[test]
fn limits_belong_to_the_control_voltage_that_they_are_given_for() {
    let slow =
        specimen("closed = true\n", "").replace("at = \"L2\"\n", "at = \"L2\"\nlag = \"4 ms\"\n");
    let at_70 = "procedure = \"operation\"\noperations = [\"O\"]\ncoil = \"trip 1\"\nvoltage = [\"70 %\"]\n";
    let play = |asset: &str| {
        Played::new(WINGS, &rig(), &slow, 1).play(&support::asset(asset), at_70, &nobody).0
    };
    let found = play(ASSET);
    let verdict = |found: &[Finding], what: &str| of(found, &format!("O/70%/{what}")).verdict;
    assert_eq!(verdict(&found, "opening-time/L2"), Verdict::Measured);
    assert_eq!(verdict(&found, "coil-plateau/trip-1"), Verdict::Measured);
    assert_eq!(verdict(&found, "pole-spread-opening"), Verdict::Fail);
    assert_eq!(verdict(&found, "stroke"), Verdict::Pass);
    let own = "[[limits.at]]\nvoltage = \"70 %\"\nopening_time = { max = \"30 ms\" }\n";
    let found = play(&format!("{ASSET}{own}"));
    let slowest = value(&found, "O/70%/opening-time/L2");
    assert!(slowest > 30e-3, "{slowest}");
    assert_eq!(verdict(&found, "opening-time/L2"), Verdict::Fail);
    assert_eq!(verdict(&found, "opening-time/L1"), Verdict::Pass);
    // At the rated voltage nothing of it holds.
    let at_100 = at_70.replace("voltage = [\"70 %\"]\n", "");
    let of_both = support::asset(&format!("{ASSET}{own}"));
    let (found, _) = Played::new(WINGS, &rig(), &specimen("closed = true\n", ""), 1)
        .play(&of_both, &at_100, &nobody);
    assert_eq!(failed(&found), Vec::<&str>::new());
}

/// The opening times by one trip coil and by another, whichever contact shows it most.
#[test]
fn trip_coils_are_compared_with_each_other() {
    let asset = asset(&format!("{ASSET}coil_spread = {{ max = \"3 ms\" }}\n"));
    let open = "procedure = \"operation\"\noperations = [\"C\", \"O\"]\n";
    let play =
        |specimen: &str| Played::new(WINGS, &rig(), specimen, 1).play(&asset, open, &nobody).0;
    let found = play(&specimen("", ""));
    assert_eq!(failed(&found), Vec::<&str>::new());
    assert!(value(&found, "O/trip-2/coil-spread").abs() < 2e-4);
    let at = "at = \"trip 2\"\ncloses = false\nvoltage = \"110 V\"\nresistance = \"55 Ohm\"\ntime_constant = \"5 ms\"\nplunger = \"5 ms\"\n";
    let slow =
        specimen("", "").replace(at, &at.replace("plunger = \"5 ms\"", "plunger = \"9 ms\""));
    let found = play(&slow);
    let spread = value(&found, "O/trip-2/coil-spread");
    // Both openings are rounded to 50 us, and seen by one input: what that is late by is in both.
    let u = of(&found, "O/trip-2/coil-spread").uncertainty.get("u").unwrap();
    let rounded = 2.0 / 3f64.sqrt() * 25e-6f64.hypot(25e-6);
    assert!((u / rounded - 1.0).abs() < 1e-3, "{u}, not {rounded}");
    // By the times that stand beside it.
    let times =
        ["trip-1", "trip-2"].map(|coil| value(&found, &format!("O/{coil}/opening-time/L1")));
    assert!((spread - (times[1] - times[0])).abs() < 1e-4 && spread > 3e-3, "{spread} {times:?}");
    assert!(failed(&found).contains(&"O/trip-2/coil-spread"));
}

/// Arcing contacts carry alone for the part of the stroke that is theirs; burnt ones do not.
#[test]
fn arcing_contacts_are_seen_while_a_pole_opens() {
    let limits = "arcing_time = { min = \"0.8 ms\" }\narcing_resistance = { max = \"400 uOhm\" }\n";
    let asset = asset(&format!("{ASSET}{limits}"));
    let of = |pole: &str, arcing: &str| {
        let plain = format!("at = \"{pole}\"\nbounce = \"0.6 ms\"\nresistance = \"30 uOhm\"\n");
        (plain.clone(), format!("{plain}{arcing}"))
    };
    let mut unit = specimen("", "");
    for (pole, arcing) in
        [("L1", "arcing = \"500 uOhm\"\n"), ("L2", "arcing = \"3 mOhm\"\n"), ("L3", "")]
    {
        let (from, to) = of(pole, arcing);
        assert!(unit.contains(&from));
        unit = unit.replace(&from, &to);
    }
    let mut bench = Played::new(WINGS, &rig(), &unit, 1);
    let (found, seen) = bench.play(&asset, "procedure = \"dynamic-resistance\"\n", &nobody);
    // A burnt one is told by its resistance, a missing one by its time.
    let bad = failed(&found);
    assert_eq!(bad, ["arcing-resistance/L2", "arcing-time/L3", "arcing-resistance/L3"], "{bad:?}");
    // From rest through half of the gap, 80 % to 90 % of the stroke: by hand, under a constant force.
    let alone = value(&found, "arcing-time/L1");
    let by_hand = 14e-3 * (0.2f64.sqrt() - 0.1f64.sqrt());
    assert!((alone - by_hand).abs() < 0.5e-3, "{alone}, by hand {by_hand}");
    // Each pole was opened once, and the current came with it to its end.
    assert_eq!(
        seen.iter()
            .filter(|(program, _)| program.position("open").is_some() && program.capture.is_some())
            .count(),
        3
    );
}

/// A pole that lags parts its contacts later, main and arcing ones alike: seen by the current as by its contact.
#[test]
fn a_pole_that_lags_carries_longer() {
    let at = |pole: &str| format!("at = \"{pole}\"\n");
    let mut unit = specimen("", "");
    for pole in ["L1", "L2"] {
        unit = unit.replace(&at(pole), &format!("{}arcing = \"400 uOhm\"\n", at(pole)));
    }
    let late = unit.replace(&at("L2"), &format!("{}lag = \"4 ms\"\n", at("L2")));
    let mut bench = Played::new(WINGS, &rig(), &late, 1);
    let (found, seen) = bench.play(&asset(ASSET), "procedure = \"dynamic-resistance\"\n", &nobody);
    let (first, second) = (value(&found, "arcing-time/L1"), value(&found, "arcing-time/L2"));
    assert!((first - second).abs() < 0.4e-3, "{first} {second}");
    for (_, seen) in seen.iter().filter(|(program, _)| program.capture.is_some()) {
        let pole = seen.captures[0].name.as_str().rsplit(' ').next().unwrap().to_owned();
        let parted = seen.raw_edges.iter().find(|e| e.signal == *pole && !e.closed).unwrap().time;
        let amps = seen.captures[0].tracks.iter().find(|t| t.of == *"pole current").unwrap();
        let last = amps.samples.iter().rposition(|i| *i > 50.0).unwrap() as f64 / 20_000.0;
        assert!((last - parted.value).abs() < 1e-3, "{pole}: {last} {}", parted.value);
    }
}

/// Coils of an alternating voltage: crest and RMS, no dip; and one output does not feed both kinds at once.
#[test]
fn coils_of_an_alternating_voltage_are_fed_by_one() {
    let ac = ASSET.replace("resistance = \"55 Ohm\"\n", "resistance = \"55 Ohm\"\nkind = \"ac\"\n");
    let ac = ac
        .replace(
            "coil_peak = { min = \"0.8 A\", max = \"2 A\" }",
            "coil_peak = { min = \"2 A\", max = \"4 A\" }",
        )
        .replace(
            "coil_plateau = { min = \"1.8 A\", max = \"2.2 A\" }",
            "coil_plateau = { min = \"1.6 A\", max = \"2 A\" }",
        )
        // A coil of little inductance is quick.
        .replace(
            "opening_time = { min = \"18 ms\", max = \"32 ms\" }",
            "opening_time = { min = \"14 ms\", max = \"32 ms\" }",
        )
        .replace("notch_time = { max = \"16 ms\" }\n", "");
    let unit = specimen("", "")
        .replace("time_constant = \"5 ms\"", "time_constant = \"1 ms\"\ncuts_off = false");
    let rig = rig().replacen("kind = \"dc\"", "kind = \"ac-dc\"", 1);
    let mut bench = Played::new(WINGS, &rig, &unit, 1);
    let breaker = asset(&ac);
    let (found, seen) =
        bench.play(&breaker, "procedure = \"operation\"\noperations = [\"C\", \"O\"]\n", &nobody);
    assert_eq!(failed(&found), Vec::<&str>::new());
    assert!(!found.iter().any(|f| f.point.id.contains("notch")));
    // 110 V over 55 Ohm and 1 ms of inductance, 60 % more with the plunger in.
    let by_hand = 110.0 / 55f64.hypot(2.0 * std::f64::consts::PI * 50.0 * 55.0 * 1.6e-3);
    let rms = value(&found, "C/coil-plateau/close");
    assert!((rms / by_hand - 1.0).abs() < 0.02, "{rms}, by hand {by_hand}");
    // Nothing direct comes from the output.
    for (program, _) in &seen {
        for (out, _) in program.segments.iter().flat_map(|s| s.levels()) {
            assert!(out.voltages.iter().all(|d| d.dc.is_none()));
        }
    }
    let mixed = asset(&ac.replacen("kind = \"ac\"", "kind = \"dc\"", 1));
    let capability = support::capability(&rig);
    let plan = waltron_test_support::wing::plan(
        WINGS,
        &mixed,
        "procedure = \"operation\"\noperations = [\"CO\"]\n",
    );
    let bench = waltron_core::procedure::Bench { asset: &mixed, capability: &capability };
    let refused = plan.tests[0].procedure(bench).err().unwrap().to_string();
    assert!(refused.contains("operate it by C and O"), "{refused}");
}

/// A change-over contact that is both ways at once is told as such.
#[test]
fn a_change_over_contact_is_never_both_ways() {
    let welded = specimen("", "").replace("at = \"52a\"\n", "at = \"52a\"\nwelded = true\n");
    let found =
        played(&welded, "procedure = \"operation\"\noperations = [\"O\"]\ncoil = \"trip 1\"\n");
    let f = of(&found, "O/auxiliary-lag/52a");
    assert_eq!(f.verdict, Verdict::Fail);
    assert!(f.reason.contains("52a and 52b are both"), "{}", f.reason);
    assert_eq!(of(&found, "O/auxiliary-lag/52b").verdict, Verdict::Pass);
}

/// What a waveform does not show to its end is not judged by its beginning; what the contacts tell is.
#[test]
fn a_capture_that_ends_before_the_operation_tells_nothing_of_it() {
    use waltron_core::injection::measuring::CapturedTrack;
    use waltron_core::procedure::{Action, Bench};
    let test = "procedure = \"operation\"\noperations = [\"C\"]\n";
    let (_, seen) =
        Played::new(WINGS, &rig(), &specimen("", ""), 1).play(&asset(ASSET), test, &nobody);
    let (breaker, capability) = (asset(ASSET), support::capability(&rig()));
    let plan = waltron_test_support::wing::plan(WINGS, &breaker, test);
    let bench = Bench { asset: &breaker, capability: &capability };
    let mut procedure = plan.tests[0].procedure(bench).unwrap().unwrap();
    let mut found = Vec::new();
    let mut played = seen.into_iter();
    while let Action::Inject(program) = procedure.next() {
        let (same, mut observation) = played.next().unwrap();
        assert_eq!(program, same);
        for captured in &mut observation.captures {
            for track in &mut captured.tracks {
                // 20 ms behind the command; the contacts touch after 25 ms.
                let close = observation.segments[program.position("close").unwrap()].start.value;
                let count = ((close + 0.02 - captured.start.value) * captured.rate_hz) as usize;
                *track = CapturedTrack::new(track.of.clone(), track.samples[..count].to_vec());
            }
        }
        found.extend(procedure.observe(&observation));
    }
    for what in
        ["coil-peak/close", "notch-time/close", "coil-plateau/close", "stroke", "closing-speed"]
    {
        let f = of(&found, &format!("C/{what}"));
        assert!(
            f.verdict == Verdict::Inconclusive && f.reason.contains("shorter than the operation"),
            "{what}: {}",
            f.reason
        );
    }
    assert_eq!(of(&found, "C/closing-time/L1").verdict, Verdict::Pass);
}
