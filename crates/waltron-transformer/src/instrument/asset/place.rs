//! Places of a transformer: a phase, a core and a tap, where the leads of a test are taken.

use super::{InstrumentTransformer, Secondary, Tap};
use waltron_core::procedure::SetupError;
use waltron_core::text::name::{Name, nearest};

/// A place that is tested.
#[derive(Clone, Debug, PartialEq)]
pub struct Spot {
    /// The phase, where there are several.
    pub phase: Option<String>,
    /// Which of the cores or windings.
    pub core: usize,
    /// Which of its taps.
    pub tap: usize,
    /// Where the leads are: `A 1S1-1S3`; nothing where the file names no terminals.
    pub connection: Option<Name>,
    /// What stands before the names of its points: `A/1S1-1S3/`; nothing of what has one place only.
    pub prefix: String,
}

/// Which places a test takes.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct Wanted {
    /// This phase; all if not given.
    pub phase: Option<String>,
    /// This core or winding.
    pub core: Option<String>,
    /// This tap.
    pub tap: Option<String>,
}

impl Wanted {
    /// Why an asset has nothing of the kind.
    fn lacks(&self, of: &InstrumentTransformer) -> Option<String> {
        let taps = || of.secondaries.iter().flat_map(|s| &s.taps).map(|t| t.terminals.as_str());
        let all = [
            ("phase", &self.phase, of.phases.iter().map(|p| p.id.as_str()).collect::<Vec<_>>()),
            (of.kind.core(), &self.core, of.secondaries.iter().map(|s| s.id.as_str()).collect()),
            ("tap", &self.tap, taps().collect()),
        ];
        all.into_iter().find_map(|(what, wanted, known)| {
            let wanted = wanted.as_deref()?;
            if known.contains(&wanted) {
                return None;
            }
            let known: Vec<&str> = known.into_iter().filter(|k| !k.is_empty()).collect();
            let hint = match nearest(wanted, known.iter().copied()) {
                Some(near) => format!("; did you mean `{near}`?"),
                None if known.is_empty() => format!("; its file names no {what}"),
                None => format!("; it has {}", known.join(", ")),
            };
            Some(format!("the asset has no {what} `{wanted}`{hint}"))
        })
    }
}

impl InstrumentTransformer {
    /// The places that are wanted, phase by phase, core by core, tap by tap: the order that moves the
    /// fewest leads.
    ///
    /// # Errors
    /// A phase, core or tap that it does not have.
    pub fn spots(&self, wanted: &Wanted) -> Result<Vec<Spot>, SetupError> {
        if let Some(why) = wanted.lacks(self) {
            return Err(SetupError::Unknown(why));
        }
        let wants = |wanted: &Option<String>, is: &str| wanted.as_ref().is_none_or(|w| w == is);
        let phases: Vec<Option<String>> = match self.phases.is_empty() {
            true => vec![None],
            false => self.phases.iter().map(|p| Some(p.id.clone())).collect(),
        };
        let is_one =
            phases.len() == 1 && self.secondaries.iter().map(|s| s.taps.len()).sum::<usize>() == 1;
        let mut all = Vec::new();
        for phase in &phases {
            if phase.as_ref().is_some_and(|p| !wants(&wanted.phase, p)) {
                continue;
            }
            for (core, secondary) in self.secondaries.iter().enumerate() {
                for (tap, of) in secondary.taps.iter().enumerate() {
                    if !wants(&wanted.core, &secondary.id) || !wants(&wanted.tap, &of.terminals) {
                        continue;
                    }
                    let at = match of.terminals.as_str() {
                        "" => None,
                        at => Some(at),
                    };
                    let parts = [phase.as_deref(), at];
                    let parts: Vec<&str> = parts.into_iter().flatten().collect();
                    let prefix = match is_one {
                        true => String::new(),
                        false if at.is_none() && self.secondaries.len() > 1 => {
                            let phase = phase.iter().map(|p| format!("{p}/")).collect::<String>();
                            format!("{phase}{}/", secondary.id)
                        }
                        false => parts.iter().map(|p| format!("{p}/")).collect(),
                    };
                    // Of a single place the connection sheet tells all.
                    let turns = of.primary_turns;
                    let linked = (turns != 1.0).then(|| format!(", {turns} primary turns"));
                    let linked = linked.unwrap_or_default();
                    let connection = (!is_one && !parts.is_empty())
                        .then(|| format!("{}{linked}", parts.join(" ")).as_str().into());
                    let prefix = match turns == 1.0 || is_one {
                        true => prefix,
                        false => format!("{prefix}{turns}-primary-turns/"),
                    };
                    let phase = phase.clone();
                    all.push(Spot { phase, core, tap, connection, prefix });
                }
            }
        }
        if all.is_empty() {
            let message = "no place of the asset is in this phase, core and tap at once";
            return Err(SetupError::Unknown(message.to_owned()));
        }
        Ok(all)
    }

    /// The core or winding of a place.
    pub fn secondary(&self, spot: &Spot) -> &Secondary {
        &self.secondaries[spot.core]
    }

    /// The tap of a place.
    pub fn tap(&self, spot: &Spot) -> &Tap {
        &self.secondaries[spot.core].taps[spot.tap]
    }
}
