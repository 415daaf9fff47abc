//! The connection sheet: which rig terminal goes to which asset terminal, and what to see to first.

use crate::asset::{Asset, Connected, Element, Identity};
use crate::injection::capability::Capability;
use crate::injection::program::{Condition, Program};
use crate::plan::{Plan, Test};
use crate::procedure::{Also, Planned};
use crate::quantity::{Current, Measure, Voltage, text};
use crate::text::name::Name;
use serde::{Deserialize, Serialize};
use std::collections::HashMap;
use std::sync::Arc;

/// The heading of what is put on by hand.
pub const BY_HAND: &str = "Put on by hand, from an instrument of your own";

/// A connection sheet.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize)]
pub struct Sheet {
    /// What the rig is called.
    pub rig: String,
    /// What the asset is called.
    pub asset: String,
    /// Where it stands and what it is, each with its name: site, bay, device, serial number.
    #[serde(skip_serializing_if = "Vec::is_empty", default)]
    pub details: Vec<(String, String)>,
    /// What to isolate, short, earth, close, bypass or reset first, in order.
    pub before: Vec<String>,
    /// The same of single tests: what of it not every test wants.
    #[serde(skip_serializing_if = "Vec::is_empty", default)]
    pub for_tests: Vec<ForTests>,
    /// The connections, outputs first.
    pub wires: Vec<Wire>,
    /// The places to which the leads are taken one after the other, where there are several.
    #[serde(skip_serializing_if = "Vec::is_empty", default)]
    pub places: Vec<Name>,
    /// What somebody puts on from an instrument of their own, and where: `5 kV on H: L+tank measured`.
    #[serde(skip_serializing_if = "Vec::is_empty", default)]
    pub by_hand: Vec<String>,
    /// What to put back afterwards, in order.
    pub after: Vec<String>,
}

/// What is seen to for some tests of a plan.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct ForTests {
    /// The tests.
    pub tests: Vec<Name>,
    /// What to see to, in order.
    pub lines: Vec<String>,
}

/// One connection.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct Wire {
    /// What it carries.
    pub carries: Carries,
    /// The rig's channel or input, such as `ia` or `BI1`.
    pub id: Name,
    /// What is written at the rig's sockets.
    pub rig: String,
    /// What is written at the asset's terminals; absent where its file does not say.
    #[serde(skip_serializing_if = "Option::is_none", default)]
    pub asset: Option<String>,
    /// What it is, in words: `phase A current`, `contact trip`.
    pub what: String,
    /// The most that is put out, with its unit.
    #[serde(skip_serializing_if = "Option::is_none", default)]
    pub most: Option<String>,
    /// The tests that use it.
    pub tests: Vec<Name>,
}

/// What a connection carries.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Carries {
    /// A current from the rig.
    Current,
    /// A voltage from the rig.
    Voltage,
    /// A contact's state to the rig.
    Contact,
    /// A switch of the rig's to the asset.
    Switch,
    /// What a meter of the rig's measures.
    Measured,
}

/// What a sheet is made for.
#[derive(Clone, Copy, Debug)]
pub struct Site<'a> {
    /// The asset.
    pub asset: &'a Asset,
    /// The plan.
    pub plan: &'a Plan,
    /// What the rig can do.
    pub capability: &'a Capability,
    /// What the rig is called.
    pub rig: &'a str,
}

fn details(identity: &Identity) -> Vec<(String, String)> {
    let made = [&identity.maker, &identity.model].map(|part| part.as_deref().unwrap_or_default());
    let all = [
        ("Site", identity.site.clone().unwrap_or_default()),
        ("Bay", identity.bay.clone().unwrap_or_default()),
        ("Device", made.join(" ").trim().to_owned()),
        ("Serial", identity.serial.clone().unwrap_or_default()),
    ];
    let known = all.into_iter().filter(|(_, value)| !value.is_empty());
    known.map(|(name, value)| (name.to_owned(), value)).collect()
}

/// The places of a plan in the order in which they are tested.
fn places(planned: &[(Name, Planned)]) -> Vec<Name> {
    let mut all: Vec<Name> = Vec::new();
    // What grades nothing by itself and is not certain comes only if something is looked for, and is asked for then.
    let comes = |p: &Planned| !p.points.is_empty() || p.is_exact;
    let tested = planned.iter().filter(|(_, p)| p.not_tested.is_none() && comes(p));
    for (_, planned) in tested {
        let too = planned.also.iter().filter_map(|also| match also {
            Also::Leads { at } => Some(at),
            _ => None,
        });
        for place in planned.program.connection.iter().chain(too) {
            if !all.contains(place) {
                all.push(place.clone());
            }
        }
    }
    all
}

