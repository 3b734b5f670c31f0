//! What changed between two shapes of a table, the statement that says so, and its record in a topic of schema changes.

use serde_json::{Value as Json, json};

use crate::change::Origin;
use crate::change_form::position_text;
use crate::civil::rfc3339;
use crate::data_type::DataType;
use crate::table::{Column, TableSchema};

/// One difference between two shapes of a table.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum ColumnChange {
    /// A column came.
    Added(Column),
    /// A column went.
    Dropped(Column),
    /// A column has another name. A source does not say so; it is told from a column of the same type at the same place.
    Renamed {
        /// Before.
        from: String,
        /// After.
        to: String,
    },
    /// A column has another type.
    Retyped {
        /// The column after the change.
        column: Column,
        /// Its type before.
        from: DataType,
    },
    /// Other columns are the key.
    KeyChanged {
        /// The key's columns after the change.
        to: Vec<String>,
    },
}

/// What changed from one shape of a table to the next, in the order of the columns.
#[must_use]
pub fn differences(before: &TableSchema, after: &TableSchema) -> Vec<ColumnChange> {
    let mut out = Vec::new();
    let find = |shape: &TableSchema, name: &str| shape.columns.iter().find(|c| c.name == name).cloned();
    let mut gone: Vec<&Column> = before.columns.iter().filter(|c| find(after, &c.name).is_none()).collect();
    for (place, column) in after.columns.iter().enumerate() {
        match find(before, &column.name) {
            Some(was) if was.source_type != column.source_type => {
                out.push(ColumnChange::Retyped { column: column.clone(), from: was.source_type });
            }
            Some(_) => {}
            None => {
                let there = before.columns.get(place).filter(|c| c.source_type == column.source_type);
                let renamed = there.and_then(|was| gone.iter().position(|g| *g == was));
                match renamed {
                    Some(at) => {
                        let from = gone.remove(at).name.clone();
                        out.push(ColumnChange::Renamed { from, to: column.name.clone() });
                    }
                    None => out.push(ColumnChange::Added(column.clone())),
                }
            }
        }
    }
    out.extend(gone.into_iter().cloned().map(ColumnChange::Dropped));
    let renamed = |name: &str| {
        let to = out.iter().find_map(|c| match c {
            ColumnChange::Renamed { from, to } if from == name => Some(to.clone()),
            _ => None,
        });
        to.unwrap_or_else(|| name.to_owned())
    };
    let key = |shape: &TableSchema| shape.columns.iter().filter(|c| c.key).map(|c| c.name.clone()).collect::<Vec<_>>();
    let (was, is) = (key(before).iter().map(|name| renamed(name)).collect::<Vec<_>>(), key(after));
    if was != is {
        out.push(ColumnChange::KeyChanged { to: is });
    }
    out
}

fn ident(name: &str) -> String {
    format!("\"{}\"", name.replace('"', "\"\""))
}

impl ColumnChange {
    fn word(&self) -> &'static str {
        match self {
            Self::Added(_) => "added",
            Self::Dropped(_) => "dropped",
            Self::Renamed { .. } => "renamed",
            Self::Retyped { .. } => "retyped",
            Self::KeyChanged { .. } => "key changed",
        }
    }

    /// What an `ALTER TABLE` says for it.
    fn clause(&self) -> String {
        match self {
            Self::Added(column) => format!("ADD COLUMN {} {}", ident(&column.name), column.source_type),
            Self::Dropped(column) => format!("DROP COLUMN {}", ident(&column.name)),
            Self::Renamed { from, to } => format!("RENAME COLUMN {} TO {}", ident(from), ident(to)),
            Self::Retyped { column, .. } => format!("ALTER COLUMN {} TYPE {}", ident(&column.name), column.source_type),
            Self::KeyChanged { to } => {
                format!("ADD PRIMARY KEY ({})", to.iter().map(|c| ident(c)).collect::<Vec<_>>().join(", "))
            }
        }
    }

    fn json(&self) -> Json {
        let (column, before, after) = match self {
            Self::Added(column) => (column.name.clone(), None, Some(column.source_type.to_string())),
            Self::Dropped(column) => (column.name.clone(), Some(column.source_type.to_string()), None),
            Self::Renamed { from, to } => (to.clone(), Some(from.clone()), Some(to.clone())),
            Self::Retyped { column, from } => {
                (column.name.clone(), Some(from.to_string()), Some(column.source_type.to_string()))
            }
            Self::KeyChanged { to } => (to.join(", "), None, None),
        };
        json!({"change": self.word(), "column": column, "before": before, "after": after})
    }
}

/// Columns that may hold other values in rows from before some changes than were told of them: the server says only what rows
/// written later hold. `filled` are columns that the source may have filled when it added them.
#[must_use]
pub fn differing(changes: &[ColumnChange], filled: impl Fn(&str) -> bool) -> Vec<String> {
    let differing = |change: &ColumnChange| match change {
        ColumnChange::Added(column) => filled(&column.name).then(|| column.name.clone()),
        // where it was another column that went and came, its values are others as well
        ColumnChange::Renamed { to, .. } => Some(to.clone()),
        ColumnChange::Retyped { column, from } => (!from.widens_to(&column.source_type)).then(|| column.name.clone()),
        ColumnChange::Dropped(_) | ColumnChange::KeyChanged { .. } => None,
    };
    changes.iter().filter_map(differing).collect()
}

