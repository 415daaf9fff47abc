//! The runner, line by line: what the rig does, what somebody is asked and told, and what is written down, in the order
//! in which it must happen. Each transcript was reckoned by hand.
#![allow(clippy::unwrap_used, missing_docs)]

mod bench;
mod faked;
mod prepared;

use bench::{Script, Stage, Step, direct, out};
use waltron_core::grading::{Criterion, Verdict};
use waltron_core::injection::capability::Discharge;
use waltron_core::injection::observation::Discharged;
use waltron_core::injection::program::{Finish, Program, Stand};
use waltron_core::procedure::{Answer, Owed};
use waltron_core::quantity::seconds;
use waltron_core::record::Outcome;
use waltron_rig::RigError;
use waltron_rig::attendant::Wish;

const PASS: Verdict = Verdict::Pass;
const FAIL: Verdict = Verdict::Fail;

fn script(id: &'static str, steps: Vec<Step>) -> Script {
    Script { id, steps, alone: false }
}

fn inject(program: Program, id: &'static str) -> Step {
    Step::Inject(program, vec![(id, PASS)])
}

fn at(place: &str, mut program: Program) -> Program {
    program.connection = Some(place.into());
    program
}

fn kept(mut program: Program) -> Program {
    program.finish = Finish::Keep;
    program
}

#[track_caller]
fn is(transcript: &str, wanted: &str) {
    let wanted: Vec<&str> = wanted.lines().map(str::trim).filter(|l| !l.is_empty()).collect();
    let found: Vec<&str> = transcript.lines().map(str::trim_end).collect();
    assert_eq!(found, wanted, "\n{transcript}");
}

/// A test with everything that has to be taken off, moved and put back.
fn handy() -> Vec<Step> {
    let mut shorted = at("A", out(1.0, 1.0));
    shorted.shorts = Some("the primary".into());
    let mut moved = at("B", out(3.0, 1.0));
    moved.stands = vec![Stand::new("OLTC", "7")];
    vec![
        inject(shorted, "a"),
        Step::Undo("Defeat F", "Put F back"),
        Step::Inject(kept(at("B", out(2.0, 1.0))), vec![]),
        Step::Inject(moved.clone(), vec![("b", FAIL)]),
        inject(moved, "c"),
        Step::Hand("x", 1.0),
        Step::Ask("Look"),
    ]
}

/// Leads, shorts and taps are asked for with outputs off, once each; what is undone is written down before it is, and
/// put back.
#[test]
fn what_somebody_does_is_asked_with_outputs_off_and_put_back() {
    let (transcript, _) = Stage::new(vec![script("t", handy())]).play();
    is(
        &transcript,
        r#"
        written: owed [Take the short off the primary]
        off
        shown: off
        asked: Take the leads to A; outputs are off
        written: begins a
        plays ia 1 A
        shown: off
        written: t saw a
        written: t/a pass (1) as scripted
        written: owed [Put F back; Take the short off the primary]
        asked: Defeat F
        off
        shown: off
        asked: Take the leads to B, and take the short off the primary; outputs are off
        written: owed [Put F back]
        written: begins
        plays ia 2 A
        written: t saw
        off
        shown: off
        asked: Set OLTC to 7; outputs are off
        written: begins b
        plays ia 3 A
        shown: off
        written: t saw b
        written: t/b FAIL (1) as scripted
        written: begins c
        plays ia 3 A
        shown: off
        written: t saw c
        written: t/c pass (1) as scripted
        told: hands x on
        asked: Look
        written: handed on {"x": 1.0}
        off
        shown: off
        asked: Put F back
        written: owed []
        rests 500 ms
        written: t ended
        off
        shown: off
        written: completed, 2 pass, 1 fail, 0 not reached, owed []
        "#,
    );
    // A rig that takes its leads along asks nobody, and does not under voltage either.
    let steps = vec![
        Step::Inject(kept(at("A", out(2.0, 1.0))), vec![]),
        inject(at("B", out(1.0, 1.0)), "b"),
        inject(at("B", out(1.0, 1.0)), "c"),
    ];
    let mut stage = Stage::new(vec![script("t", steps)]);
    stage.rig.capability.switches_leads = true;
    is(
        &stage.play().0,
        r#"
        written: begins
        plays ia 2 A
        written: t saw
        off
        shown: off
        written: begins b
        plays ia 1 A
        shown: off
        written: t saw b
        written: t/b pass (1) as scripted
        written: begins c
        plays ia 1 A
        shown: off
        written: t saw c
        written: t/c pass (1) as scripted
        off
        shown: off
        rests 500 ms
        written: t ended
        off
        shown: off
        written: completed, 2 pass, 0 fail, 0 not reached, owed []
        "#,
    );
}

