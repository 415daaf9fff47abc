//! `waltron show`: what a record holds of one point. So far: what its uncertainty is made of.

use super::load_run;
use crate::cli::Show as Args;
use crate::exit::Exit;
use crate::failure::Failure;
use crate::terminal::{Terminal, plain};
use waltron_core::grading::{Grade, Value};
use waltron_core::record::Run;
use waltron_core::text::name::nearest;
use waltron_core::uncertainty::combined;
use waltron_core::uncertainty::words::{rows, told};

/// Shows the budget of a point's latest attempt.
///
/// # Errors
/// A record that cannot be read, a point that it does not hold or that has no uncertainty.
pub(crate) fn show(args: &Args, terminal: &Terminal) -> Result<Exit, Failure> {
    let run = load_run(&args.record, terminal)?;
    let grade = latest(&run, &args.point)?;
    let value = grade.measured.iter().next().map(|(_, value)| value);
    let value = value.filter(|_| !grade.budget.is_empty()).ok_or_else(|| without(grade))?;
    match args.format {
        crate::cli::Format::Json => terminal.print_json(serde_json::json!({
            "point": grade.point.id,
            "attempt": grade.attempt,
            "verdict": grade.verdict,
            "measured": grade.measured,
            "uncertainty": grade.uncertainty,
            "k": 2,
            "budget": grade.budget,
        })),
        crate::cli::Format::Text => terminal.print(&text(grade, value, terminal)),
    }
    Ok(Exit::Pass)
}

fn latest<'r>(run: &'r Run, id: &str) -> Result<&'r Grade, Failure> {
    let found = run.points.iter().rfind(|grade| grade.point.id == id);
    found.ok_or_else(|| {
        let near = nearest(id, run.points.iter().map(|grade| grade.point.id.as_str()));
        let failure = Failure::usage(format!("the record has no point `{}`", plain(id)));
        match near {
            Some(near) => failure.help(format!("is `{near}` meant?")),
            None => failure.help("`waltron report` lists all of them"),
        }
    })
}

/// Why a point has no budget.
fn without(grade: &Grade) -> Failure {
    let id = &grade.point.id;
    let why = match (grade.measured.is_empty(), grade.uncertainty.is_empty()) {
        (true, _) => format!("`{id}` has no measured value: {}", grade.reason),
        (false, true) => format!("no uncertainty is stated for `{id}`"),
        (false, false) => {
            format!("the record does not hold what the uncertainty of `{id}` is made of")
        }
    };
    Failure::usage(plain(&why))
}

fn text(grade: &Grade, value: Value, terminal: &Terminal) -> String {
    let parts = &grade.budget;
    let standard = combined(parts);
    let u = value.with_si(2.0 * standard);
    let allowed =
        grade.limits.words().map_or_else(String::new, |words| format!(", allowed {words}"));
    let head = format!(
        "{}\n{value} ± {u} (k = 2): {}{}\n\n",
        plain(&grade.point.id),
        grade.verdict.word(),
        plain(&allowed)
    );
    let header = ["What errs", "Stated", "÷", "Standard", "Moves it by", "Adds", "Share"];
    let mut table = crate::tables::table(header, terminal);
    for row in rows(parts, value) {
        let cells = [plain(&row.source), row.stated, row.divisor.to_owned(), row.standard];
        table.add_row(cells.into_iter().chain([row.moves, row.adds, row.share]));
    }
    crate::tables::align_right(&mut table, 2..7);
    let sum = format!(
        "\n\nTogether, as the root of the sum of their squares: {}. U is twice that: {u}.\n",
        value.with_si(standard)
    );
    let told: String = told(parts).iter().map(|line| format!("{}.\n", capital(line))).collect();
    format!("{head}{table}{sum}{told}")
}

/// A sentence begins with a capital letter.
fn capital(text: &str) -> String {
    let mut all = text.chars();
    all.next().map_or_else(String::new, |first| first.to_uppercase().chain(all).collect())
}
