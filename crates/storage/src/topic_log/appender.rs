//! Appending: requests that wait at the same time go into one transaction (group commit).

use std::collections::{BTreeMap, HashMap};
use std::sync::Arc;

use diesel::prelude::*;
use diesel::sql_types::{Array, Int4, Int8};
use diesel_async::pooled_connection::bb8::Pool;
use diesel_async::{AsyncConnection, AsyncPgConnection, RunQueryDsl};
use gonvel_core::naming::{Offset, PartitionId, TopicId, TopicPartition};
use gonvel_core::ports::{AppendBatch, Landed, PortError};
use tokio::sync::{mpsc, oneshot};

use super::ends::Ends;
use crate::schema::{blocks, lanes};

/// Requests that go into one transaction at most.
const GROUP: usize = 64;

type Answer = Result<Vec<Landed>, PortError>;

struct Request {
    batch: AppendBatch,
    answer: oneshot::Sender<Answer>,
}

/// Hands batches to the one task that commits them.
#[derive(Clone)]
pub(crate) struct Appender {
    requests: mpsc::Sender<Request>,
}

impl Appender {
    pub(crate) fn start(pool: Pool<AsyncPgConnection>, ends: Arc<Ends>) -> Self {
        let (requests, mut waiting) = mpsc::channel::<Request>(GROUP);
        tokio::spawn(async move {
            let mut group = Vec::with_capacity(GROUP);
            while waiting.recv_many(&mut group, GROUP).await > 0 {
                commit(&pool, &ends, std::mem::take(&mut group)).await;
            }
        });
        Self { requests }
    }

    /// Cancel safety: once handed over, the batch is committed or refused whole whether or not anyone awaits the answer.
    pub(crate) async fn append(&self, batch: AppendBatch) -> Answer {
        let (answer, answered) = oneshot::channel();
        let gone = || PortError::TryAgain { during: "appending", cause: "the appender has stopped".into() };
        self.requests.send(Request { batch, answer }).await.map_err(|_| gone())?;
        answered.await.map_err(|_| gone())?
    }
}

async fn commit(pool: &Pool<AsyncPgConnection>, ends: &Ends, group: Vec<Request>) {
    let (batches, answers): (Vec<_>, Vec<_>) = group.into_iter().map(|r| (r.batch, r.answer)).unzip();
    let outcome = match pool.get().await {
        Ok(mut connection) => {
            connection.transaction::<Vec<Answer>, diesel::result::Error, _>(async |c| write(c, &batches).await).await
        }
        Err(error) => Err(diesel::result::Error::QueryBuilderError(error.to_string().into())),
    };
    match outcome {
        Ok(outcomes) => {
            for landed in outcomes.iter().flatten() {
                ends.announce(landed);
            }
            for (answer, outcome) in answers.into_iter().zip(outcomes) {
                let _ = answer.send(outcome);
            }
        }
        Err(error) => {
            for answer in answers {
                let _ = answer.send(Err(PortError::TryAgain { during: "appending", cause: error.to_string().into() }));
            }
        }
    }
}

#[derive(QueryableByName)]
struct Locked {
    #[diesel(sql_type = Int8)]
    topic_id: i64,
    #[diesel(sql_type = Int4)]
    partition: i32,
    #[diesel(sql_type = Int8)]
    next_offset: i64,
}

