//! Heads of lines: what they are about, without reading all of them.
//!
//! Records are long and most of their text are observations. The chain vouches for what is in a
//! line, so its beginning and its end are enough to go by.

use super::chain::digest_of;
use crate::grading::{Criterion, Verdict};
use serde::Deserialize;
use std::borrow::Cow;

/// The part of a line that tells how far a run has come.
#[derive(Debug, Deserialize)]
pub(super) struct Head<'a> {
    #[serde(borrow)]
    pub(super) at: Cow<'a, str>,
    #[serde(borrow)]
    pub(super) prev: Cow<'a, str>,
    #[serde(borrow)]
    pub(super) event: Cow<'a, str>,
    pub(super) id: Option<Cow<'a, str>>,
    pub(super) test: Option<Cow<'a, str>>,
    pub(super) verdict: Option<Verdict>,
    #[serde(default)]
    pub(super) skipped: bool,
    #[serde(default)]
    pub(super) criterion: Option<Criterion>,
}

/// Takes `"key":"text"` off the beginning; `None` where it is something else, or needs unescaping.
fn take<'a>(rest: &'a str, key: &str) -> Option<(&'a str, &'a str)> {
    let inside = rest.strip_prefix(",\"")?.strip_prefix(key)?.strip_prefix("\":\"")?;
    let (text, rest) = inside.split_once('"')?;
    (!text.contains('\\')).then_some((text, rest))
}

impl<'a> Head<'a> {
    /// Reads the head of a line.
    ///
    /// # Errors
    /// A line that is no event.
    pub(super) fn read(line: &'a [u8]) -> Result<Self, serde_json::Error> {
        match Self::as_written(line) {
            Some(head) => Ok(head),
            None => serde_json::from_slice(line),
        }
    }

    /// Reads a line as this program writes it; `None` for those that have to be read whole.
    fn as_written(line: &'a [u8]) -> Option<Self> {
        let most = line.len().min(240);
        let start = match std::str::from_utf8(&line[..most]) {
            Ok(text) => text,
            // Cut within a character.
            Err(error) => std::str::from_utf8(&line[..error.valid_up_to()]).ok()?,
        };
        if !line.ends_with(b"}") {
            return None;
        }
        let rest = start.strip_prefix("{\"n\":")?.trim_start_matches(|c: char| c.is_ascii_digit());
        let (at, rest) = take(rest, "at")?;
        let (prev, rest) = take(rest, "prev")?;
        let (event, rest) = take(rest, "event")?;
        let mut head = Self {
            at: at.into(),
            prev: prev.into(),
            event: event.into(),
            id: None,
            test: None,
            verdict: None,
            skipped: false,
            criterion: None,
        };
        if event == "observed" {
            return Some(head);
        }
        if event != "graded" {
            return None;
        }
        let (id, rest) = take(rest, "id")?;
        let (test, rest) = take(rest, "test")?;
        // Places where a test broke off, and what was left out, are rare: they are read whole.
        // Inside a text the quotes would be escaped, so this is the key; the verdict is next to it.
        let at = rest.find(",\"criterion\":\"")?;
        let (criterion, rest) = take(&rest[at..], "criterion")?;
        let (verdict, _) = take(rest, "verdict")?;
        if criterion == "completion" {
            return None;
        }
        (head.id, head.test) = (Some(id.into()), Some(test.into()));
        head.verdict = Some(match verdict {
            "pass" => Verdict::Pass,
            "fail" => Verdict::Fail,
            "inconclusive" => Verdict::Inconclusive,
            _ => return None,
        });
        Some(head)
    }

    /// Whether the line follows on from the one before it.
    pub(super) fn follows(&self, before: &[u8]) -> bool {
        self.prev.as_bytes() == digest_of(before)
    }
}

/// The kind of event that a line tells; none where it is no event.
pub fn kind_of(line: &[u8]) -> Option<Cow<'_, str>> {
    Head::read(line).ok().map(|head| head.event)
}

