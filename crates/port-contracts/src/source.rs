//! What every kind of system keeps that sources read.

use std::time::Duration;

use gonvel_core::change::{ChangeBatch, ChangeKind};
use gonvel_core::ports::Address;
use gonvel_core::ports::systems::{Captured, Captures, ConnectorError, SourceKind, SourcePosition, SourceSettings, TakenIn};

/// Longest wait for a batch.
const PATIENCE: Duration = Duration::from_secs(60);

/// A change as it is compared: its table's place, its kind, and its key.
pub type Told = (usize, ChangeKind, String);

fn told(captured: &Captured) -> Vec<Told> {
    let key = |batch: &ChangeBatch, row: usize| {
        let values = batch.table.key_columns().into_iter().map(|c| format!("{:?}", batch.identifying(row)[c].value(row)));
        values.collect::<Vec<_>>().join(" ")
    };
    let of = |table: usize, batch: &ChangeBatch| -> Vec<Told> {
        (0..batch.len()).map(|row| (table, batch.kinds[row], key(batch, row))).collect()
    };
    captured.changes.iter().flat_map(|changes| of(changes.table, &changes.batch)).collect()
}

async fn next(source: &mut dyn Captures) -> Captured {
    let next = tokio::time::timeout(PATIENCE, source.next()).await.expect("no batch came");
    next.expect("the source ended").unwrap_or_else(|error| panic!("the source failed: {error}"))
}

/// A position as another process reads it.
fn stored(kind: &dyn SourceKind, position: &dyn SourcePosition) -> Box<dyn SourcePosition> {
    let stored = position.stored().unwrap();
    let read = kind.position(&stored).unwrap();
    assert_eq!(read.stored().unwrap(), stored, "a position is stored as it was read");
    assert_eq!((read.shown(), read.complete_to()), (position.shown(), position.complete_to()));
    read
}

/// A source that is dropped again and again, also with a batch in hand that was not appended, brings each change once and in its table's
/// order: the same as one that is not. `fill` makes so many changes once the source is prepared; `drops` tell how many batches are taken
/// before each drop.
///
/// # Panics
/// If the contract is broken.
pub async fn changes_come_once_however_often_it_is_dropped(
    kind: &dyn SourceKind,
    address: &Address,
    settings: &SourceSettings,
    fill: impl AsyncFnOnce(),
    changes: usize,
    drops: &[usize],
) {
    let session = kind.open(address).await.unwrap();
    let mut first = session.prepare(settings).await.unwrap();
    let found = session.differences(settings, &*first).await.unwrap();
    assert_eq!(found.missing, [] as [String; 0]);
    let tables = TakenIn { new: &found.new, gone: &found.gone, void: &[] };
    session.take_in(settings, &mut *first, tables).await.unwrap();
    let again = session.differences(settings, &*first).await.unwrap();
    assert_eq!((again.new, again.gone), (vec![], vec![]), "what was taken in is there");
    fill().await;

    let mut whole: Vec<Told> = Vec::new();
    let mut source = session.begin(settings, &*first).await.unwrap();
    while whole.len() < changes {
        whole.extend(told(&next(&mut *source).await));
    }
    drop(source);
    assert_eq!(whole.len(), changes, "more came than was done: {whole:?}");

    let mut position = stored(kind, &*first);
    let mut came: Vec<Told> = Vec::new();
    let mut drops = drops.iter().cycle();
    while came.len() < changes {
        kind.check_place(address, settings.connector, &*position).await.unwrap();
        let mut source = session.begin(settings, &*position).await.unwrap();
        for _ in 0..*drops.next().unwrap() {
            if came.len() == changes {
                break;
            }
            let captured = next(&mut *source).await;
            came.extend(told(&captured));
            position = stored(kind, &*captured.position);
        }
        if came.len() < changes {
            // the next one comes, and is lost with the session
            let lost = next(&mut *source).await;
            assert!(lost.position.complete_to() >= position.complete_to(), "a position goes back");
        }
    }
    for table in 0..settings.tables.len() {
        let of = |all: &[Told]| all.iter().filter(|told| told.0 == table).cloned().collect::<Vec<_>>();
        assert_eq!(of(&came), of(&whole), "changes of {}", settings.tables[table].qualified());
    }

    kind.clean_up(address, settings.connector).await.unwrap();
    kind.clean_up(address, settings.connector).await.unwrap();
    let place = kind.place(address, settings.connector).await.unwrap();
    assert!(place.is_none_or(|place| !place.kept), "something is left in the system");
}

/// A position that no version of the kind wrote is refused.
///
/// # Panics
/// If the contract is broken.
pub fn other_positions_are_refused(kind: &dyn SourceKind) {
    for other in [serde_json::json!({"orchard": 1}), serde_json::json!("7"), serde_json::json!([])] {
        let read = kind.position(&other);
        assert!(matches!(&read, Err(ConnectorError::Defect(_))), "{other} is read as {read:?}");
    }
}
