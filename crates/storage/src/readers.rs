//! Readers: their positions, and how their members share partitions.

use std::collections::{BTreeMap, BTreeSet};
use std::time::Duration;

use async_trait::async_trait;
use chrono::{DateTime, Utc};
use diesel::prelude::*;
use diesel::result::{DatabaseErrorKind, Error};
use diesel::sql_types::{Array, Bool, Double, Int4, Int8, Nullable, Text, Timestamptz, Uuid as SqlUuid};
use diesel_async::{AsyncConnection, AsyncPgConnection, RunQueryDsl};
use gonvel_core::naming::{Offset, PartitionId, ReaderName, TopicId, TopicPartition};
use gonvel_core::ports::{COMMIT_STAYS, Member, PortError, Reader, ReaderPosition, ReaderStore, Share};
use gonvel_core::sharing::share_out;
use uuid::Uuid;

use crate::Database;
use crate::failing::{Stop, failed, stopped};

#[derive(QueryableByName)]
struct ReaderRow {
    #[diesel(sql_type = Int8)]
    id: i64,
    #[diesel(sql_type = Text)]
    name: String,
    #[diesel(sql_type = Timestamptz)]
    created_at: DateTime<Utc>,
}

#[derive(QueryableByName)]
struct PositionRow {
    #[diesel(sql_type = Int8)]
    reader_id: i64,
    #[diesel(sql_type = Int8)]
    topic_id: i64,
    #[diesel(sql_type = Int4)]
    partition: i32,
    #[diesel(sql_type = Int8)]
    next_offset: i64,
    #[diesel(sql_type = Nullable<Timestamptz>)]
    committed_at: Option<DateTime<Utc>>,
    #[diesel(sql_type = Nullable<SqlUuid>)]
    holder: Option<Uuid>,
}

impl PositionRow {
    fn at(&self) -> TopicPartition {
        TopicPartition { topic: TopicId(self.topic_id), partition: PartitionId(self.partition) }
    }
}

#[derive(QueryableByName)]
struct MemberRow {
    #[diesel(sql_type = Int8)]
    reader_id: i64,
    #[diesel(sql_type = SqlUuid)]
    member: Uuid,
    #[diesel(sql_type = Text)]
    label: String,
    #[diesel(sql_type = Timestamptz)]
    joined_at: DateTime<Utc>,
    #[diesel(sql_type = Timestamptz)]
    until: DateTime<Utc>,
}

fn gone(name: &ReaderName) -> PortError {
    PortError::NotFound { what: format!("reader {name}") }
}

fn unzip(places: impl IntoIterator<Item = TopicPartition>) -> (Vec<i64>, Vec<i32>) {
    places.into_iter().map(|p| (p.topic.0, p.partition.0)).unzip()
}

/// Locks a reader to the end of the transaction: what its members do is done one after the other.
async fn lock(connection: &mut AsyncPgConnection, name: &ReaderName) -> Result<i64, Stop> {
    let row: Option<ReaderRow> = diesel::sql_query("SELECT id, name, created_at FROM readers WHERE name = $1 FOR UPDATE")
        .bind::<Text, _>(name.as_str())
        .get_result(connection)
        .await
        .optional()?;
    row.map(|r| r.id).ok_or_else(|| Stop::Refused(gone(name)))
}

async fn positions(connection: &mut AsyncPgConnection, id: Option<i64>) -> Result<Vec<PositionRow>, Error> {
    diesel::sql_query(
        "SELECT reader_id, topic_id, partition, next_offset, committed_at, holder FROM reader_positions \
         WHERE $1 IS NULL OR reader_id = $1 ORDER BY 1, 2, 3",
    )
    .bind::<Nullable<Int8>, _>(id)
    .load(connection)
    .await
}

async fn active(connection: &mut AsyncPgConnection, id: Option<i64>) -> Result<Vec<MemberRow>, Error> {
    diesel::sql_query(
        "SELECT reader_id, member, label, joined_at, until FROM reader_members \
         WHERE ($1 IS NULL OR reader_id = $1) AND until > clock_timestamp() ORDER BY joined_at, member",
    )
    .bind::<Nullable<Int8>, _>(id)
    .load(connection)
    .await
}

/// Locks the readers of a topic to the end of the transaction.
pub(crate) async fn lock_readers_of(connection: &mut AsyncPgConnection, topic: i64) -> Result<Vec<i64>, Error> {
    let rows: Vec<ReaderRow> = diesel::sql_query(
        "SELECT id, name, created_at FROM readers r WHERE EXISTS (SELECT FROM reader_positions p WHERE p.reader_id = r.id \
           AND p.topic_id = $1) ORDER BY id FOR UPDATE",
    )
    .bind::<Int8, _>(topic)
    .load(connection)
    .await?;
    Ok(rows.into_iter().map(|row| row.id).collect())
}

