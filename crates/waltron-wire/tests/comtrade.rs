//! COMTRADE against files written out by hand, round trips, and whatever bytes may come.

use proptest::prelude::*;
use waltron_wire::comtrade::emit::{AnalogTrack, DigitalTrack, Recording, combined, files};
use waltron_wire::comtrade::{
    Config, ConfigError, Container, ContainerError, Data, DataError, Format, Revision, Side, Stamp,
    Survey,
};

const CFG: &str = "Brackwater,Q07-F1,1999\r\n3,2A,1D\r\n1,IL1,A,,A,0.5,-1,0,-100,100,600,1,S\r\n2,UL1,A,,V,0.01,0,0,-32767,32767,20000,110,P\r\n1,TRIP,,,0\r\n50\r\n1\r\n1000,3\r\n01/05/2026,08:00:00.000000\r\n01/05/2026,08:00:00.001000\r\nBINARY\r\n1\r\n";

/// Three samples, every byte by hand: number, time, two values, one word of states.
const DAT: [u8; 42] = [
    1, 0, 0, 0, 0, 0, 0, 0, 10, 0, 0x18, 0xfc, 0, 0, 2, 0, 0, 0, 0xe8, 3, 0, 0, 0xf6, 0xff, 0x00,
    0x80, 1, 0, 3, 0, 0, 0, 0xd0, 7, 0, 0, 0, 0, 0xe8, 3, 1, 0,
];

fn all(config: &Config, data: &[u8]) -> Vec<(f64, Vec<f64>, Vec<bool>)> {
    let mut rows = Vec::new();
    Data::new(config, data).unwrap().for_each(|t, a, d| rows.push((t, a.to_vec(), d.to_vec())));
    rows
}

#[test]
fn a_file_written_by_hand_reads_as_its_numbers_say() {
    let config = Config::parse(CFG).unwrap();
    assert_eq!(
        (config.revision, config.format, config.samples()),
        (Revision::R1999, Format::Binary, 3)
    );
    assert_eq!((config.analog[0].primary, config.analog[1].side), (600.0, Side::Primary));
    let rows = all(&config, &DAT);
    assert_eq!(rows[0], (0.0, vec![4.0, -10.0], vec![false]));
    assert_eq!((rows[1].0, rows[1].1[0], rows[1].2[0]), (0.001, -6.0, true));
    assert!(rows[1].1[1].is_nan(), "0x8000 is a missing value");
    assert_eq!(rows[2].1, [-1.0, 10.0]);
    // The same numbers as text, with LF line ends and blanks.
    let text = Config::parse(&CFG.replace("BINARY", "ASCII").replace("\r\n", "\n")).unwrap();
    let ascii = b"1, 0, 10, -1000, 0\n2, 1000, -10, 99999, 1\n3, 2000, 0, 1000, 1\n\x1a";
    let same = all(&text, ascii);
    assert_eq!(same[0], rows[0]);
    assert_eq!(same[2], rows[2]);
    assert!(same[1].1[1].is_nan());
    assert_eq!(Data::new(&text, ascii).unwrap().analog(0, 1..9), [-6.0, -1.0]);
}

