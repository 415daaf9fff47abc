//! What people see of a run: a line a point, a progress bar, a summary.

use crate::exit::Exit;
use crate::terminal::{BAD, DOUBTFUL, FAINT, GOOD, STRONG, Terminal, plain, styled};
use crate::time_left::TimeLeft;
use anstyle::Style;
use indicatif::{ProgressBar, ProgressStyle};
use std::collections::HashMap;
use waltron_core::asset::Ratings;
use waltron_core::grading::{Criterion, Grade, Limits, Summary, Verdict, words};
use waltron_core::procedure::{Also, Span};
use waltron_core::quantity::{Current, Measure, Time, Voltage, counted, duration, text};
use waltron_core::record::{Outcome, RunEnded};
use waltron_core::text::name::Name;
use waltron_rig::runner::Prepared;

/// Mark and colour of a verdict; the word says the same without colour.
fn look(verdict: Verdict) -> (&'static str, Style) {
    match verdict {
        Verdict::Pass => ("✓", GOOD),
        Verdict::Fail => ("✗", BAD),
        Verdict::Inconclusive => ("?", DOUBTFUL),
        Verdict::Measured => ("·", STRONG),
        Verdict::NotTested => ("–", DOUBTFUL),
    }
}

/// A verdict's mark.
pub(crate) fn mark(verdict: Verdict) -> &'static str {
    look(verdict).0
}

/// A point as one line, or as several where the terminal is too narrow for one.
pub(crate) fn point_line(grade: &Grade, id_width: usize, width: Option<usize>) -> String {
    let (mark, style) = look(grade.verdict);
    let verdict = format!("{mark} {:<12}", grade.verdict.word());
    let mut id = plain(&grade.point.id);
    if grade.attempt > 1 {
        id.push_str(&format!(" (attempt {})", grade.attempt));
    }
    let parts = told(grade);
    let told = in_columns(&parts, 40);
    let reason = if grade.verdict == Verdict::Pass { String::new() } else { plain(&grade.reason) };
    let fits = |length: usize| width.is_none_or(|w| length <= w);
    let mut head = format!(" {id:<id_width$}  {told}");
    // Where the columns take too much room, the line does without them.
    if !fits(verdict.chars().count() + head.chars().count()) {
        head = format!(" {id:<id_width$}  {}", in_columns(&parts, 0));
    }
    let verdict_width = verdict.chars().count();
    let verdict = styled(style, &verdict);
    let length = verdict_width + head.chars().count();
    let reason_width = reason.chars().count() + 2;
    let reason = styled(style, &reason);
    match (reason_width > 2, fits(length), fits(length + reason_width)) {
        (false, true, _) => format!("{verdict}{head}\n"),
        (true, _, true) => format!("{verdict}{head}  {reason}\n"),
        (true, true, false) => format!("{verdict}{head}\n{:verdict_width$} {reason}\n", ""),
        (has_reason, false, _) => {
            let reason = if has_reason { format!("    {reason}\n") } else { String::new() };
            format!("{verdict} {id}\n{}{reason}", in_lines(&parts, width.unwrap_or(usize::MAX)))
        }
    }
}

/// The parts one below the other, as many on a line as fit into it: a line breaks between them.
fn in_lines(parts: &[String], width: usize) -> String {
    let mut lines: Vec<String> = Vec::new();
    for part in parts.iter().filter(|p| !p.is_empty()) {
        match lines.last_mut() {
            Some(line) if 4 + line.chars().count() + 2 + part.chars().count() <= width => {
                line.push_str("  ");
                line.push_str(part);
            }
            _ => lines.push(part.clone()),
        }
    }
    lines.iter().map(|line| format!("    {line}\n")).collect()
}

/// The parts side by side; `width` columns are for what was expected.
fn in_columns(parts: &[String], width: usize) -> String {
    let part = |n: usize| parts.get(n).map_or("", String::as_str);
    let (injected, measured, expected, deviation) = (part(0), part(1), part(2), part(3));
    let line = format!("{injected:<17} {measured:<18} {expected:<width$} {deviation}");
    line.trim_end().to_owned()
}