/// Lane rows are locked before partition rows and both in order of their keys, so that two processes never wait for each
/// other. The partition rows stay locked to the commit: this is what makes offsets dense and visible in order.
async fn write(connection: &mut AsyncPgConnection, batches: &[AppendBatch]) -> Result<Vec<Answer>, diesel::result::Error> {
    let mut refused: HashMap<usize, PortError> = HashMap::new();
    progress(connection, batches, &mut refused).await?;

    let wanted: BTreeMap<TopicPartition, ()> = batches.iter().flat_map(|b| b.parts.iter().map(|p| (p.to, ()))).collect();
    let mut next: HashMap<TopicPartition, i64> = HashMap::new();
    if !wanted.is_empty() {
        let rows: Vec<Locked> = diesel::sql_query(
            "SELECT p.topic_id, p.partition, p.next_offset FROM topic_partitions p \
             JOIN unnest($1, $2) AS a(topic_id, partition) USING (topic_id, partition) ORDER BY 1, 2 FOR UPDATE OF p",
        )
        .bind::<Array<Int8>, _>(wanted.keys().map(|k| k.topic.0).collect::<Vec<_>>())
        .bind::<Array<Int4>, _>(wanted.keys().map(|k| k.partition.0).collect::<Vec<_>>())
        .load(connection)
        .await?;
        next.extend(
            rows.iter().map(|r| {
                (TopicPartition { topic: TopicId(r.topic_id), partition: PartitionId(r.partition) }, r.next_offset)
            }),
        );
    }

    let mut rows = Vec::new();
    let mut grown: BTreeMap<TopicPartition, i64> = BTreeMap::new();
    let mut answers = Vec::with_capacity(batches.len());
    for (number, batch) in batches.iter().enumerate() {
        if let Some(error) = refused.remove(&number) {
            answers.push(Err(error));
            continue;
        }
        if let Some(missing) = batch.parts.iter().find(|p| !next.contains_key(&p.to)) {
            let what = format!("partition {} of topic {}", missing.to.partition.0, missing.to.topic.0);
            if batch.progress.is_some() {
                // its progress is written already: only undoing the whole group takes it back
                return Err(diesel::result::Error::QueryBuilderError(format!("there is no {what}").into()));
            }
            answers.push(Err(PortError::NotFound { what }));
            continue;
        }
        let mut landed = Vec::with_capacity(batch.parts.len());
        for part in &batch.parts {
            let Some(offset) = next.get_mut(&part.to) else { continue };
            let first = *offset;
            for block in &part.blocks {
                rows.push((
                    blocks::topic_id.eq(part.to.topic.0),
                    blocks::partition.eq(part.to.partition.0),
                    blocks::first_offset.eq(*offset),
                    blocks::records.eq(i32::try_from(block.records).unwrap_or(i32::MAX)),
                    blocks::earliest_us.eq(block.earliest_us),
                    blocks::latest_us.eq(block.latest_us),
                    blocks::unpacked.eq(i32::try_from(block.unpacked).unwrap_or(i32::MAX)),
                    blocks::body.eq(block.body.as_ref()),
                ));
                *offset += i64::from(block.records);
                *grown.entry(part.to).or_default() += i64::try_from(block.body.len()).unwrap_or(i64::MAX);
            }
            landed.push(Landed { to: part.to, first: Offset(first), records: *offset - first });
        }
        answers.push(Ok(landed));
    }
    for some in rows.chunks(500) {
        diesel::insert_into(blocks::table).values(some).execute(connection).await?;
    }
    if !grown.is_empty() {
        diesel::sql_query(
            "UPDATE topic_partitions p SET next_offset = a.next_offset, bytes = p.bytes + a.bytes \
             FROM unnest($1, $2, $3, $4) AS a(topic_id, partition, next_offset, bytes) \
             WHERE p.topic_id = a.topic_id AND p.partition = a.partition",
        )
        .bind::<Array<Int8>, _>(grown.keys().map(|k| k.topic.0).collect::<Vec<_>>())
        .bind::<Array<Int4>, _>(grown.keys().map(|k| k.partition.0).collect::<Vec<_>>())
        .bind::<Array<Int8>, _>(grown.keys().map(|k| next[k]).collect::<Vec<_>>())
        .bind::<Array<Int8>, _>(grown.values().copied().collect::<Vec<_>>())
        .execute(connection)
        .await?;
    }
    Ok(answers)
}

/// Writes each batch's lane progress, where its epoch is still the lane's; notes the others as fenced.
async fn progress(
    connection: &mut AsyncPgConnection,
    batches: &[AppendBatch],
    refused: &mut HashMap<usize, PortError>,
) -> Result<(), diesel::result::Error> {
    let mut order: Vec<usize> = (0..batches.len()).filter(|&n| batches[n].progress.is_some()).collect();
    order.sort_by_key(|&n| batches[n].progress.as_ref().map(|p| (p.connector, p.lane)));
    for number in order {
        let Some(lane) = &batches[number].progress else { continue };
        // epochs only grow, so a holder that is refused here is refused for the rest of the group as well
        let written = diesel::update(lanes::table.find((lane.connector.0, lane.lane)).filter(lanes::epoch.eq(lane.epoch.0)))
            .set(lanes::position.eq(&lane.position))
            .execute(connection)
            .await?;
        if written == 0 {
            refused.insert(number, PortError::Fenced { connector: lane.connector, lane: lane.lane });
        }
    }
    Ok(())
}
