//! Drawing the live view's state.

use super::chart;
use super::state::{Asked, State};
use crate::panel::Over;
use crate::prompt::prompt;
use crate::terminal::plain;
use ratatui::Frame;
use ratatui::layout::{Constraint, Layout, Rect};
use ratatui::style::{Color, Modifier, Style};
use ratatui::text::{Line, Span};
use ratatui::widgets::{Block, Clear, Gauge, List, ListItem, Paragraph, Wrap};
use waltron_core::grading::Verdict;
use waltron_core::procedure::Wanted;
use waltron_core::quantity::Measure;

const FAINT: Style = Style::new().fg(Color::DarkGray);
const STRONG: Style = Style::new().add_modifier(Modifier::BOLD);

/// Narrower than this, everything stands below each other.
const NARROW: u16 = 72;

fn colour(verdict: Verdict) -> Color {
    match verdict {
        Verdict::Pass => Color::Green,
        Verdict::Fail => Color::Red,
        Verdict::Measured => Color::Cyan,
        Verdict::Inconclusive | Verdict::NotTested => Color::Yellow,
    }
}

/// Draws everything.
pub(super) fn draw(frame: &mut Frame<'_>, state: &State) {
    let area = frame.area();
    let question = state.question.as_ref().map_or(0, |q| question_height(q, area.width));
    let rows = Layout::vertical([
        Constraint::Length(1),
        Constraint::Min(0),
        Constraint::Length(question),
        Constraint::Length(1),
        Constraint::Length(1),
    ]);
    let [head, middle, asked, progress, keys] = rows.areas(area);
    header(frame, head, state);
    if area.width < NARROW {
        let wanted = 5 + state.outputs.len().max(1) as u16 + state.contacts.len() as u16;
        // Something of the log stays in sight on any screen.
        let now = wanted.min(12).min(middle.height.saturating_sub(3).max(middle.height / 2));
        let [now, below] =
            Layout::vertical([Constraint::Length(now), Constraint::Min(0)]).areas(middle);
        present(frame, now, state);
        log(frame, below, state);
    } else {
        let [upper, lower] =
            Layout::vertical([Constraint::Percentage(62), Constraint::Min(0)]).areas(middle);
        let [left, right] =
            Layout::horizontal([Constraint::Length(36), Constraint::Min(0)]).areas(upper);
        present(frame, left, state);
        chart::draw(frame, right, state.chart());
        log(frame, lower, state);
    }
    if let Some(question) = &state.question {
        ask(frame, asked, question);
    }
    bar(frame, progress, state);
    if let Some(pending) = state.pending.filter(|_| !state.ended) {
        let style = Style::new().fg(Color::Yellow).add_modifier(Modifier::BOLD);
        return frame.render_widget(Paragraph::new(pending).style(style), keys);
    }
    let help = if state.silent().is_some() {
        "nothing heard of the rig: outputs may be on; it switches off by itself if it has lost this computer"
    } else if state.ended {
        "the run has ended: any key leaves"
    } else if let Some(asked) = &state.question {
        match asked.is_being_typed() {
            true => "type the answer and Enter   Esc outputs off, stop",
            false if matches!(asked.question.wanted, Wanted::Choice { .. }) => {
                "number or letter   Esc, Space outputs off, stop"
            }
            false => "answer and Enter   Esc, Space outputs off, stop",
        }
    } else {
        "Esc, Space off, stop   p pause   r repeat   s skip   m mark   q stop after"
    };
    frame.render_widget(Paragraph::new(help).style(FAINT), keys);
}

