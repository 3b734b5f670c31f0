//! Tables that only grow: one row for every change, or one more row for every row that was written in the source.

use gonvel_core::change::{ChangeKind, OldImage};
use gonvel_core::change_form::position_text;
use gonvel_core::column::{ColumnType, Value};
use gonvel_core::fold::Place;
use gonvel_core::record_form::RowJson;
use tokio_postgres::Error;

use super::apply::{Application, copy_in, copy_value};
use super::copy_text;
use super::names::ident;
use super::target::UNCHANGED;

fn tab(out: &mut Vec<u8>) {
    out.push(b'\t');
}

/// Names as PostgreSQL reads an array of text.
fn names_of(names: &[&str], out: &mut Vec<u8>) {
    let quoted: Vec<String> =
        names.iter().map(|n| format!("\"{}\"", n.replace('\\', "\\\\").replace('"', "\\\""))).collect();
    copy_text::escape(format!("{{{}}}", quoted.join(",")).as_bytes(), out);
}

impl Application<'_> {
    fn unchanged(&self, &(batch, row): &Place, out: &mut Vec<u8>) {
        match self.batches[batch].unchanged.get(&row) {
            None => out.extend_from_slice(b"\\N"),
            Some(columns) => {
                let names: Vec<&str> = columns.iter().map(|&c| self.shape.columns[c].name.as_str()).collect();
                names_of(&names, out);
            }
        }
    }

    /// Appends one row for every row that was loaded, inserted or updated.
    ///
    /// # Errors
    /// The database's own, as it came.
    pub async fn append_rows(&self, places: &[Place]) -> Result<(), Error> {
        let written =
            |&(batch, row): &Place| !matches!(self.batches[batch].kinds[row], ChangeKind::Delete | ChangeKind::Truncate);
        let places: Vec<Place> = places.iter().copied().filter(written).collect();
        if !self.target.says_unchanged {
            return self.copy(&places).await;
        }
        let own = self.target.present.iter().map(|&c| self.shape.columns[c].name.as_str());
        let columns: Vec<String> = own.chain([UNCHANGED]).map(ident).collect();
        let mut scratch = Vec::new();
        copy_in(self.client, &self.target.name, &columns, &places, |place, out| {
            for &column in &self.target.present {
                let value = self.batches[place.0].new[column].value(place.1);
                copy_value(self.shape.columns[column].ty, value, &mut scratch, out);
                tab(out);
            }
            self.unchanged(place, out);
        })
        .await
    }

    /// Appends one row for every change.
    ///
    /// # Errors
    /// The database's own, as it came.
    pub async fn append_changes(&self, places: &[Place]) -> Result<(), Error> {
        let json = RowJson::of(self.shape.clone());
        let columns = ["change", "committed_at", "position", "sequence", "transaction", "old", "new", UNCHANGED].map(ident);
        let mut scratch = Vec::new();
        copy_in(self.client, &self.target.name, &columns, places, |&(number, row), out| {
            let batch = &self.batches[number];
            let (kind, origin) = (batch.kinds[row], &batch.origins[row]);
            out.extend_from_slice(kind.word().as_bytes());
            tab(out);
            copy_value(ColumnType::TimestampTz, Value::Timestamp(origin.commit_time_us), &mut scratch, out);
            tab(out);
            out.extend_from_slice(position_text(origin.position).as_bytes());
            tab(out);
            out.extend_from_slice(format!("{}\t{}", origin.sequence, origin.transaction).as_bytes());
            tab(out);
            let old = match batch.old_images[row] {
                OldImage::None => None,
                OldImage::Key => Some(json.row(&batch.old, row, |c| self.shape.columns[c].key)),
                OldImage::Row => Some(json.row(&batch.old, row, |_| true)),
            };
            let there = !matches!(kind, ChangeKind::Delete | ChangeKind::Truncate);
            let new = there.then(|| json.row(&batch.new, row, |c| !batch.is_unchanged(row, c)));
            for image in [old, new] {
                match image {
                    None => out.extend_from_slice(b"\\N"),
                    Some(image) => copy_text::escape(image.to_string().as_bytes(), out),
                }
                tab(out);
            }
            self.unchanged(&(number, row), out);
        })
        .await
    }
}
