//! Registers by Modbus TCP, against bytes made by hand from the standard: what is asked, what is answered, and every
//! way in which a device may not answer.

use std::io::{Read, Write};
use std::net::{TcpListener, TcpStream};
use std::sync::atomic::{AtomicBool, Ordering};
use std::time::{Duration, Instant};
use waltron_core::clearance::clear;
use waltron_core::injection::measuring::{Probe, Property, Reading, Signal};
use waltron_core::injection::program::{Program, Segment};
use waltron_core::injection::stimulus::Stimulus;
use waltron_core::quantity::{Dimension, seconds};
use waltron_core::text::document::Source;
use waltron_rig::attendant::Unattended;
use waltron_rig::instruments::{InstrumentFile, InstrumentForm, WithInstruments};
use waltron_rig::stand_in::serve_registers;
use waltron_rig::virtual_rig::{Pace, VirtualRig};
use waltron_rig::{Rig, RigError, RigForm};
use waltron_specimen::SpecimenForm;

const RIG: &str = include_str!("../../../examples/ns1-q1.rig.toml");
const SPECIMEN: &str = include_str!("../../../examples/ns1-q1.specimen.toml");

/// A file of two registers; the first is asked for when it is connected.
fn text(address: &str, patience: &str) -> String {
    format!(
        "[instrument]\nname = \"unit\"\nmodbus = \"{address}\"\nunit = 7\ntimeout = \"{patience}\"\n\
         [[register]]\nname = \"unit.closed\"\nat = 1\nspace = \"input\"\n\
         [[register]]\nname = \"unit.long_time.pickup\"\nat = 40\nbits = \"u32\"\nworth = \"1 A\"\n"
    )
}

fn file(address: &str, patience: &str) -> InstrumentFile {
    InstrumentForm::load(&Source::new("unit", text(address, patience).as_str())).unwrap()
}

fn rig(address: &str) -> Result<WithInstruments, RigError> {
    rig_that_waits(address, "0.3 s")
}

/// The same with another patience.
fn rig_that_waits(address: &str, patience: &str) -> Result<WithInstruments, RigError> {
    let base = RigForm::load(&Source::new("rig", RIG)).unwrap().capability;
    let source = Source::new("specimen", SPECIMEN);
    let mut specimen = SpecimenForm::load(&source, 1).unwrap();
    specimen.connect(&base).unwrap();
    let base = VirtualRig::new("bench".into(), base, specimen, Pace::Fast);
    WithInstruments::connect(Box::new(base), vec![file(address, patience)])
}

/// What the second register is read as.
fn pickup(rig: &mut WithInstruments) -> Reading {
    let of = Signal::from("unit.long_time.pickup");
    let probe = Probe { of, what: Property::Value, dimension: Dimension::CURRENT };
    let mut program = Program::of(vec![Segment::hold("look", Stimulus::off(), seconds(0.01))]);
    program.reads = vec![probe.clone()];
    let ratings = waltron_core::asset::Ratings::unknown(None);
    let cleared = clear(program, &ratings, rig.capability()).unwrap();
    let seen = rig.play(&cleared, &mut Unattended).unwrap();
    seen.at_end(&probe).unwrap().clone()
}

/// A device that answers each frame by what a script says, on every connection anew from where it was.
fn device(
    answers: Vec<fn(&mut TcpStream, &[u8])>,
) -> (String, std::thread::JoinHandle<Vec<Vec<u8>>>) {
    let listener = TcpListener::bind("127.0.0.1:0").unwrap();
    let address = listener.local_addr().unwrap().to_string();
    let thread = std::thread::spawn(move || {
        let mut asked = Vec::new();
        let mut answers = answers.into_iter();
        let mut next = answers.next();
        while next.is_some() {
            let (mut stream, _) = listener.accept().unwrap();
            stream.set_read_timeout(Some(Duration::from_secs(5))).unwrap();
            let mut frame = [0; 12];
            while let Some(answer) = next {
                if stream.read_exact(&mut frame).is_err() {
                    break;
                }
                asked.push(frame.to_vec());
                answer(&mut stream, &frame);
                next = answers.next();
            }
        }
        asked
    });
    (address, thread)
}

/// Closed: transaction as asked, protocol 0, five bytes, unit 7, function 4, two bytes, 1.
fn closed(stream: &mut TcpStream, asked: &[u8]) {
    let answer = [asked[0], asked[1], 0, 0, 0, 5, 7, 4, 2, 0, 1];
    stream.write_all(&answer).unwrap();
}

/// 66 816 A = 0x0001_0500 in two holding registers.
fn amps(stream: &mut TcpStream, asked: &[u8]) {
    let answer = [asked[0], asked[1], 0, 0, 0, 7, 7, 3, 4, 0, 1, 5, 0];
    stream.write_all(&answer).unwrap();
}

