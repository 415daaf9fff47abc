//! A stand-in for a device that is read by Modbus TCP: registers as an instrument's file describes them, with what a
//! simulation tells behind them.

use crate::instruments::{InstrumentFile, Place, Register, Space};
use rmodbus::consts::{ModbusErrorCode, ModbusFunction};
use rmodbus::server::{ModbusFrame, Read as Wanted};
use rmodbus::{ModbusProto, guess_request_frame_len};
use std::io::{ErrorKind, Read, Write};
use std::net::{TcpListener, TcpStream};
use std::sync::atomic::{AtomicBool, AtomicUsize, Ordering};
use std::time::Duration;

/// Clients at once.
const MOST_CLIENTS: usize = 8;
/// How often it is looked whether it shall end.
const TICK: Duration = Duration::from_millis(20);
/// Bytes that say how long a frame is.
const HEADER: usize = 6;

/// What a reading is now, by its name; `None` where it cannot be told now.
pub type Tells<'t> = dyn Fn(&str) -> Option<f64> + Sync + 't;

/// Answers for registers until told to stop.
///
/// # Errors
/// A listener that fails.
pub fn serve_registers(
    listener: &TcpListener,
    file: &InstrumentFile,
    tells: &Tells<'_>,
    stop: &AtomicBool,
) -> std::io::Result<()> {
    listener.set_nonblocking(true)?;
    let clients = AtomicUsize::new(0);
    std::thread::scope(|scope| {
        loop {
            if stop.load(Ordering::SeqCst) {
                return Ok(());
            }
            match listener.accept() {
                Ok((stream, _)) if clients.load(Ordering::SeqCst) < MOST_CLIENTS => {
                    clients.fetch_add(1, Ordering::SeqCst);
                    let clients = &clients;
                    scope.spawn(move || {
                        client(stream, file, tells, stop);
                        clients.fetch_sub(1, Ordering::SeqCst);
                    });
                }
                // One too many: its line is closed.
                Ok(_) => {}
                Err(e) if e.kind() == ErrorKind::WouldBlock => std::thread::sleep(TICK),
                Err(e)
                    if matches!(
                        e.kind(),
                        ErrorKind::Interrupted | ErrorKind::ConnectionAborted
                    ) => {}
                Err(e) => return Err(e),
            }
        }
    })
}

fn client(mut stream: TcpStream, file: &InstrumentFile, tells: &Tells<'_>, stop: &AtomicBool) {
    let _ = stream.set_nonblocking(false);
    let _ = stream.set_nodelay(true);
    let _ = stream.set_write_timeout(Some(Duration::from_secs(2)));
    if stream.set_read_timeout(Some(TICK)).is_err() {
        return;
    }
    let mut buffer: Vec<u8> = Vec::new();
    while !stop.load(Ordering::SeqCst) {
        let mut bytes = [0; 260];
        match stream.read(&mut bytes) {
            Ok(0) => return,
            Ok(n) => buffer.extend_from_slice(&bytes[..n]),
            Err(e) if matches!(e.kind(), ErrorKind::WouldBlock | ErrorKind::TimedOut) => {}
            Err(e) if e.kind() == ErrorKind::Interrupted => {}
            Err(_) => return,
        }
        while buffer.len() >= HEADER {
            // What is no frame has no end either: the line is closed.
            let Ok(length) = guess_request_frame_len(&buffer, ModbusProto::TcpUdp) else { return };
            if buffer.len() < usize::from(length) {
                break;
            }
            let frame: Vec<u8> = buffer.drain(..usize::from(length)).collect();
            let Some(answer) = answer(&frame, file, tells) else { continue };
            if stream.write_all(&answer).is_err() {
                return;
            }
        }
    }
}

/// The answer to a frame; none where none is due.
fn answer(frame: &[u8], file: &InstrumentFile, tells: &Tells<'_>) -> Option<Vec<u8>> {
    let unit = match file.place {
        Place::Modbus(_, unit) => unit,
        _ => 1,
    };
    let mut response = Vec::new();
    let mut modbus = ModbusFrame::new(unit, frame, ModbusProto::TcpUdp, &mut response);
    modbus.parse().ok()?;
    if modbus.processing_required {
        let space = match modbus.func {
            ModbusFunction::GetHoldings => Some(Space::Holding),
            ModbusFunction::GetInputs => Some(Space::Input),
            _ => None,
        };
        let words = match space {
            None => Err(ModbusErrorCode::IllegalFunction),
            Some(space) => words(file, space, modbus.reg, modbus.count, tells),
        };
        match words {
            Ok(words) => {
                let Ok(Wanted::Words(wanted)) = modbus.get_external_read() else { return None };
                for (pair, word) in wanted.buf.chunks_exact_mut(2).zip(words) {
                    pair.copy_from_slice(&word.to_be_bytes());
                }
            }
            Err(code) => modbus.error = Some(code),
        }
    }
    if !modbus.response_required {
        return None;
    }
    modbus.finalize_response().ok()?;
    Some(response)
}

/// What so many registers say from an address on.
fn words(
    file: &InstrumentFile,
    space: Space,
    from: u16,
    count: u16,
    tells: &Tells<'_>,
) -> Result<Vec<u16>, ModbusErrorCode> {
    let mut all = Vec::new();
    while all.len() < usize::from(count) {
        let at = usize::from(from) + all.len();
        let is_it = |register: &Register| register.space == space && usize::from(register.at) == at;
        let found = file.registers.iter().find(|(_, register)| is_it(register));
        let (instrument, register) = found.ok_or(ModbusErrorCode::IllegalDataAddress)?;
        let value = tells(instrument.name.as_str()).ok_or(ModbusErrorCode::SlaveDeviceBusy)?;
        all.extend(register.encode(value));
    }
    // Half of a value is none.
    if all.len() > usize::from(count) { Err(ModbusErrorCode::IllegalDataValue) } else { Ok(all) }
}
