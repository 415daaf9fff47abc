//! What a counter read last, handed on from test to test.

use waltron_core::procedure::Carried;
use waltron_core::text::name::Name;

/// The readings of one counter, under this name in what tests hand on.
#[derive(Clone, Copy, Debug)]
pub(crate) struct Ledger(pub(crate) &'static str);

/// A reading, and how often what it counts had been made by then.
pub(crate) type Entry = (f64, f64);

impl Ledger {
    fn key(self, part: &str) -> String {
        format!("{} {part}", self.0)
    }

    fn entry(self, parts: [&str; 2], carried: &Carried) -> Option<Entry> {
        let [read, made] = parts.map(|part| carried.get(&self.key(part)).copied());
        read.zip(made)
    }

    /// What a test's reading must go on from. What the same test has read itself, before it was cut or is made once
    /// more, is nothing to hold it against: then it is what that reading was held against.
    pub(crate) fn earlier(self, test: &Name, carried: &Carried) -> Option<Entry> {
        let is_own = carried.get(&self.key("by")) == Some(&number_of(test));
        self.entry(if is_own { ["before", "made before"] } else { ["read", "made"] }, carried)
    }

    /// Notes what a test has read.
    pub(crate) fn note(self, test: &Name, (read, made): Entry, carried: &mut Carried) {
        let earlier = self.earlier(test, carried);
        self.forget(carried);
        let mut insert = |part: &str, value| carried.insert(self.key(part), value);
        insert("read", read);
        insert("made", made);
        insert("by", number_of(test));
        if let Some((before, made)) = earlier {
            insert("before", before);
            insert("made before", made);
        }
    }

    /// Forgets what it read: what happened since is not known.
    pub(crate) fn forget(self, carried: &mut Carried) {
        for part in ["read", "made", "by", "before", "made before"] {
            carried.remove(&self.key(part));
        }
    }
}

/// A test as a number, since numbers are what is handed on: its id in 32 bits (FNV-1a).
fn number_of(test: &Name) -> f64 {
    let bytes = test.as_str().bytes();
    let hash = bytes.fold(0x811c_9dc5_u32, |h, b| (h ^ u32::from(b)).wrapping_mul(0x0100_0193));
    f64::from(hash)
}

#[cfg(test)]
mod tests {
    use super::*;

    /// Another test's reading is gone on from; one's own is not, however often it is made.
    #[test]
    fn a_reading_is_held_against_anothers() {
        let (ledger, first, last) = (Ledger("counter"), Name::from("first"), Name::from("last"));
        let mut carried = Carried::from([("counter of another kind".to_owned(), 3.0)]);
        assert_eq!(ledger.earlier(&first, &carried), None);
        for _ in 0..2 {
            ledger.note(&first, (12.0, 0.0), &mut carried);
            assert_eq!(ledger.earlier(&first, &carried), None);
            assert_eq!(ledger.earlier(&last, &carried), Some((12.0, 0.0)));
        }
        for read in [24.0, 23.0] {
            ledger.note(&last, (read, 11.0), &mut carried);
            assert_eq!(ledger.earlier(&last, &carried), Some((12.0, 0.0)));
            assert_eq!(ledger.earlier(&first, &carried), Some((read, 11.0)));
        }
        ledger.forget(&mut carried);
        assert_eq!(ledger.earlier(&last, &carried), None);
        assert_eq!(carried.len(), 1);
    }
}
