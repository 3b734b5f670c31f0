//! The messages of PostgreSQL's logical replication ("Logical Replication Message Formats" in its documentation, protocol
//! version 1 with logical messages), decoded without copying.

/// Bytes that are not what the protocol says.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum ProtocolError {
    /// The message ends too early.
    #[error("a replication message of kind {kind:?} is cut short")]
    Short {
        /// Its kind.
        kind: char,
    },
    /// A kind of message or part that this version of the protocol does not have.
    #[error("a replication message holds {found:?}, which protocol version 1 does not have")]
    Unknown {
        /// What was found.
        found: char,
    },
}

/// One column's value in a row.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Cell<'a> {
    /// SQL's null.
    Null,
    /// A large value that did not change and was not sent.
    Unchanged,
    /// Its text.
    Text(&'a [u8]),
    /// Its binary form, in a session that asked for it.
    Binary(&'a [u8]),
}

/// A row's cells, decoded as they are walked.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Tuple<'a> {
    columns: usize,
    data: &'a [u8],
}

impl<'a> Tuple<'a> {
    /// How many cells.
    #[must_use]
    pub fn len(&self) -> usize {
        self.columns
    }

    /// Whether it has no cell.
    #[must_use]
    pub fn is_empty(&self) -> bool {
        self.columns == 0
    }

    /// The cells in order. They were checked when the tuple was read.
    pub fn cells(&self) -> impl Iterator<Item = Cell<'a>> + use<'a> {
        let mut reader = Reader { data: self.data, kind: 'N' };
        (0..self.columns).map(move |_| reader.cell().unwrap_or(Cell::Null))
    }
}

/// What the old part of an update or delete holds.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Old<'a> {
    /// The replica identity's columns; the others are null here.
    Key(Tuple<'a>),
    /// The whole row.
    Row(Tuple<'a>),
}

/// A column of a relation message.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct RelationColumn {
    /// Part of the replica identity.
    pub identity: bool,
    /// Its name.
    pub name: String,
    /// Object id of its type.
    pub type_oid: u32,
    /// Its type modifier.
    pub type_modifier: i32,
}

/// A relation's description, sent before its first change and again after it changed.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Relation {
    /// Object id.
    pub oid: u32,
    /// Schema.
    pub schema: String,
    /// Name.
    pub name: String,
    /// `d` default, `n` nothing, `f` full, `i` index.
    pub identity: u8,
    /// Its columns.
    pub columns: Vec<RelationColumn>,
}

/// A decoded message.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Message<'a> {
    /// A transaction begins.
    Begin {
        /// Position of its commit.
        final_lsn: u64,
        /// Commit time, microseconds since 2000-01-01 UTC.
        commit_time: i64,
        /// Its number.
        xid: u32,
    },
    /// A transaction ends.
    Commit {
        /// Position of its commit.
        commit_lsn: u64,
        /// Position after it.
        end_lsn: u64,
    },
    /// Where a replicated transaction first came from.
    Origin(&'a str),
    /// A relation's description.
    Relation(Relation),
    /// A type's description.
    Type,
    /// A row was inserted.
    Insert {
        /// The relation.
        oid: u32,
        /// The row.
        new: Tuple<'a>,
    },
    /// A row was updated.
    Update {
        /// The relation.
        oid: u32,
        /// The row before, as far as it was sent.
        old: Option<Old<'a>>,
        /// The row.
        new: Tuple<'a>,
    },
    /// A row was deleted.
    Delete {
        /// The relation.
        oid: u32,
        /// The row before, as far as it was sent.
        old: Old<'a>,
    },
    /// Relations were emptied.
    Truncate(Vec<u32>),
    /// A message written with `pg_logical_emit_message`.
    Logical {
        /// Its position.
        lsn: u64,
        /// Its prefix.
        prefix: &'a str,
        /// Its content.
        content: &'a [u8],
    },
}

struct Reader<'a> {
    data: &'a [u8],
    kind: char,
}

