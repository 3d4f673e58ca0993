use std::collections::VecDeque;
use std::io;
use std::ops::RangeInclusive;
use std::pin::Pin;
use std::task::{Context, Poll};
use std::time::Duration;

use bytes::{Buf, Bytes};
use http_body::{Body, Frame, SizeHint};
use tokio::time::Instant;

/// So long a viewer may take for one piece. Who is slower cannot watch, and would hold memory that is long past.
const PATIENCE: Duration = Duration::from_secs(60);

/// The body of an answer that is made of pieces: they are sent as they lie in memory.
#[derive(Debug)]
pub(crate) struct PieceBody {
    rest: VecDeque<Bytes>,
    left: u64,
    until: Instant,
}

impl PieceBody {
    /// All of the pieces.
    pub(crate) fn new(pieces: impl Iterator<Item = Bytes>) -> Self {
        let rest: VecDeque<Bytes> = pieces.filter(|piece| !piece.is_empty()).collect();
        let left = rest.iter().map(|piece| piece.len() as u64).sum();
        Self { rest, left, until: Instant::now() + PATIENCE }
    }

    /// How much is to be sent, in bytes.
    pub(crate) fn len(&self) -> u64 {
        self.left
    }

    /// Leaves out what is outside of `range`, which is inside of what there is.
    pub(crate) fn cut(mut self, range: &RangeInclusive<u64>) -> Self {
        let mut skip = *range.start();
        while let Some(first) = self.rest.front_mut() {
            let step = usize::try_from(skip).unwrap_or(usize::MAX).min(first.len());
            first.advance(step);
            skip -= step as u64;
            if !first.is_empty() {
                break;
            }
            self.rest.pop_front();
        }
        self.left = range.end() - range.start() + 1;
        let mut left = usize::try_from(self.left).unwrap_or(usize::MAX);
        for piece in &mut self.rest {
            piece.truncate(left);
            left -= piece.len();
        }
        self.rest.retain(|piece| !piece.is_empty());
        self
    }
}

impl Body for PieceBody {
    type Data = Bytes;
    type Error = io::Error;

    fn poll_frame(mut self: Pin<&mut Self>, _: &mut Context<'_>) -> Poll<Option<io::Result<Frame<Bytes>>>> {
        if self.until < Instant::now() {
            return Poll::Ready(Some(Err(io::ErrorKind::TimedOut.into())));
        }
        let piece = self.rest.pop_front();
        if let Some(piece) = &piece {
            self.left -= piece.len() as u64;
        }
        Poll::Ready(piece.map(|piece| Ok(Frame::data(piece))))
    }

    fn is_end_stream(&self) -> bool {
        self.rest.is_empty()
    }

    fn size_hint(&self) -> SizeHint {
        SizeHint::with_exact(self.left)
    }
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    #[rstest]
    #[case::all(0..=8, &["abc", "defg", "hi"])]
    #[case::the_first(0..=0, &["a"])]
    #[case::over_a_border(2..=4, &["c", "de"])]
    #[case::from_a_border(3..=6, &["defg"])]
    #[case::the_last(8..=8, &["i"])]
    fn a_range_is_cut_out(#[case] range: RangeInclusive<u64>, #[case] expected: &[&str]) {
        let pieces = ["abc", "", "defg", "hi"].map(|piece| Bytes::from_static(piece.as_bytes()));
        let body = PieceBody::new(pieces.into_iter());
        assert_eq!(body.len(), 9);
        let cut = body.cut(&range);
        assert_eq!(cut.len(), range.end() - range.start() + 1);
        assert_eq!(cut.rest, expected.iter().map(|piece| piece.as_bytes()).collect::<Vec<_>>());
    }

    #[tokio::test(start_paused = true)]
    async fn who_takes_too_long_gets_no_more() {
        let mut body = PieceBody::new(["abc", "defg"].map(|piece| Bytes::from_static(piece.as_bytes())).into_iter());
        let mut next = || Pin::new(&mut body).poll_frame(&mut Context::from_waker(std::task::Waker::noop()));
        assert!(matches!(next(), Poll::Ready(Some(Ok(_)))));
        tokio::time::advance(PATIENCE + Duration::from_secs(1)).await;
        assert!(matches!(next(), Poll::Ready(Some(Err(_)))));
    }
}
