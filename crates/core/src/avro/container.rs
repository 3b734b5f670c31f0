//! Avro's object container files ("Object Container Files" in the specification): a header with the schema, then blocks of
//! records, each followed by the file's sync marker.

use std::io::Read;

use super::binary::{DecodeError, write_bytes, write_length, write_long};

const MAGIC: &[u8] = b"Obj\x01";

/// The sync marker of a file: sixteen bytes that are not likely to stand in its data.
pub type Sync = [u8; 16];

/// How a file's blocks are packed.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Codec {
    /// Not at all.
    Null,
    /// By DEFLATE, without a head or a checksum; the specification requires it of readers.
    Deflate,
    /// By Zstandard.
    Zstandard,
}

impl Codec {
    fn word(self) -> &'static str {
        match self {
            Self::Null => "null",
            Self::Deflate => "deflate",
            Self::Zstandard => "zstandard",
        }
    }
}

/// Why a file cannot be read.
#[derive(Debug, thiserror::Error)]
pub enum ContainerError {
    /// Another kind of file.
    #[error("it does not begin like an Avro object container file")]
    NotAContainer,
    /// A codec this reader does not know.
    #[error("its blocks are packed by {0:?}: write the file with the codec null, deflate or zstandard")]
    Codec(String),
    /// It has no schema.
    #[error("its header has no schema")]
    NoSchema,
    /// A block is damaged.
    #[error("block {block} is damaged: {finding}")]
    Damaged {
        /// Its number, from 0.
        block: usize,
        /// What was found.
        finding: String,
    },
    /// A block is more than is taken.
    #[error("block {block} unpacks to more than {most} bytes: write smaller blocks, or fewer records")]
    TooLarge {
        /// Its number, from 0.
        block: usize,
        /// What was left of what is taken.
        most: usize,
    },
    /// The input could not be read.
    #[error("it cannot be read: {0}")]
    Input(#[source] std::io::Error),
    /// It ends in the middle.
    #[error("it ends early or is damaged: {0}")]
    Decode(#[from] DecodeError),
}

/// The head of a file.
#[must_use]
pub fn header(schema: &str, codec: Codec, sync: &Sync) -> Vec<u8> {
    let mut out = MAGIC.to_vec();
    write_length(2, &mut out);
    for (name, value) in [("avro.schema", schema), ("avro.codec", codec.word())] {
        write_bytes(name.as_bytes(), &mut out);
        write_bytes(value.as_bytes(), &mut out);
    }
    out.push(0);
    out.extend_from_slice(sync);
    out
}

/// A block's head, its data and its end; also the place of the data in what is appended.
pub fn write_block(records: u32, data: &[u8], sync: &Sync, out: &mut Vec<u8>) -> usize {
    write_long(records.into(), out);
    write_length(data.len(), out);
    let place = out.len();
    out.extend_from_slice(data);
    out.extend_from_slice(sync);
    place
}

/// A file's schema and the data of its blocks, unpacked. Reads no more of the file than the blocks asked for.
#[derive(Debug)]
pub struct Container<R> {
    /// The schema's text.
    pub schema: String,
    codec: Codec,
    sync: Sync,
    input: R,
    block: usize,
}

/// Longest header value and block data, packed, in bytes: a damaged length must not take the memory.
const LONGEST: i64 = 256 << 20;

fn take<R: Read>(input: &mut R, length: i64) -> Result<Vec<u8>, ContainerError> {
    let length = u64::try_from(length).ok().filter(|l| l.cast_signed() <= LONGEST).ok_or(DecodeError::Number)?;
    let mut out = Vec::new();
    input.take(length).read_to_end(&mut out).map_err(ContainerError::Input)?;
    if u64::try_from(out.len()) == Ok(length) { Ok(out) } else { Err(DecodeError::Short.into()) }
}

/// A long, or none at the end of the input.
fn long<R: Read>(input: &mut R) -> Result<Option<i64>, ContainerError> {
    let (mut value, mut shift) = (0_u64, 0);
    loop {
        let mut byte = [0];
        if input.read(&mut byte).map_err(ContainerError::Input)? == 0 {
            return if shift == 0 { Ok(None) } else { Err(DecodeError::Short.into()) };
        }
        if shift > 63 {
            return Err(DecodeError::Number.into());
        }
        value |= u64::from(byte[0] & 0x7f) << shift;
        if byte[0] & 0x80 == 0 {
            return Ok(Some((value >> 1).cast_signed() ^ -(value & 1).cast_signed()));
        }
        shift += 7;
    }
}

fn present<R: Read>(input: &mut R) -> Result<i64, ContainerError> {
    long(input)?.ok_or_else(|| DecodeError::Short.into())
}

impl<R: Read> Container<R> {
    /// Reads the head.
    ///
    /// # Errors
    /// [`ContainerError`].
    pub fn open(mut input: R) -> Result<Self, ContainerError> {
        if take(&mut input, 4).map_or(true, |magic| magic != MAGIC) {
            return Err(ContainerError::NotAContainer);
        }
        let (mut schema, mut codec) = (None, Codec::Null);
        loop {
            let count = present(&mut input)?;
            if count == 0 {
                break;
            }
            if count < 0 {
                present(&mut input)?;
            }
            for _ in 0..count.unsigned_abs() {
                let length = present(&mut input)?;
                let name = take(&mut input, length)?;
                let length = present(&mut input)?;
                let value = take(&mut input, length)?;
                match &name[..] {
                    b"avro.schema" => schema = Some(String::from_utf8_lossy(&value).into_owned()),
                    b"avro.codec" => {
                        codec = match &value[..] {
                            b"null" => Codec::Null,
                            b"deflate" => Codec::Deflate,
                            b"zstandard" => Codec::Zstandard,
                            other => return Err(ContainerError::Codec(String::from_utf8_lossy(other).into_owned())),
                        }
                    }
                    _ => {}
                }
            }
        }
        let mut sync = Sync::default();
        sync.copy_from_slice(&take(&mut input, 16)?);
        Ok(Self { schema: schema.ok_or(ContainerError::NoSchema)?, codec, sync, input, block: 0 })
    }

    /// The next block: how many records, and their data. `most` limits the bytes it may unpack to.
    ///
    /// # Errors
    /// [`ContainerError`].
    pub fn next_block(&mut self, most: usize) -> Result<Option<(u64, Vec<u8>)>, ContainerError> {
        let block = self.block;
        let damaged = |finding: String| ContainerError::Damaged { block, finding };
        let Some(records) = long(&mut self.input)? else { return Ok(None) };
        let length = present(&mut self.input)?;
        let data = take(&mut self.input, length)?;
        if take(&mut self.input, 16)? != self.sync {
            return Err(damaged("the marker after it is another than the file's".into()));
        }
        self.block += 1;
        let records = u64::try_from(records).map_err(|_| damaged("it says that it has fewer than no records".into()))?;
        let data = match self.codec {
            Codec::Null => Some(data).filter(|data| data.len() <= most),
            Codec::Deflate => limited(flate2::read::DeflateDecoder::new(&data[..]), most).map_err(damaged)?,
            Codec::Zstandard => unpacked(&data, most).map_err(damaged)?,
        };
        Ok(Some((records, data.ok_or(ContainerError::TooLarge { block, most })?)))
    }
}

/// Data packed for a block of a file whose codec is [`Codec::Zstandard`].
///
/// # Errors
/// What the library says.
pub fn pack(data: &[u8]) -> Result<Vec<u8>, String> {
    zstd::bulk::compress(data, 1).map_err(|e| e.to_string())
}

/// The data that [`pack`] packed, of so many bytes at most.
///
/// # Errors
/// What is wrong with it.
pub fn unpack(data: &[u8], most: usize) -> Result<Vec<u8>, String> {
    unpacked(data, most)?.ok_or_else(|| format!("it unpacks to more than {most} bytes"))
}

fn unpacked(data: &[u8], most: usize) -> Result<Option<Vec<u8>>, String> {
    limited(zstd::stream::read::Decoder::new(data).map_err(|e| e.to_string())?, most)
}

/// All that comes; none if it is more than so many bytes.
fn limited(from: impl Read, most: usize) -> Result<Option<Vec<u8>>, String> {
    let mut out = Vec::new();
    let limit = u64::try_from(most).unwrap_or(u64::MAX).saturating_add(1);
    from.take(limit).read_to_end(&mut out).map_err(|e| e.to_string())?;
    Ok((out.len() <= most).then_some(out))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn files_come_back_and_those_of_another_library_are_read() {
        let sync = [7; 16];
        let mut file = header(r#""long""#, Codec::Null, &sync);
        let mut data = Vec::new();
        (0..3).for_each(|n| write_long(n, &mut data));
        let place = write_block(3, &data, &sync, &mut file);
        assert_eq!(&file[place..place + data.len()], &data[..]);
        let read: Vec<_> = apache_avro::Reader::new(&file[..]).unwrap().map(Result::unwrap).collect();
        assert_eq!(read, (0..3).map(apache_avro::types::Value::Long).collect::<Vec<_>>());

        let schema = apache_avro::Schema::parse_str(r#""long""#).unwrap();
        for codec in [
            apache_avro::Codec::Null,
            apache_avro::Codec::Deflate(apache_avro::DeflateSettings::default()),
            apache_avro::Codec::Zstandard(apache_avro::ZstandardSettings::default()),
        ] {
            let mut writer = apache_avro::Writer::with_codec(&schema, Vec::new(), codec).unwrap();
            for _ in 0..100 {
                writer.append_value(41_i64).unwrap();
            }
            let file = writer.into_inner().unwrap();
            let mut container = Container::open(&file[..]).unwrap();
            assert_eq!(container.next_block(100).unwrap(), Some((100, vec![82; 100])), "{codec:?}");
            assert_eq!(container.next_block(1 << 20).unwrap(), None);
            let refused = Container::open(&file[..]).unwrap().next_block(99);
            assert!(matches!(refused, Err(ContainerError::TooLarge { block: 0, most: 99 })), "{refused:?}");
        }
    }

    #[test]
    fn what_is_no_file_or_cut_off_is_said() {
        let mut file = header(r#""long""#, Codec::Zstandard, &[7; 16]);
        assert!(matches!(Container::open(&b"PAR1"[..]), Err(ContainerError::NotAContainer)));
        assert!(matches!(Container::open(&file[..30]), Err(ContainerError::Decode(_))));
        write_block(1, b"not packed", &[7; 16], &mut file);
        let mut container = Container::open(&file[..]).unwrap();
        assert!(matches!(container.next_block(99), Err(ContainerError::Damaged { block: 0, .. })));
    }
}
