//! Reads what is elsewhere in ranges, a few of them ahead, so that the network is never waited
//! for; a range that fails or stalls goes on from where it stopped.

use std::collections::VecDeque;
use std::io::{self, Read};
use std::ops::Range;
use std::sync::Arc;

use async_trait::async_trait;
use bytes::{Buf, Bytes};
use futures_util::StreamExt;
use futures_util::stream::BoxStream;
use tokio::sync::mpsc::{UnboundedReceiver, UnboundedSender, unbounded_channel};

use crate::fault::Fault;
use crate::patience::{Patience, Tries};
use crate::runtime::Network;
use crate::transport::{is_passing, seconds};

/// How many bytes one request asks for.
const PIECE: u64 = 4 << 20;

/// How many the first one asks for. Nothing else is asked for before half of them were taken: often
/// only a file's start is wanted.
const FIRST: u64 = 256 << 10;

/// How many requests are under way at once: times the piece's size, this is all that is held.
const AHEAD: usize = 5;

/// Bytes on their way.
pub type Stream = BoxStream<'static, Result<Bytes, Fault>>;

/// What can be read in ranges.
#[async_trait]
pub trait Ranges: Send + Sync + 'static {
    /// The bytes of a range, 0-based, as they come.
    ///
    /// # Errors
    /// There is no such object, it is another one by now, or it cannot be had.
    async fn get(&self, range: Range<u64>) -> Result<Stream, Fault>;

    /// How long a request is tried again.
    fn patience(&self) -> Patience;
}

/// All of a range, in order.
pub struct RangeReader {
    network: Network,
    ranges: Arc<dyn Ranges>,
    /// The pieces under way, the next one first.
    pieces: VecDeque<UnboundedReceiver<Result<Bytes, Fault>>>,
    current: Bytes,
    /// How many bytes were taken.
    taken: u64,
    /// Whether anything was asked for.
    is_begun: bool,
    /// Where the next request begins.
    next: u64,
    end: u64,
}

impl RangeReader {
    /// Reads a range; nothing is asked for before the first byte is.
    pub fn new(network: &Network, ranges: Arc<dyn Ranges>, range: Range<u64>) -> RangeReader {
        RangeReader {
            network: network.clone(),
            ranges,
            pieces: VecDeque::new(),
            current: Bytes::new(),
            taken: 0,
            is_begun: false,
            next: range.start,
            end: range.end,
        }
    }

    /// Asks for more, as long as few enough pieces are under way.
    fn ask_ahead(&mut self) {
        while self.pieces.len() < AHEAD && self.next < self.end {
            let size = match self.is_begun {
                false => FIRST,
                true if self.taken <= FIRST / 2 => return,
                true => PIECE,
            };
            self.is_begun = true;
            let range = self.next..self.end.min(self.next + size);
            self.next = range.end;
            let (send, receive) = unbounded_channel();
            let ranges = self.ranges.clone();
            self.network.handle().spawn(fetch(ranges, range, send));
            self.pieces.push_back(receive);
        }
    }
}

impl Read for RangeReader {
    fn read(&mut self, buffer: &mut [u8]) -> io::Result<usize> {
        while self.current.is_empty() && !buffer.is_empty() {
            self.ask_ahead();
            let Some(piece) = self.pieces.front_mut() else {
                return Ok(0);
            };
            match piece.blocking_recv() {
                Some(Ok(bytes)) => self.current = bytes,
                Some(Err(fault)) => return Err(fault.into_io()),
                None => {
                    self.pieces.pop_front();
                }
            }
        }
        let read = self.current.len().min(buffer.len());
        self.current.copy_to_slice(&mut buffer[..read]);
        self.taken += read as u64;
        Ok(read)
    }
}

/// All bytes of a range at once.
///
/// # Errors
/// As [`Ranges::get`].
pub async fn all(ranges: Arc<dyn Ranges>, range: Range<u64>) -> Result<Vec<u8>, Fault> {
    let mut all = Vec::with_capacity((range.end - range.start) as usize);
    let (send, mut receive) = unbounded_channel();
    tokio::spawn(fetch(ranges, range, send));
    while let Some(bytes) = receive.recv().await {
        all.extend_from_slice(&bytes?);
    }
    Ok(all)
}

