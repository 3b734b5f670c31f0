//! Changes shaped on their way from topics: when they come, when they are tried again, when what they look up changed.

use std::collections::{HashMap, HashSet};

use bytes::Bytes;
use gonvel_core::change::{ChangeKind, KindCounts};
use gonvel_core::change_form::ChangeForm;
use gonvel_core::failure;
use gonvel_core::naming::Offset;
use gonvel_core::ports::systems::{ConnectorError, RowBefore, TopicChanges};
use gonvel_core::ports::{AskedRecord, BadRecord, Step};

use super::{Beside, Gathering, Place, Reader, key_data, place_of};
use crate::failing::Failure;
use crate::fetching::records_at;
use crate::fits::{Fits, has_value};
use crate::shaping::{Came, PART_OF_A_ROW, Pass};

/// A change that cannot be shaped.
struct Unshaped {
    from: Place,
    kind: ChangeKind,
    finding: String,
}

/// What of changes does not go on.
#[derive(Default)]
struct Left {
    unshaped: Vec<Unshaped>,
    out: Vec<(Place, Bytes)>,
}

impl Reader {
    /// Shapes what was gathered; rows that cannot be shaped are put aside.
    pub(super) async fn shape(&mut self, gathering: &mut Gathering) -> Result<(), Failure> {
        let left = self.shape_topics(&mut gathering.topics, Pass::First).await?;
        for unshaped in &left.unshaped {
            // it was counted when it was read
            let mut one = KindCounts::default();
            one.add(unshaped.kind);
            if let Some(cursor) = self.cursors.iter_mut().find(|c| c.at == unshaped.from.0) {
                cursor.delivered.counts = cursor.delivered.counts.without(one);
            }
        }
        self.describe(left, &mut gathering.beside).await
    }

    /// Shapes changes that are carried again; rows that cannot be shaped are put aside.
    pub(crate) async fn shape_again(
        &mut self,
        mut topics: Vec<TopicChanges>,
    ) -> Result<(Vec<TopicChanges>, Beside), Failure> {
        let left = self.shape_topics(&mut topics, Pass::First).await?;
        let mut beside = Beside::default();
        self.describe(left, &mut beside).await?;
        Ok((topics, beside))
    }

    /// Adds what does not go on to what came besides.
    async fn describe(&self, left: Left, beside: &mut Beside) -> Result<(), Failure> {
        beside.left_out.extend(left.out);
        let Some(first) = left.unshaped.first() else { return Ok(()) };
        let Some(names) = &self.aside else {
            let ((at, offset), finding) = (first.from, &first.finding);
            return Err(ConnectorError::bad_record(format!("{}: {finding}", place_of(at, offset))).into());
        };
        let places: Vec<Place> = left.unshaped.iter().map(|unshaped| unshaped.from).collect();
        let records = records_at(&*self.log, &places).await?;
        for (Unshaped { from: (at, offset), finding, .. }, record) in left.unshaped.into_iter().zip(records) {
            let Some(cursor) = self.cursors.iter().find(|c| c.at == at) else { continue };
            let (step, topic) = (Step::Shape, names[cursor.topic].clone());
            let cause = failure::cause(step.word(), &finding);
            beside.bad.push(BadRecord { at, topic, offset: Offset(offset), record, step, finding, cause });
        }
        beside.bad.sort_by_key(|bad| (bad.at, bad.offset));
        Ok(())
    }

    /// Reads records that were put aside and are to be tried again, each of a topic by its place; those that still cannot be
    /// read are given back with what was found.
    pub(crate) async fn read_again(
        &mut self,
        records: &[(usize, AskedRecord)],
    ) -> Result<(Vec<TopicChanges>, Vec<(i64, Step, String)>), Failure> {
        let mut gathering = Gathering::new();
        let mut unread = Vec::new();
        for (topic, asked) in records {
            // each on its own: one that cannot be read leaves the others alone
            gathering.close();
            let headers = asked.record.encoded_headers();
            let record = asked.record.as_ref_with(&headers);
            match self.read(*topic, (asked.at, asked.offset.0), &record, &mut gathering).await {
                Ok(Some(ChangeKind::Truncate)) => {
                    unread.push((asked.id, Step::Read, "a truncate is not tried again: load the table again".into()));
                }
                Ok(Some(_)) => {}
                Ok(None) => {
                    let finding = "it is of no type that is read any more: read its type again, or discard it";
                    unread.push((asked.id, Step::Read, finding.into()));
                }
                Err(Failure::Connector(ConnectorError::BadRecord { finding, .. })) => {
                    gathering.open = None;
                    unread.push((asked.id, Step::Read, finding));
                }
                Err(failure) => return Err(failure),
            }
        }
        gathering.close();
        let places: HashMap<Place, i64> = records.iter().map(|(_, asked)| ((asked.at, asked.offset.0), asked.id)).collect();
        for failed in self.shape_topics(&mut gathering.topics, Pass::Again).await?.unshaped {
            unread.extend(places.get(&failed.from).map(|id| (*id, Step::Shape, failed.finding)));
        }
        Ok((gathering.topics, unread))
    }

