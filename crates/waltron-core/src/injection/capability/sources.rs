//! What makes what a rig puts out and times uncertain.

use super::{Capability, Channel};
use crate::grading::Value;
use crate::injection::stimulus::{Drive, Stimulus};
use crate::quantity::{Dimension, Measure, Quantity, Time};
use crate::text::name::Name;
use crate::uncertainty::{Cause, Estimate};

impl Capability {
    /// What makes a stimulus uncertain that is told by its currents, or by its voltages: the causes of the channel that
    /// is off most, with the share by which each of them moves it for one of its own unit.
    pub fn causes_of(&self, stimulus: &Stimulus, dimension: Dimension) -> Vec<(Cause, f64)> {
        match dimension {
            Dimension::CURRENT => causes(&stimulus.currents, &self.currents),
            Dimension::VOLTAGE => causes(&stimulus.voltages, &self.voltages),
            _ => Vec::new(),
        }
    }

    /// A time from a moment of the rig to a change of one of its inputs: of clock, input and resolution, and of the
    /// computer where that timed it.
    pub fn timed(&self, time: Time, signal: &Name, host: Option<Time>) -> Estimate {
        self.timed_between(time, [None, Some(signal)], host)
    }

    /// A time between two moments, each of which is a change of an input or one of the rig's own. What an input is late
    /// by drops out where it is the same input.
    pub fn timed_between(
        &self,
        time: Time,
        [from, to]: [Option<&Name>; 2],
        host: Option<Time>,
    ) -> Estimate {
        let of_time = |time: Time| Value::Plain(Quantity::of(time));
        let cause = |source: String, width| Cause::of(self.timing_accuracy.means, source, width);
        let (share, amount) = self.timing_accuracy.linear();
        let mut timed = Estimate::exact(time.si());
        if share > 0.0 {
            timed = timed.with(cause("clock".into(), Value::Percent(share)), time.si());
        }
        for (signal, sign) in [(from, -1.0), (to, 1.0)] {
            let Some(signal) = signal else { continue };
            let input = self.inputs.iter().find(|input| input.meaning == *signal);
            let id = input.map_or(signal, |input| &input.id);
            if amount > 0.0 {
                let late = of_time(Time::from_si(amount));
                timed = timed.with(cause(format!("{id} delay"), late), sign);
            }
            if self.timing_resolution.si() > 0.0 {
                let half = of_time(self.timing_resolution / 2.0);
                // Each change is rounded by itself.
                let end = if sign > 0.0 { "end" } else { "begin" };
                timed =
                    timed.with(Cause::limit(format!("{id} resolution at the {end}"), half), sign);
            }
        }
        match host {
            Some(host) => timed.with(Cause::limit("computer's clock", of_time(host)), 1.0),
            None => timed,
        }
    }
}

/// How large what a drive puts out is, in SI: its fundamental, or what is direct alone.
pub(super) fn size_of<Q: Measure>(drive: &Drive<Q>) -> f64 {
    let rms = drive.phasor.rms().si();
    if rms > 0.0 { rms } else { drive.dc.map_or(0.0, |dc| dc.value().si().abs()) }
}

fn causes<Q: Measure>(drives: &[Drive<Q>], channels: &[Channel<Q>]) -> Vec<(Cause, f64)> {
    let on = drives.iter().filter_map(|drive| {
        let channel = channels.iter().find(|c| c.id == drive.channel)?;
        let size = size_of(drive);
        (size > 0.0).then_some((channel, size))
    });
    let share = |(channel, rms): &(&Channel<Q>, f64)| channel.accuracy.standard(*rms) / rms;
    let widest = on.reduce(|a, b| if share(&b) > share(&a) { b } else { a });
    let Some((channel, rms)) = widest else { return Vec::new() };
    let width = channel.accuracy.width(rms);
    let cause = |what: &str, width| {
        Cause::of(channel.accuracy.means, format!("{} {what}", channel.id), width)
    };
    let amount = Value::Plain(Quantity { si: width.offset, dimension: Q::DIMENSION });
    let size = cause("size", Value::Percent(width.size / rms));
    vec![(size, 1.0), (cause("offset", amount), 1.0 / rms)]
}
