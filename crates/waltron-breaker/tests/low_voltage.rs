//! Low-voltage breakers: what trips within its band passes, each defect fails on its own criterion, and what was not
//! seen, or cannot be reached, is not told as anything else.

mod support;

use support::{Played, WINGS, asset, failed, of};
use waltron_core::grading::{Finding, Verdict};
use waltron_core::procedure::{Answer, Question};
use waltron_core::text::document::Source;

const ASSET: &str = include_str!("../../../examples/ns1-q1.asset.toml");
const RIG: &str = include_str!("../../../examples/ns1-q1.rig.toml");
const SPECIMEN: &str = include_str!("../../../examples/ns1-q1.specimen.toml");

const LONG: &str = "procedure = \"long-time\"\npoles = [\"L1\"]\n";
const SHORT: &str = "procedure = \"short-time\"\nat = [\"1.4 x\"]\npoles = [\"L1\"]\n";
const INSTANT: &str = "procedure = \"instantaneous\"\npoles = [\"L1\"]\n";
const GROUND: &str = "procedure = \"ground-fault\"\npoles = [\"L1\"]\n";

fn healthy() -> String {
    SPECIMEN.replace("neutral_reversed = true\n", "")
}

fn confirmed(question: &Question) -> Answer {
    question.default_answer().unwrap_or(Answer::Stop)
}

fn bench(specimen: &str, rig: &str, seed: u64) -> Played {
    Played::new(WINGS, rig, specimen, seed)
}

fn all(specimen: &str, tests: &[&str]) -> Vec<Finding> {
    let mut bench = bench(specimen, RIG, 3);
    tests.iter().flat_map(|test| bench.play(&asset(ASSET), test, &confirmed).0).collect()
}

/// The same on a rig without any error.
fn exactly(specimen: &str, tests: &[&str]) -> Vec<Finding> {
    let mut bench = Played::exact(WINGS, RIG, specimen, 3);
    tests.iter().flat_map(|test| bench.play(&asset(ASSET), test, &confirmed).0).collect()
}

fn value(found: &[Finding], what: &str, name: &str) -> f64 {
    let f = of(found, what);
    f.measured.get(name).unwrap_or_else(|| panic!("{what}: {}", f.reason))
}

#[test]
fn a_healthy_trip_unit_is_within_its_band() {
    let found = all(&healthy(), &[GROUND, INSTANT, SHORT, LONG]);
    assert_eq!(failed(&found), Vec::<&str>::new());
    let found = exactly(&healthy(), &[INSTANT, LONG]);
    // I²t by hand: 10.9 s at 4.8 times the plug, at three times the setting of 1280 A.
    let by_hand = 10.9 * (4.8 * 1600.0 / 3840.0f64).powi(2) + 0.024;
    let time = value(&found, "3x/L1/trip-time", "time");
    assert!((time / by_hand - 1.0).abs() < 0.03, "{time}, by hand {by_hand}");
    // 6 times the plug, to the next pulse of 5 %; it opened within five cycles.
    let level = value(&found, "pickup/L1", "current");
    assert!((9600.0 * 0.97..9600.0 * 1.08).contains(&level), "{level}");
    assert!(value(&found, "pickup/L1", "time") < 0.1);
    // The connection: 0.35 and 0.42 mOhm, and the angle between them.
    let ohm = value(&found, "connection/L1", "impedance");
    assert!((ohm / 0.35e-3f64.hypot(0.42e-3) - 1.0).abs() < 5e-3, "{ohm}");
    let told = &of(&found, "connection/L1").reason;
    assert!(told.contains("50."), "atan(0.42 / 0.35): {told}");
}