/// What the person at the panel must see to because of the tests of which something is planned, each line once:
/// what all of them want, and what some do.
fn of_tests(plan: &Plan, planned: &[(Name, Planned)]) -> (Vec<String>, Vec<ForTests>) {
    let is_planned = |test: &&Test| planned.iter().any(|(id, _)| *id == test.id);
    let tests: Vec<&Test> = plan.tests.iter().filter(is_planned).collect();
    let mut all: Vec<(String, Vec<Name>)> = Vec::new();
    for test in &tests {
        for line in test.precautions() {
            match all.iter_mut().find(|(known, _)| *known == line) {
                Some((_, of)) if of.contains(&test.id) => {}
                Some((_, of)) => of.push(test.id.clone()),
                None => all.push((line, vec![test.id.clone()])),
            }
        }
    }
    let (common, single): (Vec<_>, Vec<_>) =
        all.into_iter().partition(|(_, of)| of.len() == tests.len());
    let mut groups: Vec<ForTests> = Vec::new();
    for (line, tests) in single {
        match groups.iter_mut().find(|group| group.tests == tests) {
            Some(group) => group.lines.push(line),
            None => groups.push(ForTests { tests, lines: vec![line] }),
        }
    }
    (common.into_iter().map(|(line, _)| line).collect(), groups)
}

/// What somebody puts on from an instrument of their own: what it would be as an output, and in words.
fn by_hand(also: &Also) -> Option<(Name, String)> {
    let Also::ByHand { what, at, voltage } = also else { return None };
    Some((what.clone(), format!("{} on {at}", text(*voltage))))
}

impl ForTests {
    /// Its heading: `For tests winding-1, winding-2`.
    pub fn title(&self) -> String {
        let tests: Vec<&str> = self.tests.iter().map(Name::as_str).collect();
        let word = if tests.len() == 1 { "test" } else { "tests" };
        format!("For {word} {}", tests.join(", "))
    }
}

impl Carries {
    /// Whether it goes from the rig to the asset; else the asset tells the rig something.
    pub fn is_to_asset(self) -> bool {
        !matches!(self, Self::Contact | Self::Measured)
    }
}

impl Sheet {
    /// Derives the sheet from every injection of a plan; `terminal` tells what is written at the
    /// rig's sockets of a channel or input.
    pub fn of(
        site: Site<'_>,
        planned: &[(Name, Planned)],
        terminal: impl Fn(&str) -> String,
    ) -> Self {
        let mut wires: Vec<Wire> = Vec::new();
        let mut most_si: HashMap<Name, f64> = HashMap::new();
        let tested = planned.iter().filter(|(_, p)| p.not_tested.is_none());
        let mut before: Option<&Planned> = None;
        for (test, planned) in tested {
            // Repeats share their program.
            if before.replace(planned).is_some_and(|b| Arc::ptr_eq(&b.program, &planned.program)) {
                continue;
            }
            for (channel, most, is_current) in planned.program.maxima() {
                let carries = if is_current { Carries::Current } else { Carries::Voltage };
                find(&mut wires, &channel, carries, test);
                let known = most_si.entry(channel).or_insert(most);
                *known = known.max(most);
            }
            for name in planned.program.probes().flat_map(|probe| probe.of.names()) {
                if let Some(meter) = site.capability.meter(name.as_str()) {
                    find(&mut wires, &meter.id, Carries::Measured, test);
                }
            }
            for name in planned.program.captures.iter().flat_map(|capture| &capture.of) {
                if let Some(meter) = site.capability.meter(name.as_str()) {
                    find(&mut wires, &meter.id, Carries::Measured, test);
                }
            }
            // Where every change is looked at, every contact is.
            let all = site.capability.inputs.iter().filter(|_| planned.program.raw_edges);
            for input in all {
                find(&mut wires, &input.id, Carries::Contact, test);
            }
            let switched = planned.program.segments.iter().flat_map(|s| &s.switches);
            for switching in switched {
                let mut switches = site.capability.switches.iter();
                if let Some(switch) = switches.find(|s| s.meaning == switching.output) {
                    find(&mut wires, &switch.id, Carries::Switch, test);
                }
            }
            for signal in signals(&planned.program) {
                let input = site.capability.inputs.iter().find(|i| i.meaning == signal);
                if let Some(input) = input {
                    find(&mut wires, &input.id, Carries::Contact, test);
                }
            }
        }
        if let Some(stop) = &site.capability.emergency_stop
            && let Some(input) = site.capability.inputs.iter().find(|i| i.meaning == stop.signal)
            && !wires.is_empty()
        {
            // Every test is stopped by it.
            let mut tests: Vec<Name> = wires.iter().flat_map(|w| w.tests.clone()).collect();
            tests.sort();
            tests.dedup();
            for test in &tests {
                find(&mut wires, &input.id, Carries::Contact, test);
            }
        }
        wires.sort_by(|a, b| (a.carries, &a.id).cmp(&(b.carries, &b.id)));
        for wire in &mut wires {
            describe(wire, site, &terminal, most_si.get(&wire.id.clone()).copied());
        }
        let mut sheet = Self {
            rig: site.rig.to_owned(),
            asset: site.asset.identity.tag.clone(),
            details: details(&site.asset.identity),
            before: Vec::new(),
            for_tests: Vec::new(),
            places: places(planned),
            by_hand: Vec::new(),
            wires,
            after: Vec::new(),
        };
        let (names, words): (Vec<Name>, Vec<String>) =
            planned.iter().flat_map(|(_, p)| &p.also).filter_map(by_hand).unzip();
        for line in words {
            if !sheet.by_hand.contains(&line) {
                sheet.by_hand.push(line);
            }
        }
        let (common, for_tests) = of_tests(site.plan, planned);
        sheet.for_tests = for_tests;
        sheet.precautions(site, &common, names);
        for group in &mut sheet.for_tests {
            group.lines.retain(|line| !sheet.before.contains(line));
        }
        sheet.for_tests.retain(|group| !group.lines.is_empty());
        sheet
    }