/// Shares the partitions of a reader that is locked out anew among its members.
pub(crate) async fn share_out_anew(connection: &mut AsyncPgConnection, id: i64) -> Result<(), Error> {
    share_anew(connection, id).await.map(drop)
}

async fn share_anew(connection: &mut AsyncPgConnection, id: i64) -> Result<Vec<(PositionRow, Option<Uuid>)>, Error> {
    diesel::sql_query("DELETE FROM reader_members WHERE reader_id = $1 AND until <= clock_timestamp()")
        .bind::<Int8, _>(id)
        .execute(connection)
        .await?;
    let members: Vec<Uuid> = active(connection, Some(id)).await?.iter().map(|m| m.member).collect();
    let rows = positions(connection, Some(id)).await?;
    let held: Vec<_> = rows.iter().map(|r| (r.at(), r.holder)).collect();
    let shares = share_out(&held, &members);
    let moved: Vec<_> = held.iter().zip(&shares).filter(|(b, a)| b.1 != a.1).map(|(_, after)| *after).collect();
    if !moved.is_empty() {
        let (topics, partitions) = unzip(moved.iter().map(|m| m.0));
        diesel::sql_query(
            "UPDATE reader_positions p SET holder = a.holder FROM unnest($2, $3, $4) AS a(topic_id, partition, holder) \
             WHERE p.reader_id = $1 AND p.topic_id = a.topic_id AND p.partition = a.partition",
        )
        .bind::<Int8, _>(id)
        .bind::<Array<Int8>, _>(topics)
        .bind::<Array<Int4>, _>(partitions)
        .bind::<Array<Nullable<SqlUuid>>, _>(moved.iter().map(|m| m.1).collect::<Vec<_>>())
        .execute(connection)
        .await?;
    }
    Ok(rows.into_iter().zip(shares.into_iter().map(|s| s.1)).collect())
}

fn away(name: &ReaderName, member: Uuid) -> PortError {
    let what = format!("member {member} of the reader {name}: it left or was away too long; join again, for it");
    PortError::NotFound { what }
}

fn share_of(member: Uuid, shares: &[(PositionRow, Option<Uuid>)]) -> Share {
    let own = shares.iter().filter(|(_, holder)| *holder == Some(member));
    Share { member, partitions: own.map(|(row, _)| (row.at(), Offset(row.next_offset))).collect() }
}

async fn load(database: &Database, name: Option<&ReaderName>) -> Result<Vec<Reader>, PortError> {
    let mut connection = database.connection().await?;
    let rows: Result<Vec<Reader>, Error> = connection
        .transaction(async |c| {
            let rows: Vec<ReaderRow> =
                diesel::sql_query("SELECT id, name, created_at FROM readers WHERE $1 IS NULL OR name = $1 ORDER BY name")
                    .bind::<Nullable<Text>, _>(name.map(ReaderName::as_str))
                    .load(c)
                    .await?;
            let only = name.and_then(|_| rows.as_slice().first().map(|r| r.id));
            let (mut by_reader, mut members) =
                (BTreeMap::<i64, Vec<ReaderPosition>>::new(), BTreeMap::<i64, Vec<Member>>::new());
            for row in positions(c, only).await? {
                by_reader.entry(row.reader_id).or_default().push(ReaderPosition {
                    at: row.at(),
                    next: Offset(row.next_offset),
                    committed_us: row.committed_at.map(|t| t.timestamp_micros()),
                    holder: row.holder,
                });
            }
            for row in active(c, only).await? {
                members.entry(row.reader_id).or_default().push(Member {
                    id: row.member,
                    label: row.label,
                    joined_us: row.joined_at.timestamp_micros(),
                    until_us: row.until.timestamp_micros(),
                });
            }
            let reader = |row: ReaderRow| {
                let members = members.remove(&row.id).unwrap_or_default();
                let mut positions = by_reader.remove(&row.id).unwrap_or_default();
                for position in &mut positions {
                    // one whose time is over holds nothing, also before anyone has shared out anew
                    position.holder = position.holder.filter(|h| members.iter().any(|m| m.id == *h));
                }
                let mut topics: Vec<TopicId> = positions.iter().map(|p| p.at.topic).collect();
                topics.dedup();
                let name = ReaderName::parse(row.name).map_err(|e| Error::DeserializationError(Box::new(e)))?;
                Ok(Reader { id: row.id, name, created_us: row.created_at.timestamp_micros(), topics, positions, members })
            };
            rows.into_iter().map(reader).collect()
        })
        .await;
    rows.map_err(failed("reading readers"))
}