fn header(frame: &mut Frame<'_>, area: Rect, state: &State) {
    let outcome = state.outcome.as_ref().map(|outcome| format!(" {} ", plain(outcome)));
    let silent = state.silent().map(|time| format!(" NO ANSWER {:.1} s ", time.as_secs_f64()));
    let (word, style) = if let Some(outcome) = &outcome {
        (outcome.as_str(), STRONG)
    } else if let Some(silent) = &silent {
        let style = Style::new().fg(Color::Black).bg(Color::Yellow).add_modifier(Modifier::BOLD);
        (silent.as_str(), style)
    } else if state.energised {
        (" OUTPUTS ON ", Style::new().fg(Color::White).bg(Color::Red).add_modifier(Modifier::BOLD))
    } else {
        (" outputs off ", FAINT)
    };
    let width = word.chars().count() as u16;
    let [title, on] =
        Layout::horizontal([Constraint::Min(0), Constraint::Length(width)]).areas(area);
    frame.render_widget(Paragraph::new(plain(&state.title)).style(STRONG), title);
    frame.render_widget(Paragraph::new(word).style(style), on);
}

fn present(frame: &mut Frame<'_>, area: Rect, state: &State) {
    let title = if state.test.is_empty() { "Present".to_owned() } else { plain(&state.test) };
    let block = Block::bordered().title(format!(" {title} ")).border_style(FAINT);
    // Where the leads are, and the stage; of what has one place only the outputs tell enough.
    let stage = state.stage.split_once(" · ").into_iter().flat_map(|(place, stage)| [place, stage]);
    let mut lines: Vec<Line<'_>> = stage.map(|part| Line::styled(plain(part), STRONG)).collect();
    lines.extend(state.waits.iter().flatten().map(|waits| Line::raw(plain(waits))));
    lines.push(Line::from(vec![
        Span::styled("time    ", FAINT),
        Span::raw(format!("{:.2} s", state.now.si())),
    ]));
    if state.outputs.is_empty() {
        lines.push(Line::styled("nothing is put out", FAINT));
    }
    for [channel, rms, angle] in &state.outputs {
        lines.push(Line::from(vec![
            Span::styled(format!("{:<8}", plain(channel)), FAINT),
            Span::styled(format!("{rms:>10}"), STRONG),
            Span::raw(format!("{angle:>10}")),
        ]));
    }
    lines.push(Line::default());
    // What is waited for comes first; what has no room is counted.
    let contacts = state.by_interest();
    let room = usize::from(area.height.saturating_sub(2)).saturating_sub(lines.len());
    let shown = match contacts.len() > room {
        // Where there is room for one line, it is a contact.
        true => room.saturating_sub(1).max(room.min(1)),
        false => contacts.len(),
    };
    for (meaning, closed) in contacts.iter().take(shown) {
        let (mark, style) = match closed {
            Some(true) => ("● closed", Style::new().fg(Color::Yellow).add_modifier(Modifier::BOLD)),
            Some(false) => ("○ open", FAINT),
            None => ("–", FAINT),
        };
        lines.push(Line::from(vec![
            Span::raw(format!("{:<18} ", plain(meaning.as_str()))),
            Span::styled(mark, style),
        ]));
    }
    if shown < contacts.len().min(room) {
        lines.push(Line::styled(format!("+{} more contacts", contacts.len() - shown), FAINT));
    }
    frame.render_widget(Paragraph::new(lines).block(block), area);
}

fn log(frame: &mut Frame<'_>, area: Rect, state: &State) {
    let block = Block::bordered().title(" Points ").border_style(FAINT);
    let room = usize::from(area.height.saturating_sub(2));
    let skip = state.log.len().saturating_sub(room);
    let items = state.log.iter().skip(skip).map(|(verdict, line)| {
        let style = verdict.map_or(Style::new(), |v| Style::new().fg(colour(v)));
        ListItem::new(plain(line)).style(style)
    });
    frame.render_widget(List::new(items).block(block), area);
}

fn question_height(asked: &Asked, width: u16) -> u16 {
    let text = question_text(asked);
    let inside = usize::from(width.saturating_sub(4).max(10));
    let lines: usize = text.lines().map(|l| l.chars().count().div_ceil(inside).max(1)).sum();
    (lines as u16 + 2).min(14)
}