/// Injected, measured, expected with its band, deviation; of a condition what was found.
fn told(grade: &Grade) -> Vec<String> {
    let injected = words::injected(&grade.stimulus).unwrap_or_default();
    if grade.verdict == Verdict::NotTested {
        return vec![injected];
    }
    if grade.criterion == Criterion::CONDITION {
        // The reason of one that fails follows the line anyway.
        let found =
            if grade.verdict == Verdict::Pass { plain(&grade.reason) } else { String::new() };
        return vec![injected, found];
    }
    let measured = words::main_value(&grade.measured, &grade.limits, true);
    let allowed = grade.limits.words();
    let expected = match (grade.expected.is_empty(), allowed) {
        (true, Some(_)) if grade.limits == Limits::NoOperation => "expected no trip".to_owned(),
        (true, Some(allowed)) => format!("allowed {allowed}"),
        (false, Some(allowed)) => {
            let expected = words::main_value(&grade.expected, &grade.limits, false);
            format!("expected {expected} ({allowed})")
        }
        (true, None) if grade.verdict == Verdict::Measured => String::new(),
        (_, None) => {
            format!("expected {}", words::main_value(&grade.expected, &grade.limits, false))
        }
    };
    let deviation = grade.deviation.deviation_text();
    vec![injected, format!("measured {measured}"), expected, deviation]
}

/// A progress bar on stderr; hidden where nobody watches.
pub(crate) fn progress(terminal: &Terminal, points: usize, left: TimeLeft) -> ProgressBar {
    if !terminal.is_watched() {
        return ProgressBar::hidden();
    }
    let bar = ProgressBar::new(points as u64);
    let template = "{prefix} {wide_bar} {pos}/{len} points, {msg}";
    if let Ok(style) = ProgressStyle::with_template(template) {
        bar.set_style(style);
    }
    bar.set_message(left.to_string());
    bar
}

/// An RMS value of a current, else of a voltage.
fn rms(si: f64, is_current: bool) -> String {
    if is_current { text(Current::from_si(si)) } else { text(Voltage::from_si(si)) }
}

/// The largest value of each channel, and the warning where nothing but the rig limits it.
pub(crate) fn maxima(maxima: &[(Name, f64, bool)], ratings: &Ratings) -> String {
    let all: Vec<String> = maxima
        .iter()
        .map(|(channel, si, is_current)| format!("{channel} {}", rms(*si, *is_current)))
        .collect();
    let all = if all.is_empty() { "no output is used".to_owned() } else { all.join("   ") };
    let mut out = format!("Maxima    {all}\n");
    let unknown = [
        ("currents", true, ratings.currents.is_unknown() && ratings.own_currents.is_empty()),
        ("voltages", false, ratings.voltages.is_unknown() && ratings.own_voltages.is_empty()),
    ];
    for (what, is_current, unknown) in unknown {
        if unknown && maxima.iter().any(|(_, si, of)| *of == is_current && *si > 0.0) {
            let warning = format!(
                "the asset gives no thermal ratings of {what}: only the rig's range limits them"
            );
            out.push_str(&styled(DOUBTFUL, &format!("Warning   {warning}\n")));
        }
    }
    out
}

/// What a plan does besides putting something out, and how sure its maxima are.
pub(crate) fn besides(prepared: &Prepared) -> String {
    let mut out = String::new();
    if !prepared.is_exact() {
        out.push_str("          at most: some of it follows from what is measured\n");
    }
    for (index, also) in prepared.also().into_iter().enumerate() {
        let what = match also {
            Also::Switches { parameter, on } => {
                format!("switches {} {}", plain(parameter.as_str()), if on { "on" } else { "off" })
            }
            Also::Sets { parameter, to } => {
                format!("sets {} to {}", plain(parameter.as_str()), Span(to))
            }
            Also::Asks { question, .. } => format!("asks {}", plain(&question.text)),
            Also::Sends { to, text } => format!("sends {} to {}", plain(&text), plain(to.as_str())),
            Also::Runs { program } => format!("runs {} on this computer", plain(&program)),
            Also::Leads { at } => format!("takes the leads to {}", plain(at.as_str())),
            Also::ByHand { at, voltage, .. } => format!(
                "somebody puts {} on {} from an instrument of their own",
                text(voltage),
                plain(&at)
            ),
            Also::Arises { at, most } => format!("up to {} on {}", text(most), plain(&at)),
        };
        out.push_str(&format!("{:<10}{what}\n", if index == 0 { "Also" } else { "" }));
    }
    out
}

