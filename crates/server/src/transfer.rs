//! Export of a topic's records to a file, and import of such a file.

use std::borrow::Cow;
use std::collections::{BTreeMap, HashMap, HashSet};
use std::fs::File;
use std::io::{Seek, SeekFrom};
use std::sync::Arc;

use axum::body::{Body, Bytes};
use axum::extract::State;
use axum::http::header;
use axum::response::{IntoResponse, Response};
use futures::{StreamExt, stream};
use gonvel_core::block::pack;
use gonvel_core::naming::{Offset, PartitionId, SchemaId, TopicName, TopicPartition};
use gonvel_core::partitioning::partition_of;
use gonvel_core::ports::{AppendBatch, PartitionBlocks, PortError, Topic, TopicLog};
use gonvel_core::produce::MOST_HEADERS;
use gonvel_core::record::{Record, StoredRecord};
use gonvel_core::schemas::Language;
use gonvel_http_api::{
    ExportQuery, ImportQuery, ObjectKind, Operation, OperationKind, OperationResult, Problem, ProblemType,
};
use gonvel_record_files::{FileError, Form, Row, Rows, Writer, read};
use gonvel_storage::operations::NewOperation;
use serde_json::json;
use tokio::io::AsyncWriteExt;
use tokio::sync::OwnedSemaphorePermit;
use uuid::Uuid;

use crate::creating::{Creation, KeyHeader};
use crate::operations::working::{Halt, Working, work};
use crate::operations::{self, Begun, subject, word};
use crate::problems::{Path, Query, Refusal};
use crate::records::reading::{asked_time, begin, chosen, offset_has_partition, unpack};
use crate::schemas::bound::Fitting;
use crate::schemas::fitting::NotFit;
use crate::state::ServerState;
use crate::who::Who;

const READ_BYTES: i64 = 2 << 20;
/// Records and bytes of one transaction of an import.
const BATCH_RECORDS: usize = 5_000;
const BATCH_BYTES: usize = 8 << 20;
/// Largest record of a file, in bytes: captured changes may be larger than what is appended over HTTP, and come back too.
const LARGEST: usize = 64 << 20;

impl From<FileError> for Refusal {
    fn from(error: FileError) -> Self {
        let detail = error.to_string();
        match error {
            FileError::Form(_) => Self::invalid("form", detail),
            FileError::Write(_) => Self::new(ProblemType::Failed, detail),
            FileError::File { .. } | FileError::Row { .. } => Self::invalid("", detail),
        }
    }
}

/// A schema's text as it stands in a file; one that is not in Avro says its language.
#[derive(serde::Serialize, serde::Deserialize)]
#[serde(deny_unknown_fields)]
struct BroughtText {
    language: Language,
    text: String,
}

fn brought(language: Language, text: String) -> String {
    match language {
        Language::Avro => text,
        language => serde_json::to_string(&BroughtText { language, text }).unwrap_or_default(),
    }
}

fn read_brought(text: &str) -> (Language, Cow<'_, str>) {
    match serde_json::from_str::<BroughtText>(text) {
        Ok(BroughtText { language, text }) => (language, text.into()),
        Err(_) => (Language::Avro, text.into()),
    }
}

/// A partition that is exported from an offset up to another, without it.
struct Part {
    at: TopicPartition,
    next: i64,
    end: i64,
}

struct Export {
    state: Arc<ServerState>,
    parts: Vec<Part>,
    /// None once the rest of the file was written.
    writer: Option<Writer>,
    /// Schemas whose text a row has brought already.
    told: HashSet<SchemaId>,
    _permit: OwnedSemaphorePermit,
}

impl Export {
    async fn text_once(&mut self, id: Option<SchemaId>) -> Result<Option<String>, PortError> {
        let Some(id) = id.filter(|id| !self.told.contains(id)) else { return Ok(None) };
        self.told.insert(id);
        match self.state.database.schema_version(id).await {
            Ok((language, text)) => Ok(Some(brought(language, text))),
            Err(PortError::NotFound { .. }) => Ok(None),
            Err(error) => Err(error),
        }
    }