fn question_text(asked: &Asked) -> String {
    let mut text = prompt(&asked.question);
    text.push_str(&plain(&asked.typed));
    text.push('▏');
    if let Some(wrong) = &asked.wrong {
        text.push_str(&format!("\n{}", plain(wrong)));
    }
    text
}

fn ask(frame: &mut Frame<'_>, area: Rect, asked: &Asked) {
    let style = Style::new().fg(Color::Yellow);
    let title = match asked.over {
        Over::Nothing => " Your turn ".to_owned(),
        Over::OneOf(at, of) => format!(" Before outputs come on: {at} of {of} "),
        Over::Outputs => " Your turn: outputs stay on ".to_owned(),
    };
    let block = Block::bordered().title(title).border_style(style);
    frame.render_widget(Clear, area);
    let text = Paragraph::new(question_text(asked)).wrap(Wrap { trim: false });
    frame.render_widget(text.block(block), area);
}

fn bar(frame: &mut Frame<'_>, area: Rect, state: &State) {
    let share = if state.total == 0 { 0.0 } else { state.done as f64 / state.total as f64 };
    let left = if state.ended { "ended".to_owned() } else { state.left.to_string() };
    let mut label = format!("{}/{} points", state.done, state.total);
    for (n, what) in [
        (state.counts.pass, "pass"),
        (state.counts.fail, "fail"),
        (state.counts.inconclusive + state.counts.not_tested, "open"),
    ] {
        if n > 0 {
            label.push_str(&format!(", {n} {what}"));
        }
    }
    let label = format!("{label}, {left}");
    let gauge = Gauge::default()
        .ratio(share.clamp(0.0, 1.0))
        .label(Span::styled(label, Style::new().fg(Color::White).add_modifier(Modifier::BOLD)))
        .gauge_style(Style::new().fg(Color::Blue).bg(Color::DarkGray));
    frame.render_widget(gauge, area);
}

#[cfg(test)]
mod tests {
    use super::*;
    use ratatui::Terminal;
    use ratatui::backend::TestBackend;
    use waltron_core::asset::Asset;
    use waltron_core::grading::{Criterion, Grade, Limits, PointId, Values};
    use waltron_core::injection::stimulus::Stimulus;
    use waltron_core::procedure::Question;
    use waltron_core::quantity::{Measure, Ratio, amperes, seconds};
    use waltron_core::record::Event;
    use waltron_core::text::document::Source;
    use waltron_relay::AssetForm;
    use waltron_rig::attendant::Present;

    fn asset() -> Asset {
        let text = include_str!("../../demo/q07-f1.asset.toml");
        AssetForm::load(&Source::new("a", text)).unwrap()
    }

    fn grade(verdict: Verdict, current: f64, time: f64) -> Grade {
        Grade {
            point: PointId {
                id: format!("51P-times/A-N/{current}"),
                test: "51P-times".into(),
                element: Some("51P".into()),
                fault_loop: None,
            },
            attempt: 1,
            criterion: Criterion::TRIP_TIME,
            stimulus: Values::none()
                .with("current", amperes(current))
                .with("multiple", Ratio::from_si(current / 1.2)),
            expected: Values::none().with("time", seconds(time)),
            measured: Values::none().with("time", seconds(time)),
            deviation: Values::none(),
            limits: Limits::operation(Some(seconds(0.5)), Some(seconds(9.0))),
            uncertainty: Values::none(),
            budget: Vec::new(),
            verdict,
            reason: "64 ms too late".into(),
            skipped: false,
            guarded: false,
        }
    }

