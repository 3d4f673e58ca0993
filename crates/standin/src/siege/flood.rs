use std::io::{Read, Write};
use std::net::{IpAddr, Ipv4Addr, SocketAddr, TcpStream};
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, AtomicUsize, Ordering};
use std::thread;
use std::time::Duration;

/// One of a thousand addresses of this machine.
pub fn stranger_address(number: usize) -> IpAddr {
    let [.., high, low] = (number % 1000 + 256).to_be_bytes();
    Ipv4Addr::new(127, 7, high, low).into()
}

/// A connection from one of them.
///
/// # Errors
/// Any error of the system; after a second, that nobody answers.
pub fn connect_as(from: IpAddr, to: SocketAddr) -> std::io::Result<TcpStream> {
    let socket = socket2::Socket::new(socket2::Domain::IPV4, socket2::Type::STREAM, None)?;
    socket.bind(&SocketAddr::new(from, 0).into())?;
    socket.connect_timeout(&to.into(), Duration::from_secs(1))?;
    Ok(socket.into())
}

/// What callers of a flood do.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum FloodHabit {
    /// Says nothing.
    Silent,
    /// Greets, and then says nothing.
    Greets,
    /// Greets by a byte now and then.
    Slow,
    /// Says nothing, leaves, and comes again.
    Redials,
}

const WORKERS: usize = 4;

/// Callers without a key. They leave when this is dropped.
#[derive(Debug)]
pub struct Flood {
    stop: Arc<AtomicBool>,
    count: Arc<AtomicUsize>,
    workers: Vec<thread::JoinHandle<()>>,
}

impl Flood {
    /// Callers of `addresses` addresses, `each` at a time from each; they come again when they are sent away.
    pub fn start(to: SocketAddr, habit: FloodHabit, addresses: usize, each: usize) -> Self {
        let (stop, count) = (Arc::new(AtomicBool::new(false)), Arc::new(AtomicUsize::new(0)));
        let workers = (0..WORKERS).map(|worker| {
            let (stop, count) = (stop.clone(), count.clone());
            let mine = (0..addresses * each).filter(|caller| caller % WORKERS == worker);
            let held = mine.map(|caller| (stranger_address(caller % addresses), None)).collect();
            thread::spawn(move || call_again_and_again((to, habit), held, &stop, &count))
        });
        Self { workers: workers.collect(), stop, count }
    }

    /// How often somebody called.
    pub fn call_count(&self) -> usize {
        self.count.load(Ordering::Relaxed)
    }
}

fn call_again_and_again(
    (to, habit): (SocketAddr, FloodHabit),
    mut held: Vec<(IpAddr, Option<TcpStream>)>,
    stop: &AtomicBool,
    count: &AtomicUsize,
) {
    loop {
        for (from, stream) in &mut held {
            if stop.load(Ordering::Relaxed) {
                return;
            }
            if stream.as_mut().is_some_and(|stream| keep(stream, habit)) {
                continue;
            }
            *stream = connect_as(*from, to).ok();
            count.fetch_add(1, Ordering::Relaxed);
            if let (Some(stream), FloodHabit::Greets) = (stream.as_mut(), habit) {
                let _ = stream.write_all(&[&[3][..], &[7; 1536]].concat());
            }
        }
        thread::sleep(Duration::from_millis(2));
    }
}

/// True while the connection is there, and is to be kept.
fn keep(stream: &mut TcpStream, habit: FloodHabit) -> bool {
    let _ = stream.set_nonblocking(true);
    let is_open = match stream.read(&mut [0; 4096]) {
        Ok(0) => false,
        Ok(_) => true,
        Err(error) => error.kind() == std::io::ErrorKind::WouldBlock,
    };
    is_open && habit != FloodHabit::Redials && (habit != FloodHabit::Slow || stream.write(&[3]).is_ok())
}

impl Drop for Flood {
    fn drop(&mut self) {
        self.stop.store(true, Ordering::Relaxed);
        for worker in self.workers.drain(..) {
            let _ = worker.join();
        }
    }
}
