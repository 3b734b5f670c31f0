//! Avro's binary encoding ("Binary Encoding" in the specification): writing to a byte vector, reading from a slice.

/// What was wrong with encoded bytes.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum DecodeError {
    /// The bytes end within a value.
    #[error("the data ends in the middle of a value: it is cut short or was written with another schema")]
    Short,
    /// A variable-length number has more than ten bytes or a length is negative.
    #[error("a number in the data is out of range: it is damaged or was written with another schema")]
    Number,
    /// Text is not UTF-8.
    #[error("a text in the data is not UTF-8")]
    Text,
    /// A union branch or enumeration symbol that the schema does not have.
    #[error("the data names branch {branch} of {branches}: it was written with another schema")]
    Branch {
        /// Branch found.
        branch: i64,
        /// Branches the schema has.
        branches: usize,
    },
    /// The value nests deeper than [`DEEPEST`].
    #[error("the value nests deeper than {} levels", DEEPEST)]
    Deep,
    /// An array of items that take no bytes, of which there are too many.
    #[error("an array in the data has more than {MOST_EMPTY} items that take no bytes")]
    Empty,
    /// The value would take too much memory.
    #[error("the value has more parts than can be held: its fields, items and names would take more than {} MiB", MOST_PARTS >> 20)]
    Large,
}

/// Deepest nesting of a value.
pub const DEEPEST: usize = 128;
/// Items without any bytes that the arrays of what is read may have together: their count alone says how many there are.
pub const MOST_EMPTY: u32 = 10_000;
/// Memory that the parts of one value may take, about, in bytes: each field, item and name, without the bytes and texts themselves.
pub const MOST_PARTS: usize = 128 << 20;
/// What a part takes, about.
const PART: usize = 80;

/// Writes a `long` or `int`.
#[inline]
pub fn write_long(value: i64, out: &mut Vec<u8>) {
    let mut left = ((value << 1) ^ (value >> 63)).cast_unsigned();
    while left >= 0x80 {
        out.push(u8::try_from(left & 0x7f).expect("seven bits") | 0x80);
        left >>= 7;
    }
    out.push(u8::try_from(left).expect("seven bits"));
}

/// Writes a length: of bytes, text, array or map blocks.
#[inline]
pub fn write_length(length: usize, out: &mut Vec<u8>) {
    write_long(i64::try_from(length).expect("nothing in memory is longer than i64::MAX"), out);
}

/// Writes `bytes` or `string`.
#[inline]
pub fn write_bytes(bytes: &[u8], out: &mut Vec<u8>) {
    write_length(bytes.len(), out);
    out.extend_from_slice(bytes);
}

/// Writes a decimal as `bytes`: the unscaled value, two's complement, big-endian, as short as it goes.
pub fn write_decimal(unscaled: i128, out: &mut Vec<u8>) {
    let bytes = unscaled.to_be_bytes();
    let mut from = 0;
    while from < 15
        && ((bytes[from] == 0 && bytes[from + 1] & 0x80 == 0) || (bytes[from] == 0xff && bytes[from + 1] & 0x80 != 0))
    {
        from += 1;
    }
    write_bytes(&bytes[from..], out);
}

/// Reads encoded values from a slice, front to back.
#[derive(Debug, Clone, Copy)]
pub struct Reader<'a> {
    left: &'a [u8],
    empty: u32,
    parts: usize,
}

impl<'a> Reader<'a> {
    /// A reader at the start of `data`.
    #[must_use]
    pub fn new(data: &'a [u8]) -> Self {
        Self { left: data, empty: 0, parts: 0 }
    }

    /// Counts an item of an array that was read from where so many bytes remained.
    ///
    /// # Errors
    /// [`DecodeError::Empty`].
    #[inline]
    pub fn item(&mut self, remained: usize) -> Result<(), DecodeError> {
        if self.left.len() == remained {
            self.empty += 1;
            if self.empty > MOST_EMPTY {
                return Err(DecodeError::Empty);
            }
        }
        Ok(())
    }

    /// Counts a part of a value that is made of what is read, with the length of its name.
    ///
    /// # Errors
    /// [`DecodeError::Large`].
    #[inline]
    pub fn part(&mut self, name: usize) -> Result<(), DecodeError> {
        self.parts += PART + name;
        if self.parts > MOST_PARTS { Err(DecodeError::Large) } else { Ok(()) }
    }

    /// Begins another value: the parts of the one before are gone.
    pub fn next_value(&mut self) {
        self.parts = 0;
    }

    /// Bytes not yet read.
    #[must_use]
    pub fn remaining(&self) -> usize {
        self.left.len()
    }

