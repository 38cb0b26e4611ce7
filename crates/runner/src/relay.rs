//! A relay between contenders and their server that makes every trip longer, as a network would.
//!
//! Bytes are read as they come and handed on half the round trip later, each way on its own. So many may be under way at a time that
//! throughput stays what it is, and no more than that: a slow reader holds up the writer and not the runner's memory. It serves only
//! Kampf's own connections and ends with them.

use std::io::{Read, Write};
use std::net::{Shutdown, TcpListener, TcpStream};
use std::os::unix::fs::{DirBuilderExt, MetadataExt};
use std::os::unix::net::{UnixListener, UnixStream};
use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, AtomicU64, Ordering};
use std::sync::mpsc::{Receiver, SyncSender, sync_channel};
use std::time::{Duration, Instant};

use kampf_engine::Endpoint;
use rustix::process::{Pid, geteuid, test_kill_process};

/// A running relay. It takes no more connections once dropped.
pub struct Relay {
    endpoint: Endpoint,
    ended: Arc<AtomicBool>,
    held: Arc<Held>,
    /// Removed with the socket in it.
    folder: Option<PathBuf>,
}

/// Read at a time.
const PIECE: usize = 64 * 1024;

impl Relay {
    /// Listens where contenders are to connect instead of at `target`, on the same kind of transport.
    ///
    /// # Errors
    /// When no socket or port can be had.
    pub fn start(target: &Endpoint, round_trip: Duration) -> std::io::Result<Relay> {
        let half = round_trip / 2;
        let ended = Arc::<AtomicBool>::default();
        let held = Arc::<Held>::default();
        let on_the_way = held.clone();
        match target {
            Endpoint::Unix(socket) => {
                let folder = private_folder()?;
                let own = folder.join(socket.file_name().unwrap_or_default());
                let listener = UnixListener::bind(&own)?;
                let (socket, stop) = (socket.clone(), ended.clone());
                std::thread::Builder::new().spawn(move || {
                    for near in listener.incoming().map_while(Result::ok) {
                        if stop.load(Ordering::Relaxed) {
                            return;
                        }
                        if let Ok(far) = UnixStream::connect(&socket) {
                            let (there, back) = (on_the_way.clone(), on_the_way.clone());
                            let _ = join_both(near.try_clone(), far.try_clone(), half, move |took| there.there.add(took))
                                .and_then(|()| join_both(Ok(far), Ok(near), half, move |took| back.back.add(took)));
                        }
                    }
                })?;
                Ok(Relay { endpoint: Endpoint::Unix(own), ended, held, folder: Some(folder) })
            }
            Endpoint::Tcp(host, port) => {
                let listener = TcpListener::bind("127.0.0.1:0")?;
                let own = listener.local_addr()?.port();
                let (host, port, stop) = (host.clone(), *port, ended.clone());
                std::thread::Builder::new().spawn(move || {
                    for near in listener.incoming().map_while(Result::ok) {
                        if stop.load(Ordering::Relaxed) {
                            return;
                        }
                        if let Ok(far) = TcpStream::connect((host.as_str(), port)) {
                            let _ = near.set_nodelay(true).and_then(|()| far.set_nodelay(true));
                            let (there, back) = (on_the_way.clone(), on_the_way.clone());
                            let _ = join_both(near.try_clone(), far.try_clone(), half, move |took| there.there.add(took))
                                .and_then(|()| join_both(Ok(far), Ok(near), half, move |took| back.back.add(took)));
                        }
                    }
                })?;
                Ok(Relay { endpoint: Endpoint::Tcp("127.0.0.1".to_owned(), own), ended, held, folder: None })
            }
        }
    }

    /// How long a trip was really held on average, there and back; none where there was none. A machine that is busy lets it wait longer than asked.
    pub fn held(&self) -> Option<Duration> {
        Some(self.held.there.mean()? + self.held.back.mean()?)
    }

    /// Where contenders connect.
    pub fn endpoint(&self) -> &Endpoint {
        &self.endpoint
    }
}

/// How long pieces were held on each way.
#[derive(Default)]
struct Held {
    there: Way,
    back: Way,
}

#[derive(Default)]
struct Way {
    pieces: AtomicU64,
    nanos: AtomicU64,
}

impl Way {
    fn add(&self, took: Duration) {
        self.pieces.fetch_add(1, Ordering::Relaxed);
        self.nanos.fetch_add(u64::try_from(took.as_nanos()).unwrap_or(u64::MAX), Ordering::Relaxed);
    }

    fn mean(&self) -> Option<Duration> {
        self.nanos.load(Ordering::Relaxed).checked_div(self.pieces.load(Ordering::Relaxed)).map(Duration::from_nanos)
    }
}

