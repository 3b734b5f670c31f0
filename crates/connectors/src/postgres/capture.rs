//! From the stream's messages to batches of changes, with the initial load's chunks in their places between them.

use std::borrow::Cow;
use std::collections::{BTreeMap, HashMap};
use std::sync::Arc;
use std::time::{Duration, Instant};

use gonvel_core::change::{ChangeBatchBuilder, ChangeKind, Origin};
use gonvel_core::connector::CapturedTable;
use gonvel_core::loading::{ChangedKeys, Readings};
use gonvel_core::ports::systems::{Captured, ConnectorError, TableChanges};
use gonvel_core::table::TableSchema;
use tokio::sync::mpsc;
use tokio_postgres::Client;

use super::about::USUAL_SCHEMA;
use super::binary;
use super::followed::{Followed, NewRow};
use super::load::{self, Chunk};
use super::pgoutput::{self, Cell, Message, Old, Relation, Tuple};
use super::position::{PgPosition, Transaction};
use super::publication;
use super::replication::{EPOCH_US, Frame, Frames};
use super::slot::is_at_work;
use super::source_settings::PgSourceSettings;
use super::tables::{self, Describer};
use super::unsent;

/// Changes after which a batch is handed on even if more are there.
const MOST_CHANGES: usize = 10_000;
/// Bytes after which a batch is handed on.
const MOST_BYTES: usize = 4 << 20;
/// How often an idle source's position moves on.
const IDLE_STEP: Duration = Duration::from_secs(10);

/// Turns the stream into batches, and puts the initial load's chunks where they belong between them.
pub(super) struct Capture {
    settings: PgSourceSettings,
    client: Client,
    describer: Describer,
    relations: HashMap<u32, Option<Arc<Followed>>>,
    builders: BTreeMap<usize, ChangeBatchBuilder>,
    transaction: Option<Transaction>,
    position: PgPosition,
    pending: usize,
    pending_bytes: usize,
    /// What was handed on last holds a part of the transaction under way.
    ends_later: bool,
    /// Keys the stream changed, for tables still being loaded.
    changed: HashMap<String, ChangedKeys>,
    loaded: mpsc::Receiver<Chunk>,
    /// Whether the session gives values in binary form.
    binary: bool,
    /// The session is to end here, and another to go on.
    ends: bool,
    /// Tables found by their names since the last batch.
    found: Vec<CapturedTable>,
    /// Chunks that came before others whose marks are due first, by their marks.
    waiting: HashMap<String, Chunk>,
    readings: Readings,
    mark: String,
    scratch: Vec<u8>,
    idle_since: Instant,
}

type Out = mpsc::Sender<Result<Captured, ConnectorError>>;

impl Capture {
    /// A capture from a position on. Chunks come through `loaded`, each before the mark with this session's name.
    pub(super) fn new(
        settings: PgSourceSettings,
        position: PgPosition,
        client: Client,
        loaded: mpsc::Receiver<Chunk>,
        readings: Readings,
        mark: String,
        binary: bool,
    ) -> Self {
        Self {
            changed: position.loads.keys().map(|name| (name.clone(), ChangedKeys::default())).collect(),
            relations: HashMap::new(),
            describer: Describer::default(),
            client,
            builders: BTreeMap::new(),
            transaction: None,
            position,
            pending: 0,
            pending_bytes: 0,
            ends_later: false,
            loaded,
            waiting: HashMap::new(),
            binary,
            ends: false,
            found: Vec::new(),
            readings,
            mark,
            scratch: Vec::new(),
            idle_since: Instant::now(),
            settings,
        }
    }