    /// The next piece of the file; empty at its end.
    async fn piece(&mut self) -> Result<Vec<u8>, Box<dyn std::error::Error + Send + Sync>> {
        let mut out = Vec::new();
        while out.is_empty() {
            let Some(part) = self.parts.first() else {
                if let Some(mut writer) = self.writer.take() {
                    writer.finish(&mut out)?;
                }
                return Ok(out);
            };
            let (at, next, end) = (part.at, part.next, part.end);
            let blocks = if next < end { self.state.database.read(at, Offset(next), READ_BYTES).await? } else { Vec::new() };
            if blocks.is_empty() {
                self.parts.remove(0);
                continue;
            }
            for block in blocks {
                for StoredRecord { offset, record } in unpack(at, &block)? {
                    if !(next..end).contains(&offset.0) {
                        continue;
                    }
                    let row = Row {
                        partition: at.partition.0,
                        offset: offset.0,
                        timestamp_us: record.timestamp_us,
                        schema: record.schema.map(|s| s.0),
                        key_schema: record.key_schema.map(|s| s.0),
                        schema_text: self.text_once(record.schema).await?,
                        key_schema_text: self.text_once(record.key_schema).await?,
                        key: record.key,
                        value: record.value,
                        headers: record.headers,
                    };
                    if let Some(writer) = &mut self.writer {
                        writer.row(&row, &mut out)?;
                    }
                }
                self.parts[0].next = block.end().0;
            }
        }
        Ok(out)
    }
}

/// Exports a range of a topic as a file, partition by partition. It is written as the client takes it.
#[utoipa::path(operation_id = "exportRecords", get, path = "/api/v1/topics/{name}/export", tag = "records", params(ExportQuery),
    responses((status = 200, content_type = "application/octet-stream", body = String), (status = 404, body = Problem),
        (status = 422, body = Problem), (status = 429, body = Problem)))]
pub(crate) async fn export(
    State(state): State<Arc<ServerState>>,
    Path(name): Path<String>,
    Query(query): Query<ExportQuery>,
) -> Result<Response, Refusal> {
    let topic = state.database.topic(&TopicName::parse(name)?).await?;
    let form: Form = query.form.parse()?;
    for (field, offset) in [("from_offset", query.from_offset), ("to_offset", query.to_offset)] {
        offset_has_partition(&topic, offset, query.partition).map_err(|r| r.at(field))?;
    }
    let from_time = asked_time("from_time", query.from_time.as_ref())?;
    let to_time = asked_time("to_time", query.to_time.as_ref())?;
    let mut parts = Vec::new();
    for bounds in chosen(&state, &topic, query.partition).await? {
        let at = TopicPartition { topic: topic.id, partition: bounds.partition };
        let from = begin(&state, at, &bounds, query.from_offset, from_time).await.map_err(|r| r.at("from_offset"))?;
        let to = begin(&state, at, &bounds, query.to_offset, to_time).await.map_err(|r| r.at("to_offset"))?;
        let (next, end) = (from.unwrap_or(bounds.first.0), to.unwrap_or(bounds.next.0));
        parts.push(Part { at, next, end });
    }
    let permit = state.limits.transfer()?;
    let writer = Some(Writer::begin(form, *Uuid::new_v4().as_bytes())?);
    let export = Export { state, parts, writer, told: HashSet::new(), _permit: permit };
    let body = stream::unfold(Some(export), |export| async move {
        let mut export = export?;
        match export.piece().await {
            Ok(piece) if piece.is_empty() => None,
            Ok(piece) => Some((Ok(Bytes::from(piece)), Some(export))),
            // the connection breaks off: a file that is cut off must not look like a whole one
            Err(error) => {
                tracing::warn!(%error, "an export broke off");
                Some((Err(std::io::Error::other(error)), None))
            }
        }
    });
    // a layer that compresses asks once more after the end
    let body = body.fuse();
    let file = format!("attachment; filename=\"{}.{}\"", topic.name, form.word());
    let headers = [(header::CONTENT_TYPE, form.media_type().to_owned()), (header::CONTENT_DISPOSITION, file)];
    Ok((headers, Body::from_stream(body)).into_response())
}

impl From<Imported> for OperationResult {
    fn from(imported: Imported) -> Self {
        Self { records: Some(imported.records), batches: Some(imported.batches), ..Self::default() }
    }
}

/// Reads some rows of a file on a thread where waiting does no harm.
async fn some(mut rows: Rows) -> Result<(Rows, Vec<Row>), Refusal> {
    let reading = tokio::task::spawn_blocking(move || {
        let (mut out, mut bytes) = (Vec::new(), 0);
        while out.len() < BATCH_RECORDS && bytes < BATCH_BYTES {
            let Some(row) = rows.next().transpose()? else { break };
            bytes += row.size() + 64;
            out.push(row);
        }
        Ok::<_, FileError>((rows, out))
    });
    Ok(reading.await.map_err(|e| Refusal::from(FileError::Write(e.to_string())))??)
}

