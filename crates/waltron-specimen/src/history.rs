//! What has been, step by step, to be looked at between the steps.

/// A stretch of equal steps.
#[derive(Clone, Debug)]
struct Run<const KEPT: usize> {
    start: f64,
    step: f64,
    values: Vec<[f64; KEPT]>,
}

/// Everything since the begin.
#[derive(Clone, Debug, Default)]
pub(crate) struct History<const KEPT: usize> {
    runs: Vec<Run<KEPT>>,
}

impl<const KEPT: usize> History<KEPT> {
    pub(crate) fn clear(&mut self) {
        self.runs.clear();
    }

    /// Begins a stretch of equal steps; the first value is that of its start.
    pub(crate) fn begin(&mut self, start: f64, step: f64) {
        self.runs.push(Run { start, step, values: Vec::new() });
    }

    pub(crate) fn push(&mut self, value: [f64; KEPT]) {
        if let Some(run) = self.runs.last_mut() {
            run.values.push(value);
        }
    }

    /// One of the kept values at equally spaced moments: between the steps of a stretch a cubic through
    /// the four nearest ones.
    pub(crate) fn samples(&self, start: f64, every: f64, count: usize, what: usize) -> Vec<f64> {
        let mut all = Vec::with_capacity(count);
        let time = |k: usize| start + k as f64 * every;
        while all.len() < count {
            let now = time(all.len());
            let after = self.runs.partition_point(|r| r.start <= now + 1e-12);
            let Some(run) = self.runs.get(after.saturating_sub(1)) else { break };
            // Up to where the next stretch begins.
            let end = self.runs.get(after).map_or(f64::INFINITY, |next| next.start - 1e-12);
            let inside = ((end - start) / every).ceil().min(count as f64) as usize;
            let until = inside.max(all.len() + 1);
            run.samples(&mut all, until, time, what);
        }
        all.resize(count, 0.0);
        all
    }
}

impl<const KEPT: usize> History<KEPT> {
    /// The mean of one of the kept values over as many moments as tell it: a few in each step.
    pub(crate) fn mean(&self, start: f64, length: f64, most: usize, what: usize) -> f64 {
        let last = self.runs.partition_point(|r| r.start <= start + length);
        let first = self.runs[..last].partition_point(|r| r.start <= start).saturating_sub(1);
        let steps = self.runs[first..last].iter().map(|r| r.step);
        let finest = steps.fold(f64::INFINITY, f64::min);
        let count = ((length / finest * 4.0) as usize).clamp(8, most.max(8));
        // In the middle of equal parts.
        let every = length / count as f64;
        let samples = self.samples(start + every / 2.0, every, count, what);
        samples.iter().sum::<f64>() / count as f64
    }
}

impl<const KEPT: usize> Run<KEPT> {
    fn samples(&self, all: &mut Vec<f64>, until: usize, time: impl Fn(usize) -> f64, what: usize) {
        let n = self.values.len();
        if n == 0 {
            return all.resize(until, 0.0);
        }
        let last = (n - 1) as f64;
        let place = |k: usize| ((time(k) - self.start) / self.step).clamp(0.0, last);
        let get = |k: usize| self.values[k][what];
        // Most are looked at where they were solved.
        let (first, stride) = (place(all.len()), place(all.len() + 1) - place(all.len()));
        let is_on = |x: f64| (x - x.round()).abs() < 1e-6;
        let ends_on = place(until - 1);
        if is_on(first) && is_on(stride) && is_on(ends_on) && ends_on < last - 0.5 {
            let (first, stride) = (first.round() as usize, stride.round() as usize);
            let begin = all.len();
            return all.extend((0..until - begin).map(|k| get(first + k * stride)));
        }
        while all.len() < until {
            all.push(between(place(all.len()), n, get));
        }
    }
}

/// A value at a place between steps.
fn between(place: f64, n: usize, get: impl Fn(usize) -> f64) -> f64 {
    // Never below nothing, so that cutting off is rounding down.
    let near = (place + 0.5) as usize;
    if (place - near as f64).abs() < 1e-6 || n < 4 {
        return get(near);
    }
    let first = (place as usize).saturating_sub(1).min(n - 4);
    let t = place - first as f64;
    let [a, b, c, d] = [get(first), get(first + 1), get(first + 2), get(first + 3)];
    let (t1, t2, t3) = (t - 1.0, t - 2.0, t - 3.0);
    -a * t1 * t2 * t3 / 6.0 + b * t * t2 * t3 / 2.0 - c * t * t1 * t3 / 2.0 + d * t * t1 * t2 / 6.0
}