    /// Reads `length` bytes as they are (an Avro `fixed`).
    ///
    /// # Errors
    /// [`DecodeError::Short`].
    #[inline]
    pub fn take(&mut self, length: usize) -> Result<&'a [u8], DecodeError> {
        let (taken, left) = self.left.split_at_checked(length).ok_or(DecodeError::Short)?;
        self.left = left;
        Ok(taken)
    }

    /// Reads a `long`.
    ///
    /// # Errors
    /// [`DecodeError::Short`] or [`DecodeError::Number`].
    #[inline]
    pub fn long(&mut self) -> Result<i64, DecodeError> {
        let mut value = 0_u64;
        let mut shift = 0;
        loop {
            let (&byte, left) = self.left.split_first().ok_or(DecodeError::Short)?;
            self.left = left;
            if shift > 63 {
                return Err(DecodeError::Number);
            }
            value |= u64::from(byte & 0x7f) << shift;
            if byte & 0x80 == 0 {
                break;
            }
            shift += 7;
        }
        Ok((value >> 1).cast_signed() ^ -((value & 1).cast_signed()))
    }

    /// Reads an `int`.
    ///
    /// # Errors
    /// As [`Self::long`], and if the number does not fit.
    #[inline]
    pub fn int(&mut self) -> Result<i32, DecodeError> {
        i32::try_from(self.long()?).map_err(|_| DecodeError::Number)
    }

    /// Reads a length.
    ///
    /// # Errors
    /// As [`Self::long`], and if it is negative.
    #[inline]
    pub fn length(&mut self) -> Result<usize, DecodeError> {
        usize::try_from(self.long()?).map_err(|_| DecodeError::Number)
    }

    /// Reads `bytes`.
    ///
    /// # Errors
    /// As [`Self::length`].
    #[inline]
    pub fn bytes(&mut self) -> Result<&'a [u8], DecodeError> {
        let length = self.length()?;
        self.take(length)
    }

    /// Reads `string`.
    ///
    /// # Errors
    /// As [`Self::bytes`], and if it is not UTF-8.
    #[inline]
    pub fn text(&mut self) -> Result<&'a str, DecodeError> {
        std::str::from_utf8(self.bytes()?).map_err(|_| DecodeError::Text)
    }

    /// Reads a `boolean`.
    ///
    /// # Errors
    /// [`DecodeError::Short`].
    #[inline]
    pub fn boolean(&mut self) -> Result<bool, DecodeError> {
        Ok(self.take(1)?[0] != 0)
    }

    /// Reads a decimal in `bytes`.
    ///
    /// # Errors
    /// As [`Self::bytes`], and if it has more than 16 bytes.
    pub fn decimal(&mut self) -> Result<i128, DecodeError> {
        let bytes = self.bytes()?;
        if bytes.is_empty() || bytes.len() > 16 {
            return Err(DecodeError::Number);
        }
        let mut wide = if bytes[0] & 0x80 == 0 { [0; 16] } else { [0xff; 16] };
        wide[16 - bytes.len()..].copy_from_slice(bytes);
        Ok(i128::from_be_bytes(wide))
    }

    /// Reads the branch of a union or the symbol of an enumeration, of so many.
    ///
    /// # Errors
    /// [`DecodeError::Branch`].
    #[inline]
    pub fn branch(&mut self, branches: usize) -> Result<usize, DecodeError> {
        let branch = self.long()?;
        usize::try_from(branch).ok().filter(|&b| b < branches).ok_or(DecodeError::Branch { branch, branches })
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    proptest! {
        #[test]
        fn numbers_come_back(long: i64, decimal: i128) {
            let mut out = Vec::new();
            write_long(long, &mut out);
            write_decimal(decimal, &mut out);
            let mut reader = Reader::new(&out);
            prop_assert_eq!(reader.long(), Ok(long));
            prop_assert_eq!(reader.decimal(), Ok(decimal));
            prop_assert_eq!(reader.remaining(), 0);
        }
    }

    #[test]
    fn the_specification_s_examples_hold() {
        for (value, bytes) in [(0, &[0_u8][..]), (-1, &[1]), (1, &[2]), (-64, &[0x7f]), (64, &[0x80, 1])] {
            let mut out = Vec::new();
            write_long(value, &mut out);
            assert_eq!(out, bytes);
        }
        assert_eq!(Reader::new(&[0xff; 11]).long(), Err(DecodeError::Number));
        assert_eq!(Reader::new(&[0x80]).long(), Err(DecodeError::Short));
    }
}
