//! Appending records over HTTP. An answer means that they are durable.

use std::collections::BTreeMap;
use std::sync::Arc;
use std::sync::atomic::Ordering;
use std::time::{Duration, Instant};

use axum::Json;
use axum::body::Body;
use axum::extract::State;
use axum::http::{HeaderMap, StatusCode, header};
use bytes::Bytes;
use chrono::Utc;
use gonvel_core::avro::binary::Reader;
use gonvel_core::avro::container::{Container, ContainerError};
use gonvel_core::avro::fingerprint::fingerprint;
use gonvel_core::avro::schema::Schema;
use gonvel_core::avro::{json, single_object};
use gonvel_core::block::pack;
use gonvel_core::cloud_events;
use gonvel_core::naming::{SchemaId, SchemaName, TopicId, TopicName, TopicPartition};
use gonvel_core::partitioning::partition_of;
use gonvel_core::ports::{AppendBatch, Identity, Landed, PartitionBlocks, PortError, SchemaStore, Topic, TopicLog};
use gonvel_core::produce::{self, AsText, Draft, DraftError, Each, Encoding, MOST_RECORDS, checked, place};
use gonvel_core::record::Record;
use gonvel_core::schemas::values::ValueSchema;
use gonvel_http_api::{NewRecords, Problem, ProblemType, ProduceQuery, Produced, ProducerSession, RefusedRecord};
use serde_json::value::RawValue;
use utoipa::IntoParams;
use uuid::Uuid;

use crate::apart::apart;
use crate::creating::{Creation, KeyHeader, key, made_id, plain};
use crate::problems::{Path, Query, Refusal};
use crate::producers;
use crate::retried::{Told, again};
use crate::schemas::bound::{Bound, Fitting};
use crate::schemas::fitting::NotFit;
use crate::state::ServerState;
use gonvel_storage::Database;

/// Largest body with records, in bytes.
const MOST_BYTES: usize = 16 << 20;
const FORMS: &str = "application/json, application/x-ndjson, application/avro, application/octet-stream, \
                     application/cloudevents+json, application/cloudevents-batch+json, or CloudEvents headers (ce-…)";

impl From<DraftError> for Refusal {
    fn from(error: DraftError) -> Self {
        let detail = error.to_string();
        match error {
            DraftError::TooLarge { .. } | DraftError::TooMany => Self::too_large(detail),
            DraftError::Body(_) => Self::new(ProblemType::Malformed, detail).at(""),
            DraftError::Record { index, finding } => {
                Self::new(ProblemType::Invalid, detail).and_at(&index.to_string(), &finding, None)
            }
            DraftError::None => Self::invalid("", detail),
        }
    }
}

impl From<ContainerError> for Refusal {
    fn from(error: ContainerError) -> Self {
        match error {
            ContainerError::TooLarge { .. } => Self::too_large(error.to_string()),
            _ => Self::new(ProblemType::Malformed, error.to_string()).at(""),
        }
    }
}

/// Longest time that the records of one request are checked for.
const LONGEST_CHECK: Duration = Duration::from_secs(10);
/// Bytes of a body from which it is read where waiting does no harm: the threads that answer requests must not wait for it.
const LONG_BODY: usize = 32 << 10;

/// When the records of a request are to be checked.
#[derive(Clone, Copy)]
struct Until(Instant);

impl Until {
    fn is_over(self) -> Result<(), String> {
        if Instant::now() < self.0 {
            return Ok(());
        }
        Err(format!("checking the records took longer than {} s: send fewer in one request", LONGEST_CHECK.as_secs()))
    }
}

/// Values by the latest versions of the schemas that the topic is bound to.
struct ByLatest(Arc<Fitting>, Until);

impl Encoding for ByLatest {
    fn value(&self, json: &RawValue) -> Result<(Bytes, Option<SchemaId>), String> {
        self.1.is_over()?;
        self.0.value.as_ref().map_or_else(|| AsText.value(json), |bound| bound.write(json.get()))
    }