/// A file that is being imported into a topic.
struct Import {
    state: Arc<ServerState>,
    topic: Topic,
    by_key: bool,
    /// What its keys and values are bound to.
    fitting: Fitting,
    /// The numbers that schemas have here, by the numbers they had where the file came from.
    schemas: HashMap<i64, SchemaId>,
    done: Imported,
}

/// What was imported.
#[derive(Clone, Copy, Default)]
struct Imported {
    records: i64,
    batches: i64,
}

impl Import {
    /// The number a schema has here; what is wrong if no row so far has brought its text.
    async fn schema(
        &mut self,
        role: &str,
        id: Option<i64>,
        text: Option<&String>,
    ) -> Result<Result<Option<SchemaId>, String>, Refusal> {
        let Some(id) = id else { return Ok(Ok(None)) };
        if let Some(text) = text {
            let (language, text) = read_brought(text);
            match self.state.database.register_text(&self.topic.name, role, language, &text, "an import").await {
                Ok(here) => {
                    self.schemas.insert(id, here);
                    self.fitting = Fitting::of(&self.state, &self.topic.name).await?;
                }
                Err(PortError::Refused(finding)) => return Ok(Err(format!("the text of its {role} schema: {finding}"))),
                Err(error) => return Err(error.into()),
            }
        }
        Ok(self.schemas.get(&id).map(|here| Some(*here)).ok_or_else(|| {
            format!("it names the {role} schema {id}, and no row up to it brings the text of that: export the records with the first that uses it")
        }))
    }

    /// Appends all rows; `at` is the file that they are read of, of so many bytes.
    async fn all(mut self, mut rows: Rows, mut at: File, total: Option<i64>, working: &Working) -> Result<(), Halt> {
        let mut read = 0;
        loop {
            let (rest, batch) = some(rows).await.map_err(|refusal| refusal.add(&so_far(&self.done)))?;
            rows = rest;
            if batch.is_empty() {
                return working.moved(total.unwrap_or(read), total, &self.done.into()).await;
            }
            let appended = self.batch(batch).await;
            // a form that is read from its end goes back and forth
            read = read.max(at.stream_position().ok().and_then(|at| i64::try_from(at).ok()).unwrap_or(read));
            let read = total.map_or(read, |total| read.min(total));
            if let Err(refusal) = appended {
                working.moved(read, total, &self.done.into()).await?;
                return Err(refusal.add(&so_far(&self.done)).into());
            }
            working.moved(read, total, &self.done.into()).await?;
        }
    }

    async fn batch(&mut self, rows: Vec<Row>) -> Result<(), Refusal> {
        let mut by_partition: BTreeMap<TopicPartition, Vec<Record>> = BTreeMap::new();
        for (number, row) in (self.done.records..).zip(&rows) {
            let wrong = |finding: String| FileError::Row { row: number.cast_unsigned(), finding };
            let (size, headers) = (row.size(), row.headers.len());
            if size > LARGEST {
                return Err(wrong(format!("it has {size} bytes: a record has {LARGEST} at most")).into());
            }
            if headers > MOST_HEADERS {
                return Err(wrong(format!("it has {headers} headers: a record has {MOST_HEADERS} at most")).into());
            }
            let partition = match &row.key {
                Some(key) if self.by_key => partition_of(Some(key), self.topic.partitions),
                _ if (0..self.topic.partitions).contains(&row.partition) => PartitionId(row.partition),
                _ => {
                    let (found, last) = (row.partition, self.topic.partitions - 1);
                    let finding = format!(
                        "it was in partition {found}, and {} has 0 to {last}: import by key instead",
                        self.topic.name
                    );
                    return Err(wrong(finding).into());
                }
            };
            let mut record = Record {
                key: row.key.clone(),
                value: row.value.clone(),
                headers: row.headers.clone(),
                timestamp_us: row.timestamp_us,
                schema: self.schema("value", row.schema, row.schema_text.as_ref()).await?.map_err(wrong)?,
                key_schema: self.schema("key", row.key_schema, row.key_schema_text.as_ref()).await?.map_err(wrong)?,
            };
            self.fitting.fit(&self.state, &mut record).await.map_err(|e| match e {
                NotFit::Record(finding) => Refusal::from(wrong(finding)),
                NotFit::Port(error) => error.into(),
            })?;
            by_partition.entry(TopicPartition { topic: self.topic.id, partition }).or_default().push(record);
        }
        let elsewhere = by_partition.iter().any(|(at, records)| {
            let is_elsewhere = |key: &Bytes| partition_of(Some(key), self.topic.partitions) != at.partition;
            records.iter().any(|record| record.key.as_ref().is_some_and(is_elsewhere))
        });
        if elsewhere && !self.topic.scattered {
            self.state.database.scatter(self.topic.id).await?;
            self.topic.scattered = true;
        }
        let parts = by_partition.iter().map(|(to, records)| PartitionBlocks { to: *to, blocks: pack(records) }).collect();
        self.state.database.append(AppendBatch { parts, ..AppendBatch::default() }).await?;
        self.done.records += i64::try_from(rows.len()).unwrap_or(0);
        self.done.batches += 1;
        Ok(())
    }
}