    /// Everything to see to before outputs come on, that of single tests last.
    pub fn all_before(&self) -> impl Iterator<Item = &String> {
        self.before.iter().chain(self.for_tests.iter().flat_map(|group| &group.lines))
    }

    fn uses(&self, carries: Carries) -> bool {
        self.wires.iter().any(|w| w.carries == carries)
    }

    /// What to see to; `of_tests` besides, because of every test, and `by_hand` because of what somebody puts on.
    fn precautions(&mut self, site: Site<'_>, of_tests: &[String], by_hand: Vec<Name>) {
        let own = &site.plan.hookup;
        let mut before = own.first.clone();
        let is_wired = !self.wires.is_empty();
        if !is_wired && by_hand.is_empty() {
            before.extend(of_tests.iter().cloned());
            before.extend(own.before.iter().cloned());
            (self.before, self.after) = (before, own.after.clone());
            return;
        }
        if is_wired {
            before.push("Connect the rig's earth terminal first".to_owned());
        }
        let emergency = site.capability.emergency_stop.as_ref().map(|s| s.signal.clone());
        let connected = Connected {
            names: self.connected(site).into_iter().chain(by_hand).collect(),
            currents: self.uses(Carries::Current),
            voltages: self.uses(Carries::Voltage),
            contacts: self.operated(site, emergency.as_ref()),
            ratings: &site.asset.ratings,
        };
        let family = site.asset.own.precautions(&connected);
        before.splice(0..0, family.first);
        before.extend(family.before);
        for line in of_tests {
            if !before.contains(line) {
                before.push(line.clone());
            }
        }
        if emergency.is_some() {
            before.push("Try the emergency stop once".to_owned());
        }
        before.extend(own.before.iter().cloned());
        let mut after = family.after_first;
        after.push(match is_wired {
            true => "Take the connections off, the rig's earth terminal last".to_owned(),
            false => "Take the connections off, the earth last".to_owned(),
        });
        after.extend(family.after);
        after.extend(own.after.iter().cloned());
        after.extend(family.last);
        (self.before, self.after) = (before, after);
    }

    /// What the rig's outputs and meters that are used are connected to.
    fn connected(&self, site: Site<'_>) -> Vec<Name> {
        let rig = site.capability;
        let currents = rig.currents.iter().map(|c| (&c.id, &c.meaning));
        let voltages = rig.voltages.iter().map(|c| (&c.id, &c.meaning));
        let meters = rig.meters.iter().map(|m| (&m.id, &m.meaning));
        let all = currents.chain(voltages).chain(meters);
        let used = all.filter(|(id, _)| self.wires.iter().any(|w| w.id == **id));
        used.map(|(_, meaning)| meaning.clone()).collect()
    }

