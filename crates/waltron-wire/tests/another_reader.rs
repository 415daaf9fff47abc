//! What is written, read by another reader: one of its own, made from the text of the standard alone (IEEE C37.111-2013,
//! clauses 7 and 8), which shares no line with the one that is tested.
#![allow(clippy::unwrap_used, missing_docs)]

use proptest::prelude::*;
use waltron_wire::comtrade::emit::{AnalogTrack, DigitalTrack, Recording, combined, files};
use waltron_wire::comtrade::{Config, Data, Format, Revision, Side, Stamp};

/// A channel line: multiplier and offset.
#[derive(Debug)]
struct Scale {
    id: String,
    unit: String,
    a: f64,
    b: f64,
    low: f64,
    high: f64,
    ratio: (f64, f64),
    side: String,
}

/// A recording as the other reader has it: time in s, values, states.
#[derive(Debug)]
struct Read {
    year: Option<u32>,
    analog: Vec<Scale>,
    digital: Vec<(String, bool)>,
    line_hz: f64,
    rate_hz: f64,
    rows: Vec<(f64, Vec<Option<f64>>, Vec<bool>)>,
}

fn little(bytes: &[u8]) -> u64 {
    bytes.iter().rev().fold(0, |all, byte| all << 8 | u64::from(*byte))
}

/// A configuration's lines with the data's bytes.
fn read(config: &str, data: &[u8]) -> Read {
    assert!(config.ends_with("\r\n"), "every line ends with carriage return and line feed");
    let mut lines = config.split_terminator("\r\n").map(|line| line.split(',').collect::<Vec<_>>());
    let first = lines.next().unwrap();
    // 7.4.2: station, device, year of the edition, which the first edition lacks.
    assert!(first.len() == 3 || first.len() == 2, "{first:?}");
    let year = first.get(2).map(|year| year.trim().parse().unwrap());
    // 7.4.3: TT,##A,##D
    let counts = lines.next().unwrap();
    let total: usize = counts[0].parse().unwrap();
    let count = |k: usize, letter: char| -> usize {
        counts[k].strip_suffix(letter).unwrap().parse().unwrap()
    };
    let (analogs, digitals) = (count(1, 'A'), count(2, 'D'));
    assert_eq!(total, analogs + digitals);
    let number = |text: &str| -> f64 { text.trim().parse().unwrap_or_else(|_| panic!("`{text}`")) };
    let mut analog = Vec::new();
    for k in 0..analogs {
        // 7.4.4: An,ch_id,ph,ccbm,uu,a,b,skew,min,max,primary,secondary,PS; the first edition ends with max.
        let line = lines.next().unwrap();
        assert_eq!(line[0].parse::<usize>().unwrap(), k + 1);
        assert!(line.len() == 13 || year.is_none() && line.len() == 10, "{line:?}");
        let at = |k: usize, usual: f64| line.get(k).map_or(usual, |text| number(text));
        analog.push(Scale {
            id: line[1].to_owned(),
            unit: line[4].to_owned(),
            a: number(line[5]),
            b: number(line[6]),
            low: number(line[8]),
            high: number(line[9]),
            ratio: (at(10, 1.0), at(11, 1.0)),
            side: line.get(12).map_or(String::new(), |side| side.trim().to_uppercase()),
        });
    }
    let mut digital = Vec::new();
    for k in 0..digitals {
        // 7.4.5: Dn,ch_id,ph,ccbm,y; the first edition has no phase and no component.
        let line = lines.next().unwrap();
        assert_eq!(line[0].parse::<usize>().unwrap(), k + 1);
        assert!(line.len() == 5 || year.is_none() && line.len() == 3, "{line:?}");
        digital.push((line[1].to_owned(), line.last().unwrap().trim() == "1"));
    }
    let line_hz = number(lines.next().unwrap()[0]);
    // 7.4.7: one rate, and the number of its last sample.
    assert_eq!(lines.next().unwrap()[0], "1");
    let rate = lines.next().unwrap();
    let (rate_hz, last) = (number(rate[0]), rate[1].trim().parse::<usize>().unwrap());
    let start = lines.next().unwrap();
    assert!(
        start.len() == 2 && lines.next().unwrap().len() == 2,
        "two moments, a date and a time each"
    );
    let kind = lines.next().unwrap()[0].to_uppercase();
    // 7.4.10: of the later editions; a nanosecond where the start has nine decimals.
    let factor = lines.next().map_or(1.0, |line| number(line[0]));
    let decimals = start[1].split('.').nth(1).map_or(0, str::len);
    let tick = if decimals == 9 { 1e-9 } else { 1e-6 };
    let words = digitals.div_ceil(16);
    let mut rows = Vec::new();
    if kind == "ASCII" {
        let text = std::str::from_utf8(data).unwrap();
        for line in text.split_terminator("\r\n") {
            let parts: Vec<&str> = line.split(',').collect();
            assert_eq!(parts.len(), 2 + analogs + digitals, "{line}");
            assert_eq!(parts[0].trim().parse::<usize>().unwrap(), rows.len() + 1);
            let value = |text: &&str, scale: &Scale| match text.trim() {
                "" => None,
                // Five nines, in the first edition six.
                "99999" if year.is_some() => None,
                "999999" if year.is_none() => None,
                text => Some(scale.a * number(text) + scale.b),
            };
            let values =
                parts[2..].iter().zip(&analog).map(|(text, scale)| value(text, scale)).collect();
            let states = parts[2 + analogs..].iter().map(|state| state.trim() == "1").collect();
            rows.push((number(parts[1]) * tick * factor, values, states));
        }
    } else {
        // 8.6: number and time of four bytes each, little-endian; then the values, then words of 16 states.
        let size = if kind == "BINARY" { 2 } else { 4 };
        let row = 8 + size * analogs + 2 * words;
        assert_eq!(data.len() % row, 0);
        for bytes in data.chunks(row) {
            assert_eq!(little(&bytes[..4]) as usize, rows.len() + 1);
            let value = |k: usize| {
                let raw = little(&bytes[8 + size * k..8 + size * (k + 1)]);
                let stored = match kind.as_str() {
                    "BINARY" if raw == 0x8000 => return None,
                    "BINARY" => f64::from(raw as u16 as i16),
                    "BINARY32" if raw == 0x8000_0000 => return None,
                    "BINARY32" => f64::from(raw as u32 as i32),
                    "FLOAT32" if raw == 0xff7f_ffff || f32::from_bits(raw as u32).is_nan() => {
                        return None;
                    }
                    "FLOAT32" => f64::from(f32::from_bits(raw as u32)),
                    other => panic!("{other}"),
                };
                assert!(stored >= analog[k].low - 0.5 && stored <= analog[k].high + 0.5);
                Some(analog[k].a * stored + analog[k].b)
            };
            let state = |k: usize| {
                little(&bytes[8 + size * analogs + 2 * (k / 16)..][..2]) >> (k % 16) & 1 == 1
            };
            let time = little(&bytes[4..8]) as f64 * tick * factor;
            rows.push((
                time,
                (0..analogs).map(value).collect(),
                (0..digitals).map(state).collect(),
            ));
        }
    }
    assert_eq!(rows.len(), last, "the last sample's number");
    Read { year, analog, digital, line_hz, rate_hz, rows }
}

