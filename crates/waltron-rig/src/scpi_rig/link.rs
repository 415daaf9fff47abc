//! A line to an instrument: messages out, answers in, nothing waited for in vain.

use crate::RigError;
use serial2::SerialPort;
use std::cell::Cell;
use std::io::{ErrorKind, Read, Write};
use std::net::{TcpStream, ToSocketAddrs};
use std::time::{Duration, Instant};

/// How long an answer may take.
const PATIENCE: Duration = Duration::from_secs(3);

/// How long a connection may take to come about.
const CONNECT: Duration = Duration::from_secs(3);

/// Longest answer line.
const MOST_LINE: usize = 1 << 20;

/// Longest block.
const MOST_BLOCK: usize = 1 << 28;

/// How much of an answer an error shows.
const SHOWN: usize = 60;

/// What the bytes go over.
#[derive(Debug)]
enum Stream {
    Tcp(TcpStream),
    Serial(SerialPort),
}

impl Stream {
    fn wait_at_most(&mut self, time: Duration) -> std::io::Result<()> {
        match self {
            Self::Tcp(stream) => stream.set_read_timeout(Some(time)),
            Self::Serial(port) => port.set_read_timeout(time),
        }
    }

    /// Whether the other end has closed it, as far as that can be seen.
    fn is_closed(&self) -> bool {
        let Self::Tcp(stream) = self else { return false };
        if stream.set_nonblocking(true).is_err() {
            return true;
        }
        let seen = stream.peek(&mut [0]);
        let is_alive = match seen {
            Ok(count) => count > 0,
            Err(error) => error.kind() == ErrorKind::WouldBlock,
        };
        stream.set_nonblocking(false).is_err() || !is_alive
    }

    fn read(&mut self, bytes: &mut [u8]) -> std::io::Result<usize> {
        match self {
            Self::Tcp(stream) => stream.read(bytes),
            Self::Serial(port) => port.read(bytes),
        }
    }

    fn write_all(&mut self, bytes: &[u8]) -> std::io::Result<()> {
        match self {
            Self::Tcp(stream) => stream.write_all(bytes),
            Self::Serial(port) => port.write_all(bytes),
        }
    }
}

/// A line to an instrument.
#[derive(Debug)]
pub struct Link {
    stream: Stream,
    patience: Duration,
    address: String,
    /// Whether what is at the other end switches off without its controller.
    is_test_set: bool,
    /// Bytes that came and were not read yet.
    buffer: Vec<u8>,
    last: Instant,
    /// Whether something was lost on it.
    is_broken: Cell<bool>,
}

impl Link {
    /// Connects to a host and port.
    ///
    /// # Errors
    /// An address that is none, or where nothing answers.
    pub fn connect(address: &str) -> Result<Self, RigError> {
        let no = |why: String| RigError::NoAnswer { address: address.to_owned(), why };
        let all = address.to_socket_addrs().map_err(|e| no(e.to_string()))?;
        let mut why = "the name has no address".to_owned();
        for one in all {
            match TcpStream::connect_timeout(&one, CONNECT) {
                Ok(stream) => return Self::over(stream, address),
                Err(error) => why = error.to_string(),
            }
        }
        Err(no(why))
    }

    fn over(stream: TcpStream, address: &str) -> Result<Self, RigError> {
        let set = stream.set_nodelay(true).and_then(|()| stream.set_write_timeout(Some(PATIENCE)));
        set.map_err(|e| RigError::NoAnswer { address: address.to_owned(), why: e.to_string() })?;
        Ok(Self::with(Stream::Tcp(stream), address))
    }

    fn with(stream: Stream, address: &str) -> Self {
        let (buffer, last) = (Vec::new(), Instant::now());
        Self {
            stream,
            patience: PATIENCE,
            address: address.to_owned(),
            is_test_set: false,
            buffer,
            last,
            is_broken: Cell::new(false),
        }
    }

    /// Says that a test set is at the other end, which switches off without its controller.
    pub fn to_test_set(&mut self) {
        self.is_test_set = true;
    }

