//! Program messages, command trees and status, by the standard's own examples and edge cases.

use proptest::prelude::*;
use waltron_wire::scpi::{
    Command, Event, Fault, Parameter, SiUnit, Status, Summary, Takes, Tree, faults, parse,
};

fn headers(message: &str) -> Vec<String> {
    let (units, fault) = parse(message.as_bytes());
    assert_eq!(fault, None, "{message}");
    let text = |u: &waltron_wire::scpi::Unit| {
        format!("{}{}", u.header.nodes.join(":"), if u.header.query { "?" } else { "" })
    };
    units.iter().map(text).collect()
}

/// SCPI-1999 volume 1, 6.2.4: a header without leading colon goes on where the last one was, common
/// commands do not change the place, a leading colon goes back to the root.
#[test]
fn compound_headers_follow_the_path() {
    assert_eq!(headers("freq:star 3;stop 5"), ["FREQ:STAR", "FREQ:STOP"]);
    assert_eq!(headers("FREQ:STAR 3;*OPC?;STOP 5"), ["FREQ:STAR", "*OPC?", "FREQ:STOP"]);
    assert_eq!(headers("FREQ:STAR 3;:VOLT:LEV 5"), ["FREQ:STAR", "VOLT:LEV"]);
    assert_eq!(headers("A:B:C;D;E:F;G"), ["A:B:C", "A:B:D", "A:B:E:F", "A:B:E:G"]);
    assert_eq!(headers(" *IDN? ; ;"), ["*IDN?"]);
    assert_eq!(headers(""), Vec::<String>::new());
}

#[test]
fn parameters_of_every_kind() {
    let (units, fault) = parse(b"A 1.5 mA, -2E3,ON, 'it''s', #13a;b,.5S");
    assert_eq!(fault, None);
    let p = &units[0].parameters;
    assert!((p[0].number(SiUnit::Ampere).unwrap() - 1.5e-3).abs() < 1e-18);
    assert_eq!(p[1].number(SiUnit::None), Ok(-2000.0));
    assert_eq!(p[2].switch(), Ok(true));
    assert_eq!(p[3].text(), Ok("it's"));
    assert_eq!(p[4].block(), Ok(&b"a;b"[..]));
    assert_eq!(p[5].number(SiUnit::Second), Ok(0.5));
}

/// IEEE 488.2, 7.7.3: `M` is milli, but mega with hertz and ohms, where `MA` is mega for the rest.
#[test]
fn suffixes_scale_and_wrong_units_are_refused() {
    let number =
        |text: &str, unit| parse(format!("A {text}").as_bytes()).0[0].parameters[0].number(unit);
    let near = |a: Result<f64, Fault>, b: f64| (a.unwrap() / b - 1.0).abs() < 1e-12;
    assert!(near(number("3 MHZ", SiUnit::Hertz), 3e6));
    assert!(near(number("3 MOHM", SiUnit::Ohm), 3e6));
    assert!(near(number("3 MV", SiUnit::Volt), 3e-3));
    assert!(near(number("3 MAV", SiUnit::Volt), 3e6));
    assert!(near(number("20us", SiUnit::Second), 20e-6));
    assert!(near(number("1 rad", SiUnit::Degree), 57.29577951308232));
    assert_eq!(number("3 V", SiUnit::Ampere).unwrap_err().number, -131);
    assert_eq!(number("3 A", SiUnit::None).unwrap_err().number, -138);
    assert_eq!(number("ON", SiUnit::Ampere).unwrap_err().number, -104);
    assert_eq!(number("1e308 KV", SiUnit::Volt).unwrap_err().number, -222);
}

#[test]
fn what_cannot_be_read_has_the_standards_number_and_spares_what_came_before() {
    for (message, number) in [
        ("A:", -102),
        ("*", -102),
        ("A 1 2", -103),
        ("A,1", -103),
        ("A 'open", -151),
        ("A #15ab", -161),
        ("A #x", -161),
        ("A 1,", -109),
        ("A INF", -222),
        ("THIRTEENLETTERS 1", -112),
        ("A \u{7}", -101),
        ("A +", -121),
        ("A @", -102),
    ] {
        let (units, fault) = parse(format!("*CLS;{message}").as_bytes());
        assert_eq!(fault.map(|f| f.number), Some(number), "{message}");
        assert_eq!(units.len(), 1, "{message}");
    }
}

