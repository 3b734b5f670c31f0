//! What every kind of system keeps that sinks write and that holds their positions.

use std::collections::{BTreeSet, HashSet};
use std::sync::Arc;

use bytes::Bytes;
use gonvel_core::change::{ChangeBatch, ChangeBatchBuilder, ChangeKind, Origin};
use gonvel_core::column::{ColumnType, Value};
use gonvel_core::connector::{CapturedTable, DeliveredTopic, Writes};
use gonvel_core::naming::{ConnectorId, Epoch, PartitionId, TopicId, TopicPartition};
use gonvel_core::ports::Address;
use gonvel_core::ports::systems::{
    ConnectorError, Delivered, Held, Kind, Round, RowBefore, Sink, SinkSettings, Started, TopicChanges,
};
use gonvel_core::table::{Column, TableSchema};
use gonvel_core::trail::Seen;
use uuid::Uuid;

const AT: TopicPartition = TopicPartition { topic: TopicId(7), partition: PartitionId(0) };

/// What is delivered into which table.
struct Delivery<'d> {
    kind: &'d dyn Kind,
    address: &'d Address,
    table: (&'d str, &'d str),
    shape: Arc<TableSchema>,
}

impl Delivery<'_> {
    fn settings(&self) -> SinkSettings {
        let (schema, table) = self.table;
        let topic = DeliveredTopic { topic: "bins".into(), schema: schema.into(), table: table.into(), rows: None };
        let connector = ConnectorId(Uuid::from_u128(7));
        SinkSettings { connector, lane: 0, topics: vec![(AT.topic, topic)], writes: Writes::default() }
    }

    async fn open(&self, epoch: i64) -> Result<(Box<dyn Sink>, i64), ConnectorError> {
        let begin = [(AT, Delivered::default())];
        let sink = self.kind.sink().unwrap();
        let started = sink.open(self.address, self.settings(), Epoch(epoch), &begin, &HashSet::new()).await?;
        let Started { sink, stands, unbegun } = started;
        assert!(unbegun.is_empty(), "nothing was asked of rows that are there");
        Ok((sink, stands[&AT].delivered.next))
    }

    /// Bins of these numbers, as records from an offset on.
    fn round(&self, ids: std::ops::Range<i64>, from: i64) -> Round {
        let mut builder = ChangeBatchBuilder::new(self.shape.clone());
        for id in ids.clone() {
            let position = id.unsigned_abs();
            builder.begin(
                ChangeKind::Insert,
                Origin { position, commit_time_us: 1_800_000_000_000_000 + id, ..Origin::default() },
            );
            builder.new_value(0, Value::Long(id)).unwrap();
            builder.new_value(1, Value::Text("first")).unwrap();
            builder.no_old();
        }
        let batch = builder.finish();
        let rows = batch.len();
        let key = |row: usize| Bytes::from((ids.start + i64::try_from(row).unwrap()).to_be_bytes().to_vec());
        let offset = |row: usize| from + i64::try_from(row).unwrap();
        let last = Seen { offset: offset(rows) - 1, time_us: 1_800_000_000_000_000 + ids.end };
        let changes = TopicChanges {
            topic: 0,
            batches: vec![batch],
            changes: (0..rows).map(|row| ((0, row), key(row))).collect(),
            from: (0..rows).map(|row| (AT, offset(row))).collect(),
            record_keys: None,
            row_before: RowBefore::Known,
        };
        let delivered = Delivered { next: offset(rows), last: Some(last), ..Delivered::default() };
        Round { topics: vec![changes], delivered: vec![(AT, delivered)], more: false }
    }

    /// The numbers of the bins that are there.
    async fn there(&self) -> BTreeSet<i64> {
        let table = CapturedTable::whole(self.table.0, self.table.1, "bins");
        let mut ids = BTreeSet::new();
        let mut take = |batch: &ChangeBatch| {
            let all = (0..batch.len()).map(|row| match batch.new[0].value(row) {
                Value::Long(id) => id,
                other => panic!("{other:?} is no number"),
            });
            let (before, rows) = (ids.len(), batch.len());
            ids.extend(all);
            assert_eq!(ids.len(), before + rows, "a row stands twice");
            Ok(())
        };
        self.kind.tables().unwrap().all_rows(self.address, &table, &["id".to_owned()], &mut take).await.unwrap();
        ids
    }

    async fn stands_at(&self) -> Option<i64> {
        let holds = self.kind.sink().unwrap().holds().unwrap();
        let stands = holds.stands(self.address, self.settings().connector).await.unwrap();
        stands.get(&AT).map(|stand| stand.delivered.next)
    }
}

