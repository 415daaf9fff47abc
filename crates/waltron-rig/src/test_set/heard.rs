//! When each client was last heard of, behind a lock of its own: whoever speaks is heard while the instrument computes.

use std::collections::BTreeMap;
use std::sync::{Mutex, MutexGuard, PoisonError};
use std::time::{Duration, Instant};

#[derive(Clone, Copy, Debug)]
struct Client {
    last: Instant,
    /// Whether a message of it is being carried out: it waits for what comes of that, and cannot speak.
    waits: bool,
}

/// When each client was last heard of.
#[derive(Debug, Default)]
pub(super) struct Heard(Mutex<BTreeMap<u64, Client>>);

impl Heard {
    fn lock(&self) -> MutexGuard<'_, BTreeMap<u64, Client>> {
        self.0.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// A client has come.
    pub(super) fn comes(&self, client: u64) {
        self.lock().insert(client, Client { last: Instant::now(), waits: false });
    }

    /// A client has gone.
    pub(super) fn leaves(&self, client: u64) {
        self.lock().remove(&client);
    }

    /// A client was heard of.
    pub(super) fn hear(&self, client: u64) {
        if let Some(client) = self.lock().get_mut(&client) {
            client.last = Instant::now();
        }
    }

    /// A client's message begins to be carried out, or is done with.
    pub(super) fn waits(&self, client: u64, waits: bool) {
        if let Some(client) = self.lock().get_mut(&client) {
            *client = Client { last: Instant::now(), waits };
        }
    }

    /// How long a client that could have spoken did not.
    pub(super) fn silence(&self, client: u64) -> Duration {
        let of = self.lock().get(&client).filter(|client| !client.waits).map(|client| client.last);
        of.map_or(Duration::ZERO, |last| last.elapsed())
    }
}
