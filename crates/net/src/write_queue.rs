use std::collections::VecDeque;
use std::future::poll_fn;
use std::io::{self, IoSlice};
use std::pin::Pin;
use std::task::{Context, Poll, ready};

use bytes::{Buf, Bytes};
use tokio::io::{AsyncWrite, AsyncWriteExt};

/// Pieces handed to the kernel in one call.
const MAX_SLICES: usize = 64;

/// Pieces of output on their way to a socket. Payloads are written from where they lie.
#[derive(Debug, Default)]
pub struct WriteQueue {
    pieces: VecDeque<Bytes>,
    bytes: usize,
}

impl WriteQueue {
    /// Puts a piece behind what waits. The queue has no bound of its own: who pushes looks at
    /// [`byte_count`](Self::byte_count).
    pub fn push(&mut self, piece: Bytes) {
        self.bytes += piece.len();
        if !piece.is_empty() {
            self.pieces.push_back(piece);
        }
    }

    /// True if nothing waits.
    pub fn is_empty(&self) -> bool {
        self.pieces.is_empty()
    }

    /// How much waits, in bytes.
    pub fn byte_count(&self) -> usize {
        self.bytes
    }

    /// Writes once; returns how many bytes went.
    pub(crate) fn poll_write(
        &mut self,
        writer: Pin<&mut impl AsyncWrite>,
        context: &mut Context<'_>,
    ) -> Poll<io::Result<usize>> {
        let mut slices = [IoSlice::new(&[]); MAX_SLICES];
        let count = self.pieces.len().min(MAX_SLICES);
        for (slice, piece) in slices.iter_mut().zip(&self.pieces) {
            *slice = IoSlice::new(piece);
        }
        let written = ready!(writer.poll_write_vectored(context, &slices[..count]))?;
        if written == 0 && count > 0 {
            return Poll::Ready(Err(io::ErrorKind::WriteZero.into()));
        }
        self.remove(written);
        Poll::Ready(Ok(written))
    }

    /// Writes until nothing is left.
    ///
    /// # Errors
    /// What the system said; the connection is of no use then.
    pub async fn write_all(&mut self, writer: &mut (impl AsyncWrite + Unpin)) -> io::Result<()> {
        while !self.is_empty() {
            poll_fn(|context| self.poll_write(Pin::new(&mut *writer), context)).await?;
        }
        writer.flush().await
    }

    fn remove(&mut self, mut count: usize) {
        self.bytes -= count;
        while let Some(piece) = self.pieces.front_mut().filter(|_| count > 0) {
            let step = count.min(piece.len());
            piece.advance(step);
            count -= step;
            if piece.is_empty() {
                self.pieces.pop_front();
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use tokio::io::AsyncReadExt;

    #[tokio::test]
    async fn everything_arrives_in_order_through_a_narrow_pipe() {
        let (mut near, mut far) = tokio::io::duplex(7);
        let mut queue = WriteQueue::default();
        let mut expected: Vec<u8> = Vec::new();
        for number in 0u8..200 {
            let piece = vec![number; usize::from(number % 23)];
            expected.extend(&piece);
            queue.push(piece.into());
        }
        assert_eq!(queue.byte_count(), expected.len());
        let reader = tokio::spawn(async move {
            let mut got = Vec::new();
            far.read_to_end(&mut got).await.map(|_| got)
        });
        queue.write_all(&mut near).await.unwrap();
        drop(near);
        assert_eq!(reader.await.unwrap().unwrap(), expected);
        assert_eq!(queue.byte_count(), 0);
    }
}