#[test]
fn every_mistake_has_its_place() {
    let error = |from: &str, to: &str| Config::parse(&CFG.replacen(from, to, 1)).unwrap_err();
    assert_eq!(
        error("3,2A,1D", "4,2A,1D"),
        ConfigError::Counts { total: 4, analog: 2, digital: 1 }
    );
    assert!(matches!(
        error("3,2A,1D", "1000001,1000000A,1D"),
        ConfigError::Missing { line: 5, field: 6, .. }
    ));
    assert!(matches!(
        error("3,2A,1D", "99999999999999999999,2A,1D"),
        ConfigError::NotANumber { line: 2, .. }
    ));
    assert!(matches!(
        error("0.5,-1", "0,5,-1"),
        ConfigError::TooManyFields { line: 3, found: 14, most: 13 }
    ));
    assert!(matches!(error(",1999", ",2042"), ConfigError::Revision { .. }));
    assert!(matches!(error("BINARY", "BINARY64"), ConfigError::Format { line: 11, .. }));
    assert!(matches!(error("1000,3", "1000,-3"), ConfigError::OutOfRange { line: 8, .. }));
    assert!(matches!(error("1000,3", "nan,3"), ConfigError::NotANumber { line: 8, .. }));
    assert!(matches!(
        error("50\r\n1\r\n", "50\r\n999999999999\r\n"),
        ConfigError::NotANumber { line: 9, .. } | ConfigError::Missing { line: 9, .. }
    ));
    assert!(matches!(
        Config::parse(&CFG[..150]),
        Err(ConfigError::Missing { .. }
            | ConfigError::Ends { .. }
            | ConfigError::NotANumber { .. })
    ));
    assert_eq!(Config::parse(""), Err(ConfigError::Ends { line: 1, wanted: "the station's name" }));
    let mut latin = CFG.as_bytes().to_vec();
    latin[30] = 0xfc;
    assert!(matches!(Config::parse_bytes(&latin), Err(ConfigError::NotUtf8 { byte: 0xfc, .. })));

    let config = Config::parse(CFG).unwrap();
    let cut = Data::new(&config, &DAT[..35]).unwrap_err();
    assert_eq!(cut, DataError::Truncated { declared: 3, held: 2, left_over: 7 });
    assert_eq!(Data::what_is_there(&config, &DAT[..35]).unwrap().len(), 2);
    let twice = [DAT, DAT].concat();
    assert!(matches!(Data::new(&config, &twice), Err(DataError::TooLong { extra: 42, .. })));
    let huge = Config::parse(&CFG.replacen("1000,3", "1000,900000000000", 1)).unwrap();
    assert!(matches!(Data::new(&huge, &DAT), Err(DataError::Truncated { held: 3, .. })));
    let text = Config::parse(&CFG.replace("BINARY", "ASCII")).unwrap();
    let wrong = |data: &[u8]| Data::new(&text, data).unwrap_err();
    assert_eq!(wrong(b"1,0,1,5,2,0\n"), DataError::Values { line: 1, found: 6, wanted: 5 });
    assert!(matches!(
        wrong(b"1,0,1,2,0\n2,1,x,2,0\n"),
        DataError::NotANumber { line: 2, value: 3, .. }
    ));
    assert_eq!(wrong(b"1,0,1,2,0\n"), DataError::Truncated { declared: 3, held: 1, left_over: 0 });

    assert_eq!(Container::parse(b"nothing"), Err(ContainerError::NoSection { kind: "CFG" }));
    let cff = format!("--- file type: CFG ---\n{CFG}--- file type: DAT BINARY: 99 ---\nxx");
    assert_eq!(
        Container::parse(cff.as_bytes()),
        Err(ContainerError::Truncated { declared: 99, held: 2 })
    );
}

/// The same file in the words of 1991: no year in its first line, no ratio, the month first, 999999
/// for what is missing (C37.111-1991, 7 and 8).
const CFG_1991: &str = "Brackwater,Q07-F1\r\n3,2A,1D\r\n1,IL1,A,,A,0.5,-1,0,-100,100\r\n2,UL1,A,,V,0.01,0,0,-32767,32767\r\n1,TRIP,1\r\n50\r\n1\r\n1000,3\r\n05/01/97,08:00:00.000000\r\n05/01/97,08:00:00.001000\r\nASCII\r\n";