    fn key(&self, json: &RawValue) -> Result<(Bytes, Option<SchemaId>), String> {
        self.0.key.as_ref().map_or_else(|| AsText.key(json), |bound| bound.write(json.get()))
    }
}

/// Values by the latest version of a schema that is named, whatever the topic is bound to; keys as they are otherwise.
struct ByNamed {
    id: SchemaId,
    schema: Arc<ValueSchema>,
    said: String,
    keys: ByLatest,
}

impl Encoding for ByNamed {
    fn value(&self, json: &RawValue) -> Result<(Bytes, Option<SchemaId>), String> {
        self.keys.1.is_over()?;
        let written = self.schema.write_text(json.get());
        Ok((written.map_err(|e| format!("the value does not fit {}: {e}", self.said))?, Some(self.id)))
    }

    fn key(&self, json: &RawValue) -> Result<(Bytes, Option<SchemaId>), String> {
        if self.keys.0.key.as_ref().is_some_and(Bound::is_required) { self.keys.key(json) } else { AsText.key(json) }
    }
}

async fn named(state: &ServerState, keys: ByLatest, name: &str) -> Result<ByNamed, Refusal> {
    let wrong = |finding: String| Refusal::invalid("schema", finding);
    let parsed = SchemaName::parse(name).map_err(|e| wrong(e.to_string()))?;
    let (_, versions) = state.database.schema(&parsed).await.map_err(|error| match error {
        PortError::NotFound { .. } => wrong(format!("there is no schema {name}: give none, latest, or a schema's name")),
        error => error.into(),
    })?;
    let latest = versions.iter().max_by_key(|v| v.version).ok_or_else(|| wrong(format!("{name} has no version yet")))?;
    let id = SchemaId(latest.id);
    let schema =
        state.schema(id).await?.ok_or_else(|| wrong(format!("version {} of {name} cannot be read", latest.version)))?;
    Ok(ByNamed { id, schema, said: format!("{name}:{}", latest.version), keys })
}

async fn encoding(
    state: &ServerState,
    topic: &TopicName,
    asked: Option<&str>,
    until: Until,
) -> Result<Box<dyn Encoding + Send + Sync>, Refusal> {
    let bound = state.fitting(topic).await?;
    match asked {
        // where values have to fit, JSON is taken for what is to become one
        None if bound.requires_value() => Ok(Box::new(ByLatest(bound, until))),
        None | Some("none") => Ok(Box::new(AsText)),
        Some("latest") if bound.value.is_none() => Err(Refusal::invalid(
            "schema",
            format!("{topic} has no schema yet: leave schema out to keep values as the text they are"),
        )),
        Some("latest") => Ok(Box::new(ByLatest(bound, until))),
        Some(name) => Ok(Box::new(named(state, ByLatest(bound, until), name).await?)),
    }
}

fn text<'a>(headers: &'a HeaderMap, name: &str) -> Option<&'a str> {
    headers.get(name).and_then(|v| v.to_str().ok())
}

/// The media type without its parameters, in lower case.
fn media(headers: &HeaderMap) -> String {
    let whole = text(headers, "content-type").unwrap_or_default();
    whole.split(';').next().unwrap_or_default().trim().to_ascii_lowercase()
}