    /// Hands batches on until the stream ends.
    ///
    /// # Errors
    /// [`ConnectorError`] says why it ended.
    pub(super) async fn run(&mut self, mut frames: Frames, out: &Out) -> Result<(), ConnectorError> {
        let lent_until = self.position.lent.as_ref().map(|lent| lent.until).filter(|until| self.position.lsn < *until);
        loop {
            if lent_until.is_some_and(|until| self.transaction.is_none() && self.position.lsn >= until) {
                // from here on our own publication is known: whoever starts anew streams by that
                self.position.lent = None;
                return self.end(out).await;
            }
            let frame = if self.pending > 0 && !frames.has_one() {
                // nothing more is there right now: hand on what there is as soon as it is wanted
                tokio::select! {
                    biased;
                    permit = out.reserve() => {
                        let Ok(permit) = permit else { return Ok(()) };
                        permit.send(Ok(self.take()));
                        continue;
                    }
                    frame = self.frame(&mut frames) => frame?,
                }
            } else {
                self.frame(&mut frames).await?
            };
            match frame {
                Frame::Data(data) => {
                    self.pending_bytes += data.len();
                    let message = pgoutput::decode(&data).map_err(|e| ConnectorError::Defect(e.to_string()))?;
                    self.message(message, out).await?;
                    if self.ends {
                        return self.end(out).await;
                    }
                    if self.pending >= MOST_CHANGES || self.pending_bytes >= MOST_BYTES {
                        self.hand_on(out).await?;
                    }
                }
                Frame::KeepAlive { sent } => {
                    if self.transaction.is_none() && self.pending == 0 && sent > self.position.lsn {
                        self.position.lsn = sent;
                        if self.idle_since.elapsed() > IDLE_STEP {
                            self.hand_on(out).await?;
                        }
                    }
                }
            }
        }
    }

    /// The next frame, unless nothing comes for too long although the server has nothing to do. One that is at work on a large
    /// transaction may say nothing for long.
    ///
    /// Cancel safety: dropped while waiting, nothing is lost.
    async fn frame(&self, frames: &mut Frames) -> Result<Frame, ConnectorError> {
        loop {
            if let Ok(frame) = tokio::time::timeout(self.settings.silence, frames.next()).await {
                return frame;
            }
            if !is_at_work(&self.settings.address, &self.settings.slot()).await? {
                return Err(ConnectorError::try_again(
                    format!(
                        "nothing came from the server for {} s, though it was asked to answer",
                        self.settings.silence.as_secs()
                    ),
                    "Gonvel opens another session; look for a firewall that forgets connections, if it comes again",
                ));
            }
        }
    }

    /// What has been gathered, with the position that goes with it.
    fn take(&mut self) -> Captured {
        let mut changes = Vec::new();
        for (&table, builder) in &mut self.builders {
            if !builder.is_empty() {
                changes.push(TableChanges { table, batch: builder.finish(), rows: None });
            }
        }
        self.position.note_part(self.transaction.as_ref());
        self.ends_later = self.transaction.is_some() && self.position.partial.is_some();
        (self.pending, self.pending_bytes, self.idle_since) = (0, 0, Instant::now());
        Captured { changes, position: Box::new(self.position.clone()), found: std::mem::take(&mut self.found), last: false }
    }

    /// Hands on what there is as the last of this session.
    async fn end(&mut self, out: &Out) -> Result<(), ConnectorError> {
        let last = Captured { last: true, ..self.take() };
        let _ = out.send(Ok(last)).await;
        Ok(())
    }

    /// The place of a table that is captured because of its name, though no one found it when the session began: it was made
    /// since, or is gone by now.
    fn find(&mut self, relation: &Relation) -> Option<usize> {
        let settings = &self.settings;
        let taken = |topic: &str| {
            settings.tables.iter().any(|t| t.topic == topic) || settings.schema_changes.as_deref() == Some(topic)
        };
        let name = (relation.schema.as_str(), relation.name.as_str());
        let found = settings.patterns.as_ref()?.find((&settings.address.database, USUAL_SCHEMA), name, taken)?.ok()?;
        self.settings.tables.push(found.clone());
        self.found.push(found);
        Some(self.settings.tables.len() - 1)
    }