/// Whoever leaves something undone is not sent on: not taken to a place, not set, nothing is injected there, and what
/// was undone is put back however the test ends.
#[test]
fn a_skip_ends_with_everything_put_back() {
    let mut stage =
        Stage::new(vec![script("t", handy()), script("u", vec![inject(out(1.0, 1.0), "d")])]);
    stage.person.answers = vec![
        ("Take the leads to B", Answer::Skip("no ladder".into())),
        ("Set OLTC", Answer::Skip("key lost".into())),
        ("Look", Answer::Skip(String::new())),
    ];
    let (transcript, done) = stage.play();
    is(
        &transcript,
        r#"
        written: owed [Take the short off the primary]
        off
        shown: off
        asked: Take the leads to A; outputs are off
        written: begins a
        plays ia 1 A
        shown: off
        written: t saw a
        written: t/a pass (1) as scripted
        written: owed [Put F back; Take the short off the primary]
        asked: Defeat F
        off
        shown: off
        asked: Take the leads to B, and take the short off the primary; outputs are off
        off
        shown: off
        refused: the leads were not taken to B: no ladder
        off
        shown: off
        asked: Take the leads to B, and take the short off the primary; outputs are off
        written: owed [Put F back]
        off
        shown: off
        asked: Set OLTC to 7; outputs are off
        off
        shown: off
        refused: OLTC to 7 was not set: key lost
        written: t/b not tested (1) as scripted
        off
        shown: off
        asked: Set OLTC to 7; outputs are off
        written: begins c
        plays ia 3 A
        shown: off
        written: t saw c
        written: t/c pass (1) as scripted
        told: hands x on
        asked: Look
        off
        shown: off
        asked why
        off
        shown: off
        asked: Put F back
        written: owed []
        rests 500 ms
        written: t ended, skipped
        off
        shown: off
        asked: Take the leads to where the connection sheet has them; outputs are off
        written: begins d
        plays ia 1 A
        shown: off
        written: u saw d
        written: u/d pass (1) as scripted
        off
        shown: off
        rests 500 ms
        written: u ended
        off
        shown: off
        written: completed, 3 pass, 0 fail, 0 not reached, owed []
        "#,
    );
    assert_eq!(done.ended.summary.not_tested, 1);
}

