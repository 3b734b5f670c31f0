//! Keys of topics that a kind of system picks from, read before it is asked for rows.

use std::collections::hash_map::Entry;
use std::collections::{BTreeSet, HashMap};

use bytes::Bytes;
use gonvel_connectors::kinds::kind;
use gonvel_core::naming::{Offset, SchemaId, TopicName, TopicPartition};
use gonvel_core::ports::{Address, PortError, SchemaStore, TopicLog};
use gonvel_core::schemas::values::ValueSchema;
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
    let (mut keys, mut known) = (Vec::new(), HashMap::new());
    for bounds in bounds {
        let at = TopicPartition { topic, partition: bounds.partition };
        // a key whose newest record has no value is gone
        let (mut seen, mut there) = (BTreeSet::new(), Vec::new());
        let mut last = bounds.next.0 - 1;
        for _ in 0..BLOCKS {
            if last < bounds.first.0 || there.len() >= each {
                break;
            }
            let Some(block) = log.read_back(at, Offset(last)).await? else { break };
            let open = block.open(at)?;
            let records = open.records().collect::<Result<Vec<_>, _>>()?;
            for (_, record) in records.into_iter().rev().filter(|(offset, _)| offset.0 <= last) {
                let Some(key) = record.key else { continue };
                if seen.insert((record.key_schema, key.to_vec())) && record.value.is_some() {
                    there.push((record.key_schema, Bytes::copy_from_slice(key)));
                }
            }
            last = block.first.0 - 1;
        }
        there.truncate(each);
        for (schema, key) in there {
            keys.push(shown(schemas, &mut known, schema, &key).await?);
        }
    }
    Ok(keys)
}

/// A key as JSON: by its schema, else as the JSON or the text that it is.
async fn shown(
    schemas: &dyn SchemaStore,
    known: &mut HashMap<SchemaId, Option<ValueSchema>>,
    id: Option<SchemaId>,
    key: &Bytes,
) -> Result<Value, PortError> {
    if let Some(id) = id {
        if let Entry::Vacant(place) = known.entry(id) {
            let (language, text) = schemas.schema_in(id).await?;
            place.insert(ValueSchema::new(language, &text).ok());
        }
        if let Some(shown) = known[&id].as_ref().and_then(|schema| schema.show(key)) {
            return Ok(shown);
        }
    }
    let text = String::from_utf8_lossy(key);
    Ok(serde_json::from_str(&text).unwrap_or_else(|_| text.into_owned().into()))
}