impl Drop for Relay {
    fn drop(&mut self) {
        self.ended.store(true, Ordering::Relaxed);
        // One more connection wakes the listener, which then ends.
        match &self.endpoint {
            Endpoint::Unix(socket) => drop(UnixStream::connect(socket)),
            Endpoint::Tcp(host, port) => drop(TcpStream::connect((host.as_str(), *port))),
        }
        if let Some(folder) = &self.folder {
            let _ = std::fs::remove_dir_all(folder);
        }
    }
}

/// How the names of folders with a relay's socket begin; then follows the process that made it.
const FOLDERS: &str = "kampf-relay-";

/// A folder that nobody else can look into.
fn private_folder() -> std::io::Result<PathBuf> {
    let stamp = std::time::SystemTime::now().duration_since(std::time::UNIX_EPOCH).unwrap_or_default().as_nanos();
    let name = format!("{FOLDERS}{}-{stamp:x}", std::process::id());
    let folder = kampf_engine::socket_folder(&name).map_err(std::io::Error::other)?;
    if let Some(place) = folder.parent() {
        sweep(place);
    }
    std::fs::DirBuilder::new().mode(0o700).create(&folder)?;
    Ok(folder)
}

/// Removes folders of this user's whose process was killed.
fn sweep(place: &Path) {
    for entry in std::fs::read_dir(place).into_iter().flatten().flatten() {
        let name = entry.file_name();
        let process = name.to_str().and_then(|name| name.strip_prefix(FOLDERS)?.split('-').next()?.parse().ok()).and_then(Pid::from_raw);
        let is_own =
            std::fs::symlink_metadata(entry.path()).is_ok_and(|metadata| metadata.is_dir() && metadata.uid() == geteuid().as_raw());
        if is_own && process.is_some_and(|process| test_kill_process(process) == Err(rustix::io::Errno::SRCH)) {
            let _ = std::fs::remove_dir_all(entry.path());
        }
    }
}

/// A stream with two ends of its own.
trait Duplex: Read + Write + Send + 'static {
    fn close_writing(&self);
}

impl Duplex for UnixStream {
    fn close_writing(&self) {
        let _ = self.shutdown(Shutdown::Write);
    }
}

impl Duplex for TcpStream {
    fn close_writing(&self) {
        let _ = self.shutdown(Shutdown::Write);
    }
}

/// Pieces under way in one direction at most: 32 MiB. Who reads slowly holds up who writes, as without a relay.
const UNDER_WAY: usize = 512;

/// Hands on in one direction, in two threads: one reads, one waits and writes. Of the piece that ends a trip it is told how long it was held.
fn join_both<S: Duplex>(
    from: std::io::Result<S>,
    to: std::io::Result<S>,
    delay: Duration,
    held: impl Fn(Duration) + Send + 'static,
) -> std::io::Result<()> {
    let (mut from, mut to) = (from?, to?);
    let (sender, receiver): (SyncSender<(Instant, Vec<u8>)>, Receiver<_>) = sync_channel(UNDER_WAY);
    std::thread::Builder::new().spawn(move || {
        let mut piece = vec![0; PIECE];
        while let Ok(length @ 1..) = from.read(&mut piece) {
            if sender.send((Instant::now() + delay, piece[..length].to_vec())).is_err() {
                return;
            }
        }
    })?;
    std::thread::Builder::new().spawn(move || {
        wait_precisely();
        let mut next = receiver.recv().ok();
        while let Some((due, bytes)) = next.take() {
            // While data flows the last piece decides when the trip ends; only before that one it is worth being awake.
            next = receiver.try_recv().ok();
            let is_last = next.is_none();
            match next {
                Some(_) => sleep_until(due),
                None => wait_until(due),
            }
            // Before it is handed on: whoever has read it may ask at once how long it was held.
            if is_last {
                held((Instant::now() + delay).saturating_duration_since(due));
            }
            if to.write_all(&bytes).is_err() {
                break;
            }
            next = next.or_else(|| receiver.recv().ok());
        }
        to.close_writing();
    })?;
    Ok(())
}

/// Lets this thread's sleeps end on time: by default the system may add 50 microseconds.
pub(crate) fn wait_precisely() {
    #[cfg(target_os = "linux")]
    let _ = rustix::thread::set_current_timer_slack(std::num::NonZeroU64::new(1));
}

fn sleep_until(due: Instant) {
    let left = due.saturating_duration_since(Instant::now());
    if !left.is_zero() {
        std::thread::sleep(left);
    }
}