/// 20 A for 1.5 s are three quarters of what 20 A for 2 s stand for, 4.2 A for 1 s next to nothing: the long rests are
/// told each, of short ones the first of a test.
#[test]
fn the_asset_cools_before_it_is_heated_again() {
    let hot = || vec![inject(out(20.0, 1.5), "a"), inject(out(20.0, 1.5), "b")];
    let (transcript, done) = Stage::new(vec![script("t", hot()), script("u", hot())]).play();
    let told: Vec<&str> = transcript.lines().filter(|l| l.starts_with("told: ")).collect();
    assert_eq!(told.len(), 3, "before every one but the first\n{transcript}");
    for (told, rested) in told.iter().zip(rests(&transcript)) {
        assert!(
            told.starts_with(&format!("told: Outputs stay off for {rested} so that")),
            "{told}"
        );
        assert!(told.ends_with("short-time rating"), "{told}");
    }
    // Outputs are off for as long, it is written down, and only then it goes on.
    let lines: Vec<&str> = transcript.lines().collect();
    for at in (0..lines.len()).filter(|at| lines[*at].starts_with("told: ")) {
        assert_eq!(lines[at - 2..at], ["off", "shown: off"]);
        assert!(
            lines[at + 1].starts_with("rests ") && lines[at + 2].starts_with("written: rested")
        );
        assert!(lines[at + 3].starts_with("written: begins"), "{transcript}");
    }
    assert_eq!(done.ended.injected, seconds(6.0));
    // Many short rests: told once a test.
    let warm = || {
        let each = ["a", "b", "c"].map(|id| inject(out(20.0, 0.1), id));
        let first = Step::Inject(out(20.0, 1.95), vec![]);
        std::iter::once(first).chain(each).collect::<Vec<_>>()
    };
    let (transcript, _) = Stage::new(vec![script("t", warm()), script("u", warm())]).play();
    let short = |l: &&str| l.ends_with("further ones as short are not told");
    assert_eq!(transcript.lines().filter(short).count(), 2, "{transcript}");
    assert!(rests(&transcript).len() > 5, "{transcript}");
    // What is warm already from before the run counts; what has had time to cool does not.
    let mut before = Stage::new(vec![script("t", hot()[..1].to_vec())]);
    before.so_far.warm.currents = vec![("ia".into(), 0.5)];
    assert_eq!(rests(&before.play().0).len(), 1);
    let mut cooled = Stage::new(vec![script("t", hot()[..1].to_vec())]);
    cooled.so_far.warm.currents = vec![("ia".into(), 0.5)];
    cooled.so_far.cooled = seconds(1e6);
    assert_eq!(rests(&cooled.play().0).len(), 0);
}

/// How long each rest was in which the asset cooled.
fn rests(transcript: &str) -> Vec<String> {
    let rested = transcript.lines().filter_map(|l| l.strip_prefix("written: rested "));
    rested.map(str::to_owned).collect()
}

