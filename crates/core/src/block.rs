//! Blocks: the stored unit of the log.
//!
//! A block's body is the data of one block of an Avro object container file ("Object Container Files" in the specification)
//! with codec `zstandard`: consecutive records by [`RECORD_SCHEMA`], compressed, with zstd's own content checksum. Offsets are
//! not in the body; they follow from the block's first offset.

use std::cell::RefCell;

use bytes::Bytes;

use crate::avro::binary::{DecodeError, Reader, write_bytes, write_length, write_long};
use crate::naming::SchemaId;
use crate::record::{Header, Record};

/// The Avro schema of every record of every block.
pub const RECORD_SCHEMA: &str = r#"{"type":"record","name":"Record","namespace":"gonvel","fields":[
{"name":"key","type":["null","bytes"]},
{"name":"value","type":["null","bytes"]},
{"name":"headers","type":{"type":"array","items":{"type":"record","name":"Header","fields":[{"name":"name","type":"string"},{"name":"value","type":"bytes"}]}}},
{"name":"timestamp","type":{"type":"long","logicalType":"timestamp-micros"}},
{"name":"schema","type":["null","long"]},
{"name":"key_schema","type":["null","long"]}]}"#;

/// Most records in a block.
pub const MOST_RECORDS: u32 = 5_000;
/// Bytes before compression after which a block is closed.
pub const MOST_BYTES: usize = 1 << 20;
/// Largest size a body may unpack to: a damaged length must not take the memory. What is larger is not appended, since it could not
/// be read again.
pub const UNPACKED_LIMIT: usize = 256 << 20;
const LEVEL: i32 = 1;

/// How blocks below [`TINY_BYTES`] are compressed: hardly. They are merged with others soon, and packing them would cost more than
/// storing what it saves.
const TINY_LEVEL: i32 = -1_000;
/// Bytes before compression below which a block is tiny.
const TINY_BYTES: usize = 4_096;

fn compressor(level: i32) -> RefCell<zstd::bulk::Compressor<'static>> {
    let mut compressor = zstd::bulk::Compressor::new(level).expect("a supported level");
    compressor.set_parameter(zstd::zstd_safe::CParameter::ChecksumFlag(true)).expect("a supported parameter");
    RefCell::new(compressor)
}

thread_local! {
    // their working memory takes longer to set up than a small block takes to pack
    static COMPRESSOR: RefCell<zstd::bulk::Compressor<'static>> = compressor(LEVEL);
    static OF_TINY: RefCell<zstd::bulk::Compressor<'static>> = compressor(TINY_LEVEL);
    static DECOMPRESSOR: RefCell<zstd::bulk::Decompressor<'static>> =
        RefCell::new(zstd::bulk::Decompressor::new().expect("memory for a decompressor"));
}

/// Why a block could not be read.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum BlockError {
    /// The checksum or the compression is wrong.
    #[error("the block's bytes are damaged: {0}")]
    Damaged(String),
    /// The records do not follow the schema.
    #[error("the block's records cannot be read: {0}")]
    Records(#[from] DecodeError),
}

/// A closed block without its place.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct EncodedBlock {
    /// Records in it; at least one.
    pub records: u32,
    /// Compressed body.
    pub body: Bytes,
    /// Bytes before compression.
    pub unpacked: usize,
    /// Earliest timestamp in microseconds.
    pub earliest_us: i64,
    /// Latest timestamp in microseconds.
    pub latest_us: i64,
}

/// Writes records one after the other into a block.
#[derive(Debug)]
pub struct BlockBuilder {
    unpacked: Vec<u8>,
    records: u32,
    earliest_us: i64,
    latest_us: i64,
}

impl Default for BlockBuilder {
    fn default() -> Self {
        Self { unpacked: Vec::new(), records: 0, earliest_us: i64::MAX, latest_us: i64::MIN }
    }
}

fn write_headers(headers: &[Header], out: &mut Vec<u8>) {
    if !headers.is_empty() {
        write_length(headers.len(), out);
        for header in headers {
            write_bytes(header.name.as_bytes(), out);
            write_bytes(&header.value, out);
        }
    }
    out.push(0);
}

