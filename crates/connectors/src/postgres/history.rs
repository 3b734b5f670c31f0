//! Tables of every state that rows were in, with the time from and to which each was.
//!
//! A key's changes are applied one after the other; changes of different keys in one statement. What one transaction does to a
//! key is one state, its last.

use std::collections::HashMap;

use bytes::Bytes;
use gonvel_core::change::ChangeKind;
use gonvel_core::fold::Place;
use tokio_postgres::Error;

use super::apply::{AT, Application, count};
use super::names::ident;
use super::target::{VALID_FROM, VALID_TO};

/// Changes of distinct keys.
#[derive(Debug, Default, PartialEq, Eq)]
struct Layer {
    states: Vec<Place>,
    ends: Vec<Place>,
}

impl Application<'_> {
    /// Applies changes, given in order with their keys; a truncate ends every state.
    ///
    /// # Errors
    /// The database's own, as it came.
    pub async fn write_history(&self, changes: &[(Place, Bytes)]) -> Result<(), Error> {
        for part in changes.split_inclusive(|((b, r), _)| self.batches[*b].kinds[*r] == ChangeKind::Truncate) {
            for layer in self.layers(part) {
                self.end_states(&layer.ends).await?;
                self.begin_states(&layer.states).await?;
            }
            if let Some((place, _)) = part.last().filter(|((b, r), _)| self.batches[*b].kinds[*r] == ChangeKind::Truncate) {
                self.end_all(*place).await?;
            }
        }
        Ok(())
    }

    fn layers(&self, changes: &[(Place, Bytes)]) -> Vec<Layer> {
        let mut by_key: HashMap<&Bytes, Vec<Place>> = HashMap::new();
        for (place, key) in changes {
            let (batch, row) = (&self.batches[place.0], place.1);
            if batch.kinds[row] == ChangeKind::Truncate {
                continue;
            }
            let states = by_key.entry(key).or_default();
            let replaces = |before: &Place| {
                let (earlier, origin) = (&self.batches[before.0], batch.origins[row]);
                origin.position > 0
                    && earlier.origins[before.1].position == origin.position
                    && (batch.kinds[row] == ChangeKind::Delete) == (earlier.kinds[before.1] == ChangeKind::Delete)
                    && !batch.unchanged.contains_key(&row)
            };
            match states.last_mut().filter(|before| replaces(before)) {
                Some(last) => *last = *place,
                None => states.push(*place),
            }
        }
        let mut layers: Vec<Layer> = Vec::new();
        for states in by_key.into_values() {
            for (depth, place) in states.into_iter().enumerate() {
                if layers.len() <= depth {
                    layers.push(Layer::default());
                }
                let ends = self.batches[place.0].kinds[place.1] == ChangeKind::Delete;
                if ends { layers[depth].ends.push(place) } else { layers[depth].states.push(place) }
            }
        }
        for layer in &mut layers {
            layer.states.sort_unstable();
            layer.ends.sort_unstable();
        }
        layers
    }

    async fn begin_states(&self, places: &[Place]) -> Result<(), Error> {
        // rows of which some columns were not sent take those from the state before
        let mut groups: std::collections::BTreeMap<Vec<usize>, Vec<Place>> = std::collections::BTreeMap::new();
        for &(batch, row) in places {
            let sent = |c: &usize| !self.batches[batch].is_unchanged(row, *c);
            let sent = self.target.present.iter().copied().filter(sent).collect();
            groups.entry(sent).or_default().push((batch, row));
        }
        for (sent, places) in groups {
            let key = self.shape.key_columns();
            let (rows, casts) = self.rows_with(&sent, &[("timestamptz[]", AT)]);
            let cast = |column: usize| sent.iter().position(|&s| s == column).map(|n| casts[n].clone());
            let name = |column: usize| ident(&self.shape.columns[column].name);
            let present = &self.target.present;
            let all: Vec<String> = present.iter().map(|&c| name(c)).collect();
            let values: Vec<String> = present.iter().map(|&c| cast(c).unwrap_or_else(|| format!("t.{}", name(c)))).collect();
            let key_casts: Vec<String> = key.iter().filter_map(|&c| cast(c)).collect();
            let same = self.same(&key, &key_casts);
            let differs: Vec<String> = sent
                .iter()
                .filter(|c| !key.contains(c))
                .zip(sent.iter().filter(|c| !key.contains(c)).filter_map(|&c| cast(c)))
                .map(|(&c, cast)| format!("t.{}::text IS DISTINCT FROM ({cast})::text", name(c)))
                .collect();
            let differs = if differs.is_empty() { String::new() } else { format!(" OR {}", differs.join(" OR ")) };
            let sets: Vec<String> = present
                .iter()
                .filter(|c| !key.contains(c))
                .map(|&c| format!("{0} = EXCLUDED.{0}", name(c)))
                .chain([format!("{} = NULL", ident(VALID_TO))])
                .collect();
            let keys: Vec<String> = key.iter().map(|&c| name(c)).collect();
            let (table, from, to, at) = (&self.target.name, ident(VALID_FROM), ident(VALID_TO), ident(AT));
            let begin = format!(
                "INSERT INTO {table} ({all}, {from}, {to})
                 SELECT {values}, greatest(u.{at}, t.{from}), NULL FROM {rows}
                 LEFT JOIN {table} t ON {same} AND t.{to} IS NULL WHERE t.{from} IS NULL{differs}
                 ON CONFLICT ({keys}, {from}) DO UPDATE SET {sets}",
                all = all.join(", "),
                values = values.join(", "),
                keys = keys.join(", "),
                sets = sets.join(", "),
            );
            let parts_of_rows = &self.parts_of_rows;
            if parts_of_rows.counted && sent != *present {
                let (rows, casts) = self.rows_of(&key);
                let same = self.same(&key, &casts);
                let there = format!("SELECT count(*) FROM {rows} JOIN {table} t ON {same} AND t.{to} IS NULL");
                let parameters: Vec<_> = key.iter().map(|&c| self.parameter(&places, c, |b| &b.new)).collect();
                let there = u64::try_from(self.number(&there, &parameters).await?).unwrap_or(0);
                parts_of_rows.miss(count(&places).saturating_sub(there));
            }
            let mut parameters: Vec<_> = sent.iter().map(|&c| self.parameter(&places, c, |b| &b.new)).collect();
            parameters.push(self.times(&places));
            self.execute(&begin, &parameters).await?;
            let (rows, casts) = self.rows_of(&key);
            let pairs: Vec<String> = keys.iter().map(|k| format!("n.{k} = t.{k}")).collect();
            let end = format!(
                "UPDATE {table} t SET {to} = n.{from} FROM {rows}, {table} n WHERE {same} AND {pairs}
                 AND t.{to} IS NULL AND n.{to} IS NULL AND t.{from} < n.{from}",
                same = self.same(&key, &casts),
                pairs = pairs.join(" AND "),
            );
            let parameters: Vec<_> = key.iter().map(|&c| self.parameter(&places, c, |b| &b.new)).collect();
            self.execute(&end, &parameters).await?;
        }
        Ok(())
    }

    async fn end_states(&self, places: &[Place]) -> Result<(), Error> {
        if places.is_empty() {
            return Ok(());
        }
        let key = self.shape.key_columns();
        let (rows, casts) = self.rows_with(&key, &[("timestamptz[]", AT)]);
        let (table, from, to, at) = (&self.target.name, ident(VALID_FROM), ident(VALID_TO), ident(AT));
        let same = self.same(&key, &casts);
        let mut parameters: Vec<_> = key.iter().map(|&c| self.parameter(places, c, |b| &b.old)).collect();
        parameters.push(self.times(places));
        let end =
            format!("UPDATE {table} t SET {to} = greatest(u.{at}, t.{from}) FROM {rows} WHERE {same} AND t.{to} IS NULL");
        self.execute(&end, &parameters).await?;
        // what came and went in one transaction was never seen by anyone
        let (rows, casts) = self.rows_of(&key);
        let same = self.same(&key, &casts);
        let never = format!("DELETE FROM {table} t USING {rows} WHERE {same} AND t.{to} = t.{from}");
        parameters.pop();
        self.execute(&never, &parameters).await.map(|_| ())
    }

    async fn end_all(&self, place: Place) -> Result<(), Error> {
        let (table, from, to) = (&self.target.name, ident(VALID_FROM), ident(VALID_TO));
        let end = format!(
            "UPDATE {table} t SET {to} = greatest((SELECT u FROM unnest($1::timestamptz[]) u), t.{from}) WHERE t.{to} IS NULL"
        );
        self.execute(&end, &[self.times(&[place])]).await?;
        self.execute(&format!("DELETE FROM {table} t WHERE t.{to} = t.{from}"), &[]).await.map(|_| ())
    }
}
