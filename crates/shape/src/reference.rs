//! A reference's rows by key, in memory: what lookups look into.
//!
//! A row costs its bytes and, for the table of keys, some 60 more. Rows stand one after another in pages; what was overwritten is
//! given back when half of all is.

use std::collections::HashMap;
use std::hash::BuildHasher;
use std::sync::Arc;

use gonvel_core::avro::binary::DecodeError;
use gonvel_core::change::{ChangeBatch, ChangeKind, Origin};
use gonvel_core::column::{ColumnArray, ColumnType, Value};
use gonvel_core::row_bytes;
use gonvel_core::table::TableSchema;
use hashbrown::HashTable;

use crate::cast::{read_text, text_of};
use crate::ty::Ty;

/// A reference's rows.
#[derive(Debug)]
pub struct Reference {
    table: Arc<TableSchema>,
    keys: Vec<usize>,
    /// The columns that are kept.
    kept: Vec<usize>,
    types: Vec<ColumnType>,
    index: HashTable<u64>,
    hasher: std::hash::RandomState,
    /// Entries: the key's length, the key, the row's length, the row.
    bytes: Vec<u8>,
    /// Bytes of entries that nothing points to any more.
    waste: usize,
    changed: Changed,
}

/// What changed of a reference, and by what.
#[derive(Debug, Clone, Default)]
pub struct Changed {
    keys: HashMap<Vec<u8>, Origin>,
    /// It was emptied.
    all: Option<Origin>,
}

impl Changed {
    /// Whether nothing did.
    #[must_use]
    pub fn is_nothing(&self) -> bool {
        self.keys.is_empty() && self.all.is_none()
    }

    /// What changed the row of a key, if something did.
    #[must_use]
    pub fn by(&self, key: &[u8]) -> Option<Origin> {
        self.keys.get(key).copied().or(self.all)
    }

    fn note(&mut self, key: &[u8], origin: Origin) {
        self.keys.insert(key.to_vec(), origin);
    }
}

/// Where a column's values come from.
struct Place {
    at: usize,
    /// Their type, and the one that they are kept in, if it is another.
    read_as: Option<(Ty, Ty)>,
}

impl Place {
    /// Writes a value as it is kept; false if it cannot be read so.
    fn write(&self, value: Value<'_>, out: &mut Vec<u8>) -> bool {
        match &self.read_as {
            Some((from, to)) if value != Value::Null => match read_text(&text_of(from, value), to) {
                Ok(read) => row_bytes::write(read.value(), out),
                Err(_) => return false,
            },
            _ => row_bytes::write(value, out),
        }
        true
    }
}

impl Reference {
    /// An empty one for a table, of which some columns are kept.
    #[must_use]
    pub fn new(table: Arc<TableSchema>, kept: Vec<usize>) -> Self {
        let types = kept.iter().map(|&c| table.columns[c].ty).collect();
        let keys = table.key_columns();
        Self {
            table,
            keys,
            kept,
            types,
            index: HashTable::new(),
            hasher: std::hash::RandomState::new(),
            bytes: Vec::new(),
            waste: 0,
            changed: Changed::default(),
        }
    }

    /// The table.
    #[must_use]
    pub fn table(&self) -> &Arc<TableSchema> {
        &self.table
    }

    /// The columns that are kept, by their places.
    #[must_use]
    pub fn kept(&self) -> &[usize] {
        &self.kept
    }

    /// How many rows there are.
    #[must_use]
    pub fn len(&self) -> usize {
        self.index.len()
    }

    /// Whether there is none.
    #[must_use]
    pub fn is_empty(&self) -> bool {
        self.index.is_empty()
    }

    /// Bytes that it takes.
    #[must_use]
    pub fn size(&self) -> usize {
        self.bytes.capacity() + self.index.capacity() * 9
    }

    /// The partition that a row came from stands before it.
    fn partition(bytes: &[u8], at: u64) -> [u8; 4] {
        let start = usize::try_from(at).unwrap_or(0);
        bytes[start..start + 4].try_into().unwrap_or_default()
    }

