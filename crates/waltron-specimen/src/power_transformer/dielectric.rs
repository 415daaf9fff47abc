//! Insulation between electrodes: capacitances that polarise and conduct, at a temperature of their own.
//!
//! Polarisation follows a power of frequency, as most solid and liquid insulation does (A. K. Jonscher, "The
//! 'universal' dielectric response", Nature 267, 1977); conduction goes with the inverse of frequency. Warmer,
//! both do at a frequency what they did at a lower one before: f/a with a = exp(Ea/k·(1/T₀ − 1/T)).

use num_complex::Complex64;
use std::f64::consts::{FRAC_PI_2, TAU};

/// Boltzmann's constant, in eV/K (SI brochure, 9th edition).
const BOLTZMANN: f64 = 8.617_333e-5;

/// The temperature and the frequency that insulation is told at.
const TOLD_K: f64 = 293.15;
const TOLD_HZ: f64 = 50.0;

/// How the losses of a kind go with frequency and temperature.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Loss {
    /// tan δ by it at 20 °C and 50 Hz.
    pub tan_delta: f64,
    /// The energy that activates it, in eV.
    pub activation_ev: f64,
}

impl Loss {
    /// The frequency at 20 °C at which it is as it is at this one, over 50 Hz.
    fn share(&self, hertz: f64, kelvin: f64) -> f64 {
        let shift = self.activation_ev / BOLTZMANN * (1.0 / TOLD_K - 1.0 / kelvin);
        hertz / TOLD_HZ / shift.exp()
    }
}

/// What lies between two electrodes.
#[derive(Clone, Debug, PartialEq)]
pub struct Dielectric {
    /// The electrodes: `H`, `L`, `tank`, `1U-tap`.
    pub between: [String; 2],
    /// Its capacitance at frequencies where nothing polarises any more, in F.
    pub farad: f64,
    /// What polarises, with the power of frequency that its losses fall by.
    pub polarises: (Loss, f64),
    /// What conducts.
    pub conducts: Loss,
}

impl Dielectric {
    /// The complex capacitance, in F: C′ − jC″.
    pub fn capacitance(&self, hertz: f64, kelvin: f64) -> Complex64 {
        let (of, power) = self.polarises;
        let size = of.tan_delta / (power * FRAC_PI_2).sin();
        let x = of.share(hertz, kelvin).powf(-power);
        let polarised = Complex64::from_polar(size * x, -power * FRAC_PI_2);
        let conducted =
            Complex64::new(0.0, -self.conducts.tan_delta / self.conducts.share(hertz, kelvin));
        self.farad * (1.0 + polarised + conducted)
    }

    /// The admittance, in S.
    pub fn admittance(&self, hertz: f64, kelvin: f64) -> Complex64 {
        Complex64::new(0.0, TAU * hertz) * self.capacitance(hertz, kelvin)
    }

    /// The current that a direct volt drives so many seconds after it was put on, in S.
    ///
    /// The inverse transform of the admittance over s: what polarises by s^(-m) takes a current by t^(m-1).
    pub fn after(&self, seconds: f64, kelvin: f64) -> f64 {
        let (of, power) = self.polarises;
        let size = of.tan_delta / (power * FRAC_PI_2).sin();
        // The angular frequency at which it is told, shifted by the temperature.
        let told = |loss: &Loss| TAU * TOLD_HZ / loss.share(TOLD_HZ, kelvin);
        let polarised = size * told(&of).powf(power) * seconds.powf(power - 1.0) / gamma(power);
        self.farad * (polarised + told(&self.conducts) * self.conducts.tan_delta)
    }
}

/// The gamma function of a number between 0 and 1, by Γ(x) = Γ(x + 8)/(x·(x + 1)·…) and Stirling's series
/// (NIST Handbook of Mathematical Functions, 5.11.1): within 1e-9.
fn gamma(x: f64) -> f64 {
    let down: f64 = (0..8).map(|k| x + f64::from(k)).product();
    let z = x + 8.0;
    let series = 1.0 / (12.0 * z) - 1.0 / (360.0 * z.powi(3)) + 1.0 / (1260.0 * z.powi(5));
    (0.5 * (TAU / z).ln() + z * (z.ln() - 1.0) + series).exp() / down
}

