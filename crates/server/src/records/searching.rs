//! Searching back through a topic for records that a condition holds for.

use std::convert::Infallible;
use std::sync::Arc;

use axum::extract::State;
use axum::response::sse::{Event, Sse};
use futures::{Stream, StreamExt, stream};
use gonvel_core::civil::rfc3339;
use gonvel_core::naming::{TopicName, TopicPartition};
use gonvel_core::ports::{PartitionBounds, PortError, TopicLog};
use gonvel_core::record::StoredRecord as Placed;
use gonvel_core::record_filter::{RecordFilter, Seen};
use gonvel_http_api::{Problem, Record, SearchProgress, SearchQuery};
use tokio::sync::OwnedSemaphorePermit;

use super::decoding::Decoder;
use super::reading::{asked_time, backward, chosen, keys_of, offset_at, partitions_of};
use super::streaming::{ended_by, last_event};
use crate::problems::{Path, Query, Refusal};
use crate::state::ServerState;

const USUAL: usize = 200;
const MOST: usize = 1_000;
/// Records looked at between two signs of progress.
const STEP: usize = 2_500;

/// A partition and the last offset that is not yet looked at.
struct Place {
    at: TopicPartition,
    bounds: PartitionBounds,
    last: i64,
}

struct Search {
    state: Arc<ServerState>,
    filter: Arc<RecordFilter>,
    places: Vec<Place>,
    turn: usize,
    decoder: Decoder,
    progress: SearchProgress,
    limit: i64,
    _permit: OwnedSemaphorePermit,
}

impl Search {
    /// Looks at some more records of the partition whose turn it is.
    async fn step(&mut self) -> Result<Vec<Record>, PortError> {
        let count = self.places.len();
        let next =
            (0..count).map(|n| (self.turn + n) % count).find(|&n| self.places[n].last >= self.places[n].bounds.first.0);
        let Some(n) = next else {
            self.progress.done = true;
            return Ok(Vec::new());
        };
        self.turn = n + 1;
        let place = &mut self.places[n];
        let placed = backward(&self.state, place.at, &place.bounds, place.last, STEP).await?;
        let before = place.last;
        place.last = placed.last().map_or(place.bounds.first.0, |p| p.offset.0) - 1;
        self.progress.searched += before - place.last;
        self.decoder.learn_all(&self.state, &placed).await?;
        let (partition, filter, decoder) = (place.at.partition, self.filter.clone(), std::mem::take(&mut self.decoder));
        let back_to = placed.last().map(|p| rfc3339(p.record.timestamp_us));
        // decoding is work for the processor: the threads that answer requests must not wait for it
        let looked_at = tokio::task::spawn_blocking(move || {
            let found: Vec<Record> = placed
                .iter()
                .filter(|p| holds(&filter, &decoder, partition.0, p))
                .map(|p| decoder.present(partition, p))
                .collect();
            (decoder, found)
        });
        let (decoder, mut found) =
            looked_at.await.map_err(|e| PortError::TryAgain { during: "searching", cause: Box::new(e) })?;
        self.decoder = decoder;
        if back_to.is_some() {
            self.progress.back_to = back_to;
        }
        let room = usize::try_from(self.limit - self.progress.found).unwrap_or(0);
        found.truncate(room);
        self.progress.found += i64::try_from(found.len()).unwrap_or(0);
        self.progress.done = self.progress.found >= self.limit;
        Ok(found)
    }
}

fn holds(filter: &RecordFilter, decoder: &Decoder, partition: i32, placed: &Placed) -> bool {
    let record = &placed.record;
    let seen = Seen {
        key: &decoder.exact(record.key.as_ref(), record.key_schema),
        value: &decoder.exact(record.value.as_ref(), record.schema),
        headers: &Decoder::headers(placed),
        partition,
        offset: placed.offset.0,
        timestamp: &rfc3339(record.timestamp_us),
    };
    filter.holds(&seen)
}

/// Searches back from the newest record or from a time: events named `record` for what is found and `progress` for how far it
/// is. It stops when the client closes the connection.
#[utoipa::path(operation_id = "searchRecords", get, path = "/api/v1/topics/{name}/search", tag = "records", params(SearchQuery),
    responses((status = 200, content_type = "text/event-stream", body = SearchProgress), (status = 404, body = Problem),
        (status = 422, body = Problem), (status = 429, body = Problem)))]
pub(crate) async fn search(
    State(state): State<Arc<ServerState>>,
    Path(name): Path<String>,
    Query(query): Query<SearchQuery>,
) -> Result<Sse<impl Stream<Item = Result<Event, Infallible>>>, Refusal> {
    let topic = state.database.topic(&TopicName::parse(name)?).await?;
    let filter = RecordFilter::parse(&query.filter).map_err(|e| Refusal::invalid("filter", e.to_string()))?;
    let limit = query.limit.unwrap_or(USUAL);
    if !(1..=MOST).contains(&limit) {
        return Err(Refusal::invalid("limit", format!("{limit} records: ask for 1 to {MOST}")));
    }
    let time_us = asked_time("time", query.time.as_ref())?;
    let mut bounds = chosen(&state, &topic, query.partition).await?;
    if let Some(key) = filter.key() {
        let partitions = partitions_of(&keys_of(&state, &topic, key).await?, &topic);
        bounds.retain(|b| partitions.contains(&b.partition.0));
    }
    let mut places = Vec::new();
    for bounds in bounds {
        let at = TopicPartition { topic: topic.id, partition: bounds.partition };
        let end = match time_us {
            Some(time_us) => offset_at(&state, at, time_us).await?,
            None => bounds.next.0,
        };
        places.push(Place { at, bounds, last: end - 1 });
    }
    let total = places.iter().map(|p| (p.last + 1 - p.bounds.first.0).max(0)).sum();
    let progress = SearchProgress { searched: 0, total, found: 0, back_to: None, done: false };
    let search = Search {
        _permit: state.limits.stream()?,
        state,
        filter: Arc::new(filter),
        places,
        turn: 0,
        decoder: Decoder::new(query.raw),
        progress,
        limit: i64::try_from(limit).unwrap_or(i64::MAX),
    };
    let events = stream::unfold(Some(search), |search| async move {
        let mut search = search.filter(|s| !s.progress.done)?;
        let events = match search.step().await {
            Ok(found) => {
                let mut events: Vec<Event> =
                    found.iter().map(|r| Event::default().event("record").json_data(r).unwrap_or_default()).collect();
                events.push(Event::default().event("progress").json_data(&search.progress).unwrap_or_default());
                events
            }
            Err(error) => {
                search.progress.done = true;
                vec![last_event(&ended_by(error))]
            }
        };
        Some((stream::iter(events.into_iter().map(Ok)), Some(search)))
    });
    Ok(Sse::new(events.fuse().flatten()))
}