    /// Shapes changes and fits them to schemas; gives those that do not go on.
    async fn shape_topics(&mut self, topics: &mut Vec<TopicChanges>, pass: Pass) -> Result<Left, Failure> {
        let mut left = self.shape_all(topics, pass).await?;
        if let Some(fits) = &self.fits {
            for changes in topics.iter_mut().filter(|changes| !changes.is_truncate()) {
                unfit(fits, changes, &mut left)?;
            }
        }
        if !left.unshaped.is_empty() {
            whole_records(topics, &mut left);
        }
        Ok(left)
    }

    async fn shape_all(&mut self, topics: &mut Vec<TopicChanges>, pass: Pass) -> Result<Left, Failure> {
        let mut left = Left::default();
        let Some(shaping) = &self.shaping else { return Ok(left) };
        let mut shaping = shaping.lock().await;
        shaping.catch_up().await?;
        let mut out = Vec::with_capacity(topics.len());
        for came in std::mem::take(topics) {
            let Came::Otherwise(mut shaped, plan) = shaping.shape(came.topic, &came.batches[0], pass)? else {
                out.push(came);
                continue;
            };
            if self.whole_rows {
                shaped.refuse_parts(PART_OF_A_ROW);
            }
            let mut goes_on = vec![false; came.from.len()];
            shaped.parts.iter().flat_map(|part| &part.rows).for_each(|row| goes_on[*row] = true);
            for failed in shaped.failed {
                goes_on[failed.row] = true;
                let kind = came.batches[0].kinds[failed.row];
                left.unshaped.push(Unshaped { from: came.from[failed.row], kind, finding: failed.finding });
            }
            let out_of_it = goes_on.iter().enumerate().filter(|(_, goes_on)| !**goes_on);
            left.out.extend(out_of_it.map(|(row, _)| (came.from[row], came.changes[row].1.clone())));
            let form = plan.changes_keys().then(|| ChangeForm::of(plan.output.clone()));
            for part in shaped.parts {
                let topic = match &part.to {
                    None => came.topic,
                    Some(way) => shaping.ways().place(came.topic, way)?,
                };
                let mut key = Vec::new();
                let mut keyed = |row: usize| {
                    let Some(form) = form.as_ref().filter(|_| part.batch.kinds[row] != ChangeKind::Truncate) else {
                        return came.changes[part.rows[row]].1.clone();
                    };
                    key.clear();
                    form.write_key(part.batch.identifying(row), row, &mut key);
                    key_data(&key)
                };
                let changes = (0..part.batch.len()).map(|row| ((0, row), keyed(row))).collect();
                let from = part.rows.iter().map(|row| came.from[*row]).collect();
                let own = || part.rows.iter().map(|row| came.changes[*row].1.clone()).collect();
                let record_keys = form.is_some().then(own);
                let row_before = if part.partly.is_empty() { RowBefore::Known } else { RowBefore::MayBeOld };
                let batches = vec![part.batch];
                out.push(TopicChanges { topic, batches, changes, from, record_keys, row_before });
            }
        }
        *topics = out;
        Ok(left)
    }
}

/// Takes out changes whose rows do not fit the schema that they are to be written under.
fn unfit(fits: &Fits, changes: &mut TopicChanges, left: &mut Left) -> Result<(), Failure> {
    let Some(table) = changes.batches.first().map(|batch| batch.table.clone()) else { return Ok(()) };
    let Some((_, form)) = fits.form(changes.topic, &table)? else { return Ok(()) };
    let mut fit = Vec::with_capacity(changes.changes.len());
    for (((batch, row), _), from) in changes.changes.iter().zip(&changes.from) {
        let batch = &changes.batches[*batch];
        let kind = batch.kinds[*row];
        let finding = if has_value(kind) { form.value(batch, *row).err() } else { None };
        fit.push(finding.is_none());
        left.unshaped.extend(finding.map(|finding| Unshaped { from: *from, kind, finding }));
    }
    changes.keep(&fit);
    Ok(())
}

/// A record goes on whole or not at all: of one that became several rows, a row that fails keeps back the others.
fn whole_records(topics: &mut [TopicChanges], left: &mut Left) {
    let mut seen = HashSet::new();
    left.unshaped.retain(|unshaped| seen.insert(unshaped.from));
    for changes in topics {
        let which: Vec<bool> = changes.from.iter().map(|from| !seen.contains(from)).collect();
        if which.contains(&false) {
            changes.keep(&which);
        }
    }
}