#[test]
fn each_defect_fails_on_its_own_criterion() {
    let changed = |from: &str, to: &str| {
        let specimen = healthy();
        assert!(specimen.contains(from), "{from}");
        specimen.replace(from, to)
    };
    // A smaller plug: every function acts on less.
    let found = all(&changed("plug = \"1600 A\"", "plug = \"1250 A\""), &[INSTANT, LONG]);
    assert_eq!(failed(&found), ["pickup/L1", "3x/L1/trip-time"]);
    // Its ground-fault function is off.
    let off = changed(
        "[[function]]\nid = \"ground-fault\"\npickup = \"0.3 x\"\ndelay = \"200 ms\"\n",
        "",
    );
    let found = all(&off, &[GROUND]);
    assert_eq!(failed(&found), ["1.5x/L1/trip-time"]);
    let why = &of(&found, "1.5x/L1/trip-time").reason;
    assert!(why.contains("no trip for") && why.contains("function off"), "{why}");
    let found = all(SPECIMEN, &[GROUND, LONG]);
    assert_eq!(failed(&found), ["neutral"]);
    assert!(of(&found, "neutral").reason.contains("sensor is reversed"));
    // Its auxiliary contact is welded: the time is told all the same, by the rig's own look.
    let welded = changed("opening = \"24 ms\"", "opening = \"24 ms\"\nauxiliary_follows = false");
    let found = all(&welded, &[SHORT]);
    assert_eq!(failed(&found), ["1.4x/L1/auxiliary"]);
    // Heat that nobody discharged trips too early.
    let warm = changed("opening = \"24 ms\"", "opening = \"24 ms\"\ndischarged = false");
    let found = all(&warm, &["procedure = \"long-time\"\npoles = [\"L1\", \"L2\"]\n"]);
    assert_eq!(failed(&found), ["3x/L2/trip-time"]);
    // It forgets while it rests: a long test before it heats no less than it should.
    let slow = changed("delay = \"300 ms\"", "delay = \"450 ms\"");
    assert_eq!(failed(&all(&slow, &[SHORT])), ["1.4x/L1/trip-time"]);
}

/// No trip, a trip that nobody saw, and a current that cannot be had are three things.
#[test]
fn what_was_not_seen_is_not_told_as_anything_else() {
    let only_auxiliary = RIG.replace(
        "[[input]]\nid = \"BI2\"\nmeaning = \"current flows\"\nterminal = \"internal\"\n",
        "",
    );
    let welded =
        healthy().replace("opening = \"24 ms\"", "opening = \"24 ms\"\nauxiliary_follows = false");
    let play = |specimen: &str, rig: &str, test: &str| {
        bench(specimen, rig, 3).play(&asset(ASSET), test, &confirmed).0
    };
    let found = play(&welded, &only_auxiliary, SHORT);
    let f = of(&found, "1.4x/L1/trip-time");
    assert!(f.verdict == Verdict::Inconclusive && f.reason.contains("not seen"), "{}", f.reason);
    // Leads of 2 mOhm more, 2.39 mOhm with the reactance, 3.35 kA by hand: 8 V do not drive 6.7 kA through them, and nothing is heated to find that out.
    let long = healthy().replace("resistance = \"0.35 mOhm\"", "resistance = \"2.35 mOhm\"");
    let mut far = bench(&long, RIG, 3);
    let (found, seen) = far.play(&asset(ASSET), SHORT, &confirmed);
    let f = of(&found, "1.4x/L1/trip-time");
    assert!(
        f.verdict == Verdict::NotTested && f.reason.contains("the source drives 33"),
        "{}",
        f.reason
    );
    assert_eq!(seen.len(), 1, "the small current only");
    // Another function that is quicker at that current: said before anything is put out.
    let (found, seen) = bench(&healthy(), RIG, 3).play(
        &asset(ASSET),
        "procedure = \"short-time\"\nat = [\"2 x\"]\npoles = [\"L1\"]\n",
        &confirmed,
    );
    let f = of(&found, "2x/L1/trip-time");
    assert!(
        f.verdict == Verdict::NotTested && f.reason.contains("instantaneous may trip"),
        "{}",
        f.reason
    );
    assert!(seen.is_empty());
    // Between shots somebody resets and closes it, and the memory is discharged.
    let mut asked = bench(&healthy(), RIG, 3);
    asked.play(&asset(ASSET), "procedure = \"long-time\"\npoles = [\"L1\", \"L2\"]\n", &confirmed);
    let texts: Vec<&str> = asked.asked.iter().map(|q| q.text.as_str()).collect();
    assert_eq!(texts, ["Reset the trip unit, discharge its thermal memory, and close the breaker"]);
    // Where no switch of the rig does, the ground-fault function is defeated by hand, and put back.
    let by_hand = RIG.replace(
        "[[switch]]\nid = \"SW1\"\nmeaning = \"ground-fault defeat\"\nterminal = \"SW1: 1, 2\"\n",
        "",
    );
    let mut asked = bench(&healthy(), &by_hand, 3);
    asked.play(&asset(ASSET), SHORT, &confirmed);
    let texts: Vec<&str> = asked.asked.iter().map(|q| q.text.as_str()).collect();
    assert_eq!(texts, ["Defeat the ground-fault function", "Put the ground-fault function back"]);
}

