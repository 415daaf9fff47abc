//! COMTRADE against files written out by hand, round trips, and whatever bytes may come.

use proptest::prelude::*;
use waltron_wire::comtrade::emit::{AnalogTrack, DigitalTrack, Recording, combined, files};
use waltron_wire::comtrade::{
    Config, ConfigError, Container, ContainerError, Data, DataError, Format, Revision, Side,
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

fn recording(values: &[Vec<f64>], states: &[Vec<bool>]) -> Recording {
    let analog = values.iter().enumerate().map(|(k, v)| AnalogTrack {
        id: format!("I{k}"),
        phase: "A".into(),
        unit: "A".into(),
        ratio: (600.0, 1.0),
        side: Side::Secondary,
        values: v.clone(),
    });
    let digital = states
        .iter()
        .enumerate()
        .map(|(k, s)| DigitalTrack { id: format!("D{k}"), states: s.clone() });
    Recording {
        station: "Brackwater, 110 kV".into(),
        device: "rig".into(),
        frequency_hz: 50.0,
        rate_hz: 4000.0,
        start: "01/05/2026,08:00:00.000000".into(),
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
        channels in 1usize..5, bits in 0usize..20, n in 1usize..40, scale in 1e-3f64..1e5, seed in 0u64..1000,
        revision in prop_oneof![Just(Revision::R1991), Just(Revision::R1999), Just(Revision::R2013)],
        format in prop_oneof![Just(Format::Ascii), Just(Format::Binary), Just(Format::Binary32), Just(Format::Float32)],
        one_file: bool,
    ) {
        let value = |k: usize, i: usize| ((seed + (k * 31 + i * 7) as u64) as f64 * 0.37).sin() * scale;
        let mut values: Vec<Vec<f64>> = (0..channels).map(|k| (0..n).map(|i| value(k, i)).collect()).collect();
        values[0][n / 2] = f64::NAN;
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
        let rows = all(&config, data);
        prop_assert_eq!(rows.len(), n);
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