impl<'a> Reader<'a> {
    fn take(&mut self, length: usize) -> Result<&'a [u8], ProtocolError> {
        let (taken, rest) = self.data.split_at_checked(length).ok_or(ProtocolError::Short { kind: self.kind })?;
        self.data = rest;
        Ok(taken)
    }

    fn array<const N: usize>(&mut self) -> Result<[u8; N], ProtocolError> {
        let kind = self.kind;
        self.take(N)?.try_into().map_err(|_| ProtocolError::Short { kind })
    }

    fn u8(&mut self) -> Result<u8, ProtocolError> {
        self.array::<1>().map(|[b]| b)
    }

    fn u16(&mut self) -> Result<usize, ProtocolError> {
        self.array().map(|b| usize::from(u16::from_be_bytes(b)))
    }

    fn u32(&mut self) -> Result<u32, ProtocolError> {
        self.array().map(u32::from_be_bytes)
    }

    fn u64(&mut self) -> Result<u64, ProtocolError> {
        self.array().map(u64::from_be_bytes)
    }

    fn text(&mut self) -> Result<&'a str, ProtocolError> {
        let kind = self.kind;
        let end = self.data.iter().position(|&b| b == 0).ok_or(ProtocolError::Short { kind })?;
        let text = self.take(end)?;
        self.take(1)?;
        std::str::from_utf8(text).map_err(|_| ProtocolError::Unknown { found: '\u{fffd}' })
    }

    fn sized(&mut self) -> Result<&'a [u8], ProtocolError> {
        let length = self.u32()?;
        self.take(usize::try_from(length).map_err(|_| ProtocolError::Short { kind: self.kind })?)
    }

    #[inline]
    fn cell(&mut self) -> Result<Cell<'a>, ProtocolError> {
        match self.u8()? {
            b'n' => Ok(Cell::Null),
            b'u' => Ok(Cell::Unchanged),
            b't' => self.sized().map(Cell::Text),
            b'b' => self.sized().map(Cell::Binary),
            other => Err(ProtocolError::Unknown { found: other.into() }),
        }
    }

    fn tuple(&mut self) -> Result<Tuple<'a>, ProtocolError> {
        let columns = self.u16()?;
        let whole = self.data;
        for _ in 0..columns {
            self.cell()?;
        }
        Ok(Tuple { columns, data: &whole[..whole.len() - self.data.len()] })
    }

    fn old(&mut self, mark: u8) -> Result<Old<'a>, ProtocolError> {
        match mark {
            b'K' => self.tuple().map(Old::Key),
            b'O' => self.tuple().map(Old::Row),
            other => Err(ProtocolError::Unknown { found: other.into() }),
        }
    }

    fn new_row(&mut self) -> Result<Tuple<'a>, ProtocolError> {
        match self.u8()? {
            b'N' => self.tuple(),
            other => Err(ProtocolError::Unknown { found: other.into() }),
        }
    }

    fn relation(&mut self) -> Result<Relation, ProtocolError> {
        let oid = self.u32()?;
        let schema = self.text()?;
        // the system's own schema is sent as nothing
        let schema = if schema.is_empty() { "pg_catalog" } else { schema }.to_owned();
        let name = self.text()?.to_owned();
        let identity = self.u8()?;
        let count = self.u16()?;
        let mut columns = Vec::with_capacity(count);
        for _ in 0..count {
            let flags = self.u8()?;
            let name = self.text()?.to_owned();
            let type_oid = self.u32()?;
            let type_modifier = self.array().map(i32::from_be_bytes)?;
            columns.push(RelationColumn { identity: flags & 1 == 1, name, type_oid, type_modifier });
        }
        Ok(Relation { oid, schema, name, identity, columns })
    }
}

/// Decodes one message.
///
/// # Errors
/// [`ProtocolError`] if the bytes are not one.
pub fn decode(data: &[u8]) -> Result<Message<'_>, ProtocolError> {
    let (&kind, data) = data.split_first().ok_or(ProtocolError::Short { kind: ' ' })?;
    let mut reader = Reader { data, kind: kind.into() };
    Ok(match kind {
        b'B' => Message::Begin {
            final_lsn: reader.u64()?,
            commit_time: reader.array().map(i64::from_be_bytes)?,
            xid: reader.u32()?,
        },
        b'C' => {
            reader.u8()?;
            Message::Commit { commit_lsn: reader.u64()?, end_lsn: reader.u64()? }
        }
        b'O' => {
            reader.u64()?;
            Message::Origin(reader.text()?)
        }
        b'R' => Message::Relation(reader.relation()?),
        b'Y' => Message::Type,
        b'I' => Message::Insert { oid: reader.u32()?, new: reader.new_row()? },
        b'U' => {
            let oid = reader.u32()?;
            match reader.u8()? {
                b'N' => Message::Update { oid, old: None, new: reader.tuple()? },
                mark => Message::Update { oid, old: Some(reader.old(mark)?), new: reader.new_row()? },
            }
        }
        b'D' => {
            let oid = reader.u32()?;
            let mark = reader.u8()?;
            Message::Delete { oid, old: reader.old(mark)? }
        }
        b'T' => {
            let count = reader.u32()?;
            reader.u8()?;
            let oids = (0..count).map(|_| reader.u32()).collect::<Result<_, _>>()?;
            Message::Truncate(oids)
        }
        b'M' => {
            reader.u8()?;
            Message::Logical { lsn: reader.u64()?, prefix: reader.text()?, content: reader.sized()? }
        }
        other => return Err(ProtocolError::Unknown { found: other.into() }),
    })
}
