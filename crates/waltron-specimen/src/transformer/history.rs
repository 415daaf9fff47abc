//! What has been, step by step, to be looked at between the steps.

/// What is kept of each moment.
pub(super) const KEPT: usize = 6;

/// A stretch of equal steps.
#[derive(Clone, Debug)]
struct Run {
    start: f64,
    step: f64,
    values: Vec<[f64; KEPT]>,
}

/// Everything since the begin.
#[derive(Clone, Debug, Default)]
pub(super) struct History {
    runs: Vec<Run>,
}

impl History {
    pub(super) fn clear(&mut self) {
        self.runs.clear();
    }

    /// Begins a stretch of equal steps; the first value is that of its start.
    pub(super) fn begin(&mut self, start: f64, step: f64) {
        self.runs.push(Run { start, step, values: Vec::new() });
    }

    pub(super) fn push(&mut self, value: [f64; KEPT]) {
        if let Some(run) = self.runs.last_mut() {
            run.values.push(value);
        }
    }

    /// One of the kept values at a moment: a cubic through the four nearest steps of its stretch.
    pub(super) fn at(&self, time: f64, what: usize) -> f64 {
        let after = self.runs.partition_point(|r| r.start <= time + 1e-12);
        let Some(run) = self.runs.get(after.saturating_sub(1)) else { return 0.0 };
        let n = run.values.len();
        if n == 0 {
            return 0.0;
        }
        let place = ((time - run.start) / run.step).clamp(0.0, (n - 1) as f64);
        let k = place.round();
        let get = |k: usize| run.values[k][what];
        if (place - k).abs() < 1e-6 || n < 4 {
            return get(k as usize);
        }
        let first = (place.floor() as usize).saturating_sub(1).min(n - 4);
        let t = place - first as f64;
        let [a, b, c, d] = [get(first), get(first + 1), get(first + 2), get(first + 3)];
        let (t1, t2, t3) = (t - 1.0, t - 2.0, t - 3.0);
        -a * t1 * t2 * t3 / 6.0 + b * t * t2 * t3 / 2.0 - c * t * t1 * t3 / 2.0
            + d * t * t1 * t2 / 6.0
    }
}