/// Rows and positions stand together, whatever becomes of a sink: what was not committed is not there, what comes again makes the same,
/// a holder of an earlier lease writes nothing, a record that is refused leaves the others, and clean-up leaves nothing but rows. The table is
/// made by the sink; `refuse` lets the system refuse the bin 777 from then on.
///
/// # Panics
/// If the contract is broken.
pub async fn rows_and_positions_stand_together(
    kind: &dyn Kind,
    address: &Address,
    table: (&str, &str),
    refuse: impl AsyncFnOnce(),
) {
    let column =
        |name: &str, ty, source_type: &str, key| Column { name: name.into(), ty, source_type: source_type.into(), key };
    let columns = vec![column("id", ColumnType::Int64, "bigint", true), column("grade", ColumnType::Text, "text", false)];
    let names = ["packhouse", "packing", "bins"].map(str::to_owned);
    let [system, schema, name] = names;
    let shape = Arc::new(TableSchema { system, schema, table: name, columns });
    let to = Delivery { kind, address, table, shape };
    let (sinks, connector) = (kind.sink().unwrap(), to.settings().connector);
    let holds = sinks.holds().unwrap();
    let ids = |range: std::ops::Range<i64>| range.collect::<BTreeSet<i64>>();

    let (mut sink, next) = to.open(1).await.unwrap();
    assert_eq!((next, sink.topics().len()), (0, 1));
    sink.write(&to.round(0..100, 0)).await.unwrap();
    sink.commit().await.unwrap();
    assert_eq!((to.there().await, to.stands_at().await), (ids(0..100), Some(100)));
    assert_eq!(sink.blocked().by().await.unwrap(), None);
    // taken back, and lost with its session
    sink.write(&to.round(100..200, 100)).await.unwrap();
    sink.roll_back().await.unwrap();
    sink.write(&to.round(100..200, 100)).await.unwrap();
    drop(sink);
    let (mut sink, next) = to.open(2).await.unwrap();
    assert_eq!((next, to.there().await), (100, ids(0..100)), "what was not committed is not there");
    sink.write(&to.round(100..200, 100)).await.unwrap();
    sink.commit().await.unwrap();
    assert_eq!((to.there().await, to.stands_at().await), (ids(0..200), Some(200)));

    // a later holder took it over: whoever had it before comes too late, also with what was written already
    let mut frozen = sink;
    let written = frozen.write(&to.round(200..300, 200)).await;
    let (mut sink, next) = to.open(3).await.unwrap();
    assert_eq!(next, 200);
    if written.is_ok() {
        let late = frozen.commit().await;
        assert!(late.is_err(), "a commit of an earlier lease was taken");
    }
    assert_eq!(to.stands_at().await, Some(200));
    assert_eq!(to.there().await, ids(0..200));
    match to.open(2).await {
        Err(ConnectorError::Later { epoch: 3 }) => {}
        Err(error) => panic!("an earlier lease is told otherwise: {error:?}"),
        Ok(_) => panic!("an earlier lease took over"),
    }

    // one record is refused, and all others are there
    refuse().await;
    let round = to.round(770..790, 200);
    let refused = async |sink: &mut Box<dyn Sink>| match sink.write(&round).await {
        Err(error) => Err(error),
        Ok(()) => sink.commit().await,
    };
    let error = refused(&mut sink).await.unwrap_err();
    assert!(matches!(error, ConnectorError::BadRecord { .. }), "{error:?}");
    sink.roll_back().await.unwrap();
    let found = sink.sift(&round, Held::default()).await.unwrap();
    assert_eq!(found.iter().map(|refused| (refused.part, refused.change)).collect::<Vec<_>>(), [(0, 7)]);
    assert!(!found[0].finding.is_empty());
    sink.note_retried(&[41, 42]).await.unwrap();
    sink.finish(&round).await.unwrap();
    let mut all = ids(0..200);
    all.extend((770..790).filter(|id| *id != 777));
    assert_eq!((to.there().await, to.stands_at().await), (all.clone(), Some(220)));
    assert_eq!(sink.retried(&[40, 41, 42, 43]).await.unwrap().into_iter().collect::<BTreeSet<_>>(), [41, 42].into());
    sink.forget_retried(&[41]).await.unwrap();
    assert_eq!(sink.retried(&[41, 42]).await.unwrap(), [42]);
    drop(sink);

    // moved back, what comes again makes the same; from elsewhere it is not moved
    let elsewhere = holds.move_to(address, connector, &[(AT, 219, 0)], false).await;
    assert!(matches!(&elsewhere, Err(ConnectorError::Settings { .. })), "{elsewhere:?}");
    holds.move_to(address, connector, &[(AT, 220, 50)], false).await.unwrap();
    let (mut sink, next) = to.open(4).await.unwrap();
    assert_eq!(next, 50);
    sink.write(&to.round(50..150, 50)).await.unwrap();
    sink.commit().await.unwrap();
    assert_eq!((to.there().await, to.stands_at().await), (all.clone(), Some(150)));
    drop(sink);

    sinks.clean_up(address, connector).await.unwrap();
    sinks.clean_up(address, connector).await.unwrap();
    assert_eq!((to.there().await, to.stands_at().await), (all, None), "only rows are left");
}