#[test]
fn the_first_edition_has_its_own_dates_and_marks() {
    let config = Config::parse(CFG_1991).unwrap();
    assert_eq!(config.revision, Revision::R1991);
    assert!(config.digital[0].normal);
    assert_eq!(config.start.text(Revision::R1991), "05/01/97,08:00:00.000000");
    assert_eq!(config.start.text(Revision::R2013), "01/05/1997,08:00:00.000000");
    let rows = all(&config, b"1,0,10,-1000,0\r\n2,1000,-10,999999,1\r\n3,2000,99999,1000,1\r\n");
    assert!(rows[1].1[1].is_nan(), "its own mark");
    assert!(rows[2].1[0].is_nan(), "the later one, beyond the channel's range");
    let recording = recording(&[vec![1.0, f64::NAN]], &[]);
    let written = files(&recording, Revision::R1991, Format::Ascii);
    let lines: Vec<&str> = written.config.lines().collect();
    assert!(lines.contains(&"12/31/25,23:59:59.900000"), "{}", written.config);
    assert!(lines.contains(&"01/01/26,00:00:00.150000"));
    let data = String::from_utf8(written.data).unwrap();
    assert_eq!(data, "1,0,99998\r\n2,250,999999\r\n");
    let later = files(&recording, Revision::R1999, Format::Ascii);
    assert!(String::from_utf8(later.data).unwrap().contains(",99999\r\n"));
}

#[test]
fn moments_are_read_and_moved() {
    let parse = |text: &str| Stamp::parse(text, Revision::R2013);
    let moved = |text: &str, by: f64| parse(text).later(by).text(Revision::R2013);
    assert_eq!(moved("31/12/2025,23:59:59.900000", 0.25), "01/01/2026,00:00:00.150000");
    assert_eq!(moved("01/03/2024,00:00:00.000000", -0.5), "29/02/2024,23:59:59.500000");
    assert_eq!(moved("01/05/2026,08:00:00.000000", 1e-9), "01/05/2026,08:00:00.000000");
    assert_eq!(moved("01/05/2026,08:00:00.000000000", 1e-9), "01/05/2026,08:00:00.000000001");
    assert_eq!(moved("1/5/2026, 8:0:0", 0.0), "01/05/2026,08:00:00.000000");
    assert_eq!(moved("01/05/2026,08:00:00.000000", 1e300), "01/05/2026,08:00:00.000000");
    // What is no moment is kept as it was.
    for odd in ["", "soon", "99/99/9999,08:00:00", "01/05/2026", "01/05/2026,25:00:00"] {
        assert_eq!(moved(odd, 1.0), odd);
    }
    assert_eq!(
        Stamp::utc("2026-05-04T08:00:00.123Z").text(Revision::R1999),
        "04/05/2026,08:00:00.123000"
    );
}

/// Nine digits behind the second: stamps count nanoseconds; where no rate is told they alone give
/// the time (C37.111-2013, 7.4.7 and 8.4).
#[test]
fn time_stamps_count_what_the_start_says() {
    let with = |start: &str, factor: &str| {
        let text = CFG
            .replace(",1999", ",2013")
            .replace("1\r\n1000,3", "0\r\n0,3")
            .replacen("01/05/2026,08:00:00.000000", start, 1)
            .replace("BINARY\r\n1\r\n", &format!("BINARY\r\n{factor}\r\n0,0\r\n0,0\r\n"));
        let config = Config::parse(&text).unwrap();
        all(&config, &DAT).iter().map(|(t, _, _)| *t).collect::<Vec<_>>()
    };
    // The stamps by hand: 0, 1000, 2000.
    let near = |found: Vec<f64>, wanted: [f64; 3]| {
        found.iter().zip(wanted).all(|(a, b)| (a - b).abs() < 1e-15)
    };
    assert!(near(with("01/05/2026,08:00:00.000000", "1"), [0.0, 1e-3, 2e-3]));
    assert!(near(with("01/05/2026,08:00:00.000000", "0.5"), [0.0, 5e-4, 1e-3]));
    assert!(near(with("01/05/2026,08:00:00.000000000", "1"), [0.0, 1e-6, 2e-6]));
}

