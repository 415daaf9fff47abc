//! `waltron check`: everything but the injection.

mod asset;
mod timeline;

pub(super) use timeline::stages;

use crate::cli::{Check as Args, Format};
use crate::exit::Exit;
use crate::failure::Failure;
use crate::job::Job;
use crate::tables::{align_right, table};
use crate::terminal::{DOUBTFUL, STRONG, Terminal, plain, styled};
use crate::view::{besides, maxima};
use serde_json::json;
use waltron_core::grading::{Finding, Values, share_of_tolerance, words};
use waltron_core::procedure::{Also, Planned};
use waltron_core::quantity::{Measure, Quantity, Time, duration, significant, text};
use waltron_rig::runner::Prepared;

/// Loads, resolves, checks, and shows what will be put out.
///
/// # Errors
/// Everything that stands in the way.
pub(crate) fn check(args: &Args, terminal: &Terminal) -> Result<Exit, Failure> {
    if let Some(source) = asset::source(&args.source)? {
        return asset::check(args, &source, terminal);
    }
    let job = Job::load(&args.source, args.rig.as_deref())?;
    let mut prepared = job.prepare()?;
    job.try_specimen()?;
    if let Some(test) = &args.test {
        job.refuse_unknown_test(test)?;
        prepared.keep_only(test);
    }
    if args.as_script {
        let test = args.test.as_deref().unwrap_or_default();
        terminal.print_data(&as_script(&job, &prepared, test)?);
        return Ok(Exit::Pass);
    }
    match args.format {
        Format::Json => terminal.print_json(as_json(&job, &prepared, args.timeline)),
        Format::Text if args.timeline => terminal.print(&timeline::text(&prepared, terminal)),
        Format::Text => terminal.print(&as_text(&job, &prepared, terminal)),
    }
    for warning in job.warnings() {
        terminal.chat(&warning.render(terminal));
    }
    Ok(Exit::Pass)
}

/// A test in the sequence language, with a head that says where it comes from.
///
/// # Errors
/// The language has no words for what the test does.
fn as_script(job: &Job, prepared: &Prepared, test: &str) -> Result<String, Failure> {
    let is_script = job.scripts.keys().any(|id| id == test);
    let script = match prepared.script(test) {
        Some(script) if is_script => return Ok(script),
        Some(script) => script,
        None if is_script => return Ok(String::new()),
        None => {
            let why = format!("the sequence language has no words for what `{test}` does");
            return Err(Failure::usage(why)
                .help("`waltron check PLAN --test ID --timeline` shows what will be put out"));
        }
    };
    let title = plain(&job.plan.title);
    Ok(format!("# {test}: {title}, {}\n\n{script}", plain(&job.asset.identity.tag)))
}

/// The share of a tolerance that U should not be more than: with more, too many good values lie too near to a limit.
const MOST_OF_TOLERANCE: f64 = 1.0 / 3.0;

/// A point whose U will be more than a third of its tolerance: the worst of its test.
struct Uncertain<'a> {
    found: &'a Finding,
    share: f64,
    /// How many more of its test there are.
    more: usize,
}

impl<'a> Uncertain<'a> {
    /// The worst of each test.
    fn among(foreseen: &'a [Finding]) -> Vec<Self> {
        let mut all: Vec<Self> = Vec::new();
        for found in foreseen {
            let share = share_of_tolerance(found).filter(|share| *share > MOST_OF_TOLERANCE);
            let Some(share) = share else { continue };
            match all.iter_mut().find(|worst| worst.found.point.test == found.point.test) {
                Some(worst) if share > worst.share => {
                    *worst = Self { found, share, more: worst.more + 1 };
                }
                Some(worst) => worst.more += 1,
                None => all.push(Self { found, share, more: 0 }),
            }
        }
        all
    }

    fn most(&self) -> Option<&str> {
        self.found.budget.first().map(|part| part.source.as_str())
    }

    fn text(&self) -> String {
        let more = if self.more > 0 { format!(" and {} more", self.more) } else { String::new() };
        let then = match self.share > 1.0 {
            true => "a pass will be inconclusive",
            false => "a good value may lie too near to its limit",
        };
        let most =
            self.most().map_or_else(String::new, |m| format!("; most of it is `{}`", plain(m)));
        format!(
            "{}{more}: U will be {}, {} % of the tolerance, so that {then}{most}",
            plain(&self.found.point.id),
            self.found.uncertainty.text("u").unwrap_or_default(),
            significant(self.share * 100.0, 2),
        )
    }

    fn json(&self) -> serde_json::Value {
        let mut json = json!(self.found.uncertainty);
        json["point"] = json!(self.found.point.id);
        json["of_tolerance_pct"] = json!(self.share * 100.0);
        json["most"] = json!(self.most());
        json["more"] = json!(self.more);
        json
    }
}

fn longest(planned: &Planned) -> Time {
    planned.program.longest().unwrap_or_default()
}