/// The conventional current must not trip for as long as the standard says, and one beyond may.
#[test]
fn a_current_that_must_not_trip_does_not() {
    let hold = "procedure = \"no-trip\"\npoles = [\"L1\"]\n";
    assert_eq!(failed(&all(&healthy(), &[hold])), Vec::<&str>::new());
    let sensitive = healthy().replace("pickup = \"0.89 x\"", "pickup = \"0.82 x\"");
    let found = all(&sensitive, &[hold]);
    assert_eq!(failed(&found), ["L1"]);
    let found = all(&healthy(), &["procedure = \"no-trip\"\npoles = [\"L1\"]\nat = \"1.1 x\"\n"]);
    assert_eq!(of(&found, "L1").verdict, Verdict::NotTested, "the band lets it trip");
}

#[test]
fn files_that_make_no_sense_are_refused_with_their_line() {
    let refused = |from: &str, to: &str, words: &str| {
        assert!(ASSET.contains(from), "{from}");
        let text = ASSET.replacen(from, to, 1);
        let error = WINGS.asset(&Source::new("a", text.as_str())).unwrap_err();
        let told = format!("{error:?}");
        assert!(told.contains(words), "{words}: {told}");
    };
    refused("band = \"halden-lt\"", "band = \"halden-lk\"", "no band is called `halden-lk`");
    refused("sensor = \"1600 A\"", "sensor = \"2000 A\"", "larger than the frame");
    refused("pickup = \"6 x\"", "pickup = \"6 s\"", "a current is wanted, or a multiple");
    refused("pickup = \"6 x\"", "pickup = \"6 x\"\ndelay = \"1 s\"", "has no `delay`");
    let region = |text: &str| format!("[[region]]\nfunction = \"long-time\"\n{text}\n[terminals]");
    let lines = "shape = \"points\"\nlower = [[\"2 x\", \"30 s\"], [\"6 x\", \"9 s\"]]\nupper = [[\"2 x\", \"60 s\"], [\"6 x\", \"5 s\"]]";
    let crossed = region(&format!("pickup = [\"105 %\", \"130 %\"]\n{lines}"));
    refused("[terminals]", &crossed, "at 6 x the lower limit lies above the upper one");
    let swapped = region("pickup = [\"130 %\", \"105 %\"]\nshape = \"at-once\"");
    refused("[terminals]", &swapped, "the lower limit lies above the upper one");
    let idle =
        region("pickup = [\"80 %\", \"120 %\"]\nshape = \"at-once\"\ntime = [\"80 %\", \"120 %\"]");
    refused("[terminals]", &idle, "has no use for `time`");
    refused("delay = \"12 s\"\n", "", "has no `delay`, and its band goes by it");
}