#[test]
fn the_frames_are_those_of_the_standard() {
    let (address, thread) = device(vec![closed, amps]);
    let mut rig = rig(&address).unwrap();
    let seen = pickup(&mut rig);
    assert_eq!(seen.value.get("value"), Some(66_816.0));
    // No nearer than half a count, anywhere within.
    assert_eq!(seen.uncertainty.get("value"), Some(2.0 * 0.5 / 3f64.sqrt()));
    assert_eq!(seen.lacks, None);
    drop(rig);
    let asked = thread.join().unwrap();
    // Read one input register from 1; read two holding registers from 40.
    assert_eq!(asked[0], [0, 1, 0, 0, 0, 6, 7, 4, 0, 1, 0, 1]);
    assert_eq!(asked[1], [0, 2, 0, 0, 0, 6, 7, 3, 0, 40, 0, 2]);
}

/// Each way of not answering leaves the reading without a value and says why; the next question is answered.
#[test]
fn a_device_that_does_not_tell_is_told_as_such() {
    type Answer = fn(&mut TcpStream, &[u8]);
    let cases: [(Answer, &str); 9] = [
        (|_, _| std::thread::sleep(Duration::from_millis(500)), "nothing came within 0.3 s"),
        // A byte now and then is no answer either.
        (
            |stream, asked| {
                for byte in [asked[0], asked[1], 0, 0, 0, 7, 7, 3, 4] {
                    let _ = stream.write_all(&[byte]);
                    std::thread::sleep(Duration::from_millis(60));
                }
            },
            "and not the rest",
        ),
        (
            |stream, asked| {
                stream.write_all(&[asked[0], asked[1], 0, 0, 0, 3, 7, 0x83, 2]).unwrap()
            },
            "no such register (exception 2)",
        ),
        (
            |stream, asked| {
                stream.write_all(&[asked[0], asked[1], 0, 0, 0, 3, 7, 0x83, 11]).unwrap()
            },
            "the gateway does not reach it",
        ),
        (
            |stream, _| stream.write_all(b"HTTP/1.1 400 Bad Request\r\n\r\n").unwrap(),
            "no header of Modbus",
        ),
        // The answer to another question, of another unit, with too few registers, with a length that lies.
        (
            |stream, asked| {
                let answer = [asked[0], asked[1] ^ 1, 0, 0, 0, 7, 7, 3, 4, 0, 1, 5, 0];
                stream.write_all(&answer).unwrap();
            },
            "another question's answer",
        ),
        (
            |stream, asked| {
                let answer = [asked[0], asked[1], 0, 0, 0, 7, 9, 3, 4, 0, 1, 5, 0];
                stream.write_all(&answer).unwrap();
            },
            "another unit",
        ),
        (
            |stream, asked| {
                stream.write_all(&[asked[0], asked[1], 0, 0, 0, 5, 7, 3, 2, 0, 1]).unwrap()
            },
            "2 registers were wanted",
        ),
        (|stream, _| stream.shutdown(std::net::Shutdown::Both).unwrap(), "broke"),
    ];
    for (k, (answer, words)) in cases.into_iter().enumerate() {
        let (address, thread) = device(vec![closed, answer, amps]);
        // The first two are waited for in vain; the others answer as soon as a busy computer lets them.
        let mut rig = rig_that_waits(&address, if k < 2 { "0.3 s" } else { "1.5 s" }).unwrap();
        let begun = Instant::now();
        let seen = pickup(&mut rig);
        assert!(
            begun.elapsed() < Duration::from_secs(2),
            "{words}: it waited {:?}",
            begun.elapsed()
        );
        let why = seen.lacks.as_ref().map(ToString::to_string).unwrap_or_default();
        assert!(seen.value.is_empty() && why.contains(words), "{words}: {why}");
        let again = pickup(&mut rig);
        assert_eq!(again.value.get("value"), Some(66_816.0), "{words}: {:?}", again.lacks);
        drop(rig);
        thread.join().unwrap();
    }
}

/// Who does not answer at all is found out before anything is put out.
#[test]
fn a_silent_device_stops_before_the_first_test() {
    let (address, _) = device(vec![|_, _| std::thread::sleep(Duration::from_millis(500))]);
    let error = rig(&address).err().unwrap().to_string();
    assert!(error.contains(&address) && error.contains("input register 1"), "{error}");
    // Nobody there.
    let closed = TcpListener::bind("127.0.0.1:0").unwrap().local_addr().unwrap().to_string();
    assert!(matches!(rig(&closed).err(), Some(RigError::NoAnswer { .. })));
}

