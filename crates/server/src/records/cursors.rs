//! Where a stream goes on: the next offset of each partition, told with every record, so that one that broke off is taken up again without a
//! record lost or doubled.

use std::collections::BTreeMap;

use axum::http::HeaderMap;
use base64::Engine as _;
use base64::engine::general_purpose::URL_SAFE_NO_PAD;
use gonvel_core::avro::binary::{Reader, write_length, write_long};
use gonvel_core::naming::{Offset, TopicId, TopicPartition};
use gonvel_http_api::ProblemType;

use crate::problems::Refusal;

/// The header by which a client of server-sent events says what it received last (HTML Living Standard, section 9.2).
const LAST_EVENT_ID: &str = "last-event-id";

/// Cursors of records of one partition, where the others stand still meanwhile.
pub(super) struct Cursors {
    /// What the cursor is of, and where the other partitions stand.
    begins: Vec<u8>,
}

impl Cursors {
    /// Of a stream of a topic, or of one of its partitions; the records come from `of`.
    pub(super) fn new(
        topic: TopicId,
        partition: Option<i32>,
        places: &[(TopicPartition, Offset)],
        of: TopicPartition,
    ) -> Self {
        let mut begins = Vec::new();
        write_long(topic.0, &mut begins);
        write_long(partition.map_or(-1, i64::from), &mut begins);
        // one that is cut short is none
        write_length(places.len(), &mut begins);
        for (at, next) in places.iter().filter(|(at, _)| *at != of) {
            write_long(at.partition.0.into(), &mut begins);
            write_long(next.0, &mut begins);
        }
        write_long(of.partition.0.into(), &mut begins);
        Self { begins }
    }

    /// The one of where all partitions stand.
    pub(super) fn of_all(topic: TopicId, partition: Option<i32>, places: &[(TopicPartition, Offset)]) -> String {
        match places.first() {
            Some((of, next)) => Self::new(topic, partition, places, *of).after(next.0 - 1),
            None => String::new(),
        }
    }

    /// The one that stands behind a record at this offset.
    pub(super) fn after(&self, offset: i64) -> String {
        let mut bytes = self.begins.clone();
        write_long(offset + 1, &mut bytes);
        URL_SAFE_NO_PAD.encode(bytes)
    }
}

/// From where a request takes a stream up again, and the parameter that says so.
#[derive(Clone, Copy)]
pub(crate) struct Given<'r> {
    parameter: &'static str,
    pub(crate) text: &'r str,
}

impl Given<'_> {
    /// It is no cursor of this stream.
    pub(crate) fn refused(self) -> Refusal {
        let refusal = Refusal::new(ProblemType::Malformed, "what the stream is taken up from is no cursor of it");
        let remedy = "send the id of an event, or the cursor of a line, that this stream gave; or begin anew";
        refusal.at(self.parameter).remedied(remedy)
    }
}

/// From where a request takes a stream up again, if it does. The header goes before the parameter, which an address that is asked again by
/// itself still has.
pub(crate) fn begun_again<'r>(headers: &'r HeaderMap, cursor: Option<&'r str>) -> Option<Given<'r>> {
    match (headers.get(LAST_EVENT_ID), cursor) {
        (Some(last), _) => Some(Given { parameter: "Last-Event-ID", text: last.to_str().unwrap_or("?") }),
        (None, Some(text)) => Some(Given { parameter: "cursor", text }),
        (None, None) => None,
    }
}

/// The next offset of each partition.
type Places = BTreeMap<i32, i64>;

/// Where each partition goes on, where a request takes a stream of records up again, and the parameter that says so.
pub(super) fn taken_up(
    headers: &HeaderMap,
    cursor: Option<&String>,
    topic: TopicId,
    partition: Option<i32>,
) -> Result<Option<(&'static str, Places)>, Refusal> {
    let Some(given) = begun_again(headers, cursor.map(String::as_str)) else { return Ok(None) };
    match read(given.text, topic, partition) {
        Some(places) => Ok(Some((given.parameter, places))),
        None => Err(given.refused()),
    }
}

fn read(text: &str, topic: TopicId, partition: Option<i32>) -> Option<Places> {
    let bytes = URL_SAFE_NO_PAD.decode(text).ok()?;
    let mut reader = Reader::new(&bytes);
    let mut places = BTreeMap::new();
    let of = (reader.long().ok()?, reader.long().ok()?);
    let count = reader.length().ok()?;
    while reader.remaining() > 0 {
        places.insert(i32::try_from(reader.long().ok()?).ok()?, reader.long().ok()?);
    }
    (of == (topic.0, partition.map_or(-1, i64::from)) && places.len() == count).then_some(places)
}