/// Direct voltage on insulation: earthed for four times as long by whoever it is, and owed until then.
#[test]
fn what_is_charged_with_direct_voltage_is_earthed() {
    let charging = || {
        let mut program = direct(5000.0, 2.0);
        program.earth = Some("H".into());
        vec![inject(program, "a"), Step::Tell("done")]
    };
    let begin = r#"
        written: owed [Earth H and leave it earthed for 8 s (8 s)]
        written: begins a
        plays va 5 kV
        shown: off
        written: t saw a
        written: t/a pass (1) as scripted
        "#;
    let end = r#"
        written: owed []
        told: done
        off
        shown: off
        rests 500 ms
        written: t ended
        off
        shown: off
        written: completed, 1 pass, 0 fail, 0 not reached, owed []
        "#;
    let waits = r#"
        told: Outputs off. Earth H and leave it earthed for 8 s: waiting
        rests 8 s
        written: rested 8 s
        shown: discharged after 8 s
        "#;
    let (transcript, _) = Stage::new(vec![script("t", charging())]).play();
    let asked = "asked: Earth H and leave it earthed for 8 s";
    is(&transcript, &format!("{begin}\n{asked}\n{waits}\n{end}"));
    let mut by_rig = Stage::new(vec![script("t", charging())]);
    by_rig.rig.capability.earths = true;
    is(&by_rig.play().0, &format!("{begin}\n{waits}\n{end}"));
    // Refused: it stays owed, nothing more is done, and no reading is lost.
    let mut refused = Stage::new(vec![script("t", charging())]);
    refused.person.answers = vec![("Earth H", Answer::Stop)];
    is(
        &refused.play().0,
        &format!(
            r#"{begin}
            {asked}
            told: STILL CHARGED: Earth H and leave it earthed for 8 s before anybody touches it
            off
            shown: off
            off
            shown: off
            written: stopped, 1 pass, 0 fail, 0 not reached, owed [Earth H and leave it earthed for 8 s]
            "#
        ),
    );
    // Gone on with, that is what comes first; the record has it off the list once it is done.
    let mut resumed = Stage::new(vec![script("t", vec![Step::Tell("on")])]);
    let owed = Owed { text: "Earth H".into(), wait: Some(seconds(8.0)), by_rig: true };
    resumed.so_far.owed = vec![owed.clone(), Owed::new("Put F back")];
    is(
        &resumed.play().0,
        r#"
        asked: Left from the run before: Earth H
        told: Outputs off. Earth H: waiting
        rests 8 s
        written: rested 8 s
        shown: discharged after 8 s
        written: owed [Put F back]
        asked: Left from the run before: Put F back
        written: owed []
        told: on
        off
        shown: off
        rests 500 ms
        written: t ended
        off
        shown: off
        written: completed, 0 pass, 0 fail, 0 not reached, owed []
        "#,
    );
    // A rig that earths does what it has charged itself, and nothing of what somebody has put on.
    for by_rig in [true, false] {
        let mut earths = Stage::new(vec![script("t", vec![Step::Tell("on")])]);
        earths.rig.capability.earths = true;
        earths.so_far.owed = vec![Owed { by_rig, ..owed.clone() }];
        let transcript = earths.play().0;
        assert_eq!(transcript.contains("asked: Left from the run before: Earth H"), !by_rig);
        assert!(transcript.contains("rests 8 s"), "{transcript}");
        let own = Owed { by_rig, ..owed.clone() };
        let mut during = Stage::new(vec![script("t", vec![Step::Earth(own)])]);
        during.rig.capability.earths = true;
        let transcript = during.play().0;
        assert_eq!(transcript.contains("asked: Earth H"), !by_rig, "{transcript}");
        assert!(transcript.contains("rests 8 s"), "{transcript}");
    }
    let mut left = Stage::new(vec![script("t", vec![Step::Tell("on")])]);
    (left.so_far.owed, left.person.answers) = (vec![owed], vec![("Left", Answer::Stop)]);
    is(
        &left.play().0,
        r#"
        asked: Left from the run before: Earth H
        told: NOT PUT BACK: Earth H; --resume asks about it first
        off
        shown: off
        written: stopped, 0 pass, 0 fail, 0 not reached, owed [Earth H]
        "#,
    );
}

/// What the rig says of a discharge is believed where its meter has seen the current, asked where it has not, and ends
/// the run where it is not over.
#[test]
fn nobody_goes_on_before_it_is_discharged() {
    let said =
        |is_done, is_seen| Discharged { time: seconds(3.0), left_a: Some(0.5), is_done, is_seen };
    let steps = || vec![Step::Inject(kept(out(2.0, 1.0)), vec![]), Step::Off, Step::Tell("on")];
    let begin = "written: begins\nplays ia 2 A\nwritten: t saw\noff\nshown: off\n";
    let end = "told: on\noff\nshown: off\nrests 500 ms\nwritten: t ended\noff\nshown: off\n\
        written: completed, 0 pass, 0 fail, 0 not reached, owed []";
    let with = |first: Result<Discharged, RigError>, answer: Answer| {
        let mut stage = Stage::new(vec![script("t", steps())]);
        stage.rig.discharges = [first].into();
        stage.person.answers = vec![("Meter", answer)];
        stage.play()
    };
    let (seen, _) = with(Ok(said(true, true)), Answer::Stop);
    is(&seen, &format!("{begin}\nwritten: discharged true\nshown: discharged after 3 s\n{end}"));
    let asked = "asked: Meter `that watches it` showed nothing while direct current was put out, so its 0 A now \
        proves nothing. See to it and to the leads; earth and short what was fed";
    let (unseen, _) = with(Ok(said(true, false)), Answer::Confirmed);
    is(&unseen, &format!("{begin}\nwritten: discharged true\n{asked}\n{end}"));
    let (left, done) = with(Ok(said(true, false)), Answer::Stop);
    assert!(
        left.contains("told: PERHAPS STILL CHARGED: meter") && !left.contains("told: on"),
        "{left}"
    );
    assert!(left.ends_with("written: stopped, 0 pass, 0 fail, 0 not reached, owed []"), "{left}");
    assert!(done.trouble.is_none());
    let (charged, done) = with(Err(RigError::StillCharged("0.5 A".into())), Answer::Confirmed);
    assert!(
        !charged.contains("told: on") && charged.contains("trouble: STILL CHARGED: 0.5 A"),
        "{charged}"
    );
    assert!(matches!(done.trouble, Some(RigError::StillCharged(_))));
}

