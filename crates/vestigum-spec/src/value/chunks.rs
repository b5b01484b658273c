//! Items in order, in chunks that copies share.
//!
//! A mark, a saved state and a step of exploring each keep a container as it was. With one block of items, the first change
//! after each of them copies all items: of a map with 100,000 entries, milliseconds of a frame. Here the items stand in
//! chunks of at most [`CHUNK`]: a change copies the list of chunks, which is a pointer for each, and one chunk.

use std::cmp::Ordering;
use std::fmt;
use std::iter::FusedIterator;
use std::slice;
use std::sync::Arc;

/// The most items of a chunk. A change costs about this many copied items and a pointer for every chunk: with 256, both are
/// of one size at 100,000 items.
const CHUNK: usize = 256;

#[derive(Clone)]
pub(super) struct Chunks<T> {
    inner: Arc<Inner<T>>,
}

/// No chunk is empty, and none has more than [`CHUNK`] items.
#[derive(Clone)]
struct Inner<T> {
    chunks: Vec<Arc<Vec<T>>>,
    len: usize,
}

/// Describes where an item stands, or would stand.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) struct Position {
    chunk: usize,
    index: usize,
}

impl<T> Default for Chunks<T> {
    fn default() -> Self {
        Chunks { inner: Arc::new(Inner { chunks: Vec::new(), len: 0 }) }
    }
}

impl<T> Chunks<T> {
    pub(super) fn len(&self) -> usize {
        self.inner.len
    }

    pub(super) fn iter(&self) -> Items<'_, T> {
        Items { items: flat(&self.inner.chunks), left: self.inner.len }
    }

    /// The position of the item with this index; none behind the last.
    pub(super) fn position(&self, mut index: usize) -> Option<Position> {
        for (chunk, items) in self.inner.chunks.iter().enumerate() {
            if index < items.len() {
                return Some(Position { chunk, index });
            }
            index -= items.len();
        }
        None
    }

    /// The position behind the last item.
    pub(super) fn end(&self) -> Position {
        match self.inner.chunks.last() {
            Some(last) => Position { chunk: self.inner.chunks.len() - 1, index: last.len() },
            None => Position { chunk: 0, index: 0 },
        }
    }

    /// In sorted items: where the one stands that `order` calls equal, or else where it would stand. `order` says how an
    /// item stands to the one that is looked for.
    pub(super) fn search(&self, order: impl Fn(&T) -> Ordering) -> Result<Position, Position> {
        let chunks = &self.inner.chunks;
        // The last chunk that does not begin behind what is looked for.
        let behind = chunks.partition_point(|items| items.first().is_some_and(|first| order(first).is_le()));
        let chunk = behind.saturating_sub(1);
        let at = |index| Position { chunk, index };
        chunks.get(chunk).map_or(Err(at(0)), |items| items.binary_search_by(order).map(at).map_err(at))
    }

    pub(super) fn get(&self, at: Position) -> Option<&T> {
        self.inner.chunks.get(at.chunk)?.get(at.index)
    }
}

impl<T: Clone> Chunks<T> {
    /// The item at a position, to be changed where it is.
    pub(super) fn get_mut(&mut self, at: Position) -> Option<&mut T> {
        self.get(at)?;
        let inner = Arc::make_mut(&mut self.inner);
        Arc::make_mut(&mut inner.chunks[at.chunk]).get_mut(at.index)
    }

    /// Puts another item in the place of one, and gives that one back; none if there is no such position.
    pub(super) fn replace(&mut self, at: Position, item: T) -> Option<T> {
        self.get(at)?;
        let inner = Arc::make_mut(&mut self.inner);
        Some(std::mem::replace(&mut Arc::make_mut(&mut inner.chunks[at.chunk])[at.index], item))
    }

    /// Puts an item in at a position that [`Chunks::search`] or [`Chunks::end`] told.
    pub(super) fn insert(&mut self, at: Position, item: T) {
        let inner = Arc::make_mut(&mut self.inner);
        inner.len += 1;
        let count = inner.chunks.len();
        let Some(items) = inner.chunks.get_mut(at.chunk) else {
            inner.chunks.push(Arc::new(vec![item]));
            return;
        };
        if items.len() < CHUNK {
            Arc::make_mut(items).insert(at.index, item);
        } else if at.chunk + 1 == count && at.index == items.len() {
            // What is filled from its end has full chunks.
            inner.chunks.push(Arc::new(vec![item]));
        } else {
            let mut second = Arc::make_mut(items).split_off(CHUNK / 2);
            match at.index.checked_sub(CHUNK / 2) {
                Some(index) if index > 0 => second.insert(index, item),
                _ => Arc::make_mut(items).insert(at.index, item),
            }
            inner.chunks.insert(at.chunk + 1, Arc::new(second));
        }
    }

