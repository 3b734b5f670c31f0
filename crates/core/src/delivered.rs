//! What a few changes of a table become in a sink's way of writing: to be looked at before anything is written.

use std::collections::HashMap;

use serde_json::{Map, Value as Json, json};

use crate::change::{ChangeBatch, ChangeKind, OldImage};
use crate::change_form::position_text;
use crate::civil::rfc3339;
use crate::column::Value;
use crate::connector::{Deletes, TargetRows, Writes};
use crate::record_form::RowJson;

/// A row of the target, and what happens to it.
#[derive(Debug, Clone, PartialEq)]
pub struct DeliveredRow {
    /// `written`, `removed`, `marked as deleted`, `ended`.
    pub how: &'static str,
    /// Its columns in order.
    pub cells: Map<String, Json>,
}

struct Rows<'b> {
    batch: &'b ChangeBatch,
    json: RowJson,
    /// The position of each key's latest state.
    positions: HashMap<Vec<u8>, u64>,
    /// With the keys they belong to.
    out: Vec<(Vec<u8>, DeliveredRow)>,
}

/// How often columns are null in some records.
#[derive(Debug, Clone, Default, PartialEq, Eq, serde::Serialize, serde::Deserialize)]
pub struct Nulls {
    /// Records that bring a row.
    pub rows: usize,
    /// How many of them have null in a column, by its name; columns that are never null are left out.
    pub of: HashMap<String, usize>,
}

/// Counts nulls in the rows that changes bring. What a source did not send is not null.
#[must_use]
pub fn nulls(batch: &ChangeBatch) -> Nulls {
    let brings = |kind: ChangeKind| !matches!(kind, ChangeKind::Delete | ChangeKind::Truncate);
    let rows: Vec<usize> = (0..batch.len()).filter(|&row| brings(batch.kinds[row])).collect();
    let count = |place: usize| {
        let null = |row: &&usize| batch.new[place].value(**row) == Value::Null && !batch.is_unchanged(**row, place);
        rows.iter().filter(null).count()
    };
    let columns = batch.table.columns.iter().enumerate().map(|(place, column)| (column.name.clone(), count(place)));
    Nulls { rows: rows.len(), of: columns.filter(|(_, nulls)| *nulls > 0).collect() }
}

/// The rows that changes, given in order with their encoded keys (a truncate has none), become. What the target held before is
/// not known: a deleted row that did not come before shows what the change says of it.
#[must_use]
pub fn rows(batch: &ChangeBatch, keys: &[Vec<u8>], writes: Writes) -> Vec<DeliveredRow> {
    let mut rows = Rows { batch, json: RowJson::of(batch.table.clone()), positions: HashMap::new(), out: Vec::new() };
    for (row, key) in keys.iter().enumerate().take(batch.len()) {
        let kind = batch.kinds[row];
        let gone = matches!(kind, ChangeKind::Delete | ChangeKind::Truncate);
        if gone && writes.deletes == Deletes::Ignored {
            continue;
        }
        match writes.rows {
            TargetRows::Current => rows.current(row, key, writes.deletes == Deletes::Marked),
            TargetRows::Appended if gone => {}
            TargetRows::Appended => {
                let mut cells = rows.new_image(row);
                cells.insert("unchanged".into(), rows.unchanged(row));
                rows.push(key, "written", cells);
            }
            TargetRows::Changes => rows.change(row, key),
            TargetRows::History => rows.history(row, key),
        }
    }
    rows.out.into_iter().map(|(_, row)| row).collect()
}

fn object(json: Json) -> Map<String, Json> {
    if let Json::Object(fields) = json { fields } else { Map::new() }
}