/// A table of the tests with their counts and largest deviation.
pub(crate) fn table(grades: &[Grade], terminal: &Terminal) -> String {
    let mut tests: Vec<(&str, Vec<&Grade>)> = Vec::new();
    let latest: HashMap<&str, u32> =
        grades.iter().map(|g| (g.point.id.as_str(), g.attempt)).collect();
    // Of a point that was repeated the latest attempt counts.
    let counts = |g: &&Grade| latest.get(g.point.id.as_str()) == Some(&g.attempt);
    let grades: Vec<&Grade> = grades.iter().filter(counts).collect();
    for grade in grades.iter().copied() {
        let test = grade.point.test.as_str();
        match tests.iter_mut().find(|(t, _)| *t == test) {
            Some((_, of_test)) => of_test.push(grade),
            None => tests.push((test, vec![grade])),
        }
    }
    let all = Summary::of(grades.iter().map(|g| g.verdict));
    // Columns that would be empty only take room.
    let doubtful = [("Inconcl.", all.inconclusive > 0), ("Not tested", all.not_tested > 0)];
    let mut header = vec!["Test", "Points", "Pass", "Fail"];
    header.extend(doubtful.iter().filter(|(_, used)| *used).map(|(name, _)| name));
    header.push("Tolerance used");
    let mut table = crate::tables::table(header, terminal);
    for (test, of_test) in tests {
        let s = Summary::of(of_test.iter().map(|g| g.verdict));
        let count = |n: usize| if n == 0 { "–".to_owned() } else { n.to_string() };
        let used = of_test.iter().filter_map(|g| words::tolerance_used(g)).reduce(f64::max);
        let largest = used.map_or_else(|| "–".to_owned(), share);
        let mut row = vec![plain(test), s.total().to_string(), count(s.pass), count(s.fail)];
        let counts = [s.inconclusive, s.not_tested];
        row.extend(
            doubtful.iter().zip(counts).filter(|((_, used), _)| *used).map(|(_, n)| count(n)),
        );
        row.push(largest);
        table.add_row(row);
    }
    let columns = table.column_count();
    crate::tables::align_right(&mut table, 1..columns);
    format!("{table}\n")
}

/// A share in whole percent; one that is far beyond its limit is told as that.
fn share(used: f64) -> String {
    if used > 9.99 { "> 999 %".to_owned() } else { format!("{:.0} %", used * 100.0) }
}

/// What came of all points: the word, and how many of which.
pub(crate) fn verdict(exit: Exit, s: Summary, not_reached: usize) -> String {
    let (word, style) = match exit {
        Exit::Pass if s.pass == 0 && s.measured > 0 => ("MEASURED", GOOD),
        Exit::Pass => ("PASS", GOOD),
        Exit::Fail => ("FAIL", BAD),
        Exit::Stopped => ("STOPPED", DOUBTFUL),
        Exit::Trouble => ("RIG TROUBLE", BAD),
        _ => ("NOT ALL TESTED", DOUBTFUL),
    };
    let mut counts = vec![words::passing(s, not_reached)];
    // Of a single point the words before it say so already.
    let further = if s.total() == s.measured && not_reached == 1 { 0 } else { not_reached };
    for (n, what) in [
        (s.fail, "fail"),
        (s.inconclusive, "inconclusive"),
        (s.measured, "measured"),
        (s.not_tested, "not tested"),
        (further, "not reached"),
    ] {
        if n > 0 {
            counts.push(format!("{n} {what}"));
        }
    }
    format!("{}  {}", styled(style.bold(), word), styled(STRONG, &counts.join(", ")))
}