    /// Takes the item at a position out; none if there is no such position.
    pub(super) fn remove(&mut self, at: Position) -> Option<T> {
        self.get(at)?;
        let inner = Arc::make_mut(&mut self.inner);
        let items = Arc::make_mut(&mut inner.chunks[at.chunk]);
        let item = items.remove(at.index);
        inner.len -= 1;
        // Chunks that became small are put together, so that there are never many of them.
        let fits = |other: Option<&Arc<Vec<T>>>, len: usize| other.is_some_and(|other| other.len() + len <= CHUNK / 2);
        let len = items.len();
        if len == 0 {
            inner.chunks.remove(at.chunk);
        } else if fits(inner.chunks.get(at.chunk + 1), len) {
            let next = inner.chunks.remove(at.chunk + 1);
            Arc::make_mut(&mut inner.chunks[at.chunk]).extend(next.iter().cloned());
        } else if at.chunk > 0 && fits(inner.chunks.get(at.chunk - 1), len) {
            let this = inner.chunks.remove(at.chunk);
            Arc::make_mut(&mut inner.chunks[at.chunk - 1]).extend(this.iter().cloned());
        }
        Some(item)
    }
}

impl<T> FromIterator<T> for Chunks<T> {
    fn from_iter<I: IntoIterator<Item = T>>(items: I) -> Self {
        let mut items = items.into_iter().peekable();
        let mut chunks = Vec::new();
        let mut len = 0;
        while items.peek().is_some() {
            let chunk: Vec<T> = items.by_ref().take(CHUNK).collect();
            len += chunk.len();
            chunks.push(Arc::new(chunk));
        }
        Chunks { inner: Arc::new(Inner { chunks, len }) }
    }
}

impl<T: PartialEq> PartialEq for Chunks<T> {
    fn eq(&self, other: &Self) -> bool {
        Arc::ptr_eq(&self.inner, &other.inner)
            || self.len() == other.len() && self.apart_from(other, |a, b| (a != b).then_some(())).is_none()
    }
}

impl<T: Eq> Eq for Chunks<T> {}

impl<T: PartialOrd + Ord> PartialOrd for Chunks<T> {
    fn partial_cmp(&self, other: &Self) -> Option<Ordering> {
        Some(self.cmp(other))
    }
}

/// As slices are ordered.
impl<T: Ord> Ord for Chunks<T> {
    fn cmp(&self, other: &Self) -> Ordering {
        if Arc::ptr_eq(&self.inner, &other.inner) {
            return Ordering::Equal;
        }
        let unequal = |a: &T, b: &T| Some(a.cmp(b)).filter(|order| order.is_ne());
        self.apart_from(other, unequal).unwrap_or_else(|| self.len().cmp(&other.len()))
    }
}

impl<T> Chunks<T> {
    /// The first answer about two items at the same place. Chunks that both share are passed over: to compare a container
    /// with its own mark costs the chunks that changed.
    fn apart_from<R>(&self, other: &Self, apart: impl Fn(&T, &T) -> Option<R>) -> Option<R> {
        let (mut a, mut b) = (&self.inner.chunks[..], &other.inner.chunks[..]);
        let all = |a: &[T], b: &[T]| a.iter().zip(b).find_map(|(a, b)| apart(a, b));
        while let ([first_a, rest_a @ ..], [first_b, rest_b @ ..]) = (a, b)
            && first_a.len() == first_b.len()
        {
            if !Arc::ptr_eq(first_a, first_b)
                && let Some(found) = all(first_a, first_b)
            {
                return Some(found);
            }
            (a, b) = (rest_a, rest_b);
        }
        flat(a).zip(flat(b)).find_map(|(a, b)| apart(a, b))
    }
}

impl<T: fmt::Debug> fmt::Debug for Chunks<T> {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.debug_list().entries(self.iter()).finish()
    }
}

type Flat<'a, T> =
    std::iter::FlatMap<slice::Iter<'a, Arc<Vec<T>>>, slice::Iter<'a, T>, fn(&'a Arc<Vec<T>>) -> slice::Iter<'a, T>>;

fn flat<T>(chunks: &[Arc<Vec<T>>]) -> Flat<'_, T> {
    chunks.iter().flat_map(|chunk| chunk.iter())
}

/// The items in their order.
#[derive(Clone)]
pub(super) struct Items<'a, T> {
    items: Flat<'a, T>,
    left: usize,
}

impl<'a, T> Iterator for Items<'a, T> {
    type Item = &'a T;

    fn next(&mut self) -> Option<&'a T> {
        let item = self.items.next()?;
        self.left -= 1;
        Some(item)
    }

    fn size_hint(&self) -> (usize, Option<usize>) {
        (self.left, Some(self.left))
    }
}

impl<T> DoubleEndedIterator for Items<'_, T> {
    fn next_back(&mut self) -> Option<Self::Item> {
        let item = self.items.next_back()?;
        self.left -= 1;
        Some(item)
    }
}

impl<T> ExactSizeIterator for Items<'_, T> {}

impl<T> FusedIterator for Items<'_, T> {}
