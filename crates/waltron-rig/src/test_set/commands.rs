//! The test set's own command tree; docs/scpi.md is its manual.

use waltron_wire::scpi::{Command, Tree};

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

const fn both(pattern: &'static str, meaning: M) -> Command<M> {
    Command { pattern, sets: true, asks: true, meaning }
}

const fn set(pattern: &'static str, meaning: M) -> Command<M> {
    Command { pattern, sets: true, asks: false, meaning }
}

const fn ask(pattern: &'static str, meaning: M) -> Command<M> {
    Command { pattern, sets: false, asks: true, meaning }
}

/// Every command of the test set.
pub static TREE: Tree<Meaning> = Tree::new(&[
    ask("*IDN", M::Identity),
    set("*RST", M::Reset),
    set("*CLS", M::Clear),
    both("*ESE", M::EventEnable),
    ask("*ESR", M::Events),
    both("*SRE", M::ServiceEnable),
    ask("*STB", M::StatusByte),
    both("*OPC", M::Complete),
    set("*WAI", M::Wait),
    ask("*TST", M::SelfTest),
    set("*TRG", M::Begin),
    ask("SYSTem:ERRor[:NEXT]", M::Error),
    ask("SYSTem:ERRor:COUNt", M::ErrorCount),
    ask("SYSTem:ERRor:ALL", M::AllErrors),
    ask("SYSTem:VERSion", M::Version),
    ask("SYSTem:HELP:HEADers", M::Headers),
    ask("SYSTem:LOCK:REQuest", M::Lock),
    set("SYSTem:LOCK:RELease", M::Release),
    ask("SYSTem:LOCK:OWNer", M::Owner),
    ask("SYSTem:CLIent", M::Client),
    set("SYSTem:HEARtbeat", M::Heartbeat),
    both("SYSTem:WATChdog", M::Watchdog),
    ask("SYSTem:LOG", M::Log),
    set("STATus:PRESet", M::Preset),
    ask("STATus:OPERation[:EVENt]", M::OperationEvent),
    ask("STATus:OPERation:CONDition", M::OperationCondition),
    both("STATus:OPERation:ENABle", M::OperationEnable),
    ask("STATus:QUEStionable[:EVENt]", M::QuestionableEvent),
    ask("STATus:QUEStionable:CONDition", M::QuestionableCondition),
    both("STATus:QUEStionable:ENABle", M::QuestionableEnable),
    ask("INSTrument:CAPability", M::Capability),
    ask("INSTrument:SETTings", M::Settings),
    ask("ROUTe:OUTPut:CATalog", M::Outputs),
    ask("ROUTe:INPut:CATalog", M::Inputs),
    ask("ROUTe:SWITch:CATalog", M::Switches),
    ask("ROUTe:METer:CATalog", M::Meters),
    both("PROGram[:SELected]:DEFine", M::Define),
    set("PROGram[:SELected]:RECording", M::Recording),
    set("PROGram[:SELected]:DELete", M::Delete),
    ask("PROGram[:SELected]:STATe", M::State),
    ask("PROGram[:SELected]:STATe:CAUSe", M::Cause),
    set("PROGram[:SELected]:SEGMent:NEW", M::SegmentNew),
    set("PROGram[:SELected]:SEGMent:CURRent", M::SegmentCurrent),
    set("PROGram[:SELected]:SEGMent:VOLTage", M::SegmentVoltage),
    set("PROGram[:SELected]:SEGMent:TIME", M::SegmentTime),
    set("PROGram[:SELected]:SEGMent:STOP", M::SegmentStop),
    set("PROGram[:SELected]:SEGMent:SWITch", M::SegmentSwitch),
    set("PROGram[:SELected]:SEGMent:READ", M::SegmentRead),
    set("PROGram[:SELected]:FINish", M::Finish),
    set("INITiate[:IMMediate]", M::Begin),
    set("ABORt", M::Abort),
    set("TRIGger:MARK", M::Mark),
    set("TRIGger:OUTSide", M::Outside),
    ask("FETCh:OBServation", M::Observation),
    ask("FETCh:EVENts", M::Edges),
    ask("FETCh:READings", M::Readings),
    ask("FETCh:CAPTure", M::Captured),
    ask("FETCh:TIME", M::Time),
    ask("FETCh:WAVeform", M::Waveform),
    both("FORMat:BORDer", M::ByteOrder),
    ask("MEASure:OUTPuts", M::LiveOutputs),
    ask("MEASure:INPuts", M::LiveInputs),
    ask("MEASure:LIVE", M::Live),
    both("OUTPut[:STATe]", M::Output),
    ask("OUTPut:INTerlock[:STATe]", M::Interlock),
    ask("OUTPut:CHARged[:STATe]", M::Charged),
    set("SOURce:PARameter", M::Parameter),
    set("SOURce:PARameter:OFF", M::ParametersOff),
    set("SIMulation:SEED", M::Seed),
    set("SIMulation:DRAW", M::Draw),
    set("SIMulation:REST", M::Rest),
]);
