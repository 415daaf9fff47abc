//! Building a program line by line, with units, for clients that write no JSON.

use waltron_core::injection::capability::Capability;
use waltron_core::injection::measuring::{Probe, Property, Read, Signal, When};
use waltron_core::injection::program::{
    Condition, Finish, Profile, Program, Segment, Stop, Switching, Then,
};
use waltron_core::injection::stimulus::{Drive, Stimulus};
use waltron_core::quantity::phasor::Phasor;
use waltron_core::quantity::{Dimension, Frequency, Measure, degrees, seconds};
use waltron_core::text::name::Name;
use waltron_wire::scpi::{Fault, Parameter, SiUnit, faults};

/// The frequency where none is given.
const NOMINAL_HZ: f64 = 50.0;

fn argument(parameters: &[Parameter], index: usize) -> Result<&Parameter, Fault> {
    parameters.get(index).ok_or(faults::MISSING_PARAMETER)
}

/// `PROGram:SEGMent:NEW "fault"`: begins a segment with outputs at zero.
pub(super) fn new_segment(program: &mut Program, parameters: &[Parameter]) -> Result<(), Fault> {
    let name = argument(parameters, 0)?.text()?;
    let profile = Profile::Hold(Stimulus::off());
    program.segments.push(Segment::new(name, profile, Vec::new()));
    Ok(())
}

fn last(program: &mut Program) -> Result<&mut Segment, Fault> {
    program
        .segments
        .last_mut()
        .ok_or_else(|| faults::SETTINGS_CONFLICT.because("begin with PROGram:SEGMent:NEW"))
}

/// `PROGram:SEGMent:CURRent ia,2.4 A,-120 DEG,50 HZ`, or `:VOLTage`.
pub(super) fn drive(
    program: &mut Program,
    parameters: &[Parameter],
    is_current: bool,
) -> Result<(), Fault> {
    let channel = Name::from(argument(parameters, 0)?.text()?.to_ascii_lowercase().as_str());
    let unit = if is_current { SiUnit::Ampere } else { SiUnit::Volt };
    let rms = argument(parameters, 1)?.number(unit)?;
    let angle = parameters.get(2).map_or(Ok(0.0), |p| p.number(SiUnit::Degree))?;
    let hz = parameters.get(3).map_or(Ok(NOMINAL_HZ), |p| p.number(SiUnit::Hertz))?;
    if rms < 0.0 || hz <= 0.0 {
        return Err(
            faults::OUT_OF_RANGE.because("an RMS value is not negative, a frequency positive")
        );
    }
    let Profile::Hold(stimulus) = &mut last(program)?.profile else {
        return Err(faults::SETTINGS_CONFLICT.because("the segment was defined as a block"));
    };
    fn put<Q: Measure>(all: &mut Vec<Drive<Q>>, channel: Name, rms: f64, angle: f64, hz: f64) {
        all.retain(|d| d.channel != channel);
        let phasor = Phasor::new(Q::from_si(rms), degrees(angle));
        all.push(Drive::sine(channel, phasor, Frequency::from_si(hz)));
    }
    if is_current {
        put(&mut stimulus.currents, channel, rms, angle, hz);
    } else {
        put(&mut stimulus.voltages, channel, rms, angle, hz);
    }
    Ok(())
}

/// `PROGram:SEGMent:TIME 5 S`: the longest that the segment lasts.
pub(super) fn time(program: &mut Program, parameters: &[Parameter]) -> Result<(), Fault> {
    let si = argument(parameters, 0)?.number(SiUnit::Second)?;
    if si <= 0.0 {
        return Err(faults::OUT_OF_RANGE.because("a time is positive"));
    }
    last(program)?.stops.push(Stop::after(seconds(si)));
    Ok(())
}

/// `PROGram:SEGMent:STOP "trip",ON[,NEXT|END|OFF]`: ends the segment when the contact is in a state.
pub(super) fn stop(program: &mut Program, parameters: &[Parameter]) -> Result<(), Fault> {
    let signal = Name::from(argument(parameters, 0)?.text()?);
    let closed = argument(parameters, 1)?.switch()?;
    let then = match parameters.get(2).map(Parameter::text).transpose()? {
        None | Some("END") => Then::End,
        Some("NEXT") => Then::Next,
        Some("OFF") => Then::Off,
        Some(other) => return Err(faults::ILLEGAL_VALUE.because(other)),
    };
    let stop = Stop { when: Condition::Contact { signal, closed }, then };
    last(program)?.stops.insert(0, stop);
    Ok(())
}

/// `PROGram:FINish OFF|ZERO|KEEP`.
pub(super) fn finish(program: &mut Program, parameters: &[Parameter]) -> Result<(), Fault> {
    program.finish = match argument(parameters, 0)?.text()? {
        "OFF" => Finish::Off,
        "ZERO" => Finish::OffAtZero,
        "KEEP" => Finish::Keep,
        other => return Err(faults::ILLEGAL_VALUE.because(other)),
    };
    Ok(())
}

/// `PROGram:SEGMent:SWITch "close command",ON`: sets a binary output at the segment's start.
pub(super) fn switch(program: &mut Program, parameters: &[Parameter]) -> Result<(), Fault> {
    let output = Name::from(argument(parameters, 0)?.text()?);
    let closed = argument(parameters, 1)?.switch()?;
    last(program)?.switches.push(Switching { output, closed });
    Ok(())
}

/// `PROGram:SEGMent:READ "primary voltage"[,DC]`: reads what a meter shows, or what is worked out from
/// two, at the end of every level.
pub(super) fn read(
    program: &mut Program,
    parameters: &[Parameter],
    capability: &Capability,
) -> Result<(), Fault> {
    let text = argument(parameters, 0)?.text()?;
    let what = match parameters.get(1).map(Parameter::text).transpose()? {
        None | Some("AC") => Property::Phasor,
        Some("DC") => Property::Dc,
        Some(other) => return Err(faults::ILLEGAL_VALUE.because(other)),
    };
    let of = Signal::read(text, &capability.measurable())
        .map_err(|problem| faults::ILLEGAL_VALUE.because(problem.message))?;
    let mut probe = Probe { of, what, dimension: Dimension::NUMBER };
    capability.restore(&mut probe);
    if let Some(why) = capability.why_unmeasured(&probe) {
        return Err(faults::HARDWARE_MISSING.because(why));
    }
    last(program)?.reads.push(Read { probe, when: When::EachLevel });
    Ok(())
}