/// The parts of a combined file (7.6): a line of dashes and its kind before each.
fn parts(bytes: &[u8]) -> (String, Vec<u8>) {
    let find = |words: &str| {
        let at = bytes.windows(words.len()).position(|window| window == words.as_bytes());
        at.unwrap_or_else(|| panic!("no {words}"))
    };
    let config = find("--- file type: CFG ---\r\n") + "--- file type: CFG ---\r\n".len();
    let information = find("--- file type: INF ---");
    let data = find("--- file type: DAT ");
    let head_end = data + bytes[data..].windows(2).position(|w| w == b"\r\n").unwrap() + 2;
    let head = std::str::from_utf8(&bytes[data..head_end]).unwrap();
    let data = bytes[head_end..].to_vec();
    if let Some((_, count)) = head.rsplit_once(": ").filter(|_| !head.contains("ASCII")) {
        let count: usize = count.trim().trim_end_matches(" ---").parse().unwrap();
        assert_eq!(count, data.len(), "the length that its head tells");
    }
    (String::from_utf8(bytes[config..information].to_vec()).unwrap(), data)
}

/// Every byte by hand: a float that is most negative is no measured value, as in the other formats.
#[test]
fn the_most_negative_number_stands_for_a_missing_one() {
    let config = "S,D,2013\r\n1,1A,0D\r\n1,I,A,,A,2.0,0.0,0.0,-10,10,1,1,S\r\n50\r\n1\r\n1000,2\r\n\
                  01/01/2026,00:00:00.000000\r\n01/01/2026,00:00:00.000000\r\nFLOAT32\r\n1\r\n0,0\r\n0,0\r\n";
    let mut data = vec![1, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0x20, 0x40];
    data.extend([2, 0, 0, 0, 0xe8, 0x03, 0, 0, 0xff, 0xff, 0x7f, 0xff]);
    let config = Config::parse(config).unwrap();
    let values = Data::new(&config, &data).unwrap().analog(0, 0..2);
    assert_eq!(values[0], 5.0, "2.5 as a float, times two");
    assert!(values[1].is_nan());
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 200, failure_persistence: None, ..ProptestConfig::default() })]

    /// In every edition and format, as two files or one: the same values, states, times and names.
    #[test]
    fn another_reader_reads_the_same(
        channels in 1usize..4, bits in 0usize..35, n in 1usize..80, scale in 1e-3f64..1e5, turn in 0u64..1000,
        revision in prop_oneof![Just(Revision::R1991), Just(Revision::R1999), Just(Revision::R2013)],
        format in prop_oneof![Just(Format::Ascii), Just(Format::Binary), Just(Format::Binary32), Just(Format::Float32)],
        one_file: bool, rate_hz in prop_oneof![Just(1000.0f64), Just(4000.0), Just(12_800.0), Just(1.0)],
    ) {
        // The later formats are of the last edition only.
        let is_late = matches!(format, Format::Binary32 | Format::Float32);
        let revision = if is_late || one_file { Revision::R2013 } else { revision };
        let value = |k: usize, i: usize| match (turn as usize + i * 3 + k) % 17 {
            0 => f64::NAN,
            other => (other as f64 * 0.37 + k as f64).sin() * scale,
        };
        let analog = (0..channels).map(|k| AnalogTrack {
            id: format!("I{k}"), phase: "A".into(), circuit: "bay".into(), skew_us: 0.0, unit: "A".into(),
            ratio: (600.0, 5.0), side: if k == 0 { Side::Primary } else { Side::Secondary },
            values: (0..n).map(|i| value(k, i)).collect(),
        });
        let state = |k: usize, i: usize| (i / (k + 1) + turn as usize) % 2 == 1;
        let digital = (0..bits).map(|k| DigitalTrack {
            id: format!("D{k}"), phase: String::new(), circuit: "bay".into(), normal: k % 3 == 0,
            states: (0..n).map(|i| state(k, i)).collect(),
        });
        let given = Recording {
            station: "Brackwater, 110 kV".into(), device: "rig".into(), frequency_hz: Some(50.0), rate_hz,
            start: Stamp::parse("31/12/2025,23:59:59.900000", Revision::R2013),
            trigger: Stamp::parse("01/01/2026,00:00:00.150000", Revision::R2013),
            analog: analog.collect(), digital: digital.collect(),
            header: "Recorded at Brackwater\r\n".into(), information: String::new(),
        };
        let found = if one_file {
            let (config, data) = parts(&combined(&given, format));
            read(&config, &data)
        } else {
            let both = files(&given, revision, format);
            read(&both.config, &both.data)
        };
        let year = match revision { Revision::R1991 => None, Revision::R1999 => Some(1999), Revision::R2013 => Some(2013) };
        prop_assert_eq!(found.year, year);
        prop_assert_eq!((found.line_hz, found.rate_hz, found.rows.len()), (50.0, rate_hz, n));
        for (k, channel) in found.analog.iter().enumerate() {
            prop_assert_eq!((&*channel.id, &*channel.unit), (&*format!("I{k}"), "A"));
            if year.is_some() {
                prop_assert_eq!(channel.ratio, (600.0, 5.0));
                prop_assert_eq!(&*channel.side, if k == 0 { "P" } else { "S" });
            }
        }
        for (k, (id, normal)) in found.digital.iter().enumerate() {
            prop_assert_eq!((id, *normal), (&format!("D{k}"), k % 3 == 0));
        }
        // To the resolution of its format.
        let step = match format {
            Format::Ascii | Format::Binary => 2e-5,
            Format::Binary32 => 1e-9,
            Format::Float32 => 1e-6,
        };
        for (i, (time, values, states)) in found.rows.iter().enumerate() {
            prop_assert!((time - i as f64 / rate_hz).abs() < 1e-6, "{} {time}", i);
            for (k, read) in values.iter().enumerate() {
                let wanted = value(k, i);
                let is_near = read.map_or(wanted.is_nan(), |v| (v - wanted).abs() <= step * scale);
                prop_assert!(is_near, "{read:?} {wanted}");
            }
            for (k, read) in states.iter().enumerate() {
                prop_assert_eq!(*read, state(k, i));
            }
        }
    }
}