/// The statements that make one shape of a table of the other. A source does not send the ones that were run; these come to
/// the same.
#[must_use]
pub fn statement(table: &TableSchema, changes: &[ColumnChange]) -> String {
    let name = format!("{}.{}", ident(&table.schema), ident(&table.table));
    let clauses: Vec<String> = changes.iter().map(|c| format!("ALTER TABLE {name} {};", c.clause())).collect();
    clauses.join(" ")
}

/// The Avro schema of a record of a schema change.
#[must_use]
pub fn value_schema() -> Json {
    let nullable = json!(["null", "string"]);
    json!({"type": "record", "name": "SchemaChange", "namespace": "gonvel", "fields": [
        {"name": "system", "type": "string"},
        {"name": "schema", "type": "string"},
        {"name": "table", "type": "string"},
        {"name": "changes", "type": {"type": "array", "items": {"type": "record", "name": "ColumnChange", "fields": [
            {"name": "change", "type": "string"},
            {"name": "column", "type": "string"},
            {"name": "before", "type": nullable},
            {"name": "after", "type": nullable}
        ]}}},
        {"name": "statement", "type": "string"},
        {"name": "by", "type": nullable},
        {"name": "seen_at_position", "type": "string"},
        {"name": "seen_at_time", "type": "string"}
    ]})
}

/// The value of a record of a schema change, by [`value_schema`]. A source shows a change with the first row of the new
/// shape: where and when that was committed is what is known of it, and not who made it.
#[must_use]
pub fn value(table: &TableSchema, changes: &[ColumnChange], seen: &Origin) -> Json {
    json!({
        "system": table.system, "schema": table.schema, "table": table.table,
        "changes": changes.iter().map(ColumnChange::json).collect::<Vec<_>>(),
        "statement": statement(table, changes),
        "by": null,
        "seen_at_position": position_text(seen.position),
        "seen_at_time": rfc3339(seen.commit_time_us),
    })
}

/// The digits before and after the point of `numeric(p,s)`; none for a numeric of any size.
#[cfg(test)]
mod tests {
    use super::*;
    use crate::column::ColumnType;

    fn table(columns: &[(&str, &str, bool)]) -> TableSchema {
        let column = |(name, ty, key): &(&str, &str, bool)| Column {
            name: (*name).into(),
            ty: ColumnType::Verbatim,
            source_type: (*ty).into(),
            key: *key,
        };
        let columns = columns.iter().map(column).collect();
        TableSchema { system: "packhouse".into(), schema: "public".into(), table: "bins".into(), columns }
    }

    #[test]
    fn changes_of_a_table_are_said_as_statements() {
        let before = table(&[("id", "integer", true), ("grade", "text", false), ("room", "integer", false)]);
        let cases = [
            (table(&[("id", "integer", true), ("grade", "text", false), ("room", "integer", false)]), ""),
            (
                table(&[
                    ("id", "bigint", true),
                    ("grade", "text", false),
                    ("room", "integer", false),
                    ("net kg", "real", false),
                ]),
                r#"ALTER COLUMN "id" TYPE bigint; ADD COLUMN "net kg" real;"#,
            ),
            (
                table(&[("id", "integer", true), ("class", "text", false), ("room", "integer", false)]),
                r#"RENAME COLUMN "grade" TO "class";"#,
            ),
            (table(&[("id", "integer", true), ("room", "integer", false)]), r#"DROP COLUMN "grade";"#),
            (
                table(&[("id", "integer", true), ("room", "integer", false), ("class", "text", false)]),
                r#"ADD COLUMN "class" text; DROP COLUMN "grade";"#,
            ),
            (
                table(&[("bin", "integer", true), ("grade", "text", false), ("room", "integer", false)]),
                r#"RENAME COLUMN "id" TO "bin";"#,
            ),
            (
                table(&[("id", "integer", true), ("grade", "text", true), ("room", "integer", false)]),
                r#"ADD PRIMARY KEY ("id", "grade");"#,
            ),
        ];
        for (after, expected) in cases {
            let found = statement(&after, &differences(&before, &after)).replace(r#"ALTER TABLE "public"."bins" "#, "");
            assert_eq!(found, expected);
        }
        let after = table(&[("id", "bigint", true), ("class", "text", false), ("room", "integer", false)]);
        let value = value(&after, &differences(&before, &after), &Origin { position: 0xa0, ..Origin::default() });
        let schema = crate::avro::schema::Schema::parse(&value_schema().to_string()).unwrap();
        let mut out = Vec::new();
        crate::avro::from_json::write(&schema, &value, &mut out).unwrap();
        assert_eq!(crate::avro::json::read(&schema, &mut crate::avro::binary::Reader::new(&out)).unwrap(), value);
    }

    #[test]
    fn rows_from_before_differ_where_a_change_gave_them_values() {
        let before = table(&[
            ("id", "integer", true),
            ("kg", "numeric(7,1)", false),
            ("room", "integer", false),
            ("a", "text", false),
        ]);
        let after = table(&[
            ("id", "bigint", true),
            ("kg", "numeric(7,0)", false),
            ("room", "integer", false),
            ("b", "text", false),
            ("site", "text", false),
            ("note", "text", false),
        ]);
        let found = differing(&differences(&before, &after), |column| column == "site");
        assert_eq!(found, ["kg", "b", "site"]);
        assert_eq!(differing(&differences(&after, &after), |_| true), Vec::<String>::new());
    }
}
