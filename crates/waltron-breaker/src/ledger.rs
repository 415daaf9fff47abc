//! What a counter read last, and what it must read next by what has been made since.

use waltron_core::grading::Verdict;
use waltron_core::procedure::Carried;
use waltron_core::text::name::Name;

/// How often something was made in a run, under this name in what tests hand on.
#[derive(Clone, Copy, Debug)]
pub(crate) struct Count(pub(crate) &'static str);

/// How often something was made.
#[derive(Clone, Copy, Debug, Default, PartialEq)]
pub(crate) struct Made {
    pub(crate) sure: f64,
    /// How often more it may have been made: by injections that were cut, whose outcome nobody saw.
    pub(crate) unsure: f64,
}

impl Count {
    fn unsure(self) -> String {
        format!("{} unsure", self.0)
    }

    pub(crate) fn made(self, carried: &Carried) -> Made {
        let of = |key: &str| carried.get(key).copied().unwrap_or(0.0);
        Made { sure: of(self.0), unsure: of(&self.unsure()) }
    }

    /// Notes how often it was made for sure, in the whole run.
    pub(crate) fn note(self, sure: f64, carried: &mut Carried) {
        carried.insert(self.0.to_owned(), sure);
    }

    /// Notes that an injection was cut that makes it at most so often.
    pub(crate) fn note_unsure(self, most: u32, carried: &mut Carried) {
        if most > 0 {
            *carried.entry(self.unsure()).or_insert(0.0) += f64::from(most);
        }
    }
}

/// The readings of one counter, under this name in what tests hand on.
#[derive(Clone, Copy, Debug)]
pub(crate) struct Ledger(pub(crate) &'static str);

/// A reading, and how often what it counts had been made by then.
#[derive(Clone, Copy, Debug, PartialEq)]
pub(crate) struct Entry {
    pub(crate) read: f64,
    pub(crate) made: Made,
}

const OWN: [&str; 3] = ["read", "made", "unsure"];
const EARLIER: [&str; 3] = ["before", "made before", "unsure before"];

impl Ledger {
    fn key(self, part: &str) -> String {
        format!("{} {part}", self.0)
    }

    /// What a test's reading must go on from. What the same test has read itself, before it was cut or is made once
    /// more, is nothing to hold it against: then it is what that reading was held against.
    pub(crate) fn earlier(self, test: &Name, carried: &Carried) -> Option<Entry> {
        let of = |part: &str| carried.get(&self.key(part)).copied();
        let is_own = of("by") == Some(number_of(test));
        let [read, sure, unsure] = (if is_own { EARLIER } else { OWN }).map(of);
        Some(Entry { read: read?, made: Made { sure: sure?, unsure: unsure? } })
    }

    /// Notes what a test has read.
    pub(crate) fn note(self, test: &Name, read: Entry, carried: &mut Carried) {
        let earlier = self.earlier(test, carried);
        for part in OWN.into_iter().chain(EARLIER) {
            carried.remove(&self.key(part));
        }
        carried.insert(self.key("by"), number_of(test));
        let entries = [(OWN, Some(read)), (EARLIER, earlier)];
        for (parts, Entry { read, made }) in
            entries.into_iter().filter_map(|(p, e)| e.map(|e| (p, e)))
        {
            for (part, value) in parts.into_iter().zip([read, made.sure, made.unsure]) {
                carried.insert(self.key(part), value);
            }
        }
    }
}

impl Entry {
    /// What a later reading must be at least.
    pub(crate) fn expected(&self, made: Made) -> f64 {
        self.read + made.sure - self.made.sure
    }

    /// Whether a later reading has gone on by what was made since, and why.
    pub(crate) fn judged(&self, read: f64, made: Made, word: &str) -> (Verdict, String) {
        let (before, went) = (self.read, read - self.read);
        let (sure, unsure) = (made.sure - self.made.sure, made.unsure - self.made.unsure);
        let cut = match unsure {
            0.0 => String::new(),
            more => format!(", and up to {more} more in what was cut off"),
        };
        if went < 0.0 {
            let why =
                format!("it ran backwards, from {before} to {read}: misread, reset or replaced");
            (Verdict::Fail, why)
        } else if (sure..=sure + unsure).contains(&went) {
            let is = if cut.is_empty() { "as" } else { "and" };
            let why = format!("from {before} to {read}: {went} {word}, {is} the run has made");
            (Verdict::Pass, if cut.is_empty() { why } else { format!("{why} {sure}{cut}") })
        } else {
            let why =
                format!("from {before} to {read}: {went} {word}, and the run has made {sure}{cut}");
            (Verdict::Fail, why)
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

    const fn entry(read: f64, sure: f64, unsure: f64) -> Entry {
        Entry { read, made: Made { sure, unsure } }
    }

    /// Another test's reading is gone on from; one's own is not, however often it is made.
    #[test]
    fn a_reading_is_held_against_anothers() {
        let (ledger, first, last) = (Ledger("counter"), Name::from("first"), Name::from("last"));
        let mut carried = Carried::from([("counter of another kind".to_owned(), 3.0)]);
        assert_eq!(ledger.earlier(&first, &carried), None);
        for _ in 0..2 {
            ledger.note(&first, entry(12.0, 0.0, 0.0), &mut carried);
            assert_eq!(ledger.earlier(&first, &carried), None);
            assert_eq!(ledger.earlier(&last, &carried), Some(entry(12.0, 0.0, 0.0)));
        }
        for read in [24.0, 23.0] {
            ledger.note(&last, entry(read, 11.0, 1.0), &mut carried);
            assert_eq!(ledger.earlier(&last, &carried), Some(entry(12.0, 0.0, 0.0)));
            assert_eq!(ledger.earlier(&first, &carried), Some(entry(read, 11.0, 1.0)));
        }
    }

    /// Whatever was seen counts; what was cut off may count, and no more of it than it can make.
    #[test]
    fn a_counter_goes_on_by_what_was_made_and_may_have_been() {
        let (trips, mut carried) = (Count("trips"), Carried::new());
        assert_eq!(trips.made(&carried), Made::default());
        trips.note(4.0, &mut carried);
        let before = Entry { read: 100.0, made: trips.made(&carried) };
        trips.note(7.0, &mut carried);
        let verdicts = |made: Made| {
            [99.0, 102.0, 103.0, 104.0, 105.0, 106.0]
                .map(|read| before.judged(read, made, "trips").0)
        };
        use Verdict::{Fail, Pass};
        assert_eq!(verdicts(trips.made(&carried)), [Fail, Fail, Pass, Fail, Fail, Fail]);
        trips.note_unsure(0, &mut carried);
        assert_eq!(trips.made(&carried), Made { sure: 7.0, unsure: 0.0 });
        trips.note_unsure(1, &mut carried);
        trips.note_unsure(1, &mut carried);
        let made = trips.made(&carried);
        assert_eq!(before.expected(made), 103.0);
        assert_eq!(verdicts(made), [Fail, Fail, Pass, Pass, Pass, Fail]);
        // What was unsure before it was read is in its reading.
        let after = Entry { read: 104.0, made };
        assert_eq!(after.judged(104.0, made, "trips").0, Pass);
        assert_eq!(after.judged(105.0, made, "trips").0, Fail);
    }
}
