//! The test set's own command tree; docs/scpi.md is its manual.

use waltron_wire::scpi::{Command, Takes, Tree};

/// What a command means.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Meaning {
    /// `*IDN?`
    Identity,
    /// `*RST`
    Reset,
    /// `*CLS`
    Clear,
    /// `*ESE`
    EventEnable,
    /// `*ESR?`
    Events,
    /// `*SRE`
    ServiceEnable,
    /// `*STB?`
    StatusByte,
    /// `*OPC`
    Complete,
    /// `*WAI`
    Wait,
    /// `*TST?`
    SelfTest,
    /// `*TRG`, `INITiate`
    Begin,
    /// `ABORt`
    Abort,
    /// `SYSTem:ERRor?`
    Error,
    /// `SYSTem:ERRor:COUNt?`
    ErrorCount,
    /// `SYSTem:ERRor:ALL?`
    AllErrors,
    /// `SYSTem:VERSion?`
    Version,
    /// `SYSTem:HELP:HEADers?`
    Headers,
    /// `SYSTem:LOCK:REQuest?`
    Lock,
    /// `SYSTem:LOCK:RELease`
    Release,
    /// `SYSTem:LOCK:OWNer?`
    Owner,
    /// `SYSTem:CLIent?`
    Client,
    /// `SYSTem:HEARtbeat`
    Heartbeat,
    /// `SYSTem:WATChdog`
    Watchdog,
    /// `STATus:PRESet`
    Preset,
    /// `STATus:OPERation?`
    OperationEvent,
    /// `STATus:OPERation:CONDition?`
    OperationCondition,
    /// `STATus:OPERation:ENABle`
    OperationEnable,
    /// `STATus:QUEStionable?`
    QuestionableEvent,
    /// `STATus:QUEStionable:CONDition?`
    QuestionableCondition,
    /// `STATus:QUEStionable:ENABle`
    QuestionableEnable,
    /// `INSTrument:CAPability?`
    Capability,
    /// `INSTrument:SETTings?`
    Settings,
    /// `ROUTe:OUTPut:CATalog?`
    Outputs,
    /// `ROUTe:INPut:CATalog?`
    Inputs,
    /// `ROUTe:SWITch:CATalog?`
    Switches,
    /// `ROUTe:METer:CATalog?`
    Meters,
    /// `PROGram:DEFine`
    Define,
    /// `PROGram:RECording`
    Recording,
    /// `PROGram:DELete`
    Delete,
    /// `PROGram:STATe?`
    State,
    /// `PROGram:STATe:CAUSe?`
    Cause,
    /// `PROGram:SEGMent:NEW`
    SegmentNew,
    /// `PROGram:SEGMent:CURRent`
    SegmentCurrent,
    /// `PROGram:SEGMent:VOLTage`
    SegmentVoltage,
    /// `PROGram:SEGMent:TIME`
    SegmentTime,
    /// `PROGram:SEGMent:STOP`
    SegmentStop,
    /// `PROGram:SEGMent:SWITch`
    SegmentSwitch,
    /// `PROGram:SEGMent:READ`
    SegmentRead,
    /// `PROGram:FINish`
    Finish,
    /// `TRIGger:MARK`
    Mark,
    /// `TRIGger:OUTSide`
    Outside,
    /// `FETCh:OBServation?`
    Observation,
    /// `FETCh:EVENts?`
    Edges,
    /// `FETCh:READings?`
    Readings,
    /// `FETCh:CAPTure?`
    Captured,
    /// `FETCh:TIME?`
    Time,
    /// `FETCh:WAVeform?`
    Waveform,
    /// `FORMat:BORDer`
    ByteOrder,
    /// `MEASure:OUTPuts?`
    LiveOutputs,
    /// `MEASure:INPuts?`
    LiveInputs,
    /// `MEASure:LIVE?`
    Live,
    /// `OUTPut`
    Output,
    /// `OUTPut:INTerlock?`
    Interlock,
    /// `OUTPut:CHARged?`
    Charged,
    /// `SOURce:PARameter`
    Parameter,
    /// `SOURce:PARameter:OFF`
    ParametersOff,
    /// `SYSTem:LOG?`
    Log,
    /// `SIMulation:SEED`
    Seed,
    /// `SIMulation:DRAW`
    Draw,
    /// `SIMulation:REST`
    Rest,
}

use Meaning as M;

/// Told with so many parameters.
const fn set(pattern: &'static str, meaning: M, takes: Takes) -> Command<M> {
    Command { pattern, sets: Some(takes), asks: None, meaning }
}

/// Asked with so many parameters.
const fn asks(pattern: &'static str, meaning: M, takes: Takes) -> Command<M> {
    Command { pattern, sets: None, asks: Some(takes), meaning }
}

/// Asked without parameters.
const fn ask(pattern: &'static str, meaning: M) -> Command<M> {
    asks(pattern, meaning, NONE)
}

/// Told with so many parameters, and asked without any.
const fn both(pattern: &'static str, meaning: M, takes: Takes) -> Command<M> {
    Command { pattern, sets: Some(takes), asks: Some(NONE), meaning }
}

