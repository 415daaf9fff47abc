//! What must be seen to at a relay, and at a supply.

use waltron_core::asset::{Connected, Family, Precautions, listed};
use waltron_core::text::name::Name;

/// A protection relay: it operates others, and stands behind transformers that may not be left open, or fed back.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) struct Relay;

/// An auxiliary supply: nothing of it operates anything.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) struct Supply;

impl Family for Relay {
    fn precautions(&self, connected: &Connected<'_>) -> Precautions {
        let ratio = |r: &Option<String>| r.as_ref().map_or_else(String::new, |r| format!(" ({r})"));
        let (ct, vt) = (ratio(&connected.ratings.ct), ratio(&connected.ratings.vt));
        let mut p = Precautions::default();
        let mut before = |line: String| p.before.push(line);
        if !connected.contacts.is_empty() {
            let names: Vec<&str> = connected.contacts.iter().map(Name::as_str).collect();
            before(format!(
                "Isolate the tripping circuits: {} must not operate anything",
                listed(&names)
            ));
        }
        if connected.currents {
            before(format!(
                "Short the current transformers{ct} on their side, then open the relay's current circuits"
            ));
        }
        if connected.voltages {
            before(format!(
                "Isolate the voltage transformers{vt}: nothing may be fed back to their primary side"
            ));
        }
        let mut after = |line: &str| p.after.push(line.to_owned());
        if connected.currents {
            after(
                "Close the relay's current circuits, then take the shorts off the current transformers",
            );
        }
        if connected.voltages {
            after("Connect the voltage transformers again");
        }
        if !connected.contacts.is_empty() {
            // With its inputs back, a relay may trip at once: that must show before anything can.
            let last = [
                "Reset the relay's indications",
                "See that none of its trip contacts is closed",
                "Close the tripping circuits last",
            ];
            p.last = last.map(str::to_owned).to_vec();
        }
        p
    }
}

impl Family for Supply {
    fn precautions(&self, _connected: &Connected<'_>) -> Precautions {
        Precautions {
            before: vec![
                "Take off the loads that must not see what the supply does now".to_owned(),
            ],
            after: vec!["Connect the loads again".to_owned()],
            ..Precautions::default()
        }
    }
}