    /// A row's key, the row, and the bytes that both take with what stands beside them.
    fn split(bytes: &[u8], at: u64) -> (&[u8], &[u8], usize) {
        let start = usize::try_from(at).unwrap_or(0) + 4;
        let length = |from: usize| {
            let four: [u8; 4] = bytes[from..from + 4].try_into().unwrap_or_default();
            usize::try_from(u32::from_le_bytes(four)).unwrap_or(0)
        };
        let key = length(start);
        let row = length(start + 4 + key);
        let from = start + 4 + key + 4;
        (&bytes[start + 4..start + 4 + key], &bytes[from..from + row], 12 + key + row)
    }

    /// Whether rows of a table are taken in as they are: what is kept of them is called and typed alike.
    #[must_use]
    pub fn is_like(&self, table: &TableSchema) -> bool {
        let mine = self.keys.iter().chain(&self.kept).map(|&c| &self.table.columns[c]);
        mine.into_iter()
            .all(|mine| table.columns.iter().any(|c| c.name == mine.name && c.ty == mine.ty && c.key == mine.key))
    }

    /// Where a column stands in another table, if it does.
    fn place(&self, mine: usize, other: &TableSchema) -> Option<Place> {
        let mine = &self.table.columns[mine];
        let at = other.columns.iter().position(|c| c.name == mine.name)?;
        let ways = (Ty::of(&other.columns[at]), Ty::of(mine));
        Some(Place { at, read_as: (ways.0 != ways.1).then_some(ways) })
    }

    /// Takes in changes of the reference, in order. Rows of another shape keep what columns of these names they have, with values
    /// of another type read as the one that is kept; a row whose key cannot be read so is equal to none.
    pub fn apply(&mut self, batch: &ChangeBatch) {
        self.take_in(batch, 0, false);
    }

    /// The same for changes of one partition of its topic: a truncate stands in each of them, and takes the rows that came from that one.
    /// Where it is `noted`, what they change is remembered until it is taken.
    pub fn take_in(&mut self, batch: &ChangeBatch, partition: i32, noted: bool) {
        let keys: Option<Vec<Place>> = self.keys.iter().map(|&c| self.place(c, &batch.table)).collect();
        let kept: Vec<Option<Place>> = self.kept.iter().map(|&c| self.place(c, &batch.table)).collect();
        let (mut key, mut row) = (Vec::new(), Vec::new());
        for at in 0..batch.len() {
            if batch.kinds[at] == ChangeKind::Truncate {
                self.remove_all(partition);
                if noted {
                    self.changed = Changed { keys: HashMap::new(), all: Some(batch.origins[at]) };
                }
                continue;
            }
            let Some(keys) = &keys else { continue };
            let image = batch.identifying(at);
            key.clear();
            if !keys.iter().all(|place| place.write(image[place.at].value(at), &mut key)) {
                continue;
            }
            if batch.kinds[at] == ChangeKind::Delete {
                if self.remove(&key) && noted {
                    self.changed.note(&key, batch.origins[at]);
                }
                continue;
            }
            row.clear();
            let before = batch.unchanged.get(&at).and_then(|_| self.get(&key).map(<[u8]>::to_vec));
            let mut old = before.as_deref();
            for place in &kept {
                // what was not sent is as it was
                let there = old.as_mut().and_then(|bytes| row_bytes::read(bytes).ok());
                match place {
                    Some(place) if !batch.is_unchanged(at, place.at) => {
                        if !place.write(batch.new[place.at].value(at), &mut row) {
                            row_bytes::write(Value::Null, &mut row);
                        }
                    }
                    Some(_) => row_bytes::write(there.unwrap_or(Value::Null), &mut row),
                    None => row_bytes::write(Value::Null, &mut row),
                }
            }
            if self.put(&key, &row, partition) && noted {
                self.changed.note(&key, batch.origins[at]);
            }
        }
    }

    /// What changed since this was last taken.
    #[must_use]
    pub fn take_changed(&mut self) -> Changed {
        std::mem::take(&mut self.changed)
    }