const NONE: Takes = Takes::NONE;
const ONE: Takes = Takes::exactly(1);
const TWO: Takes = Takes::exactly(2);

/// Every command of the test set.
pub static TREE: Tree<Meaning> = Tree::new(&[
    ask("*IDN", M::Identity),
    set("*RST", M::Reset, NONE),
    set("*CLS", M::Clear, NONE),
    both("*ESE", M::EventEnable, ONE),
    ask("*ESR", M::Events),
    both("*SRE", M::ServiceEnable, ONE),
    ask("*STB", M::StatusByte),
    both("*OPC", M::Complete, NONE),
    set("*WAI", M::Wait, NONE),
    ask("*TST", M::SelfTest),
    set("*TRG", M::Begin, NONE),
    ask("SYSTem:ERRor[:NEXT]", M::Error),
    ask("SYSTem:ERRor:COUNt", M::ErrorCount),
    ask("SYSTem:ERRor:ALL", M::AllErrors),
    ask("SYSTem:VERSion", M::Version),
    ask("SYSTem:HELP:HEADers", M::Headers),
    ask("SYSTem:LOCK:REQuest", M::Lock),
    set("SYSTem:LOCK:RELease", M::Release, NONE),
    ask("SYSTem:LOCK:OWNer", M::Owner),
    ask("SYSTem:CLIent", M::Client),
    set("SYSTem:HEARtbeat", M::Heartbeat, NONE),
    both("SYSTem:WATChdog", M::Watchdog, ONE),
    ask("SYSTem:LOG", M::Log),
    set("STATus:PRESet", M::Preset, NONE),
    ask("STATus:OPERation[:EVENt]", M::OperationEvent),
    ask("STATus:OPERation:CONDition", M::OperationCondition),
    both("STATus:OPERation:ENABle", M::OperationEnable, ONE),
    ask("STATus:QUEStionable[:EVENt]", M::QuestionableEvent),
    ask("STATus:QUEStionable:CONDition", M::QuestionableCondition),
    both("STATus:QUEStionable:ENABle", M::QuestionableEnable, ONE),
    ask("INSTrument:CAPability", M::Capability),
    ask("INSTrument:SETTings", M::Settings),
    ask("ROUTe:OUTPut:CATalog", M::Outputs),
    ask("ROUTe:INPut:CATalog", M::Inputs),
    ask("ROUTe:SWITch:CATalog", M::Switches),
    ask("ROUTe:METer:CATalog", M::Meters),
    both("PROGram[:SELected]:DEFine", M::Define, ONE),
    set("PROGram[:SELected]:RECording", M::Recording, Takes::exactly(3)),
    set("PROGram[:SELected]:DELete", M::Delete, NONE),
    asks("PROGram[:SELected]:STATe", M::State, Takes::from_to(0, 1)),
    ask("PROGram[:SELected]:STATe:CAUSe", M::Cause),
    set("PROGram[:SELected]:SEGMent:NEW", M::SegmentNew, ONE),
    set("PROGram[:SELected]:SEGMent:CURRent", M::SegmentCurrent, Takes::from_to(2, 4)),
    set("PROGram[:SELected]:SEGMent:VOLTage", M::SegmentVoltage, Takes::from_to(2, 4)),
    set("PROGram[:SELected]:SEGMent:TIME", M::SegmentTime, ONE),
    set("PROGram[:SELected]:SEGMent:STOP", M::SegmentStop, Takes::from_to(2, 3)),
    set("PROGram[:SELected]:SEGMent:SWITch", M::SegmentSwitch, TWO),
    set("PROGram[:SELected]:SEGMent:READ", M::SegmentRead, Takes::from_to(1, 2)),
    set("PROGram[:SELected]:FINish", M::Finish, ONE),
    set("INITiate[:IMMediate]", M::Begin, NONE),
    set("ABORt", M::Abort, NONE),
    set("TRIGger:MARK", M::Mark, NONE),
    set("TRIGger:OUTSide", M::Outside, ONE),
    ask("FETCh:OBServation", M::Observation),
    ask("FETCh:EVENts", M::Edges),
    ask("FETCh:READings", M::Readings),
    asks("FETCh:CAPTure", M::Captured, TWO),
    ask("FETCh:TIME", M::Time),
    asks("FETCh:WAVeform", M::Waveform, Takes::from_to(1, 2)),
    both("FORMat:BORDer", M::ByteOrder, ONE),
    ask("MEASure:OUTPuts", M::LiveOutputs),
    ask("MEASure:INPuts", M::LiveInputs),
    ask("MEASure:LIVE", M::Live),
    both("OUTPut[:STATe]", M::Output, ONE),
    ask("OUTPut:INTerlock[:STATe]", M::Interlock),
    ask("OUTPut:CHARged[:STATe]", M::Charged),
    set("SOURce:PARameter", M::Parameter, TWO),
    set("SOURce:PARameter:OFF", M::ParametersOff, NONE),
    set("SIMulation:SEED", M::Seed, Takes::from_to(1, 3)),
    set("SIMulation:DRAW", M::Draw, ONE),
    set("SIMulation:REST", M::Rest, ONE),
]);
