//! Recognising an append that is tried again: by a session's sequence, or by a key.

use std::collections::{BTreeMap, HashMap};

use bytes::Bytes;
use diesel::prelude::*;
use diesel::result::Error;
use diesel::sql_types::{Array, Binary, Int8, Jsonb, Nullable, Text, Uuid as SqlUuid};
use diesel_async::{AsyncPgConnection, RunQueryDsl};
use gonvel_core::ports::{Answered, AppendBatch, Identity, Landed, PortError};
use serde_json::Value;
use uuid::Uuid;

use super::landing::Answer;
use crate::failing::failed;

/// Answers kept of a session: a producer that has more batches under way cannot have all of them recognised.
const ANSWERS_KEPT: i64 = 128;

/// What the database knows of the identities in a group of batches. Its rows stay locked to the commit.
pub(super) struct Known {
    /// The next sequence of each session.
    sessions: BTreeMap<Uuid, i64>,
    /// Batches of this group by what makes them known.
    seen_sequences: HashMap<(Uuid, i64), usize>,
    seen_keys: HashMap<String, usize>,
}

#[derive(QueryableByName)]
struct Session {
    #[diesel(sql_type = SqlUuid)]
    session: Uuid,
    #[diesel(sql_type = Int8)]
    next_sequence: i64,
}

#[derive(QueryableByName)]
struct Stored {
    /// None of a session's answers that an earlier version kept.
    #[diesel(sql_type = Nullable<Binary>)]
    digest: Option<Vec<u8>>,
    #[diesel(sql_type = Jsonb)]
    landed: Value,
    #[diesel(sql_type = Nullable<Binary>)]
    told: Option<Vec<u8>>,
}

impl Stored {
    /// What was answered, if it was to this request.
    fn of(self, identity: &Identity) -> Result<Result<Answered, PortError>, Error> {
        if self.digest.as_deref().is_some_and(|known| known != digest_of(identity)) {
            return Ok(Err(reused(identity)));
        }
        Ok(Ok(Answered { landed: landed(self.landed)?, told: self.told.map(Bytes::from) }))
    }
}

fn digest_of(identity: &Identity) -> &[u8] {
    match identity {
        Identity::Sequence { digest, .. } | Identity::Key { digest, .. } => digest,
    }
}

fn reused(identity: &Identity) -> PortError {
    match identity {
        Identity::Sequence { sequence, .. } => PortError::SequenceReused { sequence: *sequence },
        Identity::Key { key, .. } => PortError::KeyReused { key: key.clone() },
    }
}

/// What is kept of an identity.
async fn stored(connection: &mut AsyncPgConnection, identity: &Identity) -> Result<Option<Stored>, Error> {
    match identity {
        Identity::Sequence { session, sequence, .. } => {
            diesel::sql_query("SELECT digest, landed, told FROM session_answers WHERE session = $1 AND sequence = $2")
                .bind::<SqlUuid, _>(session)
                .bind::<Int8, _>(sequence)
                .get_result(connection)
                .await
        }
        Identity::Key { key, .. } => {
            diesel::sql_query("SELECT digest, landed, told FROM idempotency_keys WHERE key = $1")
                .bind::<Text, _>(key)
                .get_result(connection)
                .await
        }
    }
    .optional()
}

/// What an earlier append was answered.
pub(super) async fn answered(
    connection: &mut AsyncPgConnection,
    identity: &Identity,
) -> Result<Option<Answered>, PortError> {
    let looked = async { stored(connection, identity).await?.map(|stored| stored.of(identity)).transpose() };
    looked.await.map_err(failed("looking for an earlier answer"))?.transpose()
}

fn landed(stored: Value) -> Result<Vec<Landed>, Error> {
    serde_json::from_value(stored).map_err(|e| Error::DeserializationError(Box::new(e)))
}

impl Known {
    /// Answers the batches that were appended before, and those whose identity does not hold.
    pub(super) async fn look_up(
        connection: &mut AsyncPgConnection,
        batches: &[AppendBatch],
        answers: &mut [Option<Answer>],
    ) -> Result<Self, Error> {
        let mut known = Self { sessions: BTreeMap::new(), seen_sequences: HashMap::new(), seen_keys: HashMap::new() };
        known.sessions(connection, batches, answers).await?;
        known.keys(connection, batches, answers).await?;
        Ok(known)
    }

    async fn sessions(
        &mut self,
        connection: &mut AsyncPgConnection,
        batches: &[AppendBatch],
        answers: &mut [Option<Answer>],
    ) -> Result<(), Error> {
        let wanted: Vec<Uuid> = batches
            .iter()
            .filter_map(|b| match &b.identity {
                Some(Identity::Sequence { session, .. }) => Some(*session),
                _ => None,
            })
            .collect();
        if wanted.is_empty() {
            return Ok(());
        }
        let rows: Vec<Session> = diesel::sql_query(
            "SELECT session, next_sequence FROM producer_sessions WHERE session = ANY($1) ORDER BY session FOR UPDATE",
        )
        .bind::<Array<SqlUuid>, _>(wanted)
        .load(connection)
        .await?;
        self.sessions = rows.into_iter().map(|r| (r.session, r.next_sequence)).collect();
        for (number, batch) in batches.iter().enumerate() {
            let (Some(identity @ Identity::Sequence { session, sequence, digest }), None) =
                (&batch.identity, &answers[number])
            else {
                continue;
            };
            let Some(next) = self.sessions.get_mut(session) else {
                let what = format!("producer session {session}: begin a new one; it");
                answers[number] = Some(Err(PortError::NotFound { what }));
                continue;
            };
            if sequence == next {
                *next += 1;
                self.seen_sequences.insert((*session, *sequence), number);
            } else if sequence > next {
                answers[number] = Some(Err(PortError::OutOfTurn { expected: *next, found: *sequence }));
            } else if let Some(first) = self.seen_sequences.get(&(*session, *sequence)) {
                if batches[*first].identity.as_ref().is_some_and(|first| digest_of(first) != digest) {
                    answers[number] = Some(Err(reused(identity)));
                }
            } else {
                answers[number] = Some(match stored(connection, identity).await? {
                    Some(stored) => stored.of(identity)?.map(|answered| answered.landed),
                    None => Err(PortError::Refused(format!(
                        "sequence {sequence} was appended before, but its answer is no longer kept (the last {ANSWERS_KEPT} are)"
                    ))),
                });
            }
        }
        Ok(())
    }