/// A place at which an earlier attempt went wrong passes once a later one has come past it; what went wrong in this
/// very attempt stays wrong.
#[test]
fn only_what_went_wrong_before_is_come_past() {
    let place = Criterion::COMPLETION;
    let wrong = Step::Say("line 3", place.clone(), FAIL);
    let mut stage = Stage::new(vec![script("t", vec![wrong.clone(), inject(out(1.0, 1.0), "a")])]);
    let (transcript, done) = stage.play();
    assert!(!transcript.contains("came to its end"), "{transcript}");
    assert_eq!((done.ended.summary.pass, done.ended.summary.fail), (1, 1));
    // Repeated by wish, and nothing wrong this time, nor with what an earlier run left.
    for skips in [false, true] {
        let mut stage = Stage::new(vec![script("t", vec![inject(out(1.0, 1.0), "a")])]);
        let mut earlier =
            Stage::new(vec![script("t", vec![wrong.clone()])]).play().1.grades.remove(0);
        stage.so_far.tally.note(&earlier);
        earlier.point.id = "u/line 9".into();
        earlier.point.test = "u".into();
        stage.so_far.tally.note(&earlier);
        if skips {
            stage.person.wishes = [Wish::GoOn, Wish::Skip("later".into())].into();
        }
        let (transcript, done) = stage.play();
        let passed = "written: t/line 3 pass (2) the sequence came to its end this time";
        assert_eq!(transcript.contains(passed), !skips, "{transcript}");
        assert!(!transcript.contains("u/line 9"), "another test's place stays\n{transcript}");
        assert_eq!(done.ended.summary.fail, if skips { 2 } else { 1 });
    }
    let mut again = Stage::new(vec![script("t", vec![inject(out(1.0, 1.0), "a"), wrong])]);
    again.person.wishes = [Wish::GoOn, Wish::GoOn, Wish::Repeat].into();
    let (transcript, done) = again.play();
    assert!(transcript.contains("written: t again"), "{transcript}");
    assert!(!transcript.contains("came to its end"), "it went wrong again\n{transcript}");
    let fails: Vec<u32> =
        done.grades.iter().filter(|g| g.verdict == FAIL).map(|g| g.attempt).collect();
    assert_eq!(fails, [1, 2]);
}

/// What is not told before is not put out; nor what the asset does not stand.
#[test]
fn what_was_not_told_before_is_refused() {
    let mut stage =
        Stage::new(vec![script("t", vec![inject(out(1.0, 1.0), "a"), inject(out(2.0, 1.0), "b")])]);
    let mut prepared = stage.prepared();
    prepared.keep_only("t");
    // The test asks for more than it had planned.
    stage.scripts = vec![script("t", vec![inject(out(2.0, 1.0), "a")])];
    let (transcript, _) = stage.run(prepared);
    assert!(!transcript.contains("refused"), "2 A were told\n{transcript}");
    let mut stage = Stage::new(vec![script(
        "t",
        vec![inject(out(25.0, 1.0), "a"), inject(out(1.0, 1.0), "b")],
    )]);
    let (transcript, done) = stage.play();
    assert!(
        transcript.contains("refused: 25 A on ia is above the asset's highest thermal rating"),
        "{transcript}"
    );
    assert!(!transcript.contains("plays ia 25 A") && transcript.contains("plays ia 1 A"));
    assert_eq!((done.ended.summary.pass, done.ended.summary.not_tested), (1, 1));
}

