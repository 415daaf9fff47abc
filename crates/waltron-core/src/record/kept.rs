//! Files beside the record.

use crate::text::name::Name;
use serde::{Deserialize, Serialize};

/// Waveforms of an injection, in a file beside the record.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Kept {
    /// What they are called.
    pub name: Name,
    /// The test.
    pub test: Name,
    /// The file's name, without its folder.
    pub file: String,
    /// BLAKE3 of the file, in hexadecimal digits.
    pub digest: String,
    /// What was measured in it, by what the meters are connected to; the rest is as it was put out.
    #[serde(skip_serializing_if = "Vec::is_empty", default)]
    pub measured: Vec<Name>,
}

impl Kept {
    /// Whether a file's bytes are those that were kept.
    pub fn is(&self, bytes: &[u8]) -> bool {
        digest(bytes) == self.digest
    }
}

/// BLAKE3 of a file, in hexadecimal digits.
pub fn digest(bytes: &[u8]) -> String {
    blake3::hash(bytes).to_hex().to_string()
}