    async fn keys(
        &mut self,
        connection: &mut AsyncPgConnection,
        batches: &[AppendBatch],
        answers: &mut [Option<Answer>],
    ) -> Result<(), Error> {
        let mut wanted: BTreeMap<&str, Vec<(usize, &[u8])>> = BTreeMap::new();
        for (number, batch) in batches.iter().enumerate() {
            if let (Some(Identity::Key { key, digest }), None) = (&batch.identity, &answers[number]) {
                wanted.entry(key).or_default().push((number, digest));
            }
        }
        for (key, uses) in wanted {
            let (first, digest) = uses[0];
            let new = diesel::sql_query(
                "INSERT INTO idempotency_keys (key, digest, landed) VALUES ($1, $2, '[]') ON CONFLICT (key) DO NOTHING",
            )
            .bind::<Text, _>(key)
            .bind::<Binary, _>(digest)
            .execute(connection)
            .await?;
            if new == 1 {
                self.seen_keys.insert(key.to_owned(), first);
                for (number, other) in &uses[1..] {
                    if *other != digest {
                        answers[*number] = Some(Err(PortError::KeyReused { key: key.to_owned() }));
                    }
                }
                continue;
            }
            let stored: Stored = diesel::sql_query("SELECT digest, landed, told FROM idempotency_keys WHERE key = $1")
                .bind::<Text, _>(key)
                .get_result(connection)
                .await?;
            let places = landed(stored.landed)?;
            for (number, digest) in uses {
                answers[number] = Some(if stored.digest.as_deref() == Some(digest) {
                    Ok(places.clone())
                } else {
                    Err(PortError::KeyReused { key: key.to_owned() })
                });
            }
        }
        Ok(())
    }

    /// The answer of an earlier batch of the same group that this one is a retry of.
    pub(super) fn first_of(&self, batch: &AppendBatch, number: usize, answers: &[Option<Answer>]) -> Option<Answer> {
        let first = match batch.identity.as_ref()? {
            Identity::Sequence { session, sequence, .. } => self.seen_sequences.get(&(*session, *sequence)),
            Identity::Key { key, .. } => self.seen_keys.get(key),
        };
        let first = *first.filter(|&&first| first < number)?;
        match answers[first].as_ref()? {
            Ok(landed) => Some(Ok(landed.clone())),
            Err(_) => None,
        }
    }
}

/// Stores the answers of those that were appended in this transaction.
pub(super) async fn store(
    connection: &mut AsyncPgConnection,
    batches: &[AppendBatch],
    answers: &[Answer],
    known: &Known,
) -> Result<(), Error> {
    let told = |number: usize| batches[number].told.as_deref();
    let json = |number: usize| match &answers[number] {
        Ok(landed) => serde_json::to_value(landed).map_err(|e| Error::SerializationError(Box::new(e))),
        Err(_) => Ok(Value::Null),
    };
    for (key, number) in &known.seen_keys {
        diesel::sql_query("UPDATE idempotency_keys SET landed = $2, told = $3 WHERE key = $1")
            .bind::<Text, _>(key)
            .bind::<Jsonb, _>(json(*number)?)
            .bind::<Nullable<Binary>, _>(told(*number))
            .execute(connection)
            .await?;
    }
    if known.seen_sequences.is_empty() {
        return Ok(());
    }
    let (mut sessions, mut sequences, mut values) = (Vec::new(), Vec::new(), Vec::new());
    let (mut tolds, mut digests) = (Vec::new(), Vec::new());
    for ((session, sequence), number) in &known.seen_sequences {
        sessions.push(*session);
        sequences.push(*sequence);
        values.push(json(*number)?);
        tolds.push(told(*number));
        digests.push(batches[*number].identity.as_ref().map(digest_of));
    }
    diesel::sql_query(
        "WITH moved AS (UPDATE producer_sessions s SET next_sequence = a.next, last_at = now() \
           FROM (SELECT session, max(sequence) + 1 AS next FROM unnest($1, $2) AS u(session, sequence) GROUP BY 1) a \
           WHERE s.session = a.session RETURNING s.session, s.next_sequence), \
         gone AS (DELETE FROM session_answers o USING moved m \
           WHERE o.session = m.session AND o.sequence < m.next_sequence - $4) \
         INSERT INTO session_answers (session, sequence, landed, told, digest) SELECT * FROM unnest($1, $2, $3, $5, $6)",
    )
    .bind::<Array<SqlUuid>, _>(sessions)
    .bind::<Array<Int8>, _>(sequences)
    .bind::<Array<Jsonb>, _>(values)
    .bind::<Int8, _>(ANSWERS_KEPT)
    .bind::<Array<Nullable<Binary>>, _>(tolds)
    .bind::<Array<Nullable<Binary>>, _>(digests)
    .execute(connection)
    .await?;
    Ok(())
}