impl Rows<'_> {
    fn push(&mut self, key: &[u8], how: &'static str, cells: Map<String, Json>) {
        self.out.push((key.to_vec(), DeliveredRow { how, cells }));
    }

    fn new_image(&self, row: usize) -> Map<String, Json> {
        object(self.json.row(&self.batch.new, row, |c| !self.batch.is_unchanged(row, c)))
    }

    fn old_image(&self, row: usize) -> Map<String, Json> {
        let table = &self.batch.table;
        match self.batch.old_images[row] {
            OldImage::None => Map::new(),
            OldImage::Key => object(self.json.row(&self.batch.old, row, |c| table.columns[c].key)),
            OldImage::Row => object(self.json.row(&self.batch.old, row, |_| true)),
        }
    }

    fn unchanged(&self, row: usize) -> Json {
        let name = |&c: &usize| self.batch.table.columns[c].name.as_str();
        self.batch.unchanged.get(&row).map_or(Json::Null, |columns| json!(columns.iter().map(name).collect::<Vec<_>>()))
    }

    fn time(&self, row: usize) -> Json {
        rfc3339(self.batch.origins[row].commit_time_us).into()
    }

    fn last_of(&mut self, key: &[u8]) -> Option<&mut DeliveredRow> {
        self.out.iter_mut().rev().find(|(k, _)| k == key).map(|(_, row)| row)
    }

    fn current(&mut self, row: usize, key: &[u8], marks: bool) {
        let time = self.time(row);
        let (how, cells) = match self.batch.kinds[row] {
            ChangeKind::Truncate if marks => {
                for (_, row) in self.out.iter_mut().filter(|(_, row)| row.how == "written") {
                    row.how = "marked as deleted";
                    row.cells.insert("deleted_at".into(), time.clone());
                }
                return;
            }
            ChangeKind::Truncate => return self.out.iter_mut().for_each(|(_, row)| row.how = "removed"),
            ChangeKind::Delete if marks => {
                let before = self.last_of(key).map(|row| row.cells.clone());
                let mut cells = before.unwrap_or_else(|| self.old_image(row));
                cells.insert("deleted_at".into(), time);
                ("marked as deleted", cells)
            }
            ChangeKind::Delete => ("removed", self.old_image(row)),
            _ => {
                // what was not sent stays as it is
                let mut cells = match self.last_of(key) {
                    Some(before) if before.how == "written" => before.cells.clone(),
                    _ => Map::new(),
                };
                cells.extend(self.new_image(row));
                if marks {
                    cells.insert("deleted_at".into(), Json::Null);
                }
                ("written", cells)
            }
        };
        match self.last_of(key) {
            Some(there) => *there = DeliveredRow { how, cells },
            None => self.push(key, how, cells),
        }
    }

    fn change(&mut self, row: usize, key: &[u8]) {
        let (kind, origin) = (self.batch.kinds[row], &self.batch.origins[row]);
        let image = |fields: Map<String, Json>| if fields.is_empty() { Json::Null } else { fields.into() };
        let there = !matches!(kind, ChangeKind::Delete | ChangeKind::Truncate);
        let cells = json!({
            "change": kind.word(), "committed_at": self.time(row), "position": position_text(origin.position),
            "sequence": origin.sequence, "transaction": origin.transaction, "old": image(self.old_image(row)),
            "new": if there { image(self.new_image(row)) } else { Json::Null }, "unchanged": self.unchanged(row),
        });
        self.push(key, "written", object(cells));
    }

    fn history(&mut self, row: usize, key: &[u8]) {
        let time = self.time(row);
        let kind = self.batch.kinds[row];
        if kind == ChangeKind::Truncate {
            for (_, state) in self.out.iter_mut().filter(|(_, s)| s.cells.get("valid_to") == Some(&Json::Null)) {
                state.how = "ended";
                state.cells.insert("valid_to".into(), time.clone());
            }
            return;
        }
        let position = self.batch.origins[row].position;
        let known = self.positions.insert(key.to_vec(), position);
        let whole = !self.batch.unchanged.contains_key(&row);
        let new = self.new_image(row);
        let gone = kind == ChangeKind::Delete;
        if let Some(state) = self.last_of(key).filter(|s| !gone && s.cells.get("valid_to") == Some(&Json::Null)) {
            if new.iter().all(|(name, value)| state.cells.get(name) == Some(value)) {
                return;
            }
            // what one transaction does to a row is one state, its last
            if whole && position > 0 && known == Some(position) {
                state.cells.extend(new);
                return;
            }
        }
        let mut before = None;
        if let Some(state) = self.last_of(key).filter(|s| s.cells.get("valid_to") == Some(&Json::Null)) {
            state.how = "ended";
            state.cells.insert("valid_to".into(), time.clone());
            before = Some(state.cells.clone());
        }
        if gone {
            if before.is_none() {
                let mut cells = self.old_image(row);
                cells.insert("valid_to".into(), time);
                self.push(key, "ended", cells);
            }
            return;
        }
        let mut cells = before.unwrap_or_default();
        cells.extend(new);
        for (name, value) in [("valid_from", time), ("valid_to", Json::Null)] {
            // at the end, after the row's own columns
            cells.shift_remove(name);
            cells.insert(name.into(), value);
        }
        self.push(key, "written", cells);
    }
}

#[cfg(test)]
mod tests {
    use std::sync::Arc;

    use super::*;
    use crate::change::{ChangeBatchBuilder, Origin};
    use crate::column::{ColumnType, Value};
    use crate::table::{Column, TableSchema};

