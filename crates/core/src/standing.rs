//! Where a read goes on: blocks stand in the database or in files, and move from there to here while they are read.

/// Where the first blocks that end behind an offset stand, at one moment.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Standing {
    /// The first offset of the one in the database.
    pub hot: Option<i64>,
    /// The first offset of the one in a file.
    pub file: Option<i64>,
}

/// What a read takes.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Takes {
    /// What it read from the database.
    Hot,
    /// What the file has.
    File,
    /// Nothing: a block moved or went since it read, so that it looks once more.
    Again,
}

impl Standing {
    /// What a read takes that found `read` as the first block in the database, and then looked where blocks stand.
    ///
    /// What was read may be taken only while nothing stands before it: a block that moved after the one look and before the other
    /// would be passed over.
    #[must_use]
    pub fn takes(&self, read: Option<i64>) -> Takes {
        match self.file {
            Some(file) if self.hot.is_none_or(|hot| file < hot) => Takes::File,
            _ if read == self.hot => Takes::Hot,
            _ => Takes::Again,
        }
    }
}