/// Hands on the bytes of a range as they come. Where the reader went away it ends.
async fn fetch(
    ranges: Arc<dyn Ranges>,
    mut range: Range<u64>,
    to: UnboundedSender<Result<Bytes, Fault>>,
) {
    let patience = ranges.patience();
    let mut tries = Tries::new();
    while range.start < range.end {
        let fault = match pass_on(&*ranges, &mut range, &mut tries, &to).await {
            Ok(true) => continue,
            Ok(false) => return,
            Err(fault) => fault,
        };
        if !may_pass(&fault) || !tries.again(patience.give_up_after).await {
            let _ = to.send(Err(fault));
            return;
        }
    }
}

/// One try: true where all that there was came.
async fn pass_on(
    ranges: &dyn Ranges,
    range: &mut Range<u64>,
    tries: &mut Tries,
    to: &UnboundedSender<Result<Bytes, Fault>>,
) -> Result<bool, Fault> {
    let patience = ranges.patience();
    let mut stream = ranges.get(range.clone()).await?;
    loop {
        let next = tokio::time::timeout(patience.stall, stream.next()).await;
        let mut bytes = match next {
            Err(_) => {
                let wait = seconds(patience.stall);
                return Err(Fault::Unreachable(format!("nothing came for {wait} s")));
            }
            Ok(None) if range.start < range.end => {
                return Err(Fault::Unreachable("the connection ended early".into()));
            }
            Ok(None) => return Ok(true),
            Ok(Some(bytes)) => bytes?,
        };
        // A server may send more than it was asked for.
        bytes.truncate(usize::try_from(range.end - range.start).unwrap_or(usize::MAX));
        range.start += bytes.len() as u64;
        if !bytes.is_empty() {
            tries.progress();
            if to.send(Ok(bytes)).is_err() {
                return Ok(false);
            }
        }
        if range.start == range.end {
            return Ok(true);
        }
    }
}

/// Whether another try may come to more.
fn may_pass(fault: &Fault) -> bool {
    match fault {
        Fault::Unreachable(_) => true,
        Fault::Refused(refused) => is_passing(refused.status),
        Fault::Missing | Fault::Changed | Fault::Other(_) => false,
    }
}

#[cfg(test)]
mod tests {
    use std::sync::atomic::{AtomicU64, Ordering};
    use std::time::Duration;

    use super::*;

    /// Gives a few bytes a request, and then fails in one way or another.
    struct Shaky {
        bytes: Vec<u8>,
        asked: AtomicU64,
    }

    #[async_trait]
    impl Ranges for Shaky {
        async fn get(&self, range: Range<u64>) -> Result<Stream, Fault> {
            let number = self.asked.fetch_add(1, Ordering::Relaxed);
            if number % 5 == 3 {
                return Err(Fault::Unreachable("no".into()));
            }
            let whole = &self.bytes[range.start as usize..range.end as usize];
            let some = Bytes::copy_from_slice(&whole[..whole.len().min(1_500_000)]);
            let first = futures_util::stream::iter([Ok(some)]);
            Ok(match number % 5 {
                0 => first.boxed(),
                1 => first.chain(futures_util::stream::pending()).boxed(),
                2 => first
                    .chain(futures_util::stream::iter([Err(Fault::Unreachable(
                        "x".into(),
                    ))]))
                    .boxed(),
                _ => first.boxed(),
            })
        }

        fn patience(&self) -> Patience {
            Patience::new(Some(Duration::from_secs(3)))
        }
    }

    #[test]
    fn whatever_fails_on_the_way_the_bytes_are_the_objects() {
        let network = Network::start().unwrap();
        let bytes: Vec<u8> = (0..9_000_001u32).map(|n| (n * 7 / 3) as u8).collect();
        let ranges = Arc::new(Shaky {
            bytes: bytes.clone(),
            asked: AtomicU64::new(0),
        });
        let mut read = Vec::new();
        let mut reader = RangeReader::new(&network, ranges.clone(), 5..9_000_001);
        reader.read_to_end(&mut read).unwrap();
        assert!(read == bytes[5..]);
    }

    struct Gone;

    #[async_trait]
    impl Ranges for Gone {
        async fn get(&self, _: Range<u64>) -> Result<Stream, Fault> {
            Err(Fault::Changed)
        }

        fn patience(&self) -> Patience {
            Patience::new(None)
        }
    }

    #[test]
    fn an_object_that_changed_is_an_error_at_once() {
        let network = Network::start().unwrap();
        let mut reader = RangeReader::new(&network, Arc::new(Gone), 0..5);
        let error = reader.read(&mut [0; 5]).unwrap_err();
        assert_eq!(error.to_string(), "it changed while it was read");
    }
}