/// Keeps a body in a file that goes with the last who has it open, up to a size in bytes.
async fn received(body: Body, largest: u64) -> Result<std::fs::File, Refusal> {
    let failed =
        |e: std::io::Error| Refusal::new(ProblemType::NoRoom, format!("the file could not be kept while it is read: {e}"));
    let mut file = tokio::fs::File::from_std(tempfile::tempfile().map_err(failed)?);
    let mut pieces = body.into_data_stream();
    let mut came = 0;
    while let Some(piece) = pieces.next().await {
        let piece = piece.map_err(|e| Refusal::new(ProblemType::Malformed, format!("the file broke off: {e}")))?;
        came += piece.len() as u64;
        if came > largest {
            let finding = format!(
                "the file is larger than the {} MiB that this server takes, and nothing of it was imported: divide it, or start the server with \
                 more (--largest-import, in MiB)",
                largest >> 20
            );
            return Err(Refusal::too_large(finding));
        }
        file.write_all(&piece).await.map_err(failed)?;
    }
    file.flush().await.map_err(failed)?;
    let mut file = file.into_std().await;
    file.seek(SeekFrom::Start(0)).map_err(failed)?;
    Ok(file)
}

/// Imports a file that was exported, as an operation that begins once all of the file came. Records are appended in transactions of 5,000;
/// if a row is wrong, or it is cancelled, those before that transaction stay, and the result says how many.
#[utoipa::path(operation_id = "importRecords", post, path = "/api/v1/topics/{name}/import", tag = "records", params(ImportQuery, KeyHeader),
    request_body(content = String, content_type = "application/octet-stream"),
    responses((status = 202, body = Operation), (status = 404, body = Problem), (status = 413, body = Problem), (status = 422, body = Problem), (status = 429, body = Problem)))]
pub(crate) async fn import(
    State(state): State<Arc<ServerState>>,
    Path(name): Path<String>,
    Query(query): Query<ImportQuery>,
    who: Who,
    creation: Creation,
    body: Body,
) -> Result<Begun, Refusal> {
    let topic = state.database.topic(&TopicName::parse(name)?).await?;
    let form: Form = query.form.parse()?;
    let by_key = match query.partitions.as_deref().unwrap_or("keep") {
        "keep" => false,
        "by-key" => true,
        other => return Err(Refusal::invalid("partitions", format!("partitions is {other:?}: give keep or by-key"))),
    };
    let subject = subject(ObjectKind::Topic, None, topic.name.as_str());
    let says = format!("Imports a file into {}", topic.name);
    operations::begin(&state, creation, async |database| {
        let permit = state.limits.transfer()?;
        let file = received(body, state.limits.largest_import).await?;
        let size = file.metadata().map_or(0, |about| about.len());
        let at = file.try_clone().map_err(|e| FileError::Write(e.to_string()))?;
        let rows = read(form, file)?;
        let fitting = Fitting::of(&state, &topic.name).await?;
        let total = i64::try_from(size).ok();
        let (kind, who) = (word(OperationKind::Import), who.0.as_str());
        let new = NewOperation { kind, says: &says, who, subject, connector: None, total, result: json!({}) };
        let id = database.begin_operation(&new).await?;
        let done = Imported::default();
        let import = Import { state: state.clone(), topic, by_key, fitting, schemas: HashMap::new(), done };
        work(&state, id, async move |working| {
            let _permit = permit;
            import.all(rows, at, total, &working).await
        });
        Ok(id)
    })
    .await
}

fn so_far(done: &Imported) -> String {
    match done.records {
        0 => "nothing was imported".to_owned(),
        records => format!("the {records} records before were imported and stay"),
    }
}