/// The end of a run: table, verdict, what went wrong.
pub(crate) fn summary(grades: &[Grade], ended: &RunEnded, terminal: &Terminal) -> String {
    let s = ended.summary;
    let mut text = String::from("\n");
    if !grades.is_empty() {
        text.push_str(&table(grades, terminal));
    }
    text.push_str(&format!("\n{}", verdict(Exit::of_run(ended), s, ended.not_reached)));
    // Of an injection that the rig broke off nobody knows how long it lasted.
    if ended.injected > Time::default() {
        let time = format!("{} on the rig", duration(ended.injected));
        text.push_str(&format!("  {}", styled(FAINT, &time)));
    }
    text.push('\n');
    if !ended.left_out.is_empty() {
        let count = counted(ended.left_out.len(), "point");
        text.push_str(&format!("{count} of the plan not asked for, and not tested (--only)\n"));
    }
    for owed in &ended.owed {
        let line = format!("NOT PUT BACK: {}", plain(&owed.text));
        text.push_str(&format!("{}\n", styled(BAD, &line)));
    }
    if let Outcome::RigTrouble(message) = &ended.outcome {
        text.push_str(&format!("{}\n", styled(BAD, &plain(message))));
    }
    text
}

#[cfg(test)]
mod tests {
    use super::*;
    use waltron_core::grading::{PointId, Values};
    use waltron_core::quantity::{amperes, seconds};

    fn grade(verdict: Verdict, measured: Option<f64>) -> Grade {
        Grade {
            point: PointId {
                id: "t/A-N/\u{1b}2x".into(),
                test: "t".into(),
                element: None,
                fault_loop: None,
            },
            attempt: 1,
            criterion: Criterion::TRIP_TIME,
            stimulus: Values::none().with("current", amperes(2.4)),
            expected: Values::none().with("time", seconds(4.05)),
            measured: Values::none().with_some("time", measured.map(seconds)),
            deviation: Values::none(),
            limits: Limits::operation(Some(seconds(3.7)), None),
            uncertainty: Values::none(),
            budget: Vec::new(),
            verdict,
            reason: "no operation within 8 s".into(),
            skipped: false,
            guarded: false,
        }
    }

    #[test]
    fn a_point_takes_one_line_where_there_is_room() {
        let wide = point_line(&grade(Verdict::Pass, Some(4.1)), 12, None);
        assert_eq!(wide.lines().count(), 1);
        assert!(
            wide.contains("measured 4.100 s")
                && wide.contains("expected 4.05 s (trip permitted after 3.700 s)")
        );
        let narrow = point_line(&grade(Verdict::Fail, None), 12, Some(60));
        // The line breaks between what was measured and what was expected, never inside.
        let plain = anstream::adapter::strip_str(&narrow).to_string();
        assert!(plain.lines().all(|l| l.chars().count() <= 60), "{plain}");
        assert!(
            plain.lines().any(|l| l.trim() == "expected 4.05 s (trip permitted after 3.700 s)"),
            "{plain}"
        );
        assert!(narrow.contains("measured no trip") && narrow.contains("no operation within 8 s"));
        assert!(
            !narrow.contains("\u{1b}2x"),
            "control characters from files do not reach the terminal"
        );
        let skipped = point_line(&grade(Verdict::NotTested, None), 12, None);
        assert!(!skipped.contains("measured") && skipped.contains("not tested"));
    }

    #[test]
    fn durations_read_as_people_say_them() {
        assert_eq!(duration(seconds(0.25)), "250 ms");
        assert_eq!(duration(seconds(382.4)), "6 min 22 s");
        assert_eq!(duration(seconds(3.0 * 3600.0 + 125.0)), "3 h 2 min");
    }
}