    fn state() -> State {
        let inputs = ["trip", "start"].map(Into::into).into_iter();
        let points = vec![grade(Verdict::Pass, 1.0, 1.0).point; 10];
        let mut state = State::new("Annual", &asset(), inputs, &points, seconds(90.0));
        state.event(&Event::Graded(grade(Verdict::Pass, 2.4, 4.1)));
        state.event(&Event::Graded(grade(Verdict::Fail, 6.0, 1.2)));
        let phases = waltron_core::quantity::fault_loop::FaultLoop::AN.currents(amperes(8.4));
        let out = Stimulus::phase_currents(phases, Measure::from_si(50.0));
        let closed = ["start".into()];
        state.sees(&Present { now: seconds(0.42), out: &out, closed: &closed });
        state
    }

    /// What is waited for stands with the present values, and goes once nobody looks at it any more.
    #[test]
    fn a_current_on_its_way_shows_how_long_it_takes() {
        use waltron_core::quantity::{Dimension, Quantity};
        use waltron_rig::attendant::Waiting;
        let mut state = state();
        let amps = |si| Quantity { si, dimension: Dimension::CURRENT };
        let of = "winding current".to_owned();
        let mut waiting =
            Waiting { of, value: amps(3.21), towards: amps(4.9), left: Some(seconds(6.4)) };
        state.waits(&waiting);
        let shown = screen(&state, 120, 40);
        assert!(shown.contains("winding current 3.21 A of 4.9 A"), "{shown}");
        assert!(shown.contains("6 s left at this pace"), "{shown}");
        waiting.left = None;
        state.waits(&waiting);
        assert!(screen(&state, 120, 40).contains("it does not rise"));
        let out = Stimulus::default();
        state.sees(&Present { now: seconds(9.0), out: &out, closed: &[] });
        assert!(!screen(&state, 120, 40).contains("does not rise"));
    }

    fn screen(state: &State, width: u16, height: u16) -> String {
        let mut terminal = Terminal::new(TestBackend::new(width, height)).unwrap();
        terminal.draw(|frame| draw(frame, state)).unwrap();
        let buffer = terminal.backend().buffer();
        let line = |y| (0..width).map(|x| buffer[(x, y)].symbol()).collect::<String>();
        (0..height).map(|y| line(y) + "\n").collect()
    }

    /// 5 A on one phase are 2 x of an element that sees 1.2 A of them.
    #[test]
    fn a_point_stands_at_the_current_that_its_element_sees() {
        let mut state = state();
        let mut scaled = grade(Verdict::Pass, 5.0, 4.1);
        scaled.stimulus = scaled.stimulus.with("multiple", Ratio::from_si(2.0));
        state.event(&Event::Graded(scaled));
        let marks = &state.chart().unwrap().panels[0].marks;
        assert!(marks.iter().any(|mark| (mark.x - 2.4).abs() < 1e-9), "{marks:?}");
    }

    /// A point that is repeated is one point, of which the latest attempt counts.
    #[test]
    fn a_repeated_point_is_counted_once() {
        let mut state = state();
        let before = (state.done, state.counts.total());
        state.event(&Event::Graded(grade(Verdict::Fail, 8.4, 4.1)));
        state.event(&Event::Graded(grade(Verdict::Pass, 8.4, 4.1)));
        assert!(state.done <= before.0 + 1 && state.counts.total() <= before.1 + 1);
        assert_eq!(state.done, state.counts.total());
    }

    /// The logarithm of nothing, and of what no chart shows.
    #[test]
    fn the_chart_has_few_decades_whatever_was_measured() {
        let mut state = state();
        for current in [0.0, f64::NAN, f64::NEG_INFINITY, -300.0, 1e300] {
            state.event(&Event::Graded(grade(Verdict::Pass, current, 4.1)));
            state.event(&Event::Graded(grade(Verdict::Fail, 2.0, current)));
            screen(&state, 110, 32);
        }
    }

