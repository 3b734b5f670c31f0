//! From captured changes to blocks: keys decide partitions, rows become Avro values.

use std::collections::HashMap;
use std::sync::Arc;

use gonvel_connectors::postgres::source::TableChanges;
use gonvel_core::block::BlockBuilder;
use gonvel_core::change::{ChangeKind, KindCounts};
use gonvel_core::change_form::ChangeForm;
use gonvel_core::naming::{PartitionId, SchemaId, TopicPartition};
use gonvel_core::partitioning::partition_of;
use gonvel_core::ports::{PartitionBlocks, PortError, SchemaStore, Topic};
use gonvel_core::table::TableSchema;

struct Registered {
    form: ChangeForm,
    value: SchemaId,
    key: SchemaId,
}

/// Writes the changes of one connector's tables.
pub(crate) struct Writer {
    schemas: Arc<dyn SchemaStore>,
    topics: Vec<Topic>,
    forms: HashMap<(usize, Arc<TableSchema>), Registered>,
    key: Vec<u8>,
    value: Vec<u8>,
}

impl Writer {
    /// A writer into these topics, one per captured table.
    pub(crate) fn new(schemas: Arc<dyn SchemaStore>, topics: Vec<Topic>) -> Self {
        Self { schemas, topics, forms: HashMap::new(), key: Vec::new(), value: Vec::new() }
    }

    /// Writes one table's changes into blocks and counts them. `now_us` is the timestamp where the source gave no commit time.
    pub(crate) async fn write(
        &mut self,
        changes: &TableChanges,
        counts: &mut KindCounts,
    ) -> Result<Vec<PartitionBlocks>, PortError> {
        let form_key = (changes.table, changes.batch.table.clone());
        if !self.forms.contains_key(&form_key) {
            let form = ChangeForm::of(changes.batch.table.clone());
            let topic = &self.topics[changes.table].name;
            let value = self.schemas.register(topic, "value", &form.value_text).await?;
            let key = self.schemas.register(topic, "key", &form.key_text).await?;
            self.forms.insert(form_key.clone(), Registered { form, value, key });
        }
        let registered = &self.forms[&form_key];
        let topic = &self.topics[changes.table];
        let partitions = usize::try_from(topic.partitions).unwrap_or(1);
        let mut builders: Vec<BlockBuilder> = (0..partitions).map(|_| BlockBuilder::default()).collect();
        let mut parts: Vec<Vec<_>> = vec![Vec::new(); partitions];
        let batch = &changes.batch;
        let mut one = |row: usize| {
            let kind = batch.kinds[row];
            counts.add(kind);
            self.value.clear();
            registered.form.write_change(batch, row, &mut self.value);
            let timestamp = batch.origins[row].commit_time_us;
            let mut push = |partition: usize, key: Option<&[u8]>| {
                let key_schema = key.map(|_| registered.key);
                builders[partition].push(key, Some(&self.value), &[], timestamp, Some(registered.value), key_schema);
                if builders[partition].is_full() {
                    parts[partition].extend(builders[partition].finish());
                }
            };
            if kind == ChangeKind::Truncate {
                // it concerns every key, so it stands in every partition
                (0..partitions).for_each(|partition| push(partition, None));
            } else {
                self.key.clear();
                registered.form.write_key(batch.identifying(row), row, &mut self.key);
                let PartitionId(partition) = partition_of(Some(&self.key), topic.partitions);
                push(usize::try_from(partition).unwrap_or(0), Some(&self.key));
            }
        };
        match &changes.rows {
            None => (0..batch.len()).for_each(&mut one),
            Some(rows) => rows.iter().copied().for_each(&mut one),
        }
        let mut out = Vec::new();
        for (number, (mut builder, mut blocks)) in builders.into_iter().zip(parts).enumerate() {
            blocks.extend(builder.finish());
            if !blocks.is_empty() {
                let partition = PartitionId(i32::try_from(number).unwrap_or(0));
                out.push(PartitionBlocks { to: TopicPartition { topic: topic.id, partition }, blocks });
            }
        }
        Ok(out)
    }
}