/// The stand-in answers what the standard says, byte by byte.
#[test]
fn the_stand_in_answers_as_the_standard_says() {
    let listener = TcpListener::bind("127.0.0.1:0").unwrap();
    let address = listener.local_addr().unwrap();
    let file = file("127.0.0.1", "0.3 s");
    let tells = |name: &str| match name {
        "unit.long_time.pickup" => Some(1280.0),
        // It plays, and nothing was told before.
        _ => None,
    };
    let stop = AtomicBool::new(false);
    std::thread::scope(|scope| {
        scope.spawn(|| serve_registers(&listener, &file, &tells, &stop).unwrap());
        let mut stream = TcpStream::connect(address).unwrap();
        stream.set_read_timeout(Some(Duration::from_secs(2))).unwrap();
        let mut ask = |frame: &[u8], length: usize| {
            stream.write_all(frame).unwrap();
            let mut answer = vec![0; length];
            stream.read_exact(&mut answer).unwrap();
            answer
        };
        // 1280 = 0x0000_0500.
        assert_eq!(
            ask(&[0, 9, 0, 0, 0, 6, 7, 3, 0, 40, 0, 2], 13),
            [0, 9, 0, 0, 0, 7, 7, 3, 4, 0, 0, 5, 0]
        );
        // No such register; half of one; busy; in the other table; a write.
        assert_eq!(ask(&[0, 1, 0, 0, 0, 6, 7, 3, 0, 50, 0, 1], 9), [0, 1, 0, 0, 0, 3, 7, 0x83, 2]);
        assert_eq!(ask(&[0, 2, 0, 0, 0, 6, 7, 3, 0, 40, 0, 1], 9), [0, 2, 0, 0, 0, 3, 7, 0x83, 3]);
        assert_eq!(ask(&[0, 3, 0, 0, 0, 6, 7, 4, 0, 1, 0, 1], 9), [0, 3, 0, 0, 0, 3, 7, 0x84, 6]);
        assert_eq!(ask(&[0, 4, 0, 0, 0, 6, 7, 4, 0, 40, 0, 2], 9), [0, 4, 0, 0, 0, 3, 7, 0x84, 2]);
        assert_eq!(ask(&[0, 5, 0, 0, 0, 6, 7, 6, 0, 40, 0, 1], 9), [0, 5, 0, 0, 0, 3, 7, 0x86, 1]);
        // Two frames at once, and a frame in two pieces.
        let two =
            [[0, 6, 0, 0, 0, 6, 7, 3, 0, 40, 0, 2], [0, 7, 0, 0, 0, 6, 7, 3, 0, 40, 0, 2]].concat();
        let both = ask(&two, 26);
        assert_eq!((both[1], both[14]), (6, 7));
        // Another unit's business is not answered; what is no frame ends the line.
        stream.write_all(&[0, 8, 0, 0, 0, 6, 8, 3, 0, 40, 0, 2]).unwrap();
        stream.write_all(b"*IDN?\n and more").unwrap();
        let mut rest = Vec::new();
        assert_eq!(stream.read_to_end(&mut rest).unwrap_or(0), 0, "{rest:?}");
        stop.store(true, Ordering::SeqCst);
    });
}

#[test]
fn files_of_registers_that_make_no_sense_are_refused() {
    let problem = |from: &str, to: &str| {
        let text = text("127.0.0.1", "0.3 s");
        assert!(text.contains(from), "{from}");
        let text = text.replacen(from, to, 1);
        let error = InstrumentForm::load(&Source::new("unit", text.as_str())).unwrap_err();
        error.problems.iter().map(|p| p.message.clone()).collect::<Vec<_>>().join("; ")
    };
    for (from, to, words) in [
        ("at = 40", "at = 70000", "0 to 65535"),
        ("at = 40", "at = -1", "0 to 65535"),
        ("at = 40", "at = 65535", "beyond the last one"),
        ("unit = 7", "unit = 300", "0 to 255"),
        ("worth = \"1 A\"", "worth = \"0 A\"", "more than zero"),
        ("bits = \"u32\"", "swapped = true", "no halves"),
        ("unit = 7", "unit = 7\nbaud = 9600", "`baud` is of"),
        ("unit = 7\n", "unit = 7\nidentity = \"*\"\n", "no messages"),
        ("modbus = \"127.0.0.1\"", "address = \"127.0.0.1:5\"", "is of what has `modbus`"),
        ("modbus = \"127.0.0.1\"\nunit = 7", "address = \"127.0.0.1:5\"\nunit = 7", "`unit` is of"),
    ] {
        let told = problem(from, to);
        assert!(told.contains(words), "{to}: {told}");
    }
    let none = "[instrument]\nname = \"unit\"\nmodbus = \"127.0.0.1\"\n";
    let error = InstrumentForm::load(&Source::new("unit", none)).unwrap_err();
    assert!(error.problems[0].message.contains("could be read of it"));
}
