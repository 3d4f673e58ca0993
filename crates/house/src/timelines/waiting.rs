use std::collections::BTreeMap;

use waverant_store::FigureBlock;

/// Bytes that wait for the database; with them some days of a busy house are not lost.
const MOST_WAITING: usize = 64 * 1024 * 1024;

/// Blocks and bytes that are written at once.
const BATCH_BLOCKS: usize = 200;
const BATCH_BYTES: usize = 1024 * 1024;

/// Whose, how long its steps are, and the first second.
type Place = (u64, u32, u64);

/// Blocks to be written at once, with what they were when they were taken.
#[derive(Debug)]
pub(crate) struct Batch {
    pub(crate) blocks: Vec<FigureBlock>,
    versions: Vec<u64>,
}

/// Blocks that were not written yet. A newer one takes the place of an older one, and when there are too many the
/// oldest of the finest go.
#[derive(Debug, Default)]
pub(crate) struct Waiting {
    blocks: BTreeMap<Place, (u64, FigureBlock)>,
    bytes: usize,
    version: u64,
    /// How many had to go.
    pub(crate) lost: u64,
}

fn place(block: &FigureBlock) -> Place {
    (block.session_id, block.step_s, block.start_s)
}

impl Waiting {
    pub(crate) fn add(&mut self, block: FigureBlock) {
        self.version += 1;
        self.bytes += block.bytes.len();
        if let Some((_, old)) = self.blocks.insert(place(&block), (self.version, block)) {
            self.bytes -= old.bytes.len();
        }
        while self.bytes > MOST_WAITING {
            let oldest = self.blocks.values().map(|(_, block)| (block.step_s, block.began_at, place(block))).min();
            let Some((_, _, place)) = oldest else { return };
            if let Some((_, block)) = self.blocks.remove(&place) {
                self.bytes -= block.bytes.len();
                self.lost += 1;
            }
        }
    }

    pub(crate) fn next_batch(&self) -> Option<Batch> {
        let (mut blocks, mut versions, mut bytes) = (Vec::new(), Vec::new(), 0);
        for (version, block) in self.blocks.values().take(BATCH_BLOCKS) {
            bytes += block.bytes.len();
            if bytes > BATCH_BYTES && !blocks.is_empty() {
                break;
            }
            blocks.push(block.clone());
            versions.push(*version);
        }
        (!blocks.is_empty()).then_some(Batch { blocks, versions })
    }

    /// A batch was written, or never can be: unless something newer came meanwhile, it is forgotten.
    pub(crate) fn done(&mut self, batch: &Batch) {
        for (block, version) in batch.blocks.iter().zip(&batch.versions) {
            let place = place(block);
            if self.blocks.get(&place).is_some_and(|(now, _)| now == version) {
                self.bytes -= block.bytes.len();
                self.blocks.remove(&place);
            }
        }
    }

    pub(crate) fn all(&self) -> Vec<FigureBlock> {
        self.blocks.values().map(|(_, block)| block.clone()).collect()
    }
}

#[cfg(test)]
mod tests {
    use time::OffsetDateTime;

    use super::*;

    fn block(session_id: u64, step_s: u32, start_s: u32, length: usize) -> FigureBlock {
        let began_at = OffsetDateTime::UNIX_EPOCH + time::Duration::seconds(start_s.into());
        FigureBlock { session_id, step_s, start_s: start_s.into(), began_at, bytes: vec![0; length] }
    }

    #[test]
    fn what_grew_while_it_was_written_is_written_again() {
        let mut waiting = Waiting::default();
        waiting.add(block(1, 10, 0, 5));
        waiting.add(block(2, 10, 0, 5));
        let batch = waiting.next_batch().unwrap();
        waiting.add(block(2, 10, 0, 9));
        waiting.done(&batch);
        assert_eq!((waiting.all(), waiting.bytes), (vec![block(2, 10, 0, 9)], 9));
    }

    #[test]
    fn a_batch_is_not_large() {
        let mut waiting = Waiting::default();
        (0..500).for_each(|start| waiting.add(block(1, 10, start, 10)));
        assert_eq!(waiting.next_batch().unwrap().blocks.len(), BATCH_BLOCKS);
        waiting.add(block(0, 10, 0, BATCH_BYTES * 2));
        assert_eq!(waiting.next_batch().unwrap().blocks.len(), 1, "one that is larger goes alone");
    }

    #[test]
    fn days_without_a_database_lose_the_oldest_of_the_finest_first() {
        let mut waiting = Waiting::default();
        let mebibyte = 1024 * 1024;
        for start in 0..60 {
            waiting.add(block(1, 10, start, mebibyte));
            waiting.add(block(1, 60, start, mebibyte));
        }
        assert!(waiting.bytes <= MOST_WAITING);
        let left = waiting.all();
        assert_eq!(left.iter().filter(|block| block.step_s == 60).count(), 60);
        assert_eq!((left.first().unwrap().start_s, waiting.lost), (56, 56));
    }
}