fn no_such_topic(name: &ReaderName) -> PortError {
    PortError::NotFound { what: format!("topic that the reader {name} was to read") }
}

/// Lets a reader stand in topics that it did not read before.
async fn begin(connection: &mut AsyncPgConnection, id: i64, start: &[(TopicPartition, Offset)]) -> Result<(), Error> {
    let (topics, partitions) = unzip(start.iter().map(|s| s.0));
    // partitions that are being added are waited for, and those that came since it was looked begin at their start
    diesel::sql_query("SELECT FROM topics WHERE id = ANY($1) ORDER BY id FOR SHARE")
        .bind::<Array<Int8>, _>(&topics)
        .execute(connection)
        .await?;
    diesel::sql_query(
        "INSERT INTO reader_positions (reader_id, topic_id, partition, next_offset) \
         SELECT $1, t, p, o FROM unnest($2, $3, $4) AS a(t, p, o) \
         UNION ALL SELECT $1, n.topic_id, n.partition, 0 FROM topic_partitions n WHERE n.topic_id = ANY($2) \
         AND NOT EXISTS (SELECT FROM unnest($2, $3) AS a(t, p) WHERE t = n.topic_id AND p = n.partition)",
    )
    .bind::<Int8, _>(id)
    .bind::<Array<Int8>, _>(topics)
    .bind::<Array<Int4>, _>(partitions)
    .bind::<Array<Int8>, _>(start.iter().map(|s| s.1.0).collect::<Vec<_>>())
    .execute(connection)
    .await?;
    Ok(())
}

#[async_trait]
impl ReaderStore for Database {
    async fn create_reader(&self, name: &ReaderName, start: &[(TopicPartition, Offset)]) -> Result<Reader, PortError> {
        let mut connection = self.connection().await?;
        let made: Result<(), Error> = connection
            .transaction(async |c| {
                let row: ReaderRow =
                    diesel::sql_query("INSERT INTO readers (name) VALUES ($1) RETURNING id, name, created_at")
                        .bind::<Text, _>(name.as_str())
                        .get_result(c)
                        .await?;
                begin(c, row.id, start).await?;
                self.note_made(c, name.as_str()).await
            })
            .await;
        match made {
            Err(Error::DatabaseError(DatabaseErrorKind::UniqueViolation, _)) => {
                Err(PortError::Exists { what: format!("the reader {name}") })
            }
            Err(Error::DatabaseError(DatabaseErrorKind::ForeignKeyViolation, _)) => Err(no_such_topic(name)),
            Err(error) => Err(failed("making a reader")(error)),
            Ok(()) => self.reader(name).await,
        }
    }

    async fn change_topics(
        &self,
        name: &ReaderName,
        topics: &[TopicId],
        start: &[(TopicPartition, Offset)],
    ) -> Result<(), PortError> {
        let mut connection = self.connection().await?;
        let changed: Result<(), Stop> = connection
            .transaction(async |c| {
                let id = lock(c, name).await?;
                diesel::sql_query("DELETE FROM reader_positions WHERE reader_id = $1 AND topic_id <> ALL($2)")
                    .bind::<Int8, _>(id)
                    .bind::<Array<Int8>, _>(topics.iter().map(|topic| topic.0).collect::<Vec<_>>())
                    .execute(c)
                    .await?;
                let stands: BTreeSet<TopicId> = positions(c, Some(id)).await?.iter().map(|row| row.at().topic).collect();
                let new: Vec<_> = start.iter().filter(|(at, _)| !stands.contains(&at.topic)).copied().collect();
                let begins: BTreeSet<TopicId> = new.iter().map(|(at, _)| at.topic).collect();
                if topics.iter().any(|topic| !stands.contains(topic) && !begins.contains(topic)) {
                    return Err(Stop::Refused(no_such_topic(name)));
                }
                begin(c, id, &new).await.map_err(|error| match error {
                    Error::DatabaseError(DatabaseErrorKind::ForeignKeyViolation, _) => Stop::Refused(no_such_topic(name)),
                    error => error.into(),
                })?;
                share_out_anew(c, id).await?;
                Ok(())
            })
            .await;
        changed.map_err(stopped("changing the topics of a reader"))
    }

    async fn readers(&self) -> Result<Vec<Reader>, PortError> {
        load(self, None).await
    }

    async fn reader(&self, name: &ReaderName) -> Result<Reader, PortError> {
        load(self, Some(name)).await?.pop().ok_or_else(|| gone(name))
    }