/// The records of a request: with `partial` those that can be appended and what is wrong with the others, else all of them.
async fn drafts(
    state: &ServerState,
    topic: &Topic,
    query: &ProduceQuery,
    headers: &HeaderMap,
    body: Bytes,
) -> Result<Each, Refusal> {
    let media = media(headers);
    let (until, long) = (Until(Instant::now() + LONGEST_CHECK), body.len() >= LONG_BODY);
    let mut each = match media.as_str() {
        "application/cloudevents+json" => Each::of(cloud_events::structured(&body)?),
        "application/cloudevents-batch+json" => Each::of(cloud_events::batched(&body)?),
        other if other.starts_with("application/cloudevents") => return Err(unknown_media(other)),
        _ if headers.keys().any(|name| name.as_str().starts_with("ce-")) => {
            let attributes =
                headers.iter().filter_map(|(name, value)| Some((name.as_str().strip_prefix("ce-")?, value.to_str().ok()?)));
            Each::of(cloud_events::binary(attributes, text(headers, "content-type"), body)?)
        }
        "application/json" => {
            let encoding = encoding(state, &topic.name, query.schema.as_deref(), until).await?;
            apart(long, || produce::from_json(&body, &*encoding))?
        }
        "application/x-ndjson" => {
            let encoding = encoding(state, &topic.name, query.schema.as_deref(), until).await?;
            apart(long, || produce::from_lines(&body, &*encoding))?
        }
        "application/octet-stream" => Each::of(produce::from_bytes(body)?),
        "application/avro" | "avro/binary" => Each::of(avro(state, topic, body).await?),
        other => return Err(unknown_media(other)),
    };
    let one_value = matches!(media.as_str(), "application/octet-stream" | "application/avro" | "avro/binary");
    for (_, draft) in &mut each.drafts {
        if one_value {
            draft.record.key = query.key.clone().map(Bytes::from);
        }
        draft.partition = draft.partition.or(query.partition);
    }
    let mut each = if query.partial { each } else { Each::of(each.all()?) };
    each.check(|draft| {
        let bytes = produce::size(draft);
        (bytes > produce::LARGEST_RECORD).then(|| DraftError::TooLarge { index: 0, bytes }.to_string())
    });
    each.check(produce::too_many_headers);
    each.check(|draft| produce::no_partition(draft, topic.partitions));
    let fitting = state.fitting(&topic.name).await?;
    let mut fits = Vec::with_capacity(each.drafts.len());
    for (number, mut draft) in std::mem::take(&mut each.drafts) {
        until.is_over().map_err(|finding| DraftError::Record { index: number, finding })?;
        match fitting.fit(state, &mut draft.record).await {
            Ok(()) => fits.push((number, draft)),
            Err(NotFit::Record(finding)) => each.refused.push((number, finding)),
            Err(NotFit::Port(error)) => return Err(error.into()),
        }
    }
    each.drafts = fits;
    each.refused.sort_by_key(|(number, _)| *number);
    match each.refused.first() {
        Some((index, finding)) if !query.partial => {
            Err(DraftError::Record { index: *index, finding: finding.clone() }.into())
        }
        _ => Ok(each),
    }
}

fn unknown_media(found: &str) -> Refusal {
    let detail = format!("records of type {found:?} are not taken: send {FORMS}");
    Refusal::new(ProblemType::MediaType, detail)
}

/// An object container file, whose schema is registered, or one value in single-object encoding by a registered one.
async fn avro(state: &ServerState, topic: &Topic, body: Bytes) -> Result<Vec<Draft>, Refusal> {
    let record = |value: Bytes, id: i64| Draft {
        record: Record { value: Some(value), schema: Some(SchemaId(id)), ..Record::default() },
        ..Draft::default()
    };
    let wrong = |index: usize, finding: String| Refusal::from(DraftError::Record { index, finding });
    if !body.starts_with(b"Obj") {
        let versions = state.database.schemas_of(&topic.name).await?;
        let (print, data) = single_object::split(&body).ok_or_else(|| {
            wrong(0, "the body is neither an Avro object container file nor a value in single-object encoding".into())
        })?;
        let version = versions.iter().find(|v| v.role == "value" && v.fingerprint == print).ok_or_else(|| {
            wrong(
                0,
                format!(
                    "no schema of {} has the fingerprint {print:016x}: append an Avro file, which brings its schema",
                    topic.name
                ),
            )
        })?;
        let schema = Schema::parse(&version.text).map_err(|e| wrong(0, e.to_string()))?;
        let mut reader = Reader::new(data);
        json::read(&schema, &mut reader).map_err(|e| wrong(0, format!("the value does not fit its schema: {e}")))?;
        if reader.remaining() > 0 {
            return Err(wrong(0, format!("{} bytes are left over after the value", reader.remaining())));
        }
        return Ok(checked(vec![record(body.clone(), version.id)])?);
    }
    let mut container = Container::open(&body[..])?;
    let schema = Schema::parse(&container.schema).map_err(|e| wrong(0, format!("the file's schema: {e}")))?;
    let print = fingerprint(&container.schema).map_err(|e| wrong(0, format!("the file's schema: {e}")))?;
    let values = apart(body.len() >= LONG_BODY, || values_of(&mut container, &schema, print))?;
    // registered only once all of it is known to be good
    let drafts = checked(values.into_iter().map(|v| record(v, 0)).collect())?;
    let id = state.database.register(&topic.name, "value", &container.schema, "an Avro file").await?;
    state.forget_fittings();
    let known = |mut draft: Draft| {
        draft.record.schema = Some(id);
        draft
    };
    Ok(drafts.into_iter().map(known).collect())
}

