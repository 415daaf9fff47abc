//! The test set on TCP: one controls, the others read.

use super::{Session, TestSet};
use std::io::{ErrorKind, Read, Write};
use std::net::{TcpListener, TcpStream};
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, AtomicUsize, Ordering};
use std::sync::mpsc::{Receiver, Sender, channel};
use std::time::{Duration, Instant};
use waltron_wire::scpi::{Framed, Framer, faults};

/// Clients at once.
const MOST_CLIENTS: usize = 16;

/// How often new clients and the watchdog are looked at.
const TICK: Duration = Duration::from_millis(10);

/// Messages of a client that wait, and their bytes; one that sends more than this is let go.
const MOST_WAITING: usize = 4096;
const MOST_WAITING_BYTES: usize = 1 << 27;

/// How long a message may take to arrive; longer, and its client is let go.
const MESSAGE: Duration = Duration::from_secs(10);

/// What serving tells of.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Served {
    /// A client came, from this address.
    Came(u64, String),
    /// A client left.
    Left(u64),
    /// One client too many came.
    Refused(String),
}

/// Serves until told to stop. Outputs are off when this returns.
///
/// # Errors
/// A listener that fails.
pub fn serve(
    listener: &TcpListener,
    set: &Arc<TestSet>,
    stop: &AtomicBool,
    tell: &(dyn Fn(Served) + Sync),
) -> std::io::Result<()> {
    listener.set_nonblocking(true)?;
    let clients = AtomicUsize::new(0);
    std::thread::scope(|scope| {
        let result = loop {
            if stop.load(Ordering::SeqCst) {
                break Ok(());
            }
            set.watch();
            match listener.accept() {
                Ok((stream, from)) => {
                    if clients.load(Ordering::SeqCst) >= MOST_CLIENTS {
                        tell(Served::Refused(from.to_string()));
                        continue;
                    }
                    clients.fetch_add(1, Ordering::SeqCst);
                    let (set, clients) = (Arc::clone(set), &clients);
                    scope.spawn(move || {
                        client(stream, &set, stop, tell, &from.to_string());
                        clients.fetch_sub(1, Ordering::SeqCst);
                    });
                }
                Err(e) if e.kind() == ErrorKind::WouldBlock => std::thread::sleep(TICK),
                Err(e) if e.kind() == ErrorKind::Interrupted => {}
                // A client that left before it was let in is no reason to stop.
                Err(e) if e.kind() == ErrorKind::ConnectionAborted => {}
                Err(e) => break Err(e),
            }
        };
        set.all_off("the test set's own end");
        // Nobody leaves what is charged alone.
        while set.is_draining() {
            set.watch();
            std::thread::sleep(TICK);
        }
        stop.store(true, Ordering::SeqCst);
        result
    })
}

fn client(
    stream: TcpStream,
    set: &Arc<TestSet>,
    stop: &AtomicBool,
    tell: &(dyn Fn(Served) + Sync),
    from: &str,
) {
    let mut session = Session::new(Arc::clone(set));
    let id = session.id();
    tell(Served::Came(id, from.to_owned()));
    let _ = stream.set_nodelay(true);
    let _ = stream.set_nonblocking(false);
    let _ = stream.set_write_timeout(Some(Duration::from_secs(2)));
    if let Ok(mut writer) = stream.try_clone() {
        let (to, messages) = channel();
        let waiting = Waiting::default();
        std::thread::scope(|scope| {
            // The line of messages ends with whoever reads the client.
            let (stream, waiting) = (&stream, &waiting);
            scope.spawn(move || read(stream, set, id, stop, to, waiting));
            answer(&messages, &mut session, &mut writer, waiting);
            let _ = stream.shutdown(std::net::Shutdown::Both);
        });
    }
    drop(session);
    tell(Served::Left(id));
}

/// What a client has sent and what is not done yet.
#[derive(Default)]
struct Waiting {
    messages: AtomicUsize,
    bytes: AtomicUsize,
}

impl Waiting {
    fn size(framed: &Framed) -> usize {
        if let Framed::Message(message) = framed { message.len() } else { 0 }
    }

    /// Counts a message in; false where that is too much.
    fn add(&self, framed: &Framed) -> bool {
        let messages = self.messages.fetch_add(1, Ordering::SeqCst);
        let bytes = self.bytes.fetch_add(Self::size(framed), Ordering::SeqCst);
        messages < MOST_WAITING && bytes < MOST_WAITING_BYTES
    }

    fn take(&self, framed: &Framed) {
        self.messages.fetch_sub(1, Ordering::SeqCst);
        self.bytes.fetch_sub(Self::size(framed), Ordering::SeqCst);
    }
}

/// Reads a client's bytes; its silence and its leaving are noticed here, also while a query waits.
/// Nothing here waits for what the client has sent before, or its leaving would not be noticed.
fn read(
    mut stream: &TcpStream,
    set: &TestSet,
    id: u64,
    stop: &AtomicBool,
    to: Sender<Framed>,
    waiting: &Waiting,
) {
    let _ = stream.set_read_timeout(Some(Duration::from_millis(100)));
    let mut framer = Framer::default();
    let mut bytes = vec![0; 1 << 16];
    let mut begun: Option<Instant> = None;
    while !stop.load(Ordering::SeqCst) {
        if begun.is_some_and(|begun| begun.elapsed() > MESSAGE) {
            break;
        }
        match stream.read(&mut bytes) {
            Ok(0) => break,
            Ok(n) => {
                let whole = framer.feed(&bytes[..n]);
                // Bytes alone are no sign of life: only whole messages are, and blocks that fill.
                if !whole.is_empty() || framer.is_within_block() {
                    set.hear(id);
                }
                let goes_on = whole.is_empty() && begun.is_some();
                begun = match framer.is_within() {
                    true if goes_on => begun,
                    within => within.then(Instant::now),
                };
                for framed in whole {
                    if !waiting.add(&framed) || to.send(framed).is_err() {
                        return set.leave(id);
                    }
                }
            }
            Err(e) if matches!(e.kind(), ErrorKind::WouldBlock | ErrorKind::TimedOut) => {}
            Err(e) if e.kind() == ErrorKind::Interrupted => {}
            Err(_) => break,
        }
    }
    set.leave(id);
}

fn answer(
    messages: &Receiver<Framed>,
    session: &mut Session,
    writer: &mut TcpStream,
    waiting: &Waiting,
) {
    while let Ok(framed) = messages.recv() {
        waiting.take(&framed);
        let out = match framed {
            Framed::Message(message) => session.handle(&message),
            Framed::TooLong => {
                session.fault(faults::INPUT_OVERRUN);
                Vec::new()
            }
        };
        if !out.is_empty() && writer.write_all(&out).is_err() {
            return;
        }
    }
}