/// All shots at a pole come from one output, the small current too: nobody changes sockets between. What one of them
/// cannot be driven to leaves the others tested.
#[test]
fn one_output_makes_all_shots_at_a_pole() {
    let test = "procedure = \"long-time\"\npoles = [\"L1\"]\nat = [\"1.5 x\", \"3 x\"]\n";
    let (found, seen) = bench(&healthy(), RIG, 3).play(&asset(ASSET), test, &confirmed);
    assert_eq!(failed(&found), Vec::<&str>::new());
    let outputs = seen.iter().flat_map(|(program, _)| program.maxima()).map(|(id, ..)| id);
    assert!(outputs.clone().count() == 3 && outputs.into_iter().all(|id| id == *"i12"));
    // 3 mOhm let 2.6 kA through, by hand 8 V over them: enough for half of it.
    let long = healthy().replace("resistance = \"0.35 mOhm\"", "resistance = \"3 mOhm\"");
    let (found, _) = bench(&long, RIG, 3).play(&asset(ASSET), test, &confirmed);
    assert_eq!(of(&found, "1.5x/L1/trip-time").verdict, Verdict::Pass);
    assert_eq!(of(&found, "3x/L1/trip-time").verdict, Verdict::NotTested);
}

/// What must not trip passes only where the current has flowed to the end: a trip that no contact tells is none.
#[test]
fn what_must_not_trip_must_have_carried_its_current() {
    let only_auxiliary = RIG.replace(
        "[[input]]\nid = \"BI2\"\nmeaning = \"current flows\"\nterminal = \"internal\"\n",
        "",
    );
    let welded = SPECIMEN
        .replace("opening = \"24 ms\"", "opening = \"24 ms\"\nauxiliary_follows = false")
        .replace("pickup = \"0.89 x\"", "pickup = \"0.7 x\"");
    let play =
        |test: &str| bench(&welded, &only_auxiliary, 3).play(&asset(ASSET), test, &confirmed).0;
    let hold = play("procedure = \"no-trip\"\npoles = [\"L1\"]\n");
    assert_eq!(of(&hold, "L1").verdict, Verdict::Inconclusive, "{}", of(&hold, "L1").reason);
    let neutral = play(GROUND);
    assert_eq!(of(&neutral, "neutral").verdict, Verdict::Inconclusive);
}

const PORT_RIG: &str = include_str!("../../../examples/ns1-q1-port.rig.toml");

/// A test through the port, with what was asked meanwhile.
fn at_port(specimen: &str, rig: &str, tests: &[&str]) -> (Vec<Finding>, Vec<String>) {
    let mut bench = bench(specimen, rig, 3);
    let through = |test: &&str| format!("{test}through = \"test-port\"\n");
    let tests: Vec<String> = tests.iter().map(through).collect();
    let found =
        tests.iter().flat_map(|test| bench.play(&asset(ASSET), test, &confirmed).0).collect();
    (found, bench.asked.iter().map(|q| q.text.clone()).collect())
}

fn swapped(text: &str, from: &str, to: &str) -> String {
    assert!(text.contains(from), "{from}");
    text.replacen(from, to, 1)
}

/// What stands for a current at the test port trips in the same time, and no large current is needed; a sensor that is
/// the wrong way round is not seen by it.
#[test]
fn through_the_test_port_the_unit_alone_is_tested() {
    for test in [
        LONG,
        SHORT,
        INSTANT,
        GROUND,
        "procedure = \"no-trip\"\ntime = \"10 min\"\npoles = [\"L1\"]\n",
    ] {
        let (found, _) = at_port(SPECIMEN, PORT_RIG, &[test]);
        assert_eq!(failed(&found), Vec::<&str>::new(), "{test}");
        assert_eq!(of(&found, "ready").verdict, Verdict::Pass);
        assert!(!found.iter().any(|f| f.point.id.contains("connection")));
    }
    let (found, _) = at_port(SPECIMEN, PORT_RIG, &[LONG]);
    // As through the poles, by hand; and 100 mA stand for 1600 A.
    let by_hand = 10.9 * (4.8 * 1600.0 / 3840.0f64).powi(2) + 0.024 + 2e-3;
    let time = value(&found, "3x/L1/trip-time", "time");
    assert!((time / by_hand - 1.0).abs() < 0.03, "{time}, by hand {by_hand}");
    let port = of(&found, "3x/L1/trip-time").stimulus.get("port").unwrap();
    assert!((port - 0.240).abs() < 1e-9, "{port}");
    // A unit that is slow is found all the same.
    let slow = swapped(SPECIMEN, "delay = \"300 ms\"", "delay = \"450 ms\"");
    assert_eq!(failed(&at_port(&slow, PORT_RIG, &[SHORT]).0), ["1.4x/L1/trip-time"]);
}

