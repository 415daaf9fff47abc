//! `waltron schema`: JSON Schemas for editors.

use crate::cli::SchemaKind;
use crate::exit::Exit;
use crate::failure::Failure;
use crate::terminal::Terminal;
use crate::wings::WINGS;
use waltron_breaker::low_voltage::band::BandForm;
use waltron_core::plan::{AnswersForm, PlanForm};
use waltron_rig::RigForm;
use waltron_rig::instruments::InstrumentForm;
use waltron_specimen::SpecimenForm;

/// Prints a schema.
///
/// # Errors
/// None; the type is that of every command.
pub(crate) fn schema(kind: SchemaKind, terminal: &Terminal) -> Result<Exit, Failure> {
    let schema = match kind {
        SchemaKind::Asset => WINGS.asset_schema(),
        SchemaKind::Plan => PlanForm::schema(WINGS),
        SchemaKind::Rig => RigForm::schema(),
        SchemaKind::Instrument => InstrumentForm::schema(),
        SchemaKind::Answers => AnswersForm::schema(),
        SchemaKind::Specimen => SpecimenForm::schema(),
        SchemaKind::Correction => {
            waltron_core::text::document::schema::<waltron_transformer::power::CorrectionForm>()
        }
        SchemaKind::Band => waltron_core::text::document::schema::<BandForm>(),
    };
    terminal.print(&format!("{schema:#}\n"));
    Ok(Exit::Pass)
}