/// The number of the first whole line that does not follow on from the one before it: text was
/// changed. Lines that cannot be read are left to those who read them.
pub fn first_break(bytes: &[u8]) -> Option<usize> {
    let mut before: Option<&[u8]> = None;
    for (n, (_, line, _)) in lines(bytes).enumerate() {
        let head = Head::read(line).ok()?;
        let follows = before.map_or(head.prev.is_empty(), |before| head.follows(before));
        if !follows {
            return Some(n + 1);
        }
        before = Some(line);
    }
    None
}

/// The lines of a record: where each begins, its bytes, and whether it is the last.
pub(super) fn lines(bytes: &[u8]) -> impl Iterator<Item = (usize, &[u8], bool)> {
    let mut at = 0;
    std::iter::from_fn(move || {
        let rest = bytes.get(at..).filter(|rest| !rest.is_empty())?;
        let start = at;
        let end = memchr::memchr(b'\n', rest).unwrap_or(rest.len());
        at += end + 1;
        Some((start, &rest[..end], at >= bytes.len()))
    })
}

#[cfg(test)]
mod tests {
    use super::*;

    /// What is read from a line's head is what is read from the whole of it.
    #[test]
    fn heads_tell_what_the_whole_line_tells() {
        let graded = "{\"n\":7,\"at\":\"T\",\"prev\":\"ab\",\"event\":\"graded\",\"id\":\"t/A-N/2 Ω\",\"test\":\"t\",\
                      \"attempt\":1,\"criterion\":\"trip_time\",\"verdict\":\"fail\",\"reason\":\"says \\\"x\\\",\\\"verdict\\\":\\\"pass\\\"\",\
                      \"later\":{\"a\":1,\"verdict\":\"pass\"}}";
        let completion = graded.replace("trip_time", "completion");
        let skipped = "{\"n\":7,\"at\":\"T\",\"prev\":\"ab\",\"event\":\"graded\",\"id\":\"t/a\",\"test\":\"t\",\
                       \"attempt\":1,\"criterion\":\"value\",\"verdict\":\"not_tested\",\"reason\":\"r\",\"skipped\":true}";
        let escaped = graded.replace("t/A-N/2 Ω", "t/\\\"x\\\"");
        let observed = "{\"n\":8,\"at\":\"T\",\"prev\":\"cd\",\"event\":\"observed\",\"test\":\"t\",\"program\":{}}";
        let told = "{\"n\":9,\"at\":\"T\",\"prev\":\"ef\",\"event\":\"told\",\"text\":\"é\"}";
        for line in [graded, &escaped, &completion, skipped, observed, told] {
            let fast = Head::read(line.as_bytes()).unwrap();
            let whole: Head<'_> = serde_json::from_str(line).unwrap();
            assert_eq!((&fast.at, &fast.prev, &fast.event), (&whole.at, &whole.prev, &whole.event));
            assert_eq!((&fast.id, fast.verdict), (&whole.id, whole.verdict), "{line}");
            assert_eq!(fast.skipped, whole.skipped, "{line}");
            let is_completion = |h: &Head<'_>| h.criterion == Some(Criterion::COMPLETION);
            assert_eq!(is_completion(&fast), is_completion(&whole), "{line}");
        }
        assert!(Head::as_written(graded.as_bytes()).is_some());
        assert!(Head::as_written(escaped.as_bytes()).is_none(), "escapes are read whole");
        // A line that is cut behind an inner brace is the last one, which is read whole.
        for cut in (1..graded.len()).filter(|cut| graded.as_bytes()[cut - 1] != b'}') {
            assert!(Head::read(&graded.as_bytes()[..cut]).is_err(), "a cut line is no event");
        }
    }

    #[test]
    fn lines_of_any_ending() {
        let all = |text: &'static str| {
            lines(text.as_bytes()).map(|(at, l, last)| (at, l.len(), last)).collect::<Vec<_>>()
        };
        assert_eq!(all("ab\nc\n"), [(0, 2, false), (3, 1, true)]);
        assert_eq!(all("ab\nc"), [(0, 2, false), (3, 1, true)]);
        assert_eq!(all(""), []);
    }
}