    /// Opens a serial port.
    ///
    /// # Errors
    /// A port that is not there, is taken, or cannot run at this speed.
    pub fn serial(port: &str, baud: u32) -> Result<Self, RigError> {
        let no =
            |e: std::io::Error| RigError::NoAnswer { address: port.to_owned(), why: e.to_string() };
        let mut opened = SerialPort::open(port, baud).map_err(no)?;
        opened.set_write_timeout(PATIENCE).map_err(no)?;
        Ok(Self::with(Stream::Serial(opened), port))
    }

    /// Sets how long an answer may take.
    pub fn be_patient(&mut self, patience: Duration) {
        self.patience = patience;
    }

    /// Where it goes.
    pub fn address(&self) -> &str {
        &self.address
    }

    /// How long nothing was sent.
    pub fn silent_for(&self) -> Duration {
        self.last.elapsed()
    }

    /// Whether nothing more comes over it: something was lost before, or the other end has closed it.
    pub(crate) fn is_broken(&self) -> bool {
        self.is_broken.get() || self.stream.is_closed()
    }

    fn lost(&self, why: impl ToString) -> RigError {
        self.is_broken.set(true);
        let mut why = why.to_string();
        if self.is_test_set {
            why.push_str("; a test set without its controller switches off");
        }
        RigError::Lost { address: self.address.clone(), why }
    }

    /// The error for an answer that makes no sense.
    pub(crate) fn nonsense(&self, asked: &str, got: &[u8], why: &str) -> RigError {
        let shown: String = String::from_utf8_lossy(got)
            .chars()
            .map(|c| if c.is_control() { '\u{fffd}' } else { c })
            .take(SHOWN)
            .collect();
        RigError::Nonsense {
            address: self.address.clone(),
            asked: asked.to_owned(),
            got: shown,
            why: why.to_owned(),
        }
    }

    /// Sends a message, to which its line feed is added.
    ///
    /// # Errors
    /// A broken connection.
    pub fn tell(&mut self, message: &[u8]) -> Result<(), RigError> {
        let mut bytes = message.to_vec();
        bytes.push(b'\n');
        self.last = Instant::now();
        self.stream.write_all(&bytes).map_err(|e| self.lost(e))
    }

    /// Sends a query and reads the line that answers it.
    ///
    /// # Errors
    /// A broken connection, no answer in time, bytes that nobody asked for, no text.
    pub fn ask(&mut self, query: &str) -> Result<String, RigError> {
        self.ask_after(query.as_bytes(), query, self.patience)
    }

    /// Sends messages that end in a query, named for errors, and reads the line that answers it.
    ///
    /// # Errors
    /// As [`Link::ask`].
    pub fn ask_after(
        &mut self,
        messages: &[u8],
        query: &str,
        patience: Duration,
    ) -> Result<String, RigError> {
        self.nothing_waits(query)?;
        self.tell(messages)?;
        let line = self.line(query, Instant::now() + patience)?;
        String::from_utf8(line).map_err(|e| self.nonsense(query, e.as_bytes(), "it is no text"))
    }

    /// Sends a query and reads the block that answers it.
    ///
    /// # Errors
    /// As [`Link::ask`], and an answer that is no block.
    pub fn ask_block(&mut self, query: &str) -> Result<Vec<u8>, RigError> {
        self.nothing_waits(query)?;
        self.tell(query.as_bytes())?;
        let until = Instant::now() + self.patience;
        let no_block = "a block was wanted";
        self.fill(2, query, until)?;
        let digits = match (self.buffer[0], self.buffer[1]) {
            (b'#', d @ b'1'..=b'9') => usize::from(d - b'0'),
            _ => return Err(self.nonsense(query, &self.buffer.clone(), no_block)),
        };
        self.fill(2 + digits, query, until)?;
        let length = std::str::from_utf8(&self.buffer[2..2 + digits]).ok();
        let length = length.and_then(|d| d.parse::<usize>().ok()).filter(|n| *n <= MOST_BLOCK);
        let Some(length) = length else {
            return Err(self.nonsense(query, &self.buffer.clone(), no_block));
        };
        let whole = 2 + digits + length;
        self.fill(whole + 1, query, until)?;
        if self.buffer[whole] != b'\n' {
            let after = self.buffer[whole..].to_vec();
            return Err(self.nonsense(query, &after, "the block is longer than it says"));
        }
        let block = self.buffer[2 + digits..whole].to_vec();
        self.buffer.drain(..=whole);
        Ok(block)
    }