/// Wherever it is stopped, whatever breaks, at every single moment: nothing is put out afterwards, outputs go off, what
/// is undone is put back or told, and the counts are those of what was graded.
#[test]
fn every_moment_can_be_the_last_one() {
    let all = || {
        vec![
            script("t", handy()),
            script("u", vec![inject(out(20.0, 1.5), "d"), inject(out(20.0, 1.5), "e")]),
        ]
    };
    let whole = Stage::new(all()).play().0;
    let count = whole.lines().count();
    let last_play = whole.lines().collect::<Vec<_>>().iter().rposition(|l| l.starts_with("plays"));
    let last_play = last_play.unwrap();
    for at in 1..count {
        let mut stage = Stage::new(all());
        stage.person.stops_at = at;
        let (transcript, done) = stage.play();
        let lines: Vec<&str> = transcript.lines().collect();
        assert!(
            lines[at.min(lines.len())..].iter().all(|l| !l.starts_with("plays")),
            "{at}\n{transcript}"
        );
        ends_well(&lines, &format!("stopped at {at}"));
        let is_stopped = done.ended.outcome == Outcome::Stopped;
        assert!(
            is_stopped || (at > last_play && done.ended.not_reached == 0),
            "{at}\n{transcript}"
        );
        let graded = done.grades.iter().filter(|g| g.verdict != Verdict::NotTested).count();
        assert_eq!(graded + done.ended.not_reached, 5, "{at}\n{transcript}");
    }
    for breaks_at in 1..=6 {
        let mut stage = Stage::new(all());
        stage.rig.breaks_at = Some(breaks_at);
        let (transcript, done) = stage.play();
        ends_well(&transcript.lines().collect::<Vec<_>>(), &format!("broken at {breaks_at}"));
        assert!(matches!(done.trouble, Some(RigError::Lost { .. })), "{transcript}");
        assert_eq!(transcript.matches("plays").count(), breaks_at);
    }
    for full_at in 1..60 {
        let mut stage = Stage::new(all());
        stage.full_at = full_at;
        let prepared = stage.prepared();
        let (transcript, done) = stage.run(prepared);
        if done.is_ok() {
            continue;
        }
        let lines: Vec<&str> = transcript.lines().collect();
        let off = lines.iter().rposition(|l| *l == "off");
        let plays = lines.iter().rposition(|l| l.starts_with("plays"));
        assert!(off > plays || plays.is_none(), "full at {full_at}\n{transcript}");
        let undone = lines.iter().rposition(|l| l.starts_with("asked: Defeat F"));
        let back =
            lines.iter().rposition(|l| l.contains("Put F back") && !l.starts_with("written"));
        assert!(undone.is_none() || back > undone, "full at {full_at}\n{transcript}");
        // The straps are on from the first question on, and off once the second is answered.
        let told = transcript.contains("told: NOT PUT BACK: Take the short off the primary");
        let [on, is_off] = ["asked: Take the leads to A", "asked: Take the leads to B"]
            .map(|l| transcript.contains(l));
        assert!(told || !on || is_off, "full at {full_at}\n{transcript}");
        assert!(!told || !transcript.contains("written: owed [Put F back]\n"), "{transcript}");
    }
}

/// Off after whatever was put out, and what was undone is put back; what is not is told and stays owed.
#[track_caller]
fn ends_well(lines: &[&str], when: &str) {
    let text = lines.join("\n");
    let last = |start: &str| lines.iter().rposition(|l| l.starts_with(start));
    assert!(last("off") > last("plays") || last("plays").is_none(), "{when}\n{text}");
    let end = lines.last().unwrap();
    assert!(end.starts_with("written: ") && end.contains(" not reached, owed ["), "{when}\n{text}");
    if last("asked: Defeat F").is_some() {
        assert!(last("asked: Put F back") > last("asked: Defeat F"), "{when}\n{text}");
        assert!(!end.contains("Put F back"), "{when}\n{text}");
    }
    let owes_short = last("written: owed").is_some_and(|at| lines[at].contains("short off"));
    assert_eq!(owes_short, end.contains("short off"), "{when}\n{text}");
}