/// Habits of devices that do no harm, and what looks like them but does.
#[test]
fn sloppy_files_are_read_and_garbage_is_not() {
    let sloppy = CFG
        .replace("50\r\n1\r\n", "\r\n1\r\n")
        .replace("1000,3\r\n", "1000,3,,\r\n")
        .replace(".000000\r\n", ".000000,\r\n")
        .replace("BINARY\r\n1\r\n", "ASCII,\r\n1,\r\n")
        .replace("600,1,S", "600,1,S,,");
    let config = Config::parse(&sloppy).unwrap();
    assert_eq!((config.frequency_hz, config.samples()), (None, 3));
    assert_eq!(config.start.text(Revision::R1999), "01/05/2026,08:00:00.000000");
    let rows = all(&config, b"1,0,10,-1000,0,\n2,1000,,1000,1,,\n3,2000,0,1000,1");
    assert_eq!(rows[0].1, [4.0, -10.0]);
    assert!(rows[1].1[0].is_nan(), "an empty field is a missing value");
    assert_eq!(rows[2], (0.002, vec![-1.0, 10.0], vec![true]), "a last line without its end");
    let wrong = |data: &[u8]| Data::new(&config, data).unwrap_err();
    let good = "1,0,1,2,0\n2,1,1,2,0\n3,2,1,2,0\n";
    for garbage in ["x", "4,", "4,3,1,2,0\n", "\u{0}\u{1}"] {
        let error = wrong(format!("{good}{garbage}").as_bytes());
        assert_eq!(error, DataError::Garbage { declared: 3, line: 4 }, "{garbage}");
    }
    let cut = wrong(b"1,0,1,2,0\n2,1,1,2,0\n3,2,1,2x");
    assert_eq!(cut, DataError::Truncated { declared: 3, held: 2, left_over: 0 });
}

fn recording(values: &[Vec<f64>], states: &[Vec<bool>]) -> Recording {
    let analog = values.iter().enumerate().map(|(k, v)| AnalogTrack {
        id: format!("I{k}"),
        phase: "A".into(),
        circuit: "bay 7".into(),
        skew_us: 12.5,
        unit: "A".into(),
        ratio: (600.0, 1.0),
        side: Side::Secondary,
        values: v.clone(),
    });
    let digital = states.iter().enumerate().map(|(k, s)| DigitalTrack {
        id: format!("D{k}"),
        phase: "B".into(),
        circuit: "bay 7".into(),
        normal: k % 2 == 1,
        states: s.clone(),
    });
    Recording {
        station: "Brackwater, 110 kV".into(),
        device: "rig".into(),
        frequency_hz: Some(50.0),
        rate_hz: 4000.0,
        start: Stamp::parse("31/12/2025,23:59:59.900000", Revision::R2013),
        trigger: Stamp::parse("01/01/2026,00:00:00.150000", Revision::R2013),
        analog: analog.collect(),
        digital: digital.collect(),
        header: "Recorded at Brackwater\r\n".into(),
        information: String::new(),
    }
}

