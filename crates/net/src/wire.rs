use std::io;
use std::pin::Pin;
use std::task::{Context, Poll, ready};
use std::time::Duration;

use rustls::ProtocolVersion;
use socket2::SockRef;
use tokio::io::{AsyncRead, AsyncWrite, ReadBuf};
use tokio::net::TcpStream;
use tokio_rustls::TlsStream;

use crate::WriteQueue;

/// A connection, in the clear or over TLS.
#[derive(Debug)]
pub enum Wire {
    /// In the clear.
    Plain(TcpStream),
    /// Over TLS.
    Tls(Box<TlsStream<TcpStream>>),
    /// In memory, for tests.
    #[cfg(feature = "testing")]
    Memory(tokio::io::DuplexStream),
}

/// What a step on a wire came to.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Moved {
    /// Bytes read; 0 at the end.
    Read(usize),
    /// Bytes taken from the queue.
    Wrote,
}

impl Wire {
    /// Version and cipher, over TLS.
    pub fn tls_facts(&self) -> Option<String> {
        let Self::Tls(stream) = self else { return None };
        let (_, connection) = stream.get_ref();
        let version = match connection.protocol_version() {
            Some(ProtocolVersion::TLSv1_3) => "TLS 1.3",
            Some(ProtocolVersion::TLSv1_2) => "TLS 1.2",
            _ => "TLS",
        };
        let suite = connection.negotiated_cipher_suite().and_then(|suite| suite.suite().as_str());
        Some(suite.map_or_else(|| version.to_owned(), |suite| format!("{version}, {suite}")))
    }

    /// Closes so that the peer is told at once that nothing more comes, whatever is still on its way.
    pub fn reset(self) {
        let stream = match &self {
            Self::Plain(stream) => stream,
            Self::Tls(stream) => stream.get_ref().0,
            #[cfg(feature = "testing")]
            Self::Memory(_) => return,
        };
        let _ = SockRef::from(stream).set_linger(Some(Duration::ZERO));
    }

    /// Writes from `queue` or reads into `buffer`, whichever can be done first.
    ///
    /// # Errors
    /// What the system said; the connection is of no use then.
    ///
    /// # Cancel safety
    /// Nothing is lost; what was not written stays in the queue.
    pub async fn step(&mut self, buffer: &mut [u8], queue: &mut WriteQueue) -> io::Result<Moved> {
        std::future::poll_fn(|context| self.poll_step(context, buffer, queue)).await
    }

    /// Writes what can be written without waiting. What is left goes by [`step`](Self::step).
    ///
    /// # Errors
    /// What the system said; the connection is of no use then.
    pub async fn write_now(&mut self, queue: &mut WriteQueue) -> io::Result<()> {
        std::future::poll_fn(|context| {
            while !queue.is_empty() {
                match queue.poll_write(Pin::new(&mut *self), context) {
                    Poll::Ready(Ok(_)) => {}
                    Poll::Ready(Err(error)) => return Poll::Ready(Err(error)),
                    Poll::Pending => break,
                }
            }
            Poll::Ready(Ok(()))
        })
        .await
    }

    fn poll_step(
        &mut self,
        context: &mut Context<'_>,
        buffer: &mut [u8],
        queue: &mut WriteQueue,
    ) -> Poll<io::Result<Moved>> {
        if !queue.is_empty() {
            if let Poll::Ready(written) = queue.poll_write(Pin::new(self), context) {
                return Poll::Ready(written.map(|_| Moved::Wrote));
            }
        } else if let Self::Tls(stream) = self
            // TLS keeps a part of what it took; it goes out here. With nothing to do this is free.
            && let Poll::Ready(Err(error)) = Pin::new(stream).poll_flush(context)
        {
            return Poll::Ready(Err(error));
        }
        let mut buffer = ReadBuf::new(buffer);
        ready!(Pin::new(self).poll_read(context, &mut buffer))?;
        Poll::Ready(Ok(Moved::Read(buffer.filled().len())))
    }
}

impl AsyncRead for Wire {
    fn poll_read(self: Pin<&mut Self>, context: &mut Context<'_>, out: &mut ReadBuf<'_>) -> Poll<io::Result<()>> {
        match self.get_mut() {
            Self::Plain(stream) => Pin::new(stream).poll_read(context, out),
            Self::Tls(stream) => Pin::new(stream).poll_read(context, out),
            #[cfg(feature = "testing")]
            Self::Memory(stream) => Pin::new(stream).poll_read(context, out),
        }
    }
}

impl AsyncWrite for Wire {
    fn poll_write(self: Pin<&mut Self>, context: &mut Context<'_>, bytes: &[u8]) -> Poll<io::Result<usize>> {
        match self.get_mut() {
            Self::Plain(stream) => Pin::new(stream).poll_write(context, bytes),
            Self::Tls(stream) => Pin::new(stream).poll_write(context, bytes),
            #[cfg(feature = "testing")]
            Self::Memory(stream) => Pin::new(stream).poll_write(context, bytes),
        }
    }

    fn poll_write_vectored(
        self: Pin<&mut Self>,
        context: &mut Context<'_>,
        slices: &[io::IoSlice<'_>],
    ) -> Poll<io::Result<usize>> {
        match self.get_mut() {
            Self::Plain(stream) => Pin::new(stream).poll_write_vectored(context, slices),
            Self::Tls(stream) => Pin::new(stream).poll_write_vectored(context, slices),
            #[cfg(feature = "testing")]
            Self::Memory(stream) => Pin::new(stream).poll_write_vectored(context, slices),
        }
    }

    fn is_write_vectored(&self) -> bool {
        true
    }

    fn poll_flush(self: Pin<&mut Self>, context: &mut Context<'_>) -> Poll<io::Result<()>> {
        match self.get_mut() {
            Self::Plain(stream) => Pin::new(stream).poll_flush(context),
            Self::Tls(stream) => Pin::new(stream).poll_flush(context),
            #[cfg(feature = "testing")]
            Self::Memory(stream) => Pin::new(stream).poll_flush(context),
        }
    }

    fn poll_shutdown(self: Pin<&mut Self>, context: &mut Context<'_>) -> Poll<io::Result<()>> {
        match self.get_mut() {
            Self::Plain(stream) => Pin::new(stream).poll_shutdown(context),
            Self::Tls(stream) => Pin::new(stream).poll_shutdown(context),
            #[cfg(feature = "testing")]
            Self::Memory(stream) => Pin::new(stream).poll_shutdown(context),
        }
    }
}