    async fn hand_on(&mut self, out: &Out) -> Result<(), ConnectorError> {
        let captured = self.take();
        let closed = |_| ConnectorError::try_again("the lane has stopped", "it starts again by itself");
        out.send(Ok(captured)).await.map_err(closed)
    }

    async fn message(&mut self, message: Message<'_>, out: &Out) -> Result<(), ConnectorError> {
        match message {
            Message::Begin { final_lsn, commit_time, xid } => {
                self.transaction = Some(self.position.begins(final_lsn, commit_time + EPOCH_US, xid));
            }
            Message::Commit { end_lsn, .. } => {
                if let Some(transaction) = self.transaction.take() {
                    self.position.ends(&transaction, end_lsn);
                }
                if std::mem::take(&mut self.ends_later) && self.pending == 0 {
                    // its rows are appended already: whoever delivers transactions whole waits for its end
                    self.hand_on(out).await?;
                }
            }
            Message::Relation(relation) => self.relation(&relation, out).await?,
            Message::Insert { oid, new } => {
                if let Some(followed) = self.row_of(oid) {
                    self.note(&followed, new);
                    self.push(&followed, ChangeKind::Insert, Some(new), None)?;
                }
            }
            Message::Update { oid, old, new } => {
                if let Some(followed) = self.row_of(oid) {
                    self.update(&followed, old, new).await?;
                }
            }
            Message::Delete { oid, old } => {
                if let Some(followed) = self.row_of(oid) {
                    let (Old::Key(tuple) | Old::Row(tuple)) = old;
                    self.note(&followed, tuple);
                    self.push(&followed, ChangeKind::Delete, None, Some(old))?;
                }
            }
            Message::Truncate(oids) => {
                for oid in oids {
                    // rows alone cannot say it; it may come from before it was no longer asked for
                    if let Some(followed) = self.row_of(oid).filter(|_| !self.settings.whole_rows) {
                        let number = self.transaction.as_ref().map_or(0, |t| t.number);
                        if let Some(changed) = self.changed.get_mut(&followed.name) {
                            changed.note_emptied(number);
                        }
                        self.push(&followed, ChangeKind::Truncate, None, None)?;
                    }
                }
            }
            Message::Logical { prefix, content, .. } => {
                if prefix == load::MARK && content.starts_with(self.mark.as_bytes()) {
                    self.chunk(content, out).await?;
                } else if prefix == load::MARK {
                    self.made_anew(content, out).await?;
                }
            }
            Message::Origin(_) | Message::Type => {}
        }
        Ok(())
    }

    /// A mark came from which on a table is another of its name: what was carried of the one before is gone.
    async fn made_anew(&mut self, mark: &[u8], out: &Out) -> Result<(), ConnectorError> {
        if !mark.starts_with(self.settings.anew_mark("").as_bytes()) {
            return Ok(());
        }
        let Some(is_new) = self.transaction.as_ref().map(Transaction::has_new_next) else { return Ok(()) };
        let named = |t: &CapturedTable| self.settings.anew_mark(&t.qualified()).as_bytes() == mark;
        let shape = match self.settings.tables.iter().position(named).filter(|_| is_new) {
            Some(table) => self.shape_now(table).await?.map(|shape| (table, shape)),
            None => None,
        };
        if let Some((table, shape)) = &shape {
            // what is handed on here is from before the mark
            self.open(*table, shape, out).await?;
        }
        // counted in every session alike, whatever tables it knows
        let Some(transaction) = &mut self.transaction else { return Ok(()) };
        transaction.counts_new();
        let number = transaction.number;
        let Some((table, shape)) = shape else { return Ok(()) };
        let followed = Followed { table, name: shape.qualified(), places: Vec::new(), shape };
        if let Some(changed) = self.changed.get_mut(&followed.name) {
            changed.note_emptied(number);
        }
        self.push(&followed, ChangeKind::Truncate, None, None)
    }

