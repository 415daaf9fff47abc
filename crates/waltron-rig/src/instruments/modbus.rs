//! Reading registers over TCP (MODBUS Messaging on TCP/IP Implementation Guide V1.0b): a question, an answer, and
//! nothing waited for in vain.

use super::registers::{Register, Space};
use crate::rig::RigError;
use rmodbus::client::ModbusRequest;
use rmodbus::{ModbusProto, guess_response_frame_len};
use std::io::{ErrorKind, Read, Write};
use std::net::{TcpStream, ToSocketAddrs};
use std::time::{Duration, Instant};

/// How long a connection may take to come about.
const CONNECT: Duration = Duration::from_secs(3);
/// The port where none is given.
const PORT: u16 = 502;
/// Bytes before the unit, and of an answer that is an exception.
const HEADER: usize = 6;
const EXCEPTION: usize = 9;

/// A device that answers for its registers. The line is opened when something is asked, and closed when an answer was
/// none: what comes late must not be taken for the answer to something else.
#[derive(Debug)]
pub(super) struct Device {
    address: String,
    unit: u8,
    patience: Duration,
    stream: Option<TcpStream>,
    transaction: u16,
}

impl Device {
    pub(super) fn new(address: &str, unit: u8, patience: Duration) -> Self {
        let has_port = address.rsplit(':').next().is_some_and(|p| p.parse::<u16>().is_ok())
            && address.contains(':');
        let address = if has_port { address.to_owned() } else { format!("{address}:{PORT}") };
        Self { address, unit, patience, stream: None, transaction: 0 }
    }

    fn connect(&self) -> Result<TcpStream, RigError> {
        let no = |why: String| RigError::NoAnswer { address: self.address.clone(), why };
        let all = self.address.to_socket_addrs().map_err(|e| no(e.to_string()))?;
        let mut why = "the name has no address".to_owned();
        for one in all {
            match TcpStream::connect_timeout(&one, CONNECT) {
                Ok(stream) => {
                    let set = stream.set_nodelay(true);
                    let set = set.and_then(|()| stream.set_write_timeout(Some(self.patience)));
                    set.map_err(|e| no(e.to_string()))?;
                    return Ok(stream);
                }
                Err(error) => why = error.to_string(),
            }
        }
        Err(no(why))
    }

    /// What a register says, in SI.
    ///
    /// # Errors
    /// A device that is not there, is silent, answers with an exception, or with something else.
    pub(super) fn read(&mut self, register: &Register) -> Result<f64, RigError> {
        let answered = self.words(register);
        if answered.is_err() {
            self.stream = None;
        }
        let words = answered?;
        let asked = asked(register);
        register.decode(&words).ok_or_else(|| RigError::Nonsense {
            address: self.address.clone(),
            asked,
            got: format!("{words:04x?}"),
            why: "a number was wanted".to_owned(),
        })
    }

    fn words(&mut self, register: &Register) -> Result<Vec<u16>, RigError> {
        let mut stream = match self.stream.take() {
            Some(stream) => stream,
            None => self.connect()?,
        };
        self.transaction = self.transaction.wrapping_add(1);
        let mut request = ModbusRequest::new_tcp_udp(self.unit, self.transaction);
        let mut frame: Vec<u8> = Vec::new();
        let count = register.count();
        let made = match register.space {
            Space::Holding => request.generate_get_holdings(register.at, count, &mut frame),
            Space::Input => request.generate_get_inputs(register.at, count, &mut frame),
        };
        made.map_err(|e| self.nonsense(register, &[], &e.to_string()))?;
        stream.write_all(&frame).map_err(|e| self.lost(&e))?;
        let answer = self.answer(&mut stream, register)?;
        let is_exception = answer.get(7).is_some_and(|function| function & 0x80 != 0);
        if is_exception && answer.len() == EXCEPTION && answer[6] == self.unit {
            // The line is as good as before.
            self.stream = Some(stream);
            return Err(RigError::Declined {
                address: self.address.clone(),
                asked: asked(register),
                why: exception(answer[8]).to_owned(),
            });
        }
        let wanted = EXCEPTION + 2 * usize::from(count);
        let says = answer.get(8).map(|bytes| usize::from(*bytes));
        if answer.len() != wanted || says != Some(2 * usize::from(count)) {
            let why = format!("{count} registers were wanted");
            return Err(self.nonsense(register, &answer, &why));
        }
        let mut words: Vec<u16> = Vec::new();
        request.parse_u16(&answer, &mut words).map_err(|_| {
            let why = "another unit, another question's answer, or no Modbus at all";
            self.nonsense(register, &answer, why)
        })?;
        self.stream = Some(stream);
        Ok(words)
    }