/// The values of a container file in single-object encoding, each read once to know that it is one.
fn values_of(container: &mut Container<&[u8]>, schema: &Schema, print: u64) -> Result<Vec<Bytes>, Refusal> {
    let wrong = |index: usize, finding: String| Refusal::from(DraftError::Record { index, finding });
    let mut values = Vec::new();
    // of all blocks together: a few bytes of them may unpack to very many
    let mut room = 4 * MOST_BYTES;
    while let Some((count, data)) = container.next_block(room)? {
        room -= data.len();
        let mut reader = Reader::new(&data);
        for _ in 0..count {
            let index = values.len();
            if index == MOST_RECORDS {
                return Err(DraftError::TooMany.into());
            }
            let before = data.len() - reader.remaining();
            json::read(schema, &mut reader).map_err(|e| wrong(index, format!("the value does not fit the schema: {e}")))?;
            let mut value = Vec::new();
            single_object::header(print, &mut value);
            value.extend_from_slice(&data[before..data.len() - reader.remaining()]);
            if value.len() > produce::LARGEST_RECORD {
                return Err(DraftError::TooLarge { index, bytes: value.len() }.into());
            }
            values.push(Bytes::from(value));
        }
    }
    Ok(values)
}

/// The headers by which a retry is known, and who appends.
#[derive(IntoParams)]
#[into_params(parameter_in = Header)]
#[expect(dead_code, reason = "it stands for the headers in the document")]
pub(crate) struct ProducerHeaders {
    /// A key of the client's own, 1 to 200 characters: the same request with it is answered as before for a day, and appended once.
    #[param(rename = "Idempotency-Key", min_length = 1, max_length = 200)]
    idempotency_key: Option<String>,
    /// The session that `POST /api/v1/producers` began; with `Producer-Sequence`.
    #[param(rename = "Producer-Session", format = Uuid)]
    producer_session: Option<String>,
    /// The number of the request in its session, from 0.
    #[param(rename = "Producer-Sequence", minimum = 0)]
    producer_sequence: Option<i64>,
    /// The name under which an application is seen; goes before `producer`.
    #[param(rename = "Producer-Name")]
    producer_name: Option<String>,
}