/// Where the leads are: the energised electrode, those whose currents are measured, and those that are guarded.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub(super) struct Connected {
    energised: String,
    measured: Vec<String>,
    guarded: Vec<String>,
}

/// The electrode that stands for what is earthed.
const TANK: &str = "tank";

/// All insulation of a transformer.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct Insulation {
    /// Between which electrodes it lies.
    pub parts: Vec<Dielectric>,
    /// Its temperature, in K.
    pub kelvin: f64,
    /// Whether the lead that guards a winding is off: that winding floats.
    pub guard_off: bool,
}

impl Insulation {
    fn has(&self, electrode: &str) -> bool {
        electrode == TANK
            || self.parts.iter().any(|p| p.between.iter().any(|name| name == electrode))
    }

    /// Leads such as `H: tank measured, L guarded`.
    pub(super) fn leads(&self, place: &str) -> Option<Connected> {
        let (energised, rest) = place.split_once(": ")?;
        let mut leads = Connected { energised: energised.to_owned(), ..Connected::default() };
        for part in rest.split(", ") {
            let (names, what) = part.rsplit_once(' ')?;
            let names: Vec<String> = names.split('+').map(str::to_owned).collect();
            match what {
                "measured" => leads.measured = names,
                "guarded" => leads.guarded = names,
                _ => return None,
            }
        }
        let all = leads.measured.iter().chain(&leads.guarded);
        let is_known = all.clone().all(|name| self.has(name) && *name != leads.energised);
        // What is earthed is either measured or not.
        let is_told = all.clone().any(|name| name == TANK);
        let is_sound = self.has(energised) && energised != TANK && !leads.measured.is_empty();
        (is_known && is_told && is_sound).then_some(leads)
    }

    /// Between the energised electrode and those that are measured: each part by a function of it. What is
    /// connected to nothing else counts to the tank, as an earthed tap does.
    fn sum(&self, leads: &Connected, of: &dyn Fn(&Dielectric) -> Complex64) -> Complex64 {
        let role = |name: &String| {
            if *name == leads.energised {
                Role::Energised
            } else if leads.measured.contains(name) {
                Role::Measured
            } else if leads.guarded.contains(name) && name != TANK {
                if self.guard_off { Role::Floats } else { Role::Guarded }
            } else if leads.guarded.iter().any(|g| g == TANK) {
                Role::Guarded
            } else {
                Role::Measured
            }
        };
        let mut between = [[Complex64::ZERO; 4]; 4];
        for part in &self.parts {
            let [a, b] = [role(&part.between[0]) as usize, role(&part.between[1]) as usize];
            let value = of(part);
            between[a][b] += value;
            if a != b {
                between[b][a] += value;
            }
        }
        let [e, m, f] = [Role::Energised, Role::Measured, Role::Floats].map(|r| r as usize);
        let floats = between[f][e] + between[f][m] + between[f][Role::Guarded as usize];
        let through = match floats.norm() {
            0.0 => Complex64::ZERO,
            _ => between[e][f] * between[f][m] / floats,
        };
        between[e][m] + through
    }

    /// The admittance that is measured, in S.
    pub(super) fn admittance(&self, leads: &Connected, hertz: f64) -> Complex64 {
        self.sum(leads, &|part| part.admittance(hertz, self.kelvin))
    }

    /// The current that a direct volt drives so long after it was put on, in S.
    pub(super) fn after(&self, leads: &Connected, seconds: f64) -> f64 {
        self.sum(leads, &|part| part.after(seconds.max(1e-3), self.kelvin).into()).re
    }
}

/// What an electrode is to a measurement.
#[derive(Clone, Copy)]
enum Role {
    Energised,
    Measured,
    Guarded,
    Floats,
}