    /// Sends a query and reads the JSON in the block that answers it.
    ///
    /// # Errors
    /// As [`Link::ask_block`], and JSON that does not hold what is wanted.
    pub fn ask_json<T>(
        &mut self,
        query: &str,
        read: impl FnOnce(&[u8]) -> Result<T, serde_json::Error>,
    ) -> Result<T, RigError> {
        let json = self.ask_block(query)?;
        read(&json).map_err(|e| self.nonsense(query, &json, &e.to_string()))
    }

    /// Answers come one by one; what came unasked belongs to nothing.
    fn nothing_waits(&self, query: &str) -> Result<(), RigError> {
        if self.buffer.is_empty() {
            return Ok(());
        }
        Err(self.nonsense(query, &self.buffer, "it came before it was asked for"))
    }

    fn line(&mut self, query: &str, until: Instant) -> Result<Vec<u8>, RigError> {
        let mut seen = 0;
        loop {
            if let Some(end) = self.buffer[seen..].iter().position(|b| *b == b'\n') {
                let mut line: Vec<u8> = self.buffer.drain(..=seen + end).collect();
                line.pop();
                if line.last() == Some(&b'\r') {
                    line.pop();
                }
                return Ok(line);
            }
            seen = self.buffer.len();
            if seen > MOST_LINE {
                return Err(self.nonsense(query, &self.buffer.clone(), "its line has no end"));
            }
            self.more(query, until)?;
        }
    }

    fn fill(&mut self, wanted: usize, query: &str, until: Instant) -> Result<(), RigError> {
        while self.buffer.len() < wanted {
            self.more(query, until)?;
        }
        Ok(())
    }

    fn more(&mut self, query: &str, until: Instant) -> Result<(), RigError> {
        let left = until.saturating_duration_since(Instant::now());
        if left.is_zero() {
            return Err(if self.buffer.is_empty() {
                self.lost(format!("`{query}` was not answered in time"))
            } else {
                self.nonsense(query, &self.buffer.clone(), "the answer has no end")
            });
        }
        let waits = self.stream.wait_at_most(left.max(Duration::from_millis(1)));
        waits.map_err(|e| self.lost(e))?;
        let mut bytes = [0; 1 << 14];
        match self.stream.read(&mut bytes) {
            Ok(0) => Err(self.lost("it was closed at the other end")),
            Ok(n) => {
                self.buffer.extend_from_slice(&bytes[..n]);
                Ok(())
            }
            Err(e)
                if matches!(
                    e.kind(),
                    ErrorKind::WouldBlock | ErrorKind::TimedOut | ErrorKind::Interrupted
                ) =>
            {
                Ok(())
            }
            Err(e) => Err(self.lost(e)),
        }
    }
}

#[cfg(all(test, unix))]
mod tests {
    use super::*;

    /// An instrument on a serial line, which says what it is told to and then goes away.
    #[test]
    fn a_serial_port_answers_and_vanishes() {
        let (near, mut far) = SerialPort::pair().unwrap();
        let mut link = Link::with(Stream::Serial(near), "a serial port");
        link.be_patient(Duration::from_millis(600));
        let instrument = std::thread::spawn(move || {
            let mut asked = Vec::new();
            let mut bytes = [0; 64];
            far.set_read_timeout(Duration::from_secs(2)).unwrap();
            while !asked.ends_with(b"MEAS:VOLT?\n") {
                let n = far.read(&mut bytes).unwrap();
                asked.extend_from_slice(&bytes[..n]);
            }
            far.write_all(b"23.98\r\n").unwrap();
            far
        });
        link.tell(b"VOLT 24").unwrap();
        assert_eq!(link.ask("MEAS:VOLT?").as_deref(), Ok("23.98"));
        let far = instrument.join().unwrap();
        let late = link.ask("MEAS:VOLT?").unwrap_err().to_string();
        assert!(late.contains("not answered in time"), "{late}");
        drop(far);
        let gone = link.ask("MEAS:VOLT?").unwrap_err();
        assert!(matches!(gone, RigError::Lost { .. }), "{gone}");
        assert!(!gone.to_string().contains("test set"), "an instrument is none: {gone}");
        assert!(matches!(Link::serial("/dev/no-such-port", 9600), Err(RigError::NoAnswer { .. })));
    }
}