/// How a retry of this request would be known, and the number that decides where records without a key go: the same for a
/// retry.
fn identity(
    headers: &HeaderMap,
    topic: TopicId,
    query: &ProduceQuery,
    body: &Bytes,
) -> Result<Option<(Identity, i32)>, Refusal> {
    let digest = || {
        let media = text(headers, "content-type").unwrap_or_default();
        let events: Vec<String> = headers
            .iter()
            .filter(|(name, _)| name.as_str().starts_with("ce-"))
            .map(|(name, value)| format!("{name}={value:?}"))
            .collect();
        let head = format!("{}\n{media}\n{query:?}\n{}\n", topic.0, events.join("\n"));
        gonvel_core::digest::sha256(&[head.as_bytes(), body]).to_vec()
    };
    let spread = |digest: &[u8]| i32::from_be_bytes([digest[0] & 0x7f, digest[1], digest[2], digest[3]]);
    let (key, session) = (key(headers)?, plain(headers, "producer-session")?);
    match (key, session, plain(headers, "producer-sequence")?) {
        (None, None, None) => Ok(None),
        (Some(key), None, None) => {
            let digest = digest();
            let spread = spread(&digest);
            Ok(Some((Identity::Key { key: key.to_owned(), digest }, spread)))
        }
        (None, Some(session), Some(sequence)) => {
            let session: Uuid = session.parse().map_err(|e| {
                Refusal::invalid(
                    "Producer-Session",
                    format!("{session:?} is no session ({e}): begin one with POST /api/v1/producers"),
                )
            })?;
            let sequence: i64 = sequence.parse().ok().filter(|s| *s >= 0).ok_or_else(|| {
                Refusal::invalid("Producer-Sequence", format!("{sequence:?} is no sequence: count requests from 0"))
            })?;
            let spread = i32::try_from(sequence % i64::from(i32::MAX)).unwrap_or(0);
            Ok(Some((Identity::Sequence { session, sequence, digest: digest() }, spread)))
        }
        _ => Err(Refusal::invalid(
            "Producer-Session",
            "give either Idempotency-Key, or Producer-Session together with Producer-Sequence",
        )),
    }
}

/// Appends records: all of a request or nothing, or with `partial` those that can be, the answer saying of each of the others why not.
/// The answer comes after the commit and says where each record is.
///
/// JSON: one record or a list of `{"key", "value", "headers", "timestamp", "partition"}` (`key_base64`, `value_base64` for
/// bytes); `application/x-ndjson`: one on each line. Avro: an object container file or one value in single-object encoding.
/// `application/octet-stream`: one value. CloudEvents 1.0 in binary, structured and batched mode. A retry is recognised by
/// `Idempotency-Key` for a day, or by `Producer-Session` and `Producer-Sequence`.
#[utoipa::path(operation_id = "appendRecords", post, path = "/api/v1/topics/{name}/records", tag = "records",
    params(ProduceQuery, ProducerHeaders), request_body = NewRecords,
    responses((status = 200, body = Produced), (status = 400, body = Problem), (status = 404, body = Problem),
        (status = 409, body = Problem), (status = 413, body = Problem), (status = 415, body = Problem),
        (status = 422, body = Problem), (status = 429, body = Problem)))]
pub(crate) async fn append(
    State(state): State<Arc<ServerState>>,
    Path(name): Path<String>,
    Query(query): Query<ProduceQuery>,
    headers: HeaderMap,
    body: Body,
) -> Result<Json<Produced>, Refusal> {
    let _permit = state.limits.append()?;
    let topic = state.database.topic(&TopicName::parse(name)?).await?;
    let producer = producers::named(&headers, &query)?;
    let done = append_to(&state, &topic, &query, &headers, body).await;
    match &done {
        Ok(done) => {
            let why = done.refused.last().map(|refused| format!("record {}: {}", refused.record, refused.finding));
            state.heard.add(topic.id, &producer, done.records.len(), done.refused.len(), why.as_deref());
        }
        Err(refusal) => {
            if let Some(why) = refusal.of_the_request() {
                state.heard.add(topic.id, &producer, 0, 1, Some(why));
            }
        }
    }
    Ok(Json(done?))
}

