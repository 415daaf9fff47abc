//! How long a source is on at once: one with a store, or one that gives far more than it could for ever, is bounded.

use super::Refusal;
use crate::injection::capability::{Capability, Channel};
use crate::injection::program::{Finish, Program, Segment};
use crate::injection::stimulus::{Drive, Stimulus};
use crate::quantity::{Measure, Time, seconds, text};

/// The outputs that would be on for longer at once than they can.
pub(super) fn refusals(program: &Program, capability: &Capability) -> Vec<Refusal> {
    let currents = capability.currents.iter();
    let currents = currents.filter_map(|c| too_long(program, c, |out| &out.currents));
    let voltages = capability.voltages.iter();
    currents.chain(voltages.filter_map(|c| too_long(program, c, |out| &out.voltages))).collect()
}

fn too_long<Q: Measure>(
    program: &Program,
    channel: &Channel<Q>,
    drives: impl Fn(&Stimulus) -> &Vec<Drive<Q>>,
) -> Option<Refusal> {
    let limit = channel.ability.longest?;
    let is_on = |out: &Stimulus| {
        let own = drives(out).iter().filter(|d| d.channel == channel.id);
        own.into_iter().any(|d| d.true_rms().si() != 0.0)
    };
    let (mut at_once, mut most) = (seconds(0.0), seconds(0.0));
    let mut stays = false;
    for (out, time) in program.segments.iter().flat_map(Segment::levels) {
        stays = is_on(&out);
        at_once = if stays { at_once + time } else { seconds(0.0) };
        most = most.max(at_once);
    }
    let stays = stays && program.finish == Finish::Keep;
    let fits = most.si() <= limit.si() * (1.0 + 1e-9) && !stays;
    let time = |stays: bool, time: Time| {
        if stays { "for ever".to_owned() } else { format!("for up to {}", text(time)) }
    };
    (!fits).then(|| Refusal::PulseTooLong {
        channel: channel.id.clone(),
        time: time(stays, most),
        limit: text(limit),
    })
}

#[cfg(test)]
mod tests {
    use super::super::clear;
    use super::*;
    use crate::asset::Ratings;
    use crate::injection::program::{Profile, Rest, Segment, Stairs};
    use crate::quantity::phasor::Phasor;
    use crate::quantity::tolerance::Tolerance;
    use crate::quantity::{Current, Frequency, amperes, degrees};

    fn rig() -> Capability {
        let none = Tolerance::larger_of(0.0, Current::from_si(0.0));
        let mut channel = Channel::new("i", amperes(1000.0), none);
        channel.ability.longest = Some(seconds(2.0));
        Capability { currents: vec![channel], ..Capability::none() }
    }

    fn put(amps: f64) -> Stimulus {
        let phasor = Phasor::new(amperes(amps), degrees(0.0));
        let drive = Drive::sine("i".into(), phasor, Frequency::from_si(50.0));
        Stimulus { currents: vec![drive], voltages: Vec::new() }
    }

    fn told(segments: Vec<Segment>, finish: Finish) -> Option<String> {
        let program = Program { finish, ..Program::of(segments) };
        let refused = clear(program, &Ratings::unknown(None), &rig()).err()?;
        Some(refused.iter().map(ToString::to_string).collect::<Vec<_>>().join("; "))
    }

    #[test]
    fn what_is_on_at_once_is_bounded_and_not_what_it_adds_up_to() {
        let hold = |amps: f64, time: f64| Segment::hold("s", put(amps), seconds(time));
        assert_eq!(told(vec![hold(5.0, 2.0)], Finish::Off), None);
        // Off between two pulses: nothing at all, or zero.
        let off = || Segment::hold("off", Stimulus::off(), seconds(1.0));
        assert_eq!(told(vec![hold(5.0, 1.5), off(), hold(5.0, 1.5)], Finish::Off), None);
        assert_eq!(told(vec![hold(5.0, 1.5), hold(0.0, 1.0), hold(5.0, 1.5)], Finish::Off), None);
        // Two segments one after the other are one pulse.
        let long = told(vec![hold(5.0, 1.5), hold(9.0, 1.0)], Finish::Off).unwrap();
        assert!(long.contains("for up to 2.5 s") && long.contains("2 s at once"), "{long}");
        let kept = told(vec![hold(5.0, 0.5)], Finish::Keep).unwrap();
        assert!(kept.contains("for ever"), "{kept}");
        // A stair with rests between its levels.
        let stairs = |rest: Option<Rest>| {
            let (from, to) = (put(1.0), put(9.0));
            let dwell = seconds(0.5);
            Segment::new(
                "s",
                Profile::Stairs(Stairs { from, to, steps: 8, dwell, rest }),
                Vec::new(),
            )
        };
        let rest = Rest { stimulus: Stimulus::off(), time: seconds(0.2) };
        assert_eq!(told(vec![stairs(Some(rest))], Finish::Off), None);
        assert!(told(vec![stairs(None)], Finish::Off).unwrap().contains("4.5 s"));
    }
}