    /// What a table is like now; none where it is gone again: whoever makes it anew marks that as well.
    async fn shape_now(&self, table: usize) -> Result<Option<Arc<TableSchema>>, ConnectorError> {
        let wanted = &self.settings.tables[table];
        match tables::describe(&self.client, &self.settings.address.database, wanted).await {
            Err(ConnectorError::Settings { .. }) if !tables::is_there(&self.client, wanted).await? => Ok(None),
            shape => Ok(Some(Arc::new(shape?))),
        }
    }

    /// Makes room for changes of a table in a shape: one batch has one.
    async fn open(&mut self, table: usize, shape: &Arc<TableSchema>, out: &Out) -> Result<(), ConnectorError> {
        if self.builders.get(&table).is_some_and(|b| !b.is_empty() && **b.table() != **shape) {
            self.hand_on(out).await?;
        }
        if self.builders.get(&table).is_none_or(|b| **b.table() != **shape) {
            self.builders.insert(table, ChangeBatchBuilder::new(shape.clone()));
        }
        Ok(())
    }

    /// The place of a table that is captured, by its name.
    fn place(&self, schema: &str, name: &str) -> Option<usize> {
        self.settings.tables.iter().position(|t| t.schema == schema && t.table == name)
    }

    /// A table under the name that it is captured under. The log calls it as it was called then: one that had another name for a while, if only
    /// that of another captured table, brings its rows under that.
    async fn under_its_name<'r>(&self, relation: &'r Relation) -> Result<Cow<'r, Relation>, ConnectorError> {
        let called = format!("{}.{}", relation.schema, relation.name);
        let known = self.position.name_of(relation.oid);
        if known == Some(called.as_str()) || (known.is_none() && self.place(&relation.schema, &relation.name).is_some()) {
            return Ok(Cow::Borrowed(relation));
        }
        let under = |schema: &str, name: &str| {
            Cow::Owned(Relation { schema: schema.to_owned(), name: name.to_owned(), ..relation.clone() })
        };
        let own = self.settings.tables.iter().find(|table| Some(table.qualified().as_str()) == known);
        let now = tables::name_now(&self.client, relation.oid).await?;
        let is_captured = now.as_ref().is_some_and(|(schema, name)| self.place(schema, name).is_some());
        match (own, now) {
            // it is gone
            (Some(own), None) => Ok(under(&own.schema, &own.table)),
            (Some(own), Some((schema, name))) if is_captured && (&own.schema, &own.table) != (&schema, &name) => {
                Err(ConnectorError::try_again(
                    format!(
                        "the table {} is called {schema}.{name} now, as another one was that is captured",
                        own.qualified()
                    ),
                    "the lane starts again by itself and takes it for a new table of that name",
                ))
            }
            // by a name that is not captured it is no one's: that is found out next
            (Some(_), Some((schema, name))) => Ok(under(&schema, &name)),
            (None, Some((schema, name))) if is_captured => Ok(under(&schema, &name)),
            (None, _) => Ok(Cow::Borrowed(relation)),
        }
    }

    async fn relation(&mut self, relation: &Relation, out: &Out) -> Result<(), ConnectorError> {
        let relation = self.under_its_name(relation).await?;
        let table = self.place(&relation.schema, &relation.name);
        let relation = &*relation;
        let Some(table) = table.or_else(|| self.find(relation)) else {
            if self.position.lent.is_none() {
                publication::refuse_renamed_now(&self.client, &self.settings, &relation.schema, &relation.name).await?;
            }
            self.relations.insert(relation.oid, None);
            return Ok(());
        };
        let wanted = &self.settings.tables[table];
        let shape = self.describer.describe(&self.client, &self.settings.address.database, wanted, relation).await?;
        if !wanted.key.is_empty() {
            publication::refuse_without_identity(&self.client, wanted, relation).await?;
        }
        self.open(table, &shape, out).await?;
        if self.binary && !binary::reads(&shape) {
            // a column came whose values have no binary form here: from this place on as text
            self.position.text = true;
            self.ends = true;
            return Ok(());
        }
        let place = |name: &String| shape.columns.iter().position(|c| c.name == *name);
        let places = relation.columns.iter().map(|c| place(&c.name)).collect();
        let followed = Followed { table, name: shape.qualified(), places, shape };
        self.relations.insert(relation.oid, Some(Arc::new(followed)));
        Ok(())
    }

    /// Counts a row message; gives its relation if it is followed and was not appended by an earlier session.
    fn row_of(&mut self, oid: u32) -> Option<Arc<Followed>> {
        let skipped = !self.transaction.as_mut()?.counts_new();
        self.relations.get(&oid).cloned().flatten().filter(|_| !skipped)
    }

    /// Remembers a changed key while its table is being loaded.
    fn note(&mut self, followed: &Followed, tuple: Tuple<'_>) {
        if self.changed.contains_key(&followed.name) {
            self.note_key(followed, followed.key_text(tuple));
        }
    }

    fn note_key(&mut self, followed: &Followed, key: Vec<u8>) {
        let Some(changed) = self.changed.get_mut(&followed.name) else { return };
        changed.note(key, self.transaction.as_ref().map_or(0, |t| t.number));
    }

    async fn update(&mut self, followed: &Followed, old: Option<Old<'_>>, new: Tuple<'_>) -> Result<(), ConnectorError> {
        if !followed.cells(new).any(|(_, cell)| cell == Cell::Unchanged) {
            self.note(followed, new);
            let same_key =
                old.is_none_or(|(Old::Key(tuple) | Old::Row(tuple))| followed.key_text(tuple) == followed.key_text(new));
            if same_key {
                return self.push(followed, ChangeKind::Update, Some(new), old);
            }
            self.goes(followed, old)?;
            return self.push(followed, ChangeKind::Insert, Some(new), None);
        }
        let row = followed.new_row(old, new)?;
        let key = followed.key_of(row.cells.iter().copied().enumerate());
        self.note_key(followed, key.clone());
        if old.is_none_or(|(Old::Key(tuple) | Old::Row(tuple))| followed.key_text(tuple) == key) {
            // while its table is being loaded the stream's change may be the only one that brings the row, and in row form
            // a value is always the whole row
            let needs_all =
                self.settings.whole_rows || self.settings.fetches_unsent || self.changed.contains_key(&followed.name);
            return if row.lacks_values && needs_all {
                self.push_complete(followed, ChangeKind::Update, old, row).await
            } else {
                self.push_row(followed, ChangeKind::Update, &row.cells, old)
            };
        }
        self.goes(followed, old)?;
        self.push_complete(followed, ChangeKind::Insert, old, row).await
    }

    /// Another key is another row: the old one goes, the new one comes.
    fn goes(&mut self, followed: &Followed, old: Option<Old<'_>>) -> Result<(), ConnectorError> {
        if let Some(Old::Key(tuple) | Old::Row(tuple)) = old {
            self.note(followed, tuple);
        }
        self.push(followed, ChangeKind::Delete, None, old)
    }

    /// A row whose large values were not sent and that must be whole: they come from the old row, or else from the table.
    /// There they may be newer than this change; the change that made them so follows in the stream.
    async fn push_complete<'t>(
        &mut self,
        followed: &Followed,
        kind: ChangeKind,
        old: Option<Old<'t>>,
        mut row: NewRow<'t>,
    ) -> Result<(), ConnectorError> {
        if let Some(Old::Row(before)) = old {
            for (index, kept) in followed.cells(before) {
                if row.cells[index] == Cell::Unchanged {
                    row.cells[index] = kept;
                }
            }
        }
        let cells = &mut row.cells;
        let missing: Vec<usize> = (0..cells.len()).filter(|&i| cells[i] == Cell::Unchanged).collect();
        let mut fetched = None;
        if !missing.is_empty() {
            if let Some(transaction) = &self.transaction {
                load::until_visible(&self.client, transaction.number, &self.settings.slot()).await?;
            }
            fetched = unsent::fetch(&self.client, followed, cells, &missing).await?;
        }
        if fetched.is_none() && !missing.is_empty() && kind == ChangeKind::Update {
            if self.changed.contains_key(&followed.name) {
                // it is gone by now, and may never have been loaded: what took it follows in the stream
                return Ok(());
            }
            return self.push_row(followed, kind, cells, old);
        }
        for index in missing {
            cells[index] = match &fetched {
                Some(fetched) => fetched.get(&index).map_or(Cell::Null, |text| Cell::Text(text)),
                // a row that is gone by now is deleted later in the stream; until then an insert has no more to tell
                None => Cell::Null,
            };
        }
        self.push_row(followed, kind, cells, old.filter(|_| kind != ChangeKind::Insert))
    }

    /// Adds a change with its new row's cells.
    fn push_row(
        &mut self,
        followed: &Followed,
        kind: ChangeKind,
        cells: &[Cell<'_>],
        old: Option<Old<'_>>,
    ) -> Result<(), ConnectorError> {
        self.begin(followed, kind);
        let Some(builder) = self.builders.get_mut(&followed.table) else { return Ok(()) };
        followed.write_cells(builder, &mut self.scratch, cells)?;
        followed.write_old(builder, &mut self.scratch, old)
    }

    fn begin(&mut self, followed: &Followed, kind: ChangeKind) {
        let Some(transaction) = &self.transaction else { return };
        let origin = Origin {
            position: transaction.commit_lsn,
            transaction: u64::from(transaction.number),
            sequence: transaction.seen - 1,
            commit_time_us: transaction.commit_time_us,
        };
        self.pending += 1;
        if let Some(builder) = self.builders.get_mut(&followed.table) {
            builder.begin(kind, origin);
        }
    }

    #[inline]
    fn push(
        &mut self,
        followed: &Followed,
        kind: ChangeKind,
        new: Option<Tuple<'_>>,
        old: Option<Old<'_>>,
    ) -> Result<(), ConnectorError> {
        self.begin(followed, kind);
        let Some(builder) = self.builders.get_mut(&followed.table) else { return Ok(()) };
        match new {
            None => builder.no_new(),
            Some(tuple) => followed.write_new(builder, &mut self.scratch, tuple)?,
        }
        followed.write_old(builder, &mut self.scratch, old)
    }

    /// A mark came: the chunk read before it is due.
    async fn chunk(&mut self, mark: &[u8], out: &Out) -> Result<(), ConnectorError> {
        let mark = String::from_utf8_lossy(mark).into_owned();
        let chunk = loop {
            if let Some(chunk) = self.waiting.remove(&mark) {
                break chunk;
            }
            // it was handed over before its mark was written
            let next = self.loaded.recv().await.ok_or_else(|| ConnectorError::Defect("a mark without its chunk".into()))?;
            self.waiting.insert(next.mark.clone(), next);
        };
        if self.pending > 0 {
            self.hand_on(out).await?;
        }
        let floor = self.readings.end(&chunk.mark, &chunk.snapshot);
        let rows = u64::try_from(chunk.batch.len()).unwrap_or(u64::MAX);
        let range = &chunk.range;
        let Some(first) = self.position.read(&chunk.name, &range.began, &range.part, (range.from, range.to), rows) else {
            return Ok(());
        };
        let kept = chunk.kept(&first, self.changed.get(&chunk.name));
        let table = self.settings.tables.iter().position(|t| t.qualified() == chunk.name);
        for changed in self.changed.values_mut() {
            changed.forget_before(floor, &chunk.snapshot);
        }
        if !self.position.loads.contains_key(&chunk.name) {
            self.changed.remove(&chunk.name);
        }
        let mut captured = self.take();
        if let Some(table) = table {
            captured.changes.push(TableChanges { table, batch: chunk.batch, rows: Some(kept) });
        }
        let closed = |_| ConnectorError::try_again("the lane has stopped", "it starts again by itself");
        out.send(Ok(captured)).await.map_err(closed)
    }
}