/// Closed, not tripped, the right group: else somebody is sent once, and nothing is put out that would be graded by
/// another group's settings.
#[test]
fn what_the_unit_must_be_before_is_asked_of_itself() {
    let other = swapped(SPECIMEN, "setting_group = \"1\"", "setting_group = \"2\"");
    let (found, _) = at_port(&other, PORT_RIG, &[SHORT]);
    assert_eq!(failed(&found), ["ready"]);
    assert!(of(&found, "ready").reason.contains("group B, and the file says A"));
    let f = of(&found, "1.4x/L1/trip-time");
    assert!(f.verdict == Verdict::NotTested && f.reason.contains("group B"), "{}", f.reason);
    // Nobody resets it: the first shot trips it, somebody is asked, and it stays open.
    let stays = swapped(SPECIMEN, "port = \"100 mA\"", "port = \"100 mA\"\nreset = false");
    let two = SHORT.replace("[\"L1\"]", "[\"L1\", \"L2\"]");
    let (found, asked) = at_port(&stays, PORT_RIG, &[&two]);
    assert_eq!(of(&found, "1.4x/L1/trip-time").verdict, Verdict::Pass);
    let second = of(&found, "1.4x/L2/trip-time");
    assert!(
        second.verdict == Verdict::NotTested && second.reason.contains("open, and stayed so"),
        "{}",
        second.reason
    );
    let resets = asked.iter().filter(|text| text.starts_with("Reset the trip unit")).count();
    assert_eq!(resets, 2, "{asked:?}");
}

/// Where no contact tells, the unit tells itself that it tripped; when, it does not.
#[test]
fn a_trip_that_no_contact_senses_is_confirmed_by_the_unit() {
    let blind = swapped(
        PORT_RIG,
        "[[input]]\nid = \"BI1\"\nmeaning = \"52a\"\nterminal = \"BI1: +, -\"\n",
        "",
    );
    let (found, _) = at_port(SPECIMEN, &blind, &[SHORT]);
    let f = of(&found, "1.4x/L1/trip-time");
    assert!(
        f.verdict == Verdict::Inconclusive
            && f.reason.contains("it tripped, as the trip unit tells itself"),
        "{}",
        f.reason
    );
    // It does not trip, and says so: its function is off.
    let off = swapped(
        SPECIMEN,
        "[[function]]\nid = \"short-time\"\npickup = \"3 x\"\ndelay = \"300 ms\"\n",
        "",
    );
    let (found, _) = at_port(&off, &blind, &[SHORT]);
    let f = of(&found, "1.4x/L1/trip-time");
    assert!(f.verdict == Verdict::Fail && f.reason.contains("no trip for"), "{}", f.reason);
    // What must not trip: the unit tells that it is closed; and that it tripped, if it did.
    let hold = "procedure = \"no-trip\"\ntime = \"1 min\"\npoles = [\"L1\"]\n";
    assert_eq!(of(&at_port(SPECIMEN, &blind, &[hold]).0, "L1").verdict, Verdict::Pass);
    let low = swapped(
        SPECIMEN,
        "pickup = \"0.89 x\"\ndelay = \"10.9 s\"",
        "pickup = \"0.5 x\"\ndelay = \"1 s\"",
    );
    let (found, _) = at_port(&low, &blind, &[hold]);
    let f = of(&found, "L1");
    assert!(
        f.verdict == Verdict::Fail && f.reason.contains("as the trip unit tells"),
        "{}",
        f.reason
    );
    // A contact that is stuck closed proves nothing where the unit is not read.
    let unread: String = PORT_RIG.split("# What the trip unit tells").next().unwrap().to_owned();
    let f = of(&at_port(SPECIMEN, &unread, &[hold]).0, "L1").clone();
    assert!(
        f.verdict == Verdict::Inconclusive && f.reason.contains("a stuck one would not"),
        "{}",
        f.reason
    );
    let welded =
        swapped(SPECIMEN, "opening = \"24 ms\"", "opening = \"24 ms\"\nauxiliary_follows = false");
    let f = of(&at_port(&welded, &unread, &[SHORT]).0, "1.4x/L1/trip-time").clone();
    assert!(
        f.verdict == Verdict::Fail && f.reason.contains("or 52a does not follow"),
        "{}",
        f.reason
    );
    // Without either nobody would see anything: pulses cannot be told apart, and so it is said.
    let plan = waltron_test_support::wing::plan(
        WINGS,
        &asset(ASSET),
        &format!("{INSTANT}through = \"test-port\"\n"),
    );
    let (breaker, capability) = (asset(ASSET), support::capability(&blind));
    let bench = waltron_core::procedure::Bench { asset: &breaker, capability: &capability };
    let refused = plan.tests[0].procedure(bench).err().unwrap().to_string();
    assert!(refused.contains("52a"), "{refused}");
}

