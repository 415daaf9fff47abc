//! The register of wings: one line a family.

use waltron_breaker::BreakerWing;
use waltron_core::wing::Wings;
use waltron_relay::RelayWing;
use waltron_transformer::TransformerWing;

/// Every family of assets that this program tests.
pub(crate) const WINGS: Wings = Wings(&[&RelayWing, &TransformerWing, &BreakerWing]);
