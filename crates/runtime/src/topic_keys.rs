//! Keys of topics that a kind of system picks from, read before it is asked for rows.

use std::collections::hash_map::Entry;
use std::collections::{HashMap, HashSet};

use bytes::Bytes;
use gonvel_connectors::kinds::kind;
use gonvel_core::block::RecordRef;
use gonvel_core::latest_per_key::{Says, identity};
use gonvel_core::naming::{Offset, SchemaId, TopicName, TopicPartition};
use gonvel_core::ports::{Address, PortError, SchemaStore, TopicLog};
use gonvel_core::record_form::ReadForm;
use gonvel_core::schemas::values::{ValueSchema, shown};
use serde_json::Value;

/// Keys of a topic that are read at most: those of its newest records.
const MOST: usize = 1_000;
/// Blocks of a partition that are read for them at most.
const BLOCKS: usize = 8;

/// The address with the keys of the topics that its kind picks from, as they are now. Of a topic that is not there, or holds no keys, there are
/// none: the kind says so.
///
/// # Errors
/// [`PortError`] if the log does not answer.
pub async fn with_keys(log: &dyn TopicLog, schemas: &dyn SchemaStore, mut address: Address) -> Result<Address, PortError> {
    for topic in kind(&address.kind).map(|kind| kind.picks_from(&address)).unwrap_or_default() {
        let keys = newest(log, schemas, &topic).await?;
        address.keys.insert(topic, keys);
    }
    Ok(address)
}

async fn newest(log: &dyn TopicLog, schemas: &dyn SchemaStore, topic: &str) -> Result<Vec<Value>, PortError> {
    let Ok(name) = TopicName::parse(topic) else { return Ok(Vec::new()) };
    let topic = match log.topic(&name).await {
        Err(PortError::NotFound { .. }) => return Ok(Vec::new()),
        found => found?.id,
    };
    let bounds = log.bounds(topic).await?;
    let each = MOST.div_ceil(bounds.len().max(1));
    let (mut keys, mut known) = (Vec::new(), Known { schemas, by_id: HashMap::new() });
    for bounds in bounds {
        let at = TopicPartition { topic, partition: bounds.partition };
        let (mut seen, mut there) = (HashSet::new(), 0);
        let mut last = bounds.next.0 - 1;
        for _ in 0..BLOCKS {
            if last < bounds.first.0 || there >= each {
                break;
            }
            let Some(block) = log.read_back(at, Offset(last)).await? else { break };
            let open = block.open(at)?;
            let records = open.records().collect::<Result<Vec<_>, _>>()?;
            for (_, record) in records.into_iter().rev().filter(|(offset, _)| offset.0 <= last) {
                let Some(key) = record.key else { continue };
                // the newest record of a key tells whether it is there
                if there < each && seen.insert(identity(key).to_vec()) && !known.is_gone(&record).await? {
                    there += 1;
                    keys.push(known.shown(record.key_schema, key).await?);
                }
            }
            last = block.first.0 - 1;
        }
    }
    Ok(keys)
}

/// Schemas that were looked up, as values are read by them, and as changes of tables are.
struct Known<'s> {
    schemas: &'s dyn SchemaStore,
    by_id: HashMap<SchemaId, (Option<ValueSchema>, Option<ReadForm>)>,
}

impl Known<'_> {
    async fn find(&mut self, id: SchemaId) -> Result<&(Option<ValueSchema>, Option<ReadForm>), PortError> {
        Ok(match self.by_id.entry(id) {
            Entry::Occupied(found) => found.into_mut(),
            Entry::Vacant(place) => {
                let (language, text) = self.schemas.schema_in(id).await?;
                place.insert((ValueSchema::new(language, &text).ok(), ReadForm::from_value_text(&text).ok()))
            }
        })
    }

    /// Whether a record tells that its key is gone.
    async fn is_gone(&mut self, record: &RecordRef<'_>) -> Result<bool, PortError> {
        let Some(value) = record.value else { return Ok(true) };
        let Some(id) = record.schema else { return Ok(false) };
        let (_, form) = self.find(id).await?;
        Ok(form.as_ref().is_some_and(|form| form.says(value) == Ok(Says::Gone)))
    }

    async fn shown(&mut self, id: Option<SchemaId>, key: &[u8]) -> Result<Value, PortError> {
        let schema = match id {
            Some(id) => self.find(id).await?.0.as_ref(),
            None => None,
        };
        Ok(shown(schema, &Bytes::copy_from_slice(key)))
    }
}