    /// One whole frame, within the time that an answer may take.
    fn answer(&self, stream: &mut TcpStream, register: &Register) -> Result<Vec<u8>, RigError> {
        let until = Instant::now() + self.patience;
        let mut answer: Vec<u8> = Vec::new();
        let mut wanted = HEADER;
        while answer.len() < wanted {
            let left = until.saturating_duration_since(Instant::now());
            if left.is_zero() {
                return Err(self.silent(register, &answer));
            }
            stream.set_read_timeout(Some(left)).map_err(|e| self.lost(&e))?;
            let mut bytes = [0; 260];
            let most = bytes.len().min(wanted - answer.len());
            match stream.read(&mut bytes[..most]) {
                Ok(0) => return Err(self.lost(&ErrorKind::UnexpectedEof.into())),
                Ok(n) => answer.extend_from_slice(&bytes[..n]),
                Err(e) if matches!(e.kind(), ErrorKind::WouldBlock | ErrorKind::TimedOut) => {}
                Err(e) if e.kind() == ErrorKind::Interrupted => {}
                Err(e) => return Err(self.lost(&e)),
            }
            if answer.len() == HEADER && wanted == HEADER {
                let length = guess_response_frame_len(&answer, ModbusProto::TcpUdp);
                wanted = length.map(usize::from).unwrap_or_default();
                if wanted < EXCEPTION {
                    let why = "that is no header of Modbus on TCP";
                    return Err(self.nonsense(register, &answer, why));
                }
            }
        }
        Ok(answer)
    }

    fn lost(&self, error: &std::io::Error) -> RigError {
        RigError::Lost { address: self.address.clone(), why: error.to_string() }
    }

    fn silent(&self, register: &Register, so_far: &[u8]) -> RigError {
        let patience = self.patience.as_secs_f64();
        let came = match so_far.len() {
            0 => "nothing came".to_owned(),
            n => format!("{n} bytes came and not the rest"),
        };
        let asked = asked(register);
        let why = format!("{came} within {patience} s after it was asked for {asked}");
        RigError::NoAnswer { address: self.address.clone(), why }
    }

    fn nonsense(&self, register: &Register, got: &[u8], why: &str) -> RigError {
        let got: Vec<String> = got.iter().take(16).map(|b| format!("{b:02x}")).collect();
        RigError::Nonsense {
            address: self.address.clone(),
            asked: asked(register),
            got: got.join(" "),
            why: why.to_owned(),
        }
    }
}

fn asked(register: &Register) -> String {
    let space = match register.space {
        Space::Holding => "holding",
        Space::Input => "input",
    };
    format!("{space} register {}", register.at)
}

/// What an exception's code means (MODBUS Application Protocol V1.1b3, 7).
fn exception(code: u8) -> &'static str {
    match code {
        1 => "it does not know this function (exception 1): the other table, `space`",
        2 => {
            "it has no such register (exception 2): address, `space`, or counted from 1 in its papers"
        }
        3 => "it does not give so many registers (exception 3): `bits`",
        4 => "it failed (exception 4)",
        5 | 6 => "it is busy (exception 5 or 6): ask again later",
        10 | 11 => "the gateway does not reach it (exception 10 or 11): `unit`",
        _ => "an exception that the standard does not know",
    }
}