static TREE: Tree<u8> = Tree::new(&[
    Command { pattern: "*IDN", sets: None, asks: Some(Takes::NONE), meaning: 0 },
    Command { pattern: "SYSTem:ERRor[:NEXT]", sets: None, asks: Some(Takes::NONE), meaning: 1 },
    Command { pattern: "SYSTem:ERRor:COUNt", sets: None, asks: Some(Takes::NONE), meaning: 2 },
    Command {
        pattern: "OUTPut[:STATe]",
        sets: Some(Takes::exactly(1)),
        asks: Some(Takes::NONE),
        meaning: 3,
    },
    Command { pattern: "[SOURce]:CURRent", sets: Some(Takes::exactly(1)), asks: None, meaning: 4 },
]);

#[test]
fn short_and_long_forms_and_optional_nodes() {
    let find = |text: &str| {
        let unit = &parse(text.as_bytes()).0[0];
        TREE.find(&unit.header, unit.parameters.len()).map_err(|f| f.number)
    };
    for text in ["SYST:ERR?", "system:error?", "SYSTEM:ERR:NEXT?", ":Syst:Error:next?"] {
        assert_eq!(find(text), Ok(1), "{text}");
    }
    assert_eq!(find("SYST:ERR:COUN?"), Ok(2));
    assert_eq!(find("OUTP ON"), Ok(3));
    assert_eq!(find("OUTPUT:STATE?"), Ok(3));
    assert_eq!(find("CURR 1"), Ok(4));
    assert_eq!(find("SOUR:CURR 1"), Ok(4));
    assert_eq!(
        (find("CURR"), find("CURR 1,2"), find("OUTP? 1")),
        (Err(-109), Err(-108), Err(-108))
    );
    for text in ["SYSTE:ERR?", "SYST:ERR", "SYST?", "OUT?", "CURR?", "IDN?", "SYST:ERR:NEXT:X?"] {
        assert_eq!(find(text), Err(-113), "{text}");
    }
    assert_eq!(TREE.headers()[3..5], ["OUTPut[:STATe]", "OUTPut[:STATe]?"]);
}

/// SCPI-1999 volume 2, 21.8.1: errors come out in order, and the last place says that more were lost.
#[test]
fn the_error_queue_keeps_order_and_says_when_it_overflows() {
    let mut status = Status::default();
    assert_eq!(status.next_error().to_string(), "0,\"No error\"");
    status.fault(faults::UNDEFINED_HEADER.because("FOO \"x\""));
    status.fault(faults::OUT_OF_RANGE.clone());
    assert_eq!(status.next_error().to_string(), "-113,\"Undefined header;FOO \"\"x\"\"\"");
    assert_eq!(status.next_error().number, -222);
    for _ in 0..100 {
        status.fault(faults::SYNTAX.clone());
    }
    assert_eq!(status.errors(), 64);
    let all: Vec<i16> = (0..64).map(|_| status.next_error().number).collect();
    assert_eq!((all[0], all[62], all[63]), (-102, -102, -350));
    assert_eq!(status.errors(), 0);
}

/// IEEE 488.2, 11: power-on is told once, reading clears, masks summarise into the status byte.
#[test]
fn status_registers() {
    let mut status = Status::default();
    assert_eq!(status.take_events(), Event::PowerOn as u8);
    assert_eq!(status.take_events(), 0);
    status.fault(faults::SYNTAX.clone());
    assert_eq!(status.byte(false), 0x04, "an error waits");
    status.enable_events(0x20);
    status.enable_service(0xff);
    assert_eq!(status.service_enable(), 0xbf);
    assert_eq!(status.byte(true), 0x04 | 0x10 | 0x20 | 0x40);
    status.set_enable(Summary::Questionable, 0xffff);
    assert_eq!(status.enable(Summary::Questionable), 0x7fff);
    status.set_condition(Summary::Questionable, 0x200);
    assert_eq!(status.byte(false) & 0x08, 0x08);
    status.set_condition(Summary::Questionable, 0);
    assert_eq!(status.take_register(Summary::Questionable), 0x200, "an event outlives its cause");
    assert_eq!(status.take_register(Summary::Questionable), 0);
    status.clear();
    assert_eq!((status.byte(false), status.errors()), (0, 0));
    assert_eq!(status.event_enable(), 0x20, "clearing leaves the masks");
}

proptest! {
    /// No bytes make the parser panic, and what it reads is in capitals.
    #[test]
    fn any_bytes_are_read_or_refused(bytes in proptest::collection::vec(any::<u8>(), 0..120)) {
        let (units, _) = parse(&bytes);
        for unit in units {
            for node in unit.header.nodes {
                let capitals = node.to_ascii_uppercase();
                prop_assert_eq!(capitals, node);
            }
            for p in unit.parameters {
                if let Parameter::Number(..) = p {
                    prop_assert!(p.number(SiUnit::Volt).map_or(true, f64::is_finite));
                }
            }
        }
    }
}