/// Waking up takes a core that has gone to rest a while, which would be added to every trip; so the end of the wait is spent
/// awake. Neither side of the connection has anything to do then.
pub(crate) fn wait_until(due: Instant) {
    const AWAKE: Duration = Duration::from_micros(150);
    if let Some(early) = due.checked_sub(AWAKE) {
        sleep_until(early);
    }
    while Instant::now() < due {
        std::hint::spin_loop();
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    /// A server that sends back what it gets.
    fn echo() -> Endpoint {
        let listener = TcpListener::bind("127.0.0.1:0").unwrap();
        let port = listener.local_addr().unwrap().port();
        std::thread::spawn(move || {
            for mut stream in listener.incoming().map_while(Result::ok) {
                std::thread::spawn(move || {
                    let mut piece = [0; 4096];
                    while let Ok(length @ 1..) = stream.read(&mut piece) {
                        stream.write_all(&piece[..length]).unwrap();
                    }
                });
            }
        });
        Endpoint::Tcp("127.0.0.1".to_owned(), port)
    }

    #[test]
    fn bytes_come_through_in_order_and_late_whatever_their_number() {
        let relay = Relay::start(&echo(), Duration::from_millis(20)).unwrap();
        let Endpoint::Tcp(host, port) = relay.endpoint() else { panic!("the same transport is kept") };
        let mut stream = TcpStream::connect((host.as_str(), *port)).unwrap();
        let begun = Instant::now();
        let sent: Vec<u8> = (0..200_000_u32).map(|number| (number % 251) as u8).collect();
        let mut writer = stream.try_clone().unwrap();
        let copy = sent.clone();
        let writing = std::thread::spawn(move || writer.write_all(&copy).unwrap());
        let mut found = vec![0; sent.len()];
        stream.read_exact(&mut found).unwrap();
        writing.join().unwrap();
        // A piece at least went either way, and none in less than it was to take.
        let held = relay.held().expect("there were trips");
        assert!((Duration::from_millis(20)..Duration::from_secs(5)).contains(&held), "{held:?}");
        assert!(found == sent, "the bytes were changed on their way");
        assert!(begun.elapsed() >= Duration::from_millis(20), "they came after {:?}", begun.elapsed());
    }

    #[test]
    fn who_does_not_read_holds_up_who_writes() {
        let listener = TcpListener::bind("127.0.0.1:0").unwrap();
        let port = listener.local_addr().unwrap().port();
        let (release, held) = std::sync::mpsc::channel::<()>();
        let server = std::thread::spawn(move || {
            let (mut stream, _) = listener.accept().unwrap();
            let _ = held.recv();
            std::io::copy(&mut stream, &mut std::io::sink()).unwrap()
        });
        let relay = Relay::start(&Endpoint::Tcp("127.0.0.1".to_owned(), port), Duration::from_millis(1)).unwrap();
        let Endpoint::Tcp(host, port) = relay.endpoint() else { panic!("the same transport is kept") };
        let mut stream = TcpStream::connect((host.as_str(), *port)).unwrap();
        stream.set_write_timeout(Some(Duration::from_millis(300))).unwrap();
        let piece = vec![7; 1 << 20];
        let mut sent = 0;
        // The system's own buffers on the way hold some MiB beside.
        while sent < 200 << 20 {
            match stream.write(&piece) {
                Ok(length) => sent += length,
                Err(_) => break,
            }
        }
        assert!(sent < 100 << 20, "{} MiB were taken although nobody read", sent >> 20);
        release.send(()).unwrap();
        stream.shutdown(Shutdown::Write).unwrap();
        assert_eq!(server.join().unwrap(), sent as u64, "nothing is lost");
    }

    #[test]
    fn what_a_killed_relay_has_left_is_swept_and_that_of_a_living_one_stays() {
        let place = tempfile::tempdir().unwrap();
        let mut ended = std::process::Command::new("true").spawn().unwrap();
        ended.wait().unwrap();
        let names = [format!("{FOLDERS}{}-1f", ended.id()), format!("{FOLDERS}{}-1f", std::process::id()), "kampf-relay-mine".to_owned()];
        names.iter().for_each(|name| std::fs::create_dir(place.path().join(name)).unwrap());
        sweep(place.path());
        assert_eq!(names.map(|name| place.path().join(name).exists()), [false, true, true]);
    }

    #[test]
    fn a_socket_is_relayed_by_a_socket_of_the_same_name_and_removed() {
        let folder = tempfile::tempdir().unwrap();
        let socket = folder.path().join(".s.TEST.1");
        let listener = UnixListener::bind(&socket).unwrap();
        std::thread::spawn(move || {
            let (mut stream, _) = listener.accept().unwrap();
            let mut piece = [0; 3];
            stream.read_exact(&mut piece).unwrap();
            stream.write_all(&piece).unwrap();
        });
        let relay = Relay::start(&Endpoint::Unix(socket), Duration::ZERO).unwrap();
        let Endpoint::Unix(own) = relay.endpoint().clone() else { panic!("the same transport is kept") };
        assert!(own.ends_with(".s.TEST.1"));
        let mut stream = UnixStream::connect(&own).unwrap();
        stream.write_all(b"bee").unwrap();
        let mut found = [0; 3];
        stream.read_exact(&mut found).unwrap();
        assert_eq!(&found, b"bee");
        drop(relay);
        assert!(!own.exists());
    }
}