impl BlockBuilder {
    /// Adds a record from its parts, without a copy in between.
    #[inline]
    pub fn push(
        &mut self,
        key: Option<&[u8]>,
        value: Option<&[u8]>,
        headers: &[Header],
        timestamp_us: i64,
        schema: Option<SchemaId>,
        key_schema: Option<SchemaId>,
    ) {
        let out = &mut self.unpacked;
        for part in [key, value] {
            match part {
                None => out.push(0),
                Some(bytes) => {
                    out.push(2);
                    write_bytes(bytes, out);
                }
            }
        }
        write_headers(headers, out);
        write_long(timestamp_us, out);
        for id in [schema, key_schema] {
            match id {
                None => out.push(0),
                Some(SchemaId(id)) => {
                    out.push(2);
                    write_long(id, out);
                }
            }
        }
        self.records += 1;
        self.earliest_us = self.earliest_us.min(timestamp_us);
        self.latest_us = self.latest_us.max(timestamp_us);
    }

    /// Adds a record.
    pub fn push_record(&mut self, record: &Record) {
        let (key, value) = (record.key.as_deref(), record.value.as_deref());
        self.push(key, value, &record.headers, record.timestamp_us, record.schema, record.key_schema);
    }

    /// Whether the block should be closed before more is added.
    #[must_use]
    pub fn is_full(&self) -> bool {
        self.records >= MOST_RECORDS || self.unpacked.len() >= MOST_BYTES
    }

    /// Whether nothing was added.
    #[must_use]
    pub fn is_empty(&self) -> bool {
        self.records == 0
    }

    /// Bytes so far, before compression.
    #[must_use]
    pub fn unpacked_len(&self) -> usize {
        self.unpacked.len()
    }

    /// Closes the block, leaving the builder empty; none if nothing was added.
    ///
    /// # Panics
    /// If zstd cannot compress into memory, which it always can.
    pub fn finish(&mut self) -> Option<EncodedBlock> {
        if self.records == 0 {
            return None;
        }
        let by = if self.unpacked.len() < TINY_BYTES { &OF_TINY } else { &COMPRESSOR };
        let body = by.with_borrow_mut(|compressor| compressor.compress(&self.unpacked)).expect("memory to memory");
        let block = EncodedBlock {
            records: self.records,
            // of its own size: what it was packed into has room for all of it unpacked, and blocks are kept in memory for a while
            body: Bytes::copy_from_slice(&body),
            unpacked: self.unpacked.len(),
            earliest_us: self.earliest_us,
            latest_us: self.latest_us,
        };
        self.unpacked.clear();
        (self.records, self.earliest_us, self.latest_us) = (0, i64::MAX, i64::MIN);
        Some(block)
    }
}

/// Packs records into as few blocks as their limits allow.
#[must_use]
pub fn pack<'a>(records: impl IntoIterator<Item = &'a Record>) -> Vec<EncodedBlock> {
    let mut builder = BlockBuilder::default();
    let mut blocks = Vec::new();
    for record in records {
        if builder.is_full() {
            blocks.extend(builder.finish());
        }
        builder.push_record(record);
    }
    blocks.extend(builder.finish());
    blocks
}

/// Puts the records of several blocks into one, in order, without reading them one by one; none if none is given.
///
/// # Errors
/// [`BlockError::Damaged`] if one of them is.
pub fn join<'b>(blocks: impl IntoIterator<Item = &'b EncodedBlock>) -> Result<Option<EncodedBlock>, BlockError> {
    let mut joined = BlockBuilder::default();
    for block in blocks {
        joined.unpacked.extend_from_slice(&UnpackedBlock::open(&block.body)?.data);
        joined.records += block.records;
        joined.earliest_us = joined.earliest_us.min(block.earliest_us);
        joined.latest_us = joined.latest_us.max(block.latest_us);
    }
    Ok(joined.finish())
}

/// A block's records, unpacked.
#[derive(Debug, Clone)]
pub struct UnpackedBlock {
    data: Bytes,
}

/// A record within an unpacked block.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct RecordRef<'a> {
    /// See [`Record::key`].
    pub key: Option<&'a [u8]>,
    /// See [`Record::value`].
    pub value: Option<&'a [u8]>,
    /// The encoded headers.
    headers: &'a [u8],
    /// See [`Record::timestamp_us`].
    pub timestamp_us: i64,
    /// See [`Record::schema`].
    pub schema: Option<SchemaId>,
    /// See [`Record::key_schema`].
    pub key_schema: Option<SchemaId>,
}

impl UnpackedBlock {
    /// Unpacks a body and checks its checksum.
    ///
    /// # Errors
    /// [`BlockError::Damaged`].
    pub fn open(body: &[u8]) -> Result<Self, BlockError> {
        let size = zstd::zstd_safe::get_frame_content_size(body).ok().flatten().unwrap_or(0);
        let size = usize::try_from(size).ok().filter(|&s| s <= UNPACKED_LIMIT);
        let size = size.ok_or_else(|| BlockError::Damaged("its stated size is beyond any block's".into()))?;
        let data = DECOMPRESSOR
            .with_borrow_mut(|decompressor| decompressor.decompress(body, size))
            .map_err(|e| BlockError::Damaged(e.to_string()))?;
        Ok(Self { data: data.into() })
    }