/// An instrument that is left on is told with what came before it, and stays owed.
#[test]
fn what_could_not_be_switched_off_stays_owed() {
    let left =
        RigError::LeftOn { names: vec!["psu".into(), "aux".into()], words: "two are on".into() };
    for breaks_at in [None, Some(1)] {
        let mut stage = Stage::new(vec![script("t", vec![inject(out(1.0, 1.0), "a")])]);
        (stage.rig.ends, stage.rig.breaks_at) = (Some(left.clone()), breaks_at);
        let (transcript, done) = stage.play();
        let before = if breaks_at.is_some() {
            ". Before that: the connection to there broke: cut"
        } else {
            ""
        };
        let end = format!(
            "written: trouble: {left}{before}, {} pass, 0 fail, {} not reached, owed [Switch instrument `psu` off by hand; Switch instrument `aux` off by hand]",
            usize::from(breaks_at.is_none()),
            usize::from(breaks_at.is_some())
        );
        assert_eq!(transcript.lines().last().unwrap(), end, "{transcript}");
        assert_eq!(done.trouble, Some(left.clone()));
    }
}

/// Whoever stops while direct current flows, or while what it has left on does, hears of the core; nobody else does.
#[test]
fn a_stop_under_direct_current_tells_of_the_core() {
    let direct = || kept(direct(100.0, 1.0));
    let quiet = || out(0.5, 1.0);
    for (steps, told) in [
        (vec![Step::Inject(direct(), vec![])], true),
        (vec![Step::Inject(direct(), vec![]), Step::Inject(kept(quiet()), vec![])], true),
        (vec![Step::Inject(direct(), vec![]), Step::Off, Step::Inject(quiet(), vec![])], false),
        (vec![Step::Inject(quiet(), vec![])], false),
        (vec![Step::Inject(kept(quiet()), vec![]), Step::Inject(quiet(), vec![])], false),
    ] {
        let plays = steps.iter().filter(|step| matches!(step, Step::Inject(..))).count();
        let whole = Stage::new(vec![script("t", steps.clone())]).play().0;
        let last = whole.lines().enumerate().filter(|(_, l)| l.starts_with("plays")).nth(plays - 1);
        let mut stage = Stage::new(vec![script("t", steps)]);
        stage.rig.capability.discharge = Some(Discharge { meter: "clamp".into(), below_a: 0.01 });
        // Just as the last one begins.
        stage.person.stops_at = last.unwrap().0;
        let transcript = stage.play().0;
        assert_eq!(
            transcript.contains("told: Stopped with direct current on"),
            told,
            "{transcript}"
        );
    }
}

/// What a test has charged by somebody's hand is earthed when it ends early, is owed once until then, and again where
/// that is refused.
#[test]
fn what_is_left_to_be_earthed_is_owed_once() {
    let steps = || vec![Step::Undo("Put 5 kV on", "Earth H"), Step::Ask("Read")];
    for refused in [false, true] {
        let mut stage = Stage::new(vec![script("t", steps())]);
        stage.person.answers = vec![("Read", Answer::Skip("flat".into()))];
        if refused {
            stage.person.answers.push(("Earth H", Answer::Stop));
        }
        let transcript = stage.play().0;
        for line in transcript.lines().filter(|l| l.contains("owed [")) {
            assert!(line.matches("Earth H").count() <= 1, "{transcript}");
        }
        assert_eq!(transcript.contains("rests 8 s"), !refused, "{transcript}");
        let end = transcript.lines().last().unwrap();
        assert_eq!(end.ends_with("owed [Earth H]"), refused, "{transcript}");
        assert_eq!(transcript.contains("STILL CHARGED: Earth H"), refused, "{transcript}");
    }
}