    /// The contacts that what is put out can operate: those that are watched, and those of every
    /// function that is on.
    fn operated(&self, site: Site<'_>, emergency: Option<&Name>) -> Vec<Name> {
        let watched = self.wires.iter().filter(|w| w.carries == Carries::Contact);
        let mut all: Vec<Name> =
            watched.map(|w| w.what.trim_start_matches("contact ").into()).collect();
        for name in site.asset.enabled().flat_map(Element::contacts) {
            if !all.contains(name) {
                all.push(name.clone());
            }
        }
        all.retain(|name| Some(name) != emergency);
        all
    }
}

fn find<'w>(wires: &'w mut Vec<Wire>, id: &Name, carries: Carries, test: &Name) -> &'w mut Wire {
    let index = wires.iter().position(|w| w.id == *id && w.carries == carries);
    let index = index.unwrap_or_else(|| {
        wires.push(Wire {
            carries,
            id: id.clone(),
            rig: String::new(),
            asset: None,
            what: String::new(),
            most: None,
            tests: Vec::new(),
        });
        wires.len() - 1
    });
    let wire = &mut wires[index];
    if !wire.tests.contains(test) {
        wire.tests.push(test.clone());
    }
    wire
}

fn describe(
    wire: &mut Wire,
    site: Site<'_>,
    terminal: &impl Fn(&str) -> String,
    most_si: Option<f64>,
) {
    wire.rig = terminal(wire.id.as_str());
    let at_asset =
        |key: &Name| site.asset.terminals.iter().find(|(k, _)| k == key).map(|(_, t)| t.clone());
    match wire.carries {
        Carries::Current | Carries::Voltage => {
            let meaning = meaning_of(site.capability, &wire.id);
            wire.asset = at_asset(&wire.id).or_else(|| at_asset(&meaning));
            wire.what = match meaning == wire.id {
                true => what(wire.id.as_str(), wire.carries),
                false => meaning.to_string(),
            };
            let is_current = wire.carries == Carries::Current;
            wire.most = most_si.map(|si| {
                if is_current { text(Current::from_si(si)) } else { text(Voltage::from_si(si)) }
            });
        }
        Carries::Contact => {
            let input = site.capability.inputs.iter().find(|i| i.id == wire.id);
            let meaning = input.map(|i| i.meaning.clone()).unwrap_or_else(|| wire.id.clone());
            wire.asset = at_asset(&meaning);
            wire.what = format!("contact {meaning}");
        }
        Carries::Switch => {
            let switch = site.capability.switches.iter().find(|s| s.id == wire.id);
            let meaning = switch.map_or_else(|| wire.id.clone(), |s| s.meaning.clone());
            wire.asset = at_asset(&meaning);
            wire.what = meaning.to_string();
        }
        Carries::Measured => {
            let meter = site.capability.meters.iter().find(|m| m.id == wire.id);
            let meaning = meter.map_or_else(|| wire.id.clone(), |m| m.meaning.clone());
            wire.asset = at_asset(&meaning);
            wire.what = format!("measures {meaning}");
        }
    }
}

/// What an output is connected to; its id where the rig's file does not say.
fn meaning_of(rig: &Capability, id: &Name) -> Name {
    let current = rig.currents.iter().find(|c| c.id == *id).map(|c| &c.meaning);
    let voltage = rig.voltages.iter().find(|c| c.id == *id).map(|c| &c.meaning);
    current.or(voltage).unwrap_or(id).clone()
}

fn what(channel: &str, carries: Carries) -> String {
    let kind = if carries == Carries::Current { "current" } else { "voltage" };
    match channel {
        "ia" | "va" => format!("phase A {kind}"),
        "ib" | "vb" => format!("phase B {kind}"),
        "ic" | "vc" => format!("phase C {kind}"),
        other => format!("{kind} {other}"),
    }
}

/// The contacts that a program looks at.
fn signals(program: &Program) -> Vec<Name> {
    let parts = program.segments.iter().flat_map(|s| &s.stops).flat_map(|s| s.when.parts());
    let mut all: Vec<Name> = Vec::new();
    for part in parts {
        if let Condition::Contact { signal, .. } | Condition::Edge { signal, .. } = part
            && !all.contains(signal)
        {
            all.push(signal.clone());
        }
    }
    all
}