    /// The records in order.
    #[must_use]
    pub fn records(&self) -> Records<'_> {
        Records { reader: Reader::new(&self.data) }
    }

    /// Size in memory, in bytes.
    #[must_use]
    pub fn size(&self) -> usize {
        self.data.len()
    }
}

/// Iterates over a block's records.
#[derive(Debug)]
pub struct Records<'a> {
    reader: Reader<'a>,
}

impl<'a> Iterator for Records<'a> {
    type Item = Result<RecordRef<'a>, BlockError>;

    fn next(&mut self) -> Option<Self::Item> {
        if self.reader.remaining() == 0 {
            return None;
        }
        let record = read_record(&mut self.reader).map_err(BlockError::Records);
        if record.is_err() {
            self.reader = Reader::new(&[]);
        }
        Some(record)
    }
}

fn optional_bytes<'a>(reader: &mut Reader<'a>) -> Result<Option<&'a [u8]>, DecodeError> {
    if reader.branch(2)? == 0 { Ok(None) } else { reader.bytes().map(Some) }
}

fn optional_id(reader: &mut Reader<'_>) -> Result<Option<SchemaId>, DecodeError> {
    if reader.branch(2)? == 0 { Ok(None) } else { reader.long().map(|id| Some(SchemaId(id))) }
}

fn read_record<'a>(reader: &mut Reader<'a>) -> Result<RecordRef<'a>, DecodeError> {
    let key = optional_bytes(reader)?;
    let value = optional_bytes(reader)?;
    let mut skipping = *reader;
    skip_headers(&mut skipping)?;
    let headers = reader.take(reader.remaining() - skipping.remaining())?;
    let timestamp_us = reader.long()?;
    let schema = optional_id(reader)?;
    let key_schema = optional_id(reader)?;
    Ok(RecordRef { key, value, headers, timestamp_us, schema, key_schema })
}

fn skip_headers(reader: &mut Reader<'_>) -> Result<(), DecodeError> {
    each_header(reader, |_, _| ())
}

fn each_header<'a>(reader: &mut Reader<'a>, mut one: impl FnMut(&'a str, &'a [u8])) -> Result<(), DecodeError> {
    loop {
        let count = reader.long()?;
        if count == 0 {
            return Ok(());
        }
        if count < 0 {
            reader.long()?;
        }
        for _ in 0..count.unsigned_abs() {
            let name = reader.text()?;
            one(name, reader.bytes()?);
        }
    }
}

impl Record {
    /// The record as it is read from a block, without its headers.
    #[must_use]
    pub fn as_ref(&self) -> RecordRef<'_> {
        // an empty list of headers
        self.as_ref_with(&[0])
    }

    /// The record as it is read from a block, with headers that [`Self::encoded_headers`] gave.
    #[must_use]
    pub fn as_ref_with<'a>(&'a self, headers: &'a [u8]) -> RecordRef<'a> {
        RecordRef {
            key: self.key.as_deref(),
            value: self.value.as_deref(),
            headers,
            timestamp_us: self.timestamp_us,
            schema: self.schema,
            key_schema: self.key_schema,
        }
    }

    /// Its headers as they stand in a block.
    #[must_use]
    pub fn encoded_headers(&self) -> Vec<u8> {
        let mut out = Vec::new();
        write_headers(&self.headers, &mut out);
        out
    }
}

impl<'a> RecordRef<'a> {
    /// Its headers in order.
    #[must_use]
    pub fn headers(&self) -> Vec<(&'a str, &'a [u8])> {
        let mut headers = Vec::new();
        let kept = each_header(&mut Reader::new(self.headers), |name, value| headers.push((name, value)));
        debug_assert!(kept.is_ok(), "the headers were read once already");
        headers
    }