#[test]
fn settings_and_counters_are_read_back_and_compared() {
    const READ: &str = "procedure = \"read-back\"\n";
    let play =
        |specimen: &str| bench(specimen, PORT_RIG, 3).play(&asset(ASSET), READ, &confirmed).0;
    assert_eq!(failed(&play(SPECIMEN)), Vec::<&str>::new());
    let trips = play(SPECIMEN);
    assert!(of(&trips, "counter/trips").verdict == Verdict::Measured);
    for (from, to, what, words) in [
        (
            "\"long_time.pickup\" = \"1280 A\"",
            "\"long_time.pickup\" = \"1440 A\"",
            "settings/long-time-pickup",
            "set to 1440 A",
        ),
        (
            "\"short_time.delay\" = \"300 ms\"",
            "\"short_time.delay\" = \"0.2 s\"",
            "settings/short-time-delay",
            "200 ms",
        ),
        ("setting_group = \"1\"", "setting_group = \"2\"", "settings/group", "group B"),
    ] {
        let found = play(&swapped(SPECIMEN, from, to));
        assert_eq!(failed(&found), [what]);
        assert!(of(&found, what).reason.contains(words), "{}", of(&found, what).reason);
    }
    // A display that shows nothing for one of them.
    let found = play(&swapped(SPECIMEN, "\"ground_fault.delay\" = \"200 ms\"\n", ""));
    assert_eq!(failed(&found), ["settings/ground-fault-delay"]);
    assert_eq!(of(&found, "settings/ground-fault-delay").verdict, Verdict::Inconclusive);
}

#[test]
fn a_port_that_nobody_knows_is_refused() {
    use waltron_core::plan::PlanForm;
    let bare = swapped(ASSET, "port = \"100 mA\"", "# no port");
    let text = format!(
        "[plan]\ntitle = \"t\"\nasset = \"a\"\n[[test]]\nid = \"t\"\n{LONG}through = \"test-port\"\n"
    );
    let source = Source::new("plan", text.as_str());
    let error =
        PlanForm::load(&source, WINGS).and_then(|p| p.resolve(&source, &asset(&bare))).unwrap_err();
    assert!(
        error.problems[0].message.contains("does not say what stands for a current"),
        "{error:?}"
    );
    for port in ["100 ms", "-1 V", "0 A"] {
        let odd = swapped(ASSET, "port = \"100 mA\"", &format!("port = \"{port}\""));
        assert!(WINGS.asset(&Source::new("a", odd.as_str())).is_err(), "{port}");
    }
    // More than the rig gives is not tested, with the reason.
    let small = swapped(PORT_RIG, "range = \"1 A\"", "range = \"200 mA\"");
    let (found, _) = at_port(SPECIMEN, &small, &[LONG]);
    let f = of(&found, "3x/L1/trip-time");
    assert!(
        f.verdict == Verdict::NotTested && f.reason.contains("0.24 A at the test port"),
        "{}",
        f.reason
    );
}