    async fn delete_reader(&self, name: &ReaderName) -> Result<(), PortError> {
        let mut connection = self.connection().await?;
        let deleted: Result<(), Stop> = connection
            .transaction(async |c| {
                let id = lock(c, name).await?;
                refuse_while_active(c, id, name, "deleted").await?;
                diesel::sql_query("DELETE FROM readers WHERE id = $1").bind::<Int8, _>(id).execute(c).await?;
                Ok(())
            })
            .await;
        deleted.map_err(stopped("deleting a reader"))
    }

    async fn join(&self, name: &ReaderName, label: &str, ttl: Duration) -> Result<Share, PortError> {
        let member = Uuid::now_v7();
        let mut connection = self.connection().await?;
        let joined: Result<Share, Stop> = connection
            .transaction(async |c| {
                let id = lock(c, name).await?;
                diesel::sql_query(
                    "INSERT INTO reader_members (reader_id, member, label, until) \
                     VALUES ($1, $2, $3, clock_timestamp() + make_interval(secs => $4))",
                )
                .bind::<Int8, _>(id)
                .bind::<SqlUuid, _>(member)
                .bind::<Text, _>(label)
                .bind::<Double, _>(ttl.as_secs_f64())
                .execute(c)
                .await?;
                self.note_made(c, &member.to_string()).await?;
                Ok(share_of(member, &share_anew(c, id).await?))
            })
            .await;
        joined.map_err(stopped("joining a reader"))
    }

    async fn stay(&self, name: &ReaderName, member: Uuid, ttl: Duration) -> Result<Share, PortError> {
        let mut connection = self.connection().await?;
        let stayed: Result<Share, Stop> = connection
            .transaction(async |c| {
                let id = lock(c, name).await?;
                let there = diesel::sql_query(
                    "UPDATE reader_members SET until = clock_timestamp() + make_interval(secs => $3) \
                     WHERE reader_id = $1 AND member = $2 AND until > clock_timestamp()",
                )
                .bind::<Int8, _>(id)
                .bind::<SqlUuid, _>(member)
                .bind::<Double, _>(ttl.as_secs_f64())
                .execute(c)
                .await?;
                if there == 0 {
                    return Err(Stop::Refused(away(name, member)));
                }
                Ok(share_of(member, &share_anew(c, id).await?))
            })
            .await;
        stayed.map_err(stopped("staying with a reader"))
    }

    async fn share(&self, name: &ReaderName, member: Uuid) -> Result<Share, PortError> {
        let reader = self.reader(name).await?;
        if !reader.members.iter().any(|m| m.id == member) {
            return Err(away(name, member));
        }
        let own = reader.positions.iter().filter(|p| p.holder == Some(member));
        Ok(Share { member, partitions: own.map(|p| (p.at, p.next)).collect() })
    }

    async fn leave(&self, name: &ReaderName, member: Uuid) -> Result<(), PortError> {
        let mut connection = self.connection().await?;
        let left: Result<(), Stop> = connection
            .transaction(async |c| {
                let id = lock(c, name).await?;
                diesel::sql_query("DELETE FROM reader_members WHERE reader_id = $1 AND member = $2")
                    .bind::<Int8, _>(id)
                    .bind::<SqlUuid, _>(member)
                    .execute(c)
                    .await?;
                share_anew(c, id).await?;
                Ok(())
            })
            .await;
        left.map_err(stopped("leaving a reader"))
    }

