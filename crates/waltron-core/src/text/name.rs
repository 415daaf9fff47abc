//! Names of channels, contacts, elements and tests.

use std::fmt;
use std::sync::Arc;

/// A short identifier, cheap to clone and to compare.
#[derive(Clone, PartialEq, Eq, Hash, PartialOrd, Ord, serde::Deserialize)]
#[serde(from = "String")]
pub struct Name(Arc<str>);

impl serde::Serialize for Name {
    fn serialize<S: serde::Serializer>(&self, out: S) -> Result<S::Ok, S::Error> {
        out.serialize_str(&self.0)
    }
}

impl Name {
    /// The text.
    pub fn as_str(&self) -> &str {
        &self.0
    }
}

impl From<&str> for Name {
    fn from(text: &str) -> Self {
        Self(text.into())
    }
}

impl From<String> for Name {
    fn from(text: String) -> Self {
        Self(text.into())
    }
}

impl From<Name> for String {
    fn from(name: Name) -> Self {
        name.0.as_ref().to_owned()
    }
}

impl PartialEq<str> for Name {
    fn eq(&self, other: &str) -> bool {
        self.0.as_ref() == other
    }
}

impl PartialEq<&str> for Name {
    fn eq(&self, other: &&str) -> bool {
        self.0.as_ref() == *other
    }
}

impl fmt::Display for Name {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.pad(&self.0)
    }
}

impl fmt::Debug for Name {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        fmt::Debug::fmt(&self.0, f)
    }
}

/// The candidate nearest to a misspelt word, if one is near enough to be meant.
pub fn nearest<'a>(word: &str, candidates: impl IntoIterator<Item = &'a str>) -> Option<&'a str> {
    let lower = word.to_lowercase();
    candidates
        .into_iter()
        .map(|c| (strsim::damerau_levenshtein(&c.to_lowercase(), &lower), c))
        .filter(|(distance, c)| *distance <= (c.chars().count() / 4).max(1))
        .min_by_key(|(distance, _)| *distance)
        .map(|(_, c)| c)
}
