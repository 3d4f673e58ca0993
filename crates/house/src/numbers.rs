use parking_lot::Mutex;
use waverant_store::{Store, StoreError};

/// A further block is fetched when so few numbers are left.
const FEW: u64 = 16;

/// Where numbers begin that are given without any block: while the database was away for more sessions than there
/// were numbers.
const BEYOND: u64 = 1 << 40;

/// Gives sessions their numbers without the database, and no two nodes the same.
#[derive(Debug)]
pub(crate) struct SessionNumbers(Mutex<Numbers>);

#[derive(Debug)]
struct Numbers {
    next: u64,
    last: u64,
    /// The block behind this one, if it was fetched.
    reserve: Option<(u64, u64)>,
    beyond: u64,
}

impl SessionNumbers {
    pub(crate) async fn open(store: &Store) -> Result<Self, StoreError> {
        let (next, last) = store.session_numbers().await?;
        Ok(Self(Mutex::new(Numbers { next, last, reserve: None, beyond: BEYOND })))
    }

    pub(crate) fn next(&self) -> u64 {
        let mut numbers = self.0.lock();
        if numbers.next > numbers.last
            && let Some((next, last)) = numbers.reserve.take()
        {
            (numbers.next, numbers.last) = (next, last);
        }
        if numbers.next > numbers.last {
            numbers.beyond += 1;
            return numbers.beyond;
        }
        numbers.next += 1;
        numbers.next - 1
    }

    /// Fetches a further block if few numbers are left.
    pub(crate) async fn refill(&self, store: &Store) -> Result<(), StoreError> {
        let is_short = {
            let numbers = self.0.lock();
            numbers.reserve.is_none() && numbers.last.saturating_sub(numbers.next) < FEW
        };
        if is_short {
            let block = store.new_session_numbers().await?;
            self.0.lock().reserve = Some(block);
        }
        Ok(())
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn numbers_follow_and_never_end() {
        let numbers = Numbers { next: 7, last: 8, reserve: Some((65, 66)), beyond: BEYOND };
        let numbers = SessionNumbers(Mutex::new(numbers));
        let given: Vec<u64> = (0..6).map(|_| numbers.next()).collect();
        assert_eq!(given, [7, 8, 65, 66, BEYOND + 1, BEYOND + 2]);
    }
}
