//! A way to a server that tests cut, slow down, or let answers vanish on, while the connections stay up.

use std::io::{self, Read, Write};
use std::net::{Shutdown, SocketAddr, TcpListener, TcpStream};
use std::sync::atomic::{AtomicBool, AtomicU64, Ordering};
use std::sync::{Arc, Mutex, PoisonError};
use std::time::Duration;

/// A way through this program to a server on this machine. It ends with the program.
#[derive(Clone, Debug)]
pub struct Proxy {
    address: SocketAddr,
    ways: Arc<Ways>,
}

#[derive(Debug, Default)]
struct Ways {
    swallows: AtomicBool,
    delay_ms: AtomicU64,
    /// From the first piece that holds this on, nothing more of its connection arrives.
    ends_before: Mutex<Option<Vec<u8>>>,
    connections: Mutex<Vec<TcpStream>>,
}

impl Proxy {
    /// Begins a way to a port of this machine.
    ///
    /// # Panics
    /// If this program may not listen.
    pub fn to(port: u16) -> Proxy {
        let listener = TcpListener::bind("127.0.0.1:0").expect("a port is free");
        let address = listener.local_addr().expect("it has an address");
        let ways = Arc::<Ways>::default();
        let proxy = Proxy { address, ways: ways.clone() };
        std::thread::spawn(move || {
            for client in listener.incoming().flatten() {
                let Ok(server) = TcpStream::connect(("127.0.0.1", port)) else { continue };
                let both = [client.try_clone(), server.try_clone()];
                lock(&ways.connections).extend(both.into_iter().flatten());
                let (up, down) = (ways.clone(), ways.clone());
                let (Ok(client_reads), Ok(server_reads)) = (client.try_clone(), server.try_clone()) else { continue };
                std::thread::spawn(move || pass(client_reads, server, &up, true));
                std::thread::spawn(move || pass(server_reads, client, &down, false));
            }
        });
        proxy
    }

    /// The port to connect to.
    pub fn port(&self) -> u16 {
        self.address.port()
    }

    /// From now on everything vanishes on the way, in both directions, or nothing; connections stay up.
    pub fn swallow(&self, swallows: bool) {
        self.ways.swallows.store(swallows, Ordering::SeqCst);
    }

    /// Delays each piece by this time from now on.
    pub fn delay(&self, delay: Duration) {
        self.ways.delay_ms.store(u64::try_from(delay.as_millis()).unwrap_or(u64::MAX), Ordering::SeqCst);
    }

    /// The next connection on which this is sent falls silent before it.
    pub fn end_before(&self, text: &str) {
        *lock(&self.ways.ends_before) = Some(text.as_bytes().to_vec());
    }

    /// Returns whether that has happened.
    pub fn has_ended(&self) -> bool {
        lock(&self.ways.ends_before).is_none()
    }

    /// Cuts every connection that there is.
    pub fn cut(&self) {
        for connection in lock(&self.ways.connections).drain(..) {
            let _ = connection.shutdown(Shutdown::Both);
        }
    }

    /// Closes one direction of every connection that there is.
    pub fn half_close(&self) {
        for connection in lock(&self.ways.connections).iter() {
            let _ = connection.shutdown(Shutdown::Write);
        }
    }
}

fn lock<T>(mutex: &Mutex<T>) -> std::sync::MutexGuard<'_, T> {
    mutex.lock().unwrap_or_else(PoisonError::into_inner)
}

fn pass(mut from: TcpStream, mut to: TcpStream, ways: &Ways, up: bool) {
    let mut piece = [0; 1 << 16];
    let mut silent = false;
    while let Ok(len) = from.read(&mut piece) {
        if len == 0 {
            break;
        }
        let delay = ways.delay_ms.load(Ordering::SeqCst);
        if delay > 0 {
            std::thread::sleep(Duration::from_millis(delay));
        }
        if up {
            let mut ends = lock(&ways.ends_before);
            let found = ends.as_ref().is_some_and(|text| piece[..len].windows(text.len()).any(|at| at == text));
            if found {
                *ends = None;
                silent = true;
            }
        }
        if silent || ways.swallows.load(Ordering::SeqCst) {
            continue;
        }
        let sent: io::Result<()> = to.write_all(&piece[..len]);
        if sent.is_err() {
            break;
        }
    }
    // A connection that fell silent stays up: nobody hears that it is over.
    if !silent {
        let _ = to.shutdown(Shutdown::Write);
    }
}