    #[test]
    fn a_wide_screen_shows_values_contacts_curve_points_and_progress() {
        let shown = screen(&state(), 110, 32);
        for part in [
            "Annual  Q07-F1",
            "OUTPUTS ON",
            "51P-times",
            "0.42 s",
            "8.4 A",
            "● closed",
            "○ open",
            "51P · trip time against current",
            "100",
            "64 ms too late",
            "2/10 points, 1 pass, 1 fail, about 1 min 30 s left",
            "p pause",
        ] {
            assert!(shown.contains(part), "{part} is not in\n{shown}");
        }
    }

    #[test]
    fn forty_columns_still_show_what_matters_and_no_size_panics() {
        let mut state = state();
        let shown = screen(&state, 40, 24);
        for part in ["OUTPUTS ON", "8.4 A", "trip", "2/10 points"] {
            assert!(shown.contains(part), "{part} is not in\n{shown}");
        }
        state.question = Some(Asked {
            over: Over::Nothing,
            question: Question { text: "Which tap is it on now?".into(), wanted: Wanted::Text },
            typed: "ta".into(),
            wrong: Some("that is no tap".into()),
            keys: "",
        });
        assert!(screen(&state, 40, 24).contains("that is no tap"));
        for (width, height) in [(1, 1), (5, 3), (20, 8), (40, 5), (300, 100)] {
            screen(&state, width, height);
        }
    }

    /// Where nothing was heard for a while nobody says that outputs are on, or off.
    #[test]
    fn a_dead_line_is_no_state() {
        let mut state = state();
        let ago = |ms| std::time::Instant::now().checked_sub(std::time::Duration::from_millis(ms));
        state.heard = ago(300);
        assert!(screen(&state, 110, 32).contains("OUTPUTS ON"));
        state.heard = ago(2500);
        let shown = screen(&state, 110, 32);
        assert!(shown.contains("NO ANSWER 2.") && !shown.contains("OUTPUTS ON"), "{shown}");
        assert!(shown.contains("outputs may be on"), "{shown}");
        state.goes_off();
        assert!(screen(&state, 110, 32).contains("outputs off"));
    }

    /// At 80x24 there is room for few of nine contacts: the one that ends the injection is among them.
    #[test]
    fn what_is_waited_for_is_shown_first_and_what_has_no_room_is_counted() {
        let names: Vec<String> = (1..=9).map(|n| format!("contact {n}")).collect();
        let inputs = names.iter().map(|name| name.as_str().into());
        let mut state = State::new("Annual", &asset(), inputs, &[], seconds(90.0));
        state.awaited = vec!["contact 9".into()];
        let phases = waltron_core::quantity::fault_loop::FaultLoop::AN.currents(amperes(8.4));
        let out = Stimulus::phase_currents(phases, Measure::from_si(50.0));
        state.sees(&Present { now: seconds(0.42), out: &out, closed: &["contact 9".into()] });
        let shown = screen(&state, 80, 24);
        let count = names.iter().filter(|name| shown.contains(name.as_str())).count();
        assert!(shown.contains("contact 9          ● closed"), "{shown}");
        assert!(count < 9 && shown.contains(&format!("+{} more contacts", 9 - count)), "{shown}");
    }

    #[test]
    fn a_question_is_shown_with_what_is_typed_and_the_end_says_how_to_leave() {
        let mut state = state();
        let question = Question::choose("Paused", ["go on", "repeat the last point"]);
        state.question =
            Some(Asked { over: Over::Nothing, question, typed: "2".into(), wrong: None, keys: "" });
        let shown = screen(&state, 100, 30);
        assert!(shown.contains("Your turn") && shown.contains("2  repeat the last point"));
        assert!(shown.contains("q to stop: 2▏"), "{shown}");
        for (over, title) in [
            (Over::OneOf(2, 4), "Before outputs come on: 2 of 4"),
            (Over::Outputs, "Your turn: outputs stay on"),
        ] {
            state.question.as_mut().unwrap().over = over;
            assert!(screen(&state, 100, 30).contains(title), "{title}");
        }
        state.question = None;
        state.ended = true;
        assert!(screen(&state, 100, 30).contains("any key leaves"));
    }
}