    /// The record on its own.
    #[must_use]
    pub fn to_record(&self) -> Record {
        let mut headers = Vec::new();
        let kept = each_header(&mut Reader::new(self.headers), |name, value| {
            headers.push(Header { name: name.to_owned(), value: Bytes::copy_from_slice(value) });
        });
        debug_assert!(kept.is_ok(), "the headers were read once already");
        Record {
            key: self.key.map(Bytes::copy_from_slice),
            value: self.value.map(Bytes::copy_from_slice),
            headers,
            timestamp_us: self.timestamp_us,
            schema: self.schema,
            key_schema: self.key_schema,
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn bytes() -> impl Strategy<Value = Option<Bytes>> {
        prop::option::of(prop::collection::vec(any::<u8>(), 0..60).prop_map(Bytes::from))
    }

    fn record() -> impl Strategy<Value = Record> {
        let header = (any::<String>(), prop::collection::vec(any::<u8>(), 0..9));
        let id = || prop::option::of(any::<i64>().prop_map(SchemaId));
        (bytes(), bytes(), prop::collection::vec(header, 0..3), any::<i64>(), id(), id()).prop_map(
            |(key, value, headers, timestamp_us, schema, key_schema)| Record {
                key,
                value,
                headers: headers.into_iter().map(|(name, value)| Header { name, value: value.into() }).collect(),
                timestamp_us,
                schema,
                key_schema,
            },
        )
    }

    #[test]
    fn a_body_takes_no_more_memory_than_it_is_long() {
        let value = Some(Bytes::from(vec![7; 200_000]));
        let record = Record { key: None, value, headers: Vec::new(), timestamp_us: 0, schema: None, key_schema: None };
        let body = pack([&record]).remove(0).body;
        let length = body.len();
        assert!(length < 1_000, "{length}");
        assert_eq!(body.try_into_mut().unwrap().capacity(), length);
    }

    proptest! {
        #![proptest_config(ProptestConfig::with_cases(64))]

        #[test]
        fn records_come_back_as_they_were(records in prop::collection::vec(record(), 1..40)) {
            let blocks = pack(&records);
            let mut found = Vec::new();
            for block in &blocks {
                let unpacked = UnpackedBlock::open(&block.body).unwrap();
                prop_assert_eq!(unpacked.size(), block.unpacked);
                found.extend(unpacked.records().map(|r| r.unwrap().to_record()));
            }
            prop_assert_eq!(&found, &records);
            prop_assert_eq!(blocks[0].earliest_us, records.iter().map(|r| r.timestamp_us).min().unwrap());
            prop_assert_eq!(blocks[0].latest_us, records.iter().map(|r| r.timestamp_us).max().unwrap());
        }

        #[test]
        fn joined_blocks_are_as_if_packed_at_once(records in prop::collection::vec(record(), 1..40), size in 1_usize..9) {
            let parts: Vec<EncodedBlock> = records.chunks(size).flat_map(pack).collect();
            prop_assert_eq!(vec![join(&parts).unwrap().unwrap()], pack(&records));
        }

        #[test]
        fn one_flipped_bit_is_noticed(records in prop::collection::vec(record(), 1..20), at: prop::sample::Index, bit in 0_u8..8) {
            let block = pack(&records).remove(0);
            let mut body = block.body.to_vec();
            let place = at.index(body.len());
            body[place] ^= 1 << bit;
            let found = UnpackedBlock::open(&body)
                .and_then(|unpacked| unpacked.records().map(|r| r.map(|r| r.to_record())).collect::<Result<Vec<_>, _>>());
            // a bit that zstd does not use may flip without harm, but never change what is read
            prop_assert!(found.is_err() || found.unwrap() == records, "bit {bit} of byte {place}");
        }
    }

    #[test]
    fn another_library_reads_a_block_as_an_object_container() {
        let record = Record {
            key: Some(Bytes::from_static(b"bin 7")),
            value: None,
            headers: vec![Header { name: "room".into(), value: Bytes::from_static(b"3") }],
            timestamp_us: 1_000,
            schema: Some(SchemaId(4)),
            key_schema: None,
        };
        let block = pack(std::iter::repeat_n(&record, 3)).remove(0);
        let mut file = b"Obj\x01".to_vec();
        write_length(2, &mut file);
        for (name, value) in [("avro.schema", RECORD_SCHEMA), ("avro.codec", "zstandard")] {
            write_bytes(name.as_bytes(), &mut file);
            write_bytes(value.as_bytes(), &mut file);
        }
        file.push(0);
        file.extend_from_slice(&[7; 16]);
        write_long(block.records.into(), &mut file);
        write_bytes(&block.body, &mut file);
        file.extend_from_slice(&[7; 16]);
        let read: Vec<_> = apache_avro::Reader::new(&file[..]).unwrap().map(Result::unwrap).collect();
        assert_eq!(read.len(), 3);
        let apache_avro::types::Value::Record(fields) = &read[2] else { panic!("not a record") };
        assert_eq!(fields[3].1, apache_avro::types::Value::TimestampMicros(1_000));
        assert!(format!("{:?}", fields[2].1).contains("room"));
    }
}