proptest! {
    /// What is written reads back, to the resolution of its format, in every edition and format.
    #[test]
    fn recordings_round_trip(
        channels in 1usize..5, bits in 0usize..20, n in 1usize..600, scale in 1e-3f64..1e5, seed in 0u64..1000,
        revision in prop_oneof![Just(Revision::R1991), Just(Revision::R1999), Just(Revision::R2013)],
        format in prop_oneof![Just(Format::Ascii), Just(Format::Binary), Just(Format::Binary32), Just(Format::Float32)],
        one_file: bool,
    ) {
        let value = |k: usize, i: usize| ((seed + (k * 31 + i * 7) as u64) as f64 * 0.37).sin() * scale;
        let mut values: Vec<Vec<f64>> = (0..channels).map(|k| (0..n).map(|i| value(k, i)).collect()).collect();
        values[0][n / 2] = f64::NAN;
        if n % 3 == 0 {
            values[channels - 1].fill(f64::NAN);
        }
        let states: Vec<Vec<bool>> = (0..bits).map(|k| (0..n).map(|i| (i + k) % 3 == 0).collect()).collect();
        let given = recording(&values, &states);
        let (cff, split);
        let (config, data): (Config, &[u8]) = if one_file {
            cff = combined(&given, format);
            let parts = Container::parse(&cff).unwrap();
            prop_assert_eq!(parts.header, b"Recorded at Brackwater\r\n");
            prop_assert!(parts.information.is_empty());
            (Config::parse_bytes(parts.config).unwrap(), parts.data)
        } else {
            split = files(&given, revision, format);
            (Config::parse(&split.config).unwrap(), &split.data)
        };
        prop_assert_eq!(config.rate_hz(), Some(4000.0));
        prop_assert_eq!((&config.start, &config.trigger), (&given.start, &given.trigger));
        for (k, channel) in config.analog.iter().enumerate() {
            prop_assert_eq!((&*channel.circuit, channel.skew_us), ("bay 7", 12.5), "{}", k);
        }
        let kept = |k: usize| (if config.revision == Revision::R1991 { "" } else { "bay 7" }, k % 2 == 1);
        for (k, channel) in config.digital.iter().enumerate() {
            prop_assert_eq!((&*channel.circuit, channel.normal), kept(k));
        }
        let rows = all(&config, data);
        prop_assert_eq!(rows.len(), n);
        // The survey says what going through sample by sample says.
        let survey = Survey::of(&Data::new(&config, data).unwrap());
        prop_assert!((survey.length_s - rows[n - 1].0).abs() < 1e-9);
        for k in 0..channels {
            let there: Vec<f64> = rows.iter().map(|r| r.1[k]).filter(|v| v.is_finite()).collect();
            prop_assert_eq!(survey.analog[k].missing as usize, n - there.len());
            let Some(seen) = survey.analog[k].values else {
                prop_assert!(there.is_empty());
                continue;
            };
            let rms = (there.iter().map(|v| v * v).sum::<f64>() / there.len() as f64).sqrt();
            let low = there.iter().copied().fold(f64::INFINITY, f64::min);
            let high = there.iter().copied().fold(f64::NEG_INFINITY, f64::max);
            for (found, wanted) in [(seen.low, low), (seen.high, high), (seen.rms, rms)] {
                prop_assert!((found - wanted).abs() <= 1e-9 * scale, "{found} {wanted}");
            }
        }
        for (k, states) in states.iter().enumerate() {
            let changes: Vec<(f64, bool)> = (1..n)
                .filter(|i| states[*i] != states[i - 1])
                .map(|i| (rows[i].0, states[i]))
                .collect();
            prop_assert_eq!(&survey.digital[k].first, &changes);
            prop_assert_eq!(survey.digital[k].count as usize, changes.len());
        }
        let step = match format { Format::Ascii => 1e-5, Format::Binary => 2e-5, Format::Binary32 => 1e-9, Format::Float32 => 1e-6 };
        for (i, (t, a, d)) in rows.iter().enumerate() {
            prop_assert!((t - i as f64 / 4000.0).abs() < 1e-9);
            for k in 0..channels {
                let wanted = values[k][i];
                prop_assert!(wanted.is_nan() && a[k].is_nan() || (a[k] - wanted).abs() <= step * scale, "{} {}", a[k], wanted);
            }
            for k in 0..bits {
                prop_assert_eq!(d[k], states[k][i]);
            }
        }
    }

    #[test]
    fn whatever_bytes_come_nothing_panics(bytes in proptest::collection::vec(any::<u8>(), 0..400), cut in 0usize..210, at in 0usize..210, byte: u8) {
        let _ = Config::parse_bytes(&bytes);
        let _ = Container::parse(&bytes);
        // A good file with a piece cut off and a byte changed.
        let mut near = CFG.as_bytes()[..CFG.len().min(cut + 40)].to_vec();
        let place = at % near.len();
        near[place] = byte;
        if let Ok(config) = Config::parse_bytes(&near)
            && let Ok(data) = Data::what_is_there(&config, &bytes)
        {
            data.for_each(|_, _, _| {});
        }
        if let Ok(ascii) = Config::parse(&CFG.replace("BINARY", "ASCII")) {
            let _ = Data::new(&ascii, &bytes);
        }
    }
}
