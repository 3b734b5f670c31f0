//! Streams of records: each piece is read when the client has taken the one before, so a slow client takes no memory.

use std::convert::Infallible;
use std::sync::Arc;
use std::time::{Duration, Instant};

use axum::body::{Body, Bytes};
use axum::extract::State;
use axum::http::{HeaderMap, header};
use axum::response::sse::{Event, KeepAlive, Sse};
use axum::response::{IntoResponse, Response};
use futures::{Stream, StreamExt, stream};
use gonvel_core::naming::{Offset, TopicId, TopicName, TopicPartition};
use gonvel_core::ports::{PortError, TopicLog};
use gonvel_http_api::{Order, Problem, Record, StreamLine, StreamQuery, TailQuery};
use serde::Serialize;
use tokio::sync::OwnedSemaphorePermit;
use utoipa::IntoParams;

use super::cursors::{Cursors, taken_up};
use super::decoding::Decoder;
use super::pages::{USUAL, merged};
use super::reading::{asked_time, begin, chosen, forward, kept, offset_has_partition, unpack};
use crate::problems::{Path, Query, Refusal};
use crate::state::ServerState;

/// Longest time without a sign of life on a stream.
const QUIET: Duration = Duration::from_secs(10);

/// How often it is looked whether partitions came.
pub(super) const LOOK: Duration = Duration::from_secs(1);

/// Records of a piece of a stream at most.
pub(crate) const PIECE: usize = 1_000;

/// Partitions being read in turn.
pub(crate) struct Following {
    state: Arc<ServerState>,
    pub(crate) places: Vec<(TopicPartition, Offset)>,
    /// The topic whose partitions are all followed, also those that come; none where they are given from outside.
    all_of: Option<TopicId>,
    /// When it was last looked which they are.
    looked: Instant,
    turn: usize,
    decoder: Decoder,
}

impl Following {
    pub(crate) fn new(state: Arc<ServerState>, places: Vec<(TopicPartition, Offset)>, raw: bool) -> Self {
        Self { state, places, all_of: None, looked: Instant::now(), turn: 0, decoder: Decoder::new(raw) }
    }

    /// The same, with the partitions that the topic gets, from their start on.
    pub(crate) fn all_of(mut self, topic: TopicId) -> Self {
        self.all_of = Some(topic);
        self
    }

    async fn look_for_partitions(&mut self) -> Result<(), PortError> {
        let Some(topic) = self.all_of.filter(|_| self.looked.elapsed() >= LOOK) else { return Ok(()) };
        self.looked = Instant::now();
        for bounds in self.state.database.bounds(topic).await? {
            let at = TopicPartition { topic, partition: bounds.partition };
            if !self.places.iter().any(|(known, _)| *known == at) {
                self.places.push((at, bounds.first));
            }
        }
        Ok(())
    }

    /// The next records of one partition, so many at most; none if there was nothing to read for a while.
    ///
    /// Cancel safety: a dropped call has read nothing.
    pub(crate) async fn next(
        &mut self,
        patience: Duration,
        most: usize,
    ) -> Result<Vec<(TopicPartition, Record)>, PortError> {
        let until = Instant::now() + patience;
        // the first look is at all of them; whoever waited was told which have more
        let mut first = true;
        loop {
            self.look_for_partitions().await?;
            let worth = if first { vec![true; self.places.len()] } else { self.state.database.may_have(&self.places) };
            first = false;
            for step in 0..self.places.len() {
                let n = (self.turn + step) % self.places.len();
                if !worth[n] {
                    continue;
                }
                let (at, from) = self.places[n];
                let Some(block) = self.state.database.read(at, from, 1).await?.into_iter().next() else {
                    // there were some that are not kept: it is read past them, or it would be asked again and again
                    if self.state.database.may_have(&[(at, from)])[0] {
                        let end = self.state.database.nothing_from(at, from).await?;
                        self.places[n].1 = end.unwrap_or(from);
                    }
                    continue;
                };
                let mut placed = unpack(at, &block)?;
                placed.retain(|r| r.offset >= from);
                let end = placed.get(most).map_or(block.end(), |first_left| first_left.offset);
                placed.truncate(most);
                self.decoder.learn_all(&self.state, &placed).await?;
                let records = placed.iter().map(|p| (at, self.decoder.present(at.partition, p))).collect();
                self.places[n].1 = end;
                self.turn = n + 1;
                return Ok(records);
            }
            let left = until.saturating_duration_since(Instant::now());
            if left.is_zero() {
                return Ok(Vec::new());
            }
            self.state.database.wait_for(&self.places, left.min(LOOK)).await?;
        }
    }
}

/// Which form a stream has: lines of JSON if the client asks for them, else server-sent events.
pub(crate) fn wants_lines(headers: &HeaderMap) -> bool {
    headers.get(header::ACCEPT).and_then(|a| a.to_str().ok()).is_some_and(|a| a.contains("application/x-ndjson"))
}

/// A piece of a stream.
pub(crate) struct Piece<T> {
    /// Records, each with the cursor from which the stream is taken up after it, if it can be.
    pub(crate) records: Vec<(T, Option<String>)>,
    /// Where the stream goes on, where there are none.
    pub(crate) cursor: Option<String>,
}