async fn append_to(
    state: &ServerState,
    topic: &Topic,
    query: &ProduceQuery,
    headers: &HeaderMap,
    body: Body,
) -> Result<Produced, Refusal> {
    if text(headers, header::CONTENT_LENGTH.as_str()).and_then(|l| l.parse().ok()).is_some_and(|l: usize| l > MOST_BYTES) {
        return Err(body_too_large());
    }
    let body = axum::body::to_bytes(body, MOST_BYTES).await.map_err(|e| {
        let limit = std::error::Error::source(&e).is_some_and(|c| c.to_string().contains("limit"));
        if limit { body_too_large() } else { Refusal::new(ProblemType::Malformed, format!("the body broke off: {e}")) }
    })?;
    let identity = identity(headers, topic.id, query, &body)?;
    let (identity, spread) = identity.map_or((None, None), |(identity, spread)| (Some(identity), Some(spread)));
    // where it is one record, what is wrong with it is wrong with all of the body
    let many = media(headers) == "application/x-ndjson" || body.trim_ascii_start().starts_with(b"[");
    let drafts = drafts(state, topic, query, headers, body).await;
    let each = match drafts.map_err(|refusal| if many { refusal } else { refusal.of_the_whole() }) {
        Ok(each) if !each.drafts.is_empty() => each,
        // a schema may be required by now, or be another one
        other => {
            return match again(state, identity.as_ref()).await? {
                Some(first) => Ok(first),
                None => Ok(Told { order: Vec::new(), refused: refused(other?.refused) }.answer(&[])),
            };
        }
    };
    let keyless = match spread {
        Some(spread) => spread,
        None => state.turn.fetch_add(1, Ordering::Relaxed).max(0),
    };
    let now_us = Utc::now().timestamp_micros();
    let mut told = Told { order: Vec::with_capacity(each.drafts.len()), refused: refused(each.refused) };
    let mut by_partition: BTreeMap<TopicPartition, Vec<Record>> = BTreeMap::new();
    let mut elsewhere = false;
    for (_, draft) in each.drafts {
        let partition = place(&draft, topic.partitions, keyless % topic.partitions);
        told.order.push(partition.0);
        let mut record = draft.record;
        if !draft.has_time {
            record.timestamp_us = now_us;
        }
        elsewhere |= record.key.as_ref().is_some_and(|key| partition_of(Some(key), topic.partitions) != partition);
        by_partition.entry(TopicPartition { topic: topic.id, partition }).or_default().push(record);
    }
    if elsewhere && !topic.scattered {
        state.database.scatter(topic.id).await?;
    }
    let parts = by_partition.iter().map(|(to, records)| PartitionBlocks { to: *to, blocks: pack(records) }).collect();
    let kept = if identity.is_some() { told.kept() } else { None };
    let batch = AppendBatch { parts, identity: identity.clone(), told: kept, progress: None };
    let landed = state.database.append(batch).await?;
    // a first try that was answered meanwhile may have put them elsewhere: partitions were added between
    let same = |(l, (to, records)): (&Landed, (&TopicPartition, &Vec<Record>))| {
        l.to == *to && usize::try_from(l.records) == Ok(records.len())
    };
    let as_sent = landed.len() == by_partition.len() && landed.iter().zip(&by_partition).all(same);
    if !as_sent && let Some(first) = again(state, identity.as_ref()).await? {
        return Ok(first);
    }
    Ok(told.answer(&landed))
}

fn refused(records: Vec<(usize, String)>) -> Vec<RefusedRecord> {
    records.into_iter().map(|(record, finding)| RefusedRecord { record, finding }).collect()
}

fn body_too_large() -> Refusal {
    Refusal::too_large(format!("the body is larger than {MOST_BYTES} bytes: send the records in several requests"))
}

/// Begins a producer's session: its requests carry `Producer-Session` and, counted from 0, `Producer-Sequence`. A request that
/// is sent again is then answered as it was at first. A session without a request for a week is forgotten.
#[utoipa::path(operation_id = "beginSession", post, path = "/api/v1/producers", tag = "records", params(KeyHeader),
    responses((status = 201, body = ProducerSession)))]
pub(crate) async fn begin_session(
    State(state): State<Arc<ServerState>>,
    creation: Creation,
) -> Result<(StatusCode, Json<ProducerSession>), Refusal> {
    let make = async |database: &Database| Ok(database.begin_session().await?.to_string());
    let show = async |session: String| Ok(Json(ProducerSession { session: made_id(&session)? }));
    creation.make(&state, make, show).await
}