/// It trips on the small current already: that is told as such, and nothing larger is put out.
#[test]
fn a_trip_on_the_small_current_is_told_as_such() {
    let low = swapped(
        &healthy(),
        "pickup = \"0.89 x\"\ndelay = \"10.9 s\"\nat = \"4.8 x\"",
        "pickup = \"0.05 x\"\ndelay = \"50 ms\"",
    );
    let (found, seen) = bench(&low, RIG, 3).play(&asset(ASSET), SHORT, &confirmed);
    let f = of(&found, "connection/L1");
    assert!(
        f.verdict == Verdict::Inconclusive && f.reason.contains("on 160 A already"),
        "{}",
        f.reason
    );
    assert_eq!(of(&found, "1.4x/L1/trip-time").verdict, Verdict::NotTested);
    assert_eq!(seen.len(), 1);
}

/// Where nobody can discharge the thermal memory, the next shot waits until it is cold; and without waiting it would
/// trip too early.
#[test]
fn a_thermal_memory_that_cannot_be_discharged_is_waited_for() {
    let warm =
        swapped(&healthy(), "opening = \"24 ms\"", "opening = \"24 ms\"\ndischarged = false");
    let two = "procedure = \"long-time\"\npoles = [\"L1\", \"L2\"]\n";
    assert_eq!(failed(&all(&warm, &[two])), ["3x/L2/trip-time"]);
    let waits =
        swapped(ASSET, "thermal_memory = true", "thermal_memory = true\ncooling = \"40 min\"");
    let mut bench = bench(&warm, RIG, 3);
    let (found, seen) = bench.play(&asset(&waits), two, &confirmed);
    assert_eq!(failed(&found), Vec::<&str>::new());
    let waited = seen.iter().filter(|(program, _)| program.position("cooling").is_some());
    let waited: Vec<f64> = waited.map(|(_, seen)| seen.length().value).collect();
    assert_eq!(waited, [2400.0]);
    assert!(
        bench.asked.iter().any(|q| q.text.contains("left to cool for 2400 s")),
        "{:?}",
        bench.asked
    );
    let none = waits.replace("thermal_memory = true", "thermal_memory = false");
    let error = WINGS.asset(&Source::new("a", none.as_str())).unwrap_err();
    assert!(error.problems[0].message.contains("nothing to cool"));
}

/// A test that ends with a trip leaves the breaker open: the next one has it reset before anything, and not where
/// nothing has tripped.
#[test]
fn what_one_test_has_tripped_is_reset_before_the_next() {
    use waltron_core::procedure::{Action, Bench, Carried};
    let (breaker, capability) = (asset(ASSET), support::capability(RIG));
    let procedure = |test: &str| {
        let plan = waltron_test_support::wing::plan(WINGS, &breaker, test);
        let bench = Bench { asset: &breaker, capability: &capability };
        plan.tests[0].procedure(bench).unwrap().unwrap()
    };
    let hold = "procedure = \"no-trip\"\ntime = \"1 min\"\npoles = [\"L1\"]\n";
    for (test, trips) in [(SHORT, true), (hold, false)] {
        let (_, seen) = bench(&healthy(), RIG, 3).play(&breaker, test, &confirmed);
        let (mut first, mut carried) = (procedure(test), Carried::new());
        first.take_over(&carried);
        for (_, seen) in &seen {
            assert!(matches!(first.next(), Action::Inject(_)));
            first.observe(seen);
        }
        assert_eq!(first.next(), Action::Done);
        first.hand_on(&mut carried);
        let mut second = procedure(LONG);
        second.take_over(&carried);
        let asks =
            matches!(second.next(), Action::Ask(q) if q.text.starts_with("Reset the trip unit"));
        assert_eq!(asks, trips, "{test}");
    }
}