/// A stream of pieces in the form asked for. Each is made when the one before was taken. A stream that ends badly says so in a problem
/// document at last.
pub(crate) fn answer<T: Serialize + Send + 'static>(
    lines: bool,
    permit: OwnedSemaphorePermit,
    pieces: impl Stream<Item = Result<Piece<T>, PortError>> + Send + 'static,
) -> Response {
    // whoever takes the body may ask once more after its end
    let pieces = pieces.fuse();
    if lines {
        let body = pieces.map(move |piece| {
            let _held = &permit;
            let mut out = Vec::new();
            match piece {
                Ok(piece) if piece.records.is_empty() => {
                    out.extend(
                        piece.cursor.map(|cursor| format!("{{\"cursor\":\"{cursor}\"}}")).unwrap_or_default().into_bytes(),
                    );
                    out.push(b'\n');
                }
                Ok(piece) => {
                    for (record, cursor) in piece.records {
                        serde_json::to_writer(&mut out, &record).map_err(std::io::Error::other)?;
                        if let Some(cursor) = cursor {
                            // it is one more field of the object that was written
                            out.pop();
                            out.extend_from_slice(format!(",\"cursor\":\"{cursor}\"}}").as_bytes());
                        }
                        out.push(b'\n');
                    }
                }
                Err(error) => out.extend_from_slice(last_line(&ended_by(error)).as_bytes()),
            }
            Ok::<_, std::io::Error>(Bytes::from(out))
        });
        return ([(header::CONTENT_TYPE, "application/x-ndjson")], Body::from_stream(body)).into_response();
    }
    let events = pieces.flat_map(move |piece| {
        let _held = &permit;
        let event = |(record, cursor): &(T, Option<String>)| {
            let event = Event::default().event("record").json_data(record).unwrap_or_default();
            match cursor {
                Some(cursor) => event.id(cursor),
                None => event,
            }
        };
        let events: Vec<Event> = match piece {
            Ok(piece) if piece.records.is_empty() => vec![match piece.cursor {
                // without data it is no event: it only says where the stream is
                Some(cursor) => Event::default().id(cursor),
                None => Event::default().comment("quiet"),
            }],
            Ok(piece) => piece.records.iter().map(event).collect(),
            Err(error) => vec![last_event(&ended_by(error))],
        };
        stream::iter(events.into_iter().map(Ok::<_, Infallible>))
    });
    Sse::new(events).into_response()
}

/// What ended a stream, as a problem document.
pub(crate) fn ended_by(error: PortError) -> Problem {
    Refusal::from(error).document(|_| None)
}

/// The last event of a stream that ended badly.
pub(crate) fn last_event(problem: &Problem) -> Event {
    Event::default().event("problem").json_data(problem).unwrap_or_default()
}

/// The last line of a stream that ended badly.
pub(crate) fn last_line(problem: &Problem) -> String {
    serde_json::json!({ "problem": problem }).to_string() + "\n"
}

/// Records from a place on, for ever: as server-sent events named `record` whose `id` is a cursor, or with `Accept: application/x-ndjson`
/// a line of JSON each, with a `cursor` (an empty line is a sign of life). With the last cursor a stream that broke off is taken up again,
/// and no record is left out or given twice. Partitions are read in turn, each in order. Records are read as the client takes them. A
/// stream that ends says why in an event `problem`, or a line `{"problem": …}`.
#[utoipa::path(operation_id = "streamRecords", get, path = "/api/v1/topics/{name}/stream", tag = "records",
    params(StreamQuery, LastEventIdHeader),
    responses((status = 200, content((Record = "text/event-stream"), ([StreamLine] = "application/x-ndjson"))),
        (status = 404, body = Problem), (status = 422, body = Problem), (status = 429, body = Problem)))]
