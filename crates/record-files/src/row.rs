//! The rows of files.

use bytes::Bytes;
use gonvel_core::record::Header;

use crate::form::FileError;

/// A row of a file.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct Row {
    /// The partition the record was in.
    pub partition: i32,
    /// Its offset there.
    pub offset: i64,
    /// Microseconds since 1970-01-01 UTC.
    pub timestamp_us: i64,
    /// The key.
    pub key: Option<Bytes>,
    /// The value.
    pub value: Option<Bytes>,
    /// The headers in order.
    pub headers: Vec<Header>,
    /// Number of the schema of the value.
    pub schema: Option<i64>,
    /// Number of the schema of the key.
    pub key_schema: Option<i64>,
    /// The text of the value's schema, in the first row that uses it.
    pub schema_text: Option<String>,
    /// The text of the key's schema, in the first row that uses it.
    pub key_schema_text: Option<String>,
}

impl Row {
    /// Its key, its value and its headers, in bytes.
    #[must_use]
    pub fn size(&self) -> usize {
        let of = |part: &Option<Bytes>| part.as_ref().map_or(0, Bytes::len);
        of(&self.key) + of(&self.value) + self.headers.iter().map(|h| h.name.len() + h.value.len()).sum::<usize>()
    }
}

/// The rows of a file, read as they are asked for.
pub type Rows = Box<dyn Iterator<Item = Result<Row, FileError>> + Send>;

/// Takes the rows of a file.
pub(crate) trait Write: Send {
    fn row(&mut self, row: &Row, out: &mut Vec<u8>) -> Result<(), FileError>;
    fn finish(&mut self, out: &mut Vec<u8>) -> Result<(), FileError>;
}