    /// Bin 1 comes, is regraded with its remark left out, and goes; bin 2 comes and stays.
    fn batch() -> (ChangeBatch, Vec<Vec<u8>>) {
        let column = |name: &str, ty| Column { name: name.into(), ty, source_type: "text".into(), key: name == "id" };
        let columns =
            vec![column("id", ColumnType::Int64), column("grade", ColumnType::Text), column("remark", ColumnType::Text)];
        let table = TableSchema { system: "packhouse".into(), schema: "public".into(), table: "bins".into(), columns };
        let mut builder = ChangeBatchBuilder::new(Arc::new(table));
        let origin =
            |n: u64| Origin { position: n, transaction: n, sequence: 0, commit_time_us: 1_000_000 * n.cast_signed() };
        let new = |builder: &mut ChangeBatchBuilder, id: i64, grade: &str, remark: Option<&str>| {
            builder.new_value(0, Value::Long(id)).unwrap();
            builder.new_value(1, Value::Text(grade)).unwrap();
            match remark {
                Some(remark) => builder.new_value(2, Value::Text(remark)).unwrap(),
                None => builder.new_unchanged(2),
            }
        };
        builder.begin(ChangeKind::Insert, origin(1));
        new(&mut builder, 1, "A", Some("early"));
        builder.no_old();
        builder.begin(ChangeKind::Insert, origin(2));
        new(&mut builder, 2, "B", Some("late"));
        builder.no_old();
        builder.begin(ChangeKind::Update, origin(3));
        new(&mut builder, 1, "C", None);
        builder.no_old();
        builder.begin(ChangeKind::Delete, origin(4));
        builder.no_new();
        builder.begin_old(OldImage::Key);
        builder.old_value(0, Value::Long(1)).unwrap();
        builder.old_value(1, Value::Null).unwrap();
        builder.old_value(2, Value::Null).unwrap();
        (builder.finish(), [1_u8, 2, 1, 1].map(|k| vec![k]).to_vec())
    }

    fn said(rows: TargetRows, deletes: Deletes) -> Vec<String> {
        let (batch, keys) = batch();
        let found = super::rows(&batch, &keys, Writes { rows, deletes, ..Writes::default() });
        found.iter().map(|r| format!("{} {}", r.how, Json::from(r.cells.clone()))).collect()
    }

    #[test]
    fn changes_become_the_rows_of_each_way_of_writing() {
        let time = |n: u32| format!("\"1970-01-01T00:00:0{n}Z\"");
        assert_eq!(
            said(TargetRows::Current, Deletes::Applied),
            [r#"removed {"id":1}"#, r#"written {"id":2,"grade":"B","remark":"late"}"#]
        );
        let marked = said(TargetRows::Current, Deletes::Marked);
        assert_eq!(
            marked[0],
            format!(r#"marked as deleted {{"id":1,"grade":"C","remark":"early","deleted_at":{}}}"#, time(4))
        );
        assert_eq!(said(TargetRows::Current, Deletes::Ignored)[0], r#"written {"id":1,"grade":"C","remark":"early"}"#);
        let appended = said(TargetRows::Appended, Deletes::Applied);
        assert_eq!((appended.len(), appended[2].as_str()), (3, r#"written {"id":1,"grade":"C","unchanged":["remark"]}"#));
        let changes = said(TargetRows::Changes, Deletes::Applied);
        assert_eq!(changes.len(), 4);
        assert!(changes[3].contains(r#""change":"delete""#) && changes[3].contains(r#""old":{"id":1},"new":null"#));
        let history = said(TargetRows::History, Deletes::Applied);
        let state = |grade: &str, from: u32, to: u32| {
            format!(
                r#"ended {{"id":1,"grade":"{grade}","remark":"early","valid_from":{},"valid_to":{}}}"#,
                time(from),
                time(to)
            )
        };
        assert_eq!((history.len(), &history[0], &history[2]), (3, &state("A", 1, 3), &state("C", 3, 4)));
    }

    #[test]
    fn nulls_are_counted_in_the_rows_that_come() {
        let (batch, _) = batch();
        assert_eq!(nulls(&batch), Nulls { rows: 3, of: HashMap::new() }, "what was not sent, or is gone, is not null");
        let mut builder = ChangeBatchBuilder::new(batch.table);
        for (id, remark) in [(1, Value::Null), (2, Value::Text("late")), (3, Value::Null)] {
            builder.begin(ChangeKind::Load, Origin::default());
            for (place, value) in [Value::Long(id), Value::Text("A"), remark].into_iter().enumerate() {
                builder.new_value(place, value).unwrap();
            }
            builder.no_old();
        }
        assert_eq!(nulls(&builder.finish()), Nulls { rows: 3, of: HashMap::from([("remark".to_owned(), 2)]) });
    }
}