pub(crate) async fn stream_records(
    State(state): State<Arc<ServerState>>,
    Path(name): Path<String>,
    Query(query): Query<StreamQuery>,
    headers: HeaderMap,
) -> Result<Response, Refusal> {
    let topic = state.database.topic(&TopicName::parse(name)?).await?;
    offset_has_partition(&topic, query.offset, query.partition)?;
    let time_us = asked_time("time", query.time.as_ref())?;
    let goes_on = taken_up(&headers, query.cursor.as_ref(), topic.id, query.partition)?;
    let mut places = Vec::new();
    for bounds in chosen(&state, &topic, query.partition).await? {
        let at = TopicPartition { topic: topic.id, partition: bounds.partition };
        let from = match &goes_on {
            // one that came since is read from its start
            Some((parameter, goes_on)) => {
                let from = goes_on.get(&bounds.partition.0).copied().unwrap_or(bounds.first.0);
                kept(&bounds, from).map_err(|refusal| refusal.at(parameter))?;
                from
            }
            None => {
                let usual = if query.from == Order::Oldest { bounds.first.0 } else { bounds.next.0 };
                begin(&state, at, &bounds, query.offset, time_us).await?.unwrap_or(usual)
            }
        };
        places.push((at, Offset(from)));
    }
    let permit = state.limits.stream()?;
    let (topic_id, partition) = (topic.id, query.partition);
    let mut following = Following::new(state, places, query.raw);
    if query.partition.is_none() {
        following = following.all_of(topic.id);
    }
    let pieces = stream::unfold((Some(following), true), move |(following, first)| async move {
        let mut following = following?;
        // at first where it begins, so that it is taken up there even if it breaks off before a record came
        let read = if first { Ok(Vec::new()) } else { following.next(QUIET, PIECE).await };
        match read {
            Ok(records) => {
                let cursor = records.is_empty().then(|| Cursors::of_all(topic_id, partition, &following.places));
                let cursors = records.first().map(|(at, _)| Cursors::new(topic_id, partition, &following.places, *at));
                let with_cursor = |(_, record): (TopicPartition, Record)| {
                    let cursor = cursors.as_ref().map(|cursors| cursors.after(record.offset));
                    (record, cursor)
                };
                let records = records.into_iter().map(with_cursor).collect();
                Some((Ok(Piece { records, cursor }), (Some(following), false)))
            }
            Err(error) => Some((Err(error), (None, false))),
        }
    });
    Ok(answer(wants_lines(&headers), permit, pieces))
}

/// The header by which a browser takes a stream up again.
#[derive(IntoParams)]
#[into_params(parameter_in = Header)]
#[expect(dead_code, reason = "it stands for the header in the document")]
pub(crate) struct LastEventIdHeader {
    /// The `id` of the last event that was received: the stream goes on after it.
    #[param(rename = "Last-Event-ID")]
    last_event_id: Option<String>,
}

/// Records as they are appended from now on, for people: events named `records` whose data is a JSON list. A slow reader is
/// skipped ahead, and told how many records it did not get by an event named `skipped`.
#[utoipa::path(operation_id = "tailRecords", get, path = "/api/v1/topics/{name}/tail", tag = "records", params(TailQuery),
    responses((status = 200, content_type = "text/event-stream", body = [Record]), (status = 404, body = Problem),
        (status = 429, body = Problem)))]
pub(crate) async fn tail(
    State(state): State<Arc<ServerState>>,
    Path(name): Path<String>,
    Query(query): Query<TailQuery>,
) -> Result<Sse<impl Stream<Item = Result<Event, Infallible>>>, Refusal> {
    let topic = state.database.topic(&TopicName::parse(name)?).await?;
    let permit = state.limits.stream()?;
    let places = state.database.bounds(topic.id).await?;
    let places: Vec<(TopicPartition, Offset)> =
        places.iter().map(|b| (TopicPartition { topic: topic.id, partition: b.partition }, b.next)).collect();
    let events = stream::unfold((state, places, permit), move |(state, mut places, permit)| async move {
        loop {
            state.database.wait_for(&places, Duration::from_millis(500)).await.ok()?;
            let (records, skipped) = fresh(&state, &mut places, query.raw).await.ok()?;
            if !records.is_empty() {
                let mut events = vec![Event::default().event("records").json_data(&records).unwrap_or_default()];
                if skipped > 0 {
                    events.push(Event::default().event("skipped").data(skipped.to_string()));
                }
                // a picture for people: a few updates a second are enough
                tokio::time::sleep(Duration::from_millis(150)).await;
                return Some((stream::iter(events.into_iter().map(Ok)), (state, places, permit)));
            }
        }
    });
    Ok(Sse::new(events.fuse().flatten()).keep_alive(KeepAlive::default()))
}

/// The latest records since the places, which move to the end; and how many more there were.
async fn fresh(
    state: &ServerState,
    places: &mut Vec<(TopicPartition, Offset)>,
    raw: bool,
) -> Result<(Vec<Record>, i64), PortError> {
    let Some(topic) = places.first().map(|(first, _)| first.topic) else { return Ok((Vec::new(), 0)) };
    let bounds = state.database.bounds(topic).await?;
    // those that came since are the last
    let came = bounds.iter().skip(places.len()).map(|b| (TopicPartition { topic, partition: b.partition }, b.first));
    places.extend(came);
    let (mut by_partition, mut skipped) = (Vec::with_capacity(places.len()), 0);
    for ((at, next), bounds) in places.iter_mut().zip(&bounds) {
        let new = bounds.next.0 - next.0;
        let shown = new.min(i64::try_from(USUAL).unwrap_or(i64::MAX));
        skipped += new - shown;
        let mut newest = if shown > 0 {
            forward(state, *at, bounds.next.0 - shown, usize::try_from(shown).unwrap_or(0)).await?
        } else {
            Vec::new()
        };
        newest.reverse();
        by_partition.push((at.partition, newest));
        *next = bounds.next;
    }
    let merged = merged(by_partition, Order::Newest, usize::MAX);
    let mut decoder = Decoder::new(raw);
    for (_, placed) in &merged {
        decoder.learn(state, placed).await?;
    }
    Ok((merged.iter().map(|(partition, placed)| decoder.present(*partition, placed)).collect(), skipped))
}
