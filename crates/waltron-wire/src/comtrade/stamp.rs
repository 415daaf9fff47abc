//! Moments: the date and time of the first sample and of the trigger.

use super::config::Revision;
use jiff::civil::{Date, DateTime, Time};
use jiff::{SignedDuration, ToSpan};

/// A moment as a configuration gives it (C37.111-2013, 7.4.8): date, time, and how fine it is.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Stamp {
    /// A date with a time.
    At {
        /// Date and time of day.
        at: DateTime,
        /// Digits behind the second: 9 means that time stamps of the data count nanoseconds.
        digits: u8,
    },
    /// What a device wrote instead of one, kept as it is.
    Text(String),
}

impl Stamp {
    /// Reads `dd/mm/yyyy,hh:mm:ss.ssssss`; the edition of 1991 writes the month first and two digits
    /// of the year, of which 70 to 99 are of the last century.
    pub fn parse(text: &str, revision: Revision) -> Self {
        Self::read(text, revision).unwrap_or_else(|| Self::Text(text.to_owned()))
    }

    fn read(text: &str, revision: Revision) -> Option<Self> {
        let (date, time) = text.split_once(',')?;
        let parts: Vec<i16> =
            date.split('/').map(|p| p.trim().parse().ok()).collect::<Option<_>>()?;
        let [first, second, year] = parts[..] else { return None };
        let year = match year {
            0..70 => 2000 + year,
            70..100 => 1900 + year,
            year => year,
        };
        // What cannot be a month is none, whatever the edition.
        let (month, day) = match revision {
            Revision::R1991 if first <= 12 => (first, second),
            Revision::R1991 => (second, first),
            _ if second > 12 => (first, second),
            _ => (second, first),
        };
        let date = Date::new(year, month.try_into().ok()?, day.try_into().ok()?).ok()?;
        let mut parts = time.trim().split(':');
        let mut whole = || parts.next()?.trim().parse::<i8>().ok();
        let (hour, minute) = (whole()?, whole()?);
        let last = time.trim().splitn(3, ':').nth(2)?;
        let (second, fraction) = last.split_once('.').unwrap_or((last, ""));
        let digits = u8::try_from(fraction.len()).ok().filter(|n| *n <= 9)?;
        let nanos = format!("{fraction:0<9}").parse().ok()?;
        // A leap second is told as the one before it.
        let second = second.trim().parse::<i8>().ok()?.min(59);
        let time = Time::new(hour, minute, second, nanos).ok()?;
        Some(Self::At { at: date.to_datetime(time), digits })
    }

    /// A moment in UTC, RFC 3339, as `2026-05-04T08:00:00.000Z`.
    pub fn utc(text: &str) -> Self {
        match text.trim_end_matches('Z').parse() {
            Ok(at) => Self::At { at, digits: 6 },
            Err(_) => Self::Text(text.to_owned()),
        }
    }

    /// So many seconds later, which may be negative; a text stays what it is.
    #[must_use]
    pub fn later(&self, seconds: f64) -> Self {
        let Self::At { at, digits } = self else { return self.clone() };
        let moved = SignedDuration::try_from_secs_f64(seconds).ok().and_then(|by| {
            // Without what floating point adds below the last digit.
            let unit = if *digits > 6 { 1 } else { 1000 };
            let nanos = i64::try_from(by.as_nanos()).ok()?;
            let whole = (nanos + unit / 2).div_euclid(unit) * unit;
            at.checked_add(whole.nanoseconds()).ok()
        });
        Self::At { at: moved.unwrap_or(*at), digits: *digits }
    }

    /// As the edition writes it.
    pub fn text(&self, revision: Revision) -> String {
        let Self::At { at, digits } = self else {
            let Self::Text(text) = self else { return String::new() };
            return text.clone();
        };
        let (day, month, year) = (at.day(), at.month(), at.year());
        let date = match revision {
            Revision::R1991 => format!("{month:02}/{day:02}/{:02}", year.rem_euclid(100)),
            _ => format!("{day:02}/{month:02}/{year:04}"),
        };
        let fraction = match revision {
            Revision::R2013 if *digits > 6 => format!("{:09}", at.subsec_nanosecond()),
            _ => format!("{:06}", at.subsec_nanosecond() / 1000),
        };
        format!("{date},{:02}:{:02}:{:02}.{fraction}", at.hour(), at.minute(), at.second())
    }

    /// Whether time stamps of the data count nanoseconds (C37.111-2013, 8.4: their unit follows from
    /// the digits of the first sample's time).
    pub fn counts_nanoseconds(&self) -> bool {
        matches!(self, Self::At { digits: 7.., .. })
    }
}