fn as_json(job: &Job, prepared: &Prepared, segments: bool) -> serde_json::Value {
    let injections: Vec<_> = prepared
        .planned()
        .iter()
        .map(|(test, p)| {
            let mut injection = json!({
                "test": test,
                "points": p.points.iter().map(|p| &p.point.id).collect::<Vec<_>>(),
                "stimulus": p.stimulus,
                "expected": p.expected,
                "limits": p.limits,
                "likely_s": p.likely.si(),
                "longest_s": longest(p).si(),
                "not_tested": p.not_tested,
            });
            if segments {
                injection["segments"] = timeline::json(p);
            }
            injection
        })
        .collect();
    let maxima: serde_json::Map<String, serde_json::Value> = prepared
        .maxima()
        .into_iter()
        .map(|(channel, rms, is_current)| {
            (format!("{channel}_{}", if is_current { "a" } else { "v" }), rms.into())
        })
        .collect();
    let also: Vec<_> = prepared.also().into_iter().map(|a| also_json(&a)).collect();
    json!({
        "points": prepared.point_count(),
        "likely_s": prepared.likely_time(&job.asset, &job.rig.capability).si(),
        "maxima": maxima,
        "exact": prepared.is_exact(),
        "also": also,
        "uncertain": Uncertain::among(&prepared.foreseen()).iter().map(Uncertain::json).collect::<Vec<_>>(),
        "injections": injections,
    })
}

fn also_json(also: &Also) -> serde_json::Value {
    match also {
        Also::Switches { parameter, on } => {
            json!({ "switches": parameter, "to": if *on { "on" } else { "off" } })
        }
        Also::Sets { parameter, to } => {
            let of = |si| Quantity { si, dimension: to.dimension };
            let span = Values::none().with_quantity("lowest", of(to.low));
            let mut json = json!(span.with_quantity("highest", of(to.high)));
            json["sets"] = json!(parameter);
            json
        }
        Also::Asks { question, .. } => json!({ "asks": question.text }),
        Also::Sends { to, text } => json!({ "sends": text, "to": to }),
        Also::Runs { program } => json!({ "runs": program }),
        Also::Leads { at } => json!({ "leads_to": at }),
        Also::ByHand { what, at, voltage } => {
            json!({ "by_hand": what, "at": at, "voltage_v": voltage.value })
        }
        Also::Arises { at, most } => json!({ "arises_at": at, "most_v": most.value }),
    }
}

fn as_text(job: &Job, prepared: &Prepared, terminal: &Terminal) -> String {
    let mut out = format!(
        "{}\n{} on {}: the plan can be run\n\n",
        styled(STRONG, &plain(&job.plan.title)),
        plain(&job.asset.identity.tag),
        plain(&job.rig.name),
    );
    out.push_str(&asset::required(&job.asset, terminal));
    let mut table = table(["Point", "Injected", "Expected", "Allowed", "At most"], terminal);
    let mut skipped: Vec<(String, String)> = Vec::new();
    for (_, planned) in prepared.planned() {
        let ids: Vec<String> = planned.points.iter().map(|p| plain(&p.point.id)).collect();
        if let Some(reason) = &planned.not_tested {
            skipped.push((ids.join(", "), plain(reason)));
        }
        let Some(criterion) = planned.criterion() else { continue };
        let none = || "–".to_owned();
        let mut injected = words::injected(&planned.stimulus).unwrap_or_default();
        if let Some(step) = planned.stimulus.text("step_current") {
            injected.push_str(&format!(" by {step}"));
        }
        let at_most = longest(planned);
        // What it is held against follows from what is measured.
        let later = criterion.is_of_value()
            && planned.not_tested.is_none()
            && planned.expected.is_empty()
            && planned.limits.is_none();
        table.add_row([
            // What takes many points from one go is named by its first.
            match ids.len() {
                0..=3 => ids.first().cloned().unwrap_or_default(),
                n => format!("{} and {} more", ids[0], n - 1),
            },
            injected,
            if later {
                "as measured".to_owned()
            } else {
                words::main_value(&planned.expected, &planned.limits, false)
            },
            planned.limits.words().unwrap_or_else(none),
            if at_most.si() > 0.0 { text(at_most) } else { none() },
        ]);
    }
    align_right(&mut table, 1..5);
    out.push_str(&format!("{table}\n\n"));
    for (points, reason) in &skipped {
        out.push_str(&styled(DOUBTFUL, &format!("Not tested  {points}: {reason}\n")));
    }
    for one in Uncertain::among(&prepared.foreseen()) {
        out.push_str(&styled(DOUBTFUL, &format!("Uncertain  {}\n", one.text())));
    }
    out.push_str(&maxima(&prepared.maxima(), &job.asset.ratings));
    out.push_str(&besides(prepared));
    out.push_str(&format!(
        "Points    {}\nDuration  about {}\n",
        prepared.point_count(),
        duration(prepared.likely_time(&job.asset, &job.rig.capability)),
    ));
    if !job.asset.assumed.is_empty() {
        let assumed = job.asset.assumed.join(", ");
        out.push_str(&format!(
            "Assumed   tolerance of {assumed}, since the asset's file gives none\n"
        ));
    }
    if prepared.also().iter().any(|a| matches!(a, Also::Runs { .. })) {
        out.push_str(&styled(DOUBTFUL, "To run it, allow its programs with --allow-exec\n"));
    }
    out
}