    async fn commit(
        &self,
        name: &ReaderName,
        member: Uuid,
        positions: &[(TopicPartition, Offset)],
    ) -> Result<(), PortError> {
        #[derive(QueryableByName)]
        struct Done {
            #[diesel(sql_type = Int8)]
            topic_id: i64,
            #[diesel(sql_type = Int4)]
            partition: i32,
        }
        #[derive(QueryableByName)]
        struct Stayed {
            #[diesel(sql_type = Bool)]
            due: bool,
        }
        let mut connection = self.connection().await?;
        let committed: Result<(), Stop> = connection
            .transaction(async |c| {
                let id = lock(c, name).await?;
                let (topics, partitions) = unzip(positions.iter().map(|p| p.0));
                let done: Vec<Done> = diesel::sql_query(
                    "UPDATE reader_positions p SET next_offset = a.next_offset, committed_at = clock_timestamp() \
                     FROM unnest($3, $4, $5) AS a(topic_id, partition, next_offset) \
                     WHERE p.reader_id = $1 AND p.holder = $2 AND p.topic_id = a.topic_id AND p.partition = a.partition \
                     AND EXISTS (SELECT FROM reader_members m WHERE m.reader_id = $1 AND m.member = $2) \
                     RETURNING p.topic_id, p.partition",
                )
                .bind::<Int8, _>(id)
                .bind::<SqlUuid, _>(member)
                .bind::<Array<Int8>, _>(topics)
                .bind::<Array<Int4>, _>(partitions)
                .bind::<Array<Int8>, _>(positions.iter().map(|p| p.1.0).collect::<Vec<_>>())
                .load(c)
                .await?;
                let is_done =
                    |at: &TopicPartition| done.iter().any(|d| (d.topic_id, d.partition) == (at.topic.0, at.partition.0));
                if let Some((at, _)) = positions.iter().find(|(at, _)| !is_done(at)) {
                    return Err(Stop::Refused(PortError::NotHeld { at: *at }));
                }
                // who does nothing but commit takes over as well what no one holds
                let stayed: Vec<Stayed> = diesel::sql_query(
                    "UPDATE reader_members SET until = greatest(until, clock_timestamp() + make_interval(secs => $3)) \
                     WHERE reader_id = $1 AND member = $2 RETURNING \
                       EXISTS (SELECT FROM reader_members m WHERE m.reader_id = $1 AND m.member <> $2 AND m.until <= clock_timestamp()) \
                       OR EXISTS (SELECT FROM reader_positions p WHERE p.reader_id = $1 AND p.holder IS NULL) AS due",
                )
                .bind::<Int8, _>(id)
                .bind::<SqlUuid, _>(member)
                .bind::<Double, _>(COMMIT_STAYS.as_secs_f64())
                .load(c)
                .await?;
                if stayed.iter().any(|stayed| stayed.due) {
                    share_anew(c, id).await?;
                }
                Ok(())
            })
            .await;
        committed.map_err(stopped("committing positions"))
    }

    async fn reposition(&self, name: &ReaderName, moves: &[(TopicPartition, Offset, Offset)]) -> Result<(), PortError> {
        let mut connection = self.connection().await?;
        let moved: Result<(), Stop> = connection
            .transaction(async |c| {
                let id = lock(c, name).await?;
                refuse_while_active(c, id, name, "repositioned").await?;
                let (topics, partitions) = unzip(moves.iter().map(|m| m.0));
                let done = diesel::sql_query(
                    "UPDATE reader_positions p SET next_offset = a.to, committed_at = clock_timestamp(), holder = NULL \
                     FROM unnest($2, $3, $4, $5) AS a(topic_id, partition, \"from\", \"to\") \
                     WHERE p.reader_id = $1 AND p.topic_id = a.topic_id AND p.partition = a.partition AND p.next_offset = a.from",
                )
                .bind::<Int8, _>(id)
                .bind::<Array<Int8>, _>(topics)
                .bind::<Array<Int4>, _>(partitions)
                .bind::<Array<Int8>, _>(moves.iter().map(|m| m.1.0).collect::<Vec<_>>())
                .bind::<Array<Int8>, _>(moves.iter().map(|m| m.2.0).collect::<Vec<_>>())
                .execute(c)
                .await?;
                if done == moves.len() {
                    Ok(())
                } else {
                    Err(Stop::Refused(PortError::Changed { what: format!("a position of the reader {name}") }))
                }
            })
            .await;
        moved.map_err(stopped("repositioning a reader"))
    }
}

async fn refuse_while_active(
    connection: &mut AsyncPgConnection,
    id: i64,
    name: &ReaderName,
    done: &str,
) -> Result<(), Stop> {
    let members = active(connection, Some(id)).await?;
    if members.is_empty() {
        return Ok(());
    }
    let labels: Vec<&str> = members.iter().map(|m| m.label.as_str()).collect();
    Err(Stop::Refused(PortError::Refused(format!(
        "{name} cannot be {done} while members are active ({}): stop them first",
        labels.join(", ")
    ))))
}

impl Database {
    /// Names of the readers of a topic.
    ///
    /// # Errors
    /// [`PortError::TryAgain`].
    pub async fn readers_of(&self, topic: TopicId) -> Result<Vec<String>, PortError> {
        #[derive(QueryableByName)]
        struct Name {
            #[diesel(sql_type = Text)]
            name: String,
        }
        let mut connection = self.connection().await?;
        let names: Vec<Name> = diesel::sql_query(
            "SELECT name FROM readers r WHERE EXISTS (SELECT FROM reader_positions p WHERE p.reader_id = r.id AND p.topic_id = $1) \
             ORDER BY name",
        )
        .bind::<Int8, _>(topic.0)
        .load(&mut connection)
        .await
        .map_err(failed("looking for readers of a topic"))?;
        Ok(names.into_iter().map(|n| n.name).collect())
    }
}
