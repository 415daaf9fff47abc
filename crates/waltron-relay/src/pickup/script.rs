//! A pickup written down in the sequence language.

use super::way::Way;
use super::{Pickup, Ramp};
use crate::show;
use waltron_core::grading::PointId;
use waltron_core::injection::program::Profile;

impl Pickup {
    /// A ramp and its grading in the sequence language.
    pub(super) fn ramp_script(&self, ramp: &Ramp) -> String {
        let (Some(element), Some((up, signal))) = (&self.element, self.up(ramp)) else {
            return String::new();
        };
        if let Some(reason) = self.why_not(ramp) {
            return format!("# {}: not tested, {reason}\n", ramp.pickup_point.id);
        }
        let short = |p: &PointId| {
            let prefix = format!("{}/", p.test);
            p.id.strip_prefix(&prefix).unwrap_or(&p.id).to_owned()
        };
        let (id, contact) = (show::name(&element.id), show::name(&signal));
        let rest = show::time(self.rest);
        let injected = |of: &str| {
            format!("fault {} with i = {}", ramp.fault_loop, show::times(ramp.scale, of))
        };
        let (pace, resting) = match &up.segments[1].profile {
            Profile::Stairs(s) => {
                let resting =
                    s.rest.as_ref().map(|r| format!(" resting off for {}", show::time(r.time)));
                (show::time(s.dwell), resting.unwrap_or_default())
            }
            _ => return String::new(),
        };
        let step = show::current(ramp.step);
        let mut script = format!(
            "play\n  hold off for {rest} as rest\n  ramp seen from {} to {} by {step} every {pace}{resting} \
             with {} until {contact} as up\nend\noff\n\
             expect up.value is {id}.pickup within tolerance({id}) as \"{}\"\n",
            show::current(ramp.from),
            show::current(ramp.to),
            injected("seen"),
            short(&ramp.pickup_point),
        );
        let Some(point) = &ramp.reset_point else { return script };
        if !matches!(ramp.way, Way::Stairs { .. }) {
            script.push_str("# Pulses do not show the dropout.\n");
            return script;
        }
        let hold = self.down(ramp, ramp.to).and_then(|(p, _)| p.segments[1].longest());
        script.push_str(&format!(
            "if up.reached and up.value > {}\n  let top = min(up.value + 4 * {step}, max({}, up.value))\n  \
             play\n    hold off for {rest} as rest\n    hold {} for {} as picked_up\n    \
             ramp seen from top to max(0 A, 0.85 * {id}.reset_ratio * up.value - {step}) \
             by {step} every {pace} with {} until not {contact} as down\n  end\n  off\n  \
             expect down.value / up.value is {id}.reset_ratio within tolerance({id}) as \"{}\"\nend\n",
            show::current(ramp.from),
            show::current(ramp.to),
            injected("top"),
            hold.map(show::time).unwrap_or_default(),
            injected("seen"),
            short(point),
        ));
        script
    }
}