    /// Whether something changed since that was last taken.
    #[must_use]
    pub fn has_changed(&self) -> bool {
        !self.changed.is_nothing()
    }

    fn hash(&self, key: &[u8]) -> u64 {
        self.hasher.hash_one(key)
    }

    /// Puts a row in; whether it says something else than the one before.
    fn put(&mut self, key: &[u8], row: &[u8], partition: i32) -> bool {
        let hash = self.hash(key);
        let at = u64::try_from(self.bytes.len()).unwrap_or(u64::MAX);
        let four = |n: usize| u32::try_from(n).unwrap_or(u32::MAX).to_le_bytes();
        let Self { index, bytes, hasher, waste, .. } = self;
        let found = index.find_mut(hash, |&at| Self::split(bytes, at).0 == key);
        match found {
            Some(place) => {
                let (_, known, length) = Self::split(bytes, *place);
                if known == row {
                    let start = usize::try_from(*place).unwrap_or(0);
                    bytes[start..start + 4].copy_from_slice(&partition.to_le_bytes());
                    return false;
                }
                *waste += length;
                *place = at;
            }
            None => {
                index.insert_unique(hash, at, |&at| hasher.hash_one(Self::split(bytes, at).0));
            }
        }
        bytes.extend_from_slice(&partition.to_le_bytes());
        for part in [key, row] {
            bytes.extend_from_slice(&four(part.len()));
            bytes.extend_from_slice(part);
        }
        if self.waste > 1 << 20 && self.waste > self.bytes.len() / 2 {
            self.compact();
        }
        true
    }

    /// Takes a row out; whether there was one.
    fn remove(&mut self, key: &[u8]) -> bool {
        let hash = self.hash(key);
        let Self { index, bytes, waste, .. } = self;
        if let Ok(entry) = index.find_entry(hash, |&at| Self::split(bytes, at).0 == key) {
            let (at, _) = entry.remove();
            *waste += Self::split(bytes, at).2;
            return true;
        }
        false
    }

    /// Takes all rows out that came from a partition.
    fn remove_all(&mut self, partition: i32) {
        let Self { index, bytes, waste, .. } = self;
        index.retain(|&mut at| {
            let stays = Self::partition(bytes, at) != partition.to_le_bytes();
            *waste += if stays { 0 } else { Self::split(bytes, at).2 };
            stays
        });
        if index.is_empty() {
            bytes.clear();
            *waste = 0;
        }
    }

    fn compact(&mut self) {
        let mut bytes = Vec::with_capacity(self.bytes.len() - self.waste);
        for at in &mut self.index {
            let start = usize::try_from(*at).unwrap_or(0);
            let length = Self::split(&self.bytes, *at).2;
            *at = u64::try_from(bytes.len()).unwrap_or(u64::MAX);
            bytes.extend_from_slice(&self.bytes[start..start + length]);
        }
        (self.bytes, self.waste) = (bytes, 0);
    }

    /// The bytes of a key's row.
    #[must_use]
    pub fn get(&self, key: &[u8]) -> Option<&[u8]> {
        let found = self.index.find(self.hash(key), |&at| Self::split(&self.bytes, at).0 == key)?;
        Some(Self::split(&self.bytes, *found).1)
    }

    /// The key of compared values, one column after another, for [`Self::get`]; false if one is null, which nothing equals.
    pub fn key(compared: &[ColumnArray], row: usize, out: &mut Vec<u8>) -> bool {
        out.clear();
        for column in compared {
            let value = column.value(row);
            if value == Value::Null {
                return false;
            }
            row_bytes::write(value, out);
        }
        true
    }

    /// The values of a row's bytes, in the order of [`Self::kept`].
    ///
    /// # Errors
    /// [`DecodeError`] if the bytes were damaged.
    pub fn values<'r>(&self, mut row: &'r [u8]) -> Result<Vec<Value<'r>>, DecodeError> {
        self.types.iter().map(|_| row_bytes::read(&mut row)).collect()
    }
}