/// What was defeated by hand is put back however the test ends, and defeated again before anything is repeated: between
/// the question that defeats it and the answer that puts it back it is owed.
#[test]
fn what_is_defeated_by_hand_is_put_back_on_every_path() {
    use waltron_core::procedure::{Action, Bench, Owed};
    let (breaker, mut capability) = (asset(ASSET), support::capability(RIG));
    capability.switches.clear();
    let plan = waltron_test_support::wing::plan(WINGS, &breaker, SHORT);
    let begin = || {
        let bench = Bench { asset: &breaker, capability: &capability };
        plan.tests[0].procedure(bench).unwrap().unwrap()
    };
    let owed = vec![Owed::new("Put the ground-fault function back")];
    let asks = |action: &Action, text: &str| matches!(action, Action::Ask(q) if q.text == text);
    for steps in 0..6 {
        let mut test = begin();
        assert!(test.owed().is_empty(), "nothing is defeated yet");
        for step in 0..=steps {
            match test.next() {
                Action::Ask(_) if step == steps => {}
                Action::Ask(_) => test.answer(Answer::Confirmed),
                Action::Inject(_) => drop(test.refuse("the rig is somewhere else")),
                _ => {}
            }
        }
        // Left early, wherever that is: what is owed is asked for, and nothing else.
        let owes = test.owed();
        assert!(owes.is_empty() || owes == owed);
        test.restore();
        let next = test.next();
        assert_eq!(asks(&next, "Put the ground-fault function back"), !owes.is_empty(), "{next:?}");
        if !owes.is_empty() {
            test.answer(Answer::Confirmed);
        }
        assert_eq!((test.next(), test.owed()), (Action::Done, Vec::new()));
        // Once more: what was put back is defeated first.
        test.repeat();
        let next = test.next();
        assert!(asks(&next, "Defeat the ground-fault function"), "{steps}: {next:?}");
        assert_eq!(test.owed(), owed);
    }
}

/// A register that does not answer is no trip that did not come.
#[test]
fn a_trip_that_nobody_tells_of_is_not_missing() {
    use waltron_core::injection::measuring::Lack;
    use waltron_core::procedure::{Action, Bench};
    let (breaker, mut capability) = (asset(ASSET), support::capability(PORT_RIG));
    capability.inputs.retain(|input| input.meaning != *"52a");
    let test = format!("{SHORT}through = \"test-port\"\n");
    let plan = waltron_test_support::wing::plan(WINGS, &breaker, &test);
    let bench = Bench { asset: &breaker, capability: &capability };
    let Ok(Some(mut test)) = plan.tests[0].procedure(bench) else { return };
    let mut machine = Played::new(WINGS, PORT_RIG, SPECIMEN, 3);
    let _ = &mut machine;
    for _ in 0..50 {
        match test.next() {
            Action::Done => return,
            Action::Ask(_) => test.answer(Answer::Confirmed),
            Action::Inject(program) => {
                let mut now = waltron_core::quantity::seconds(0.0);
                let spans = program.segments.iter().map(|segment| {
                    let start = now;
                    now += segment.longest().unwrap();
                    use waltron_core::injection::observation::{Ended, Span};
                    Span { start, end: now, ended: Ended::Stop(0) }
                });
                let mut seen = waltron_core::injection::observation::Observation {
                    segments: spans.collect(),
                    ..Default::default()
                };
                for probe in &program.reads {
                    use waltron_core::injection::measuring::Reading;
                    let none = waltron_core::grading::Values::none();
                    let mut reading = Reading::at_end(probe.clone(), none);
                    reading.lacks = Some(Lack::NotTold("unit".into(), "no answer".to_owned()));
                    seen.readings.push(reading);
                }
                for found in test.observe(&seen) {
                    assert_ne!(
                        found.verdict,
                        Verdict::Fail,
                        "{}: {}",
                        found.point.id,
                        found.reason
                    );
                }
            }
            _ => {}
        }
    }
    panic!("it does not end");
}
