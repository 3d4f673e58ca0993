use std::collections::{BTreeMap, HashMap, VecDeque};
use std::hash::Hash;
use std::net::IpAddr;

/// Work for callers, shared fairly: by rank first, then one of each address in turn. It never
/// grows beyond its bounds: what finds no place is given back.
#[derive(Debug)]
pub(crate) struct FairQueue<K, T> {
    capacity: usize,
    per_address: usize,
    /// By rank, the highest last.
    ranks: BTreeMap<u8, Rank<K, T>>,
    waiting: HashMap<K, ()>,
}

#[derive(Debug)]
struct Rank<K, T> {
    /// Whose turn it is.
    turns: VecDeque<IpAddr>,
    items: HashMap<IpAddr, VecDeque<(K, T)>>,
}

impl<K, T> Default for Rank<K, T> {
    fn default() -> Self {
        Self { turns: VecDeque::new(), items: HashMap::new() }
    }
}

impl<K: Clone + Eq + Hash, T> FairQueue<K, T> {
    /// A queue of at most `capacity` items, and `per_address` of one address.
    pub(crate) fn new(capacity: usize, per_address: usize) -> Self {
        Self { capacity, per_address, ranks: BTreeMap::new(), waiting: HashMap::new() }
    }

    /// True if something with this key waits.
    pub(crate) fn contains(&self, key: &K) -> bool {
        self.waiting.contains_key(key)
    }

    /// Adds an item. Returns what has no place: the item itself, or one of a lower rank that makes
    /// room, from the address with the most.
    pub(crate) fn push(&mut self, rank: u8, address: IpAddr, key: K, item: T) -> Option<(K, T)> {
        let from_here: usize = self.ranks.values().filter_map(|rank| rank.items.get(&address)).map(VecDeque::len).sum();
        if from_here >= self.per_address || self.contains(&key) {
            return Some((key, item));
        }
        let displaced = if self.waiting.len() >= self.capacity {
            let Some(displaced) = self.displace_below(rank) else { return Some((key, item)) };
            Some(displaced)
        } else {
            None
        };
        self.waiting.insert(key.clone(), ());
        let rank = self.ranks.entry(rank).or_default();
        let items = rank.items.entry(address).or_default();
        if items.is_empty() {
            rank.turns.push_back(address);
        }
        items.push_back((key, item));
        displaced
    }

    /// The next item.
    pub(crate) fn pop(&mut self) -> Option<(K, T)> {
        let mut last = self.ranks.last_entry()?;
        let rank = last.get_mut();
        let address = rank.turns.pop_front()?;
        let items = rank.items.get_mut(&address)?;
        let (key, item) = items.pop_front()?;
        if items.is_empty() {
            rank.items.remove(&address);
        } else {
            rank.turns.push_back(address);
        }
        if rank.turns.is_empty() {
            last.remove();
        }
        self.waiting.remove(&key);
        Some((key, item))
    }

    fn displace_below(&mut self, limit: u8) -> Option<(K, T)> {
        let (&lowest, rank) = self.ranks.iter_mut().next()?;
        if lowest >= limit {
            return None;
        }
        let address = *rank.items.iter().max_by_key(|(_, items)| items.len())?.0;
        let items = rank.items.get_mut(&address)?;
        let (key, item) = items.pop_back()?;
        if items.is_empty() {
            rank.items.remove(&address);
            rank.turns.retain(|turn| *turn != address);
        }
        if rank.turns.is_empty() {
            self.ranks.remove(&lowest);
        }
        self.waiting.remove(&key);
        Some((key, item))
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn address(number: u32) -> IpAddr {
        IpAddr::V4((0x7f00_0000 + number).into())
    }

    #[test]
    fn addresses_take_turns_and_ranks_go_first() {
        let mut queue = FairQueue::new(100, 8);
        for number in 0..5 {
            assert_eq!(queue.push(1, address(1), (1, number), "many"), None);
        }
        assert_eq!(queue.push(1, address(2), (2, 0), "one"), None);
        assert_eq!(queue.push(2, address(3), (3, 0), "known"), None);
        assert_eq!(queue.push(0, address(4), (4, 0), "suspect"), None);
        let order: Vec<&str> = std::iter::from_fn(|| queue.pop()).map(|(_, item)| item).collect();
        assert_eq!(order, ["known", "many", "one", "many", "many", "many", "many", "suspect"]);
    }

    #[test]
    fn what_finds_no_place_is_given_back() {
        let mut queue = FairQueue::new(4, 2);
        for (from, number) in [(1, 0), (1, 1), (2, 0), (3, 0)] {
            assert_eq!(queue.push(1, address(from), (from, number), ()), None);
        }
        assert_eq!(queue.push(1, address(1), (1, 2), ()), Some(((1, 2), ())), "the address has its share");
        assert_eq!(queue.push(1, address(2), (2, 0), ()), Some(((2, 0), ())), "it waits already");
        assert_eq!(queue.push(1, address(4), (4, 0), ()), Some(((4, 0), ())), "full");
        assert_eq!(queue.push(2, address(5), (5, 0), ()), Some(((1, 1), ())), "the address with the most makes room");
        assert!(!queue.contains(&(1, 1)) && queue.contains(&(5, 0)));
        assert_eq!(std::iter::from_fn(|| queue.pop()).count(), 4);
        assert!(queue.ranks.is_empty() && queue.waiting.is_empty());
    }
}
