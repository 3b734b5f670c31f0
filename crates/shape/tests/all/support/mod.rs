//! A table of awkward rows, here and in PostgreSQL.
#![allow(clippy::unwrap_used, dead_code, reason = "what fails here fails the test; not every test uses all of it")]

use std::sync::Arc;

use gonvel_core::change::{ChangeBatch, ChangeBatchBuilder, ChangeKind, Origin};
use gonvel_core::column::{ColumnType, Value};
use gonvel_core::sql_text;
use gonvel_core::table::{Column, TableSchema};
use gonvel_shape::tools::{MaskKey, Tools};
use gonvel_stand_ins::test_cluster::TestCluster;
use tokio_postgres::Client;

pub const COLUMNS: &[(&str, ColumnType, &str)] = &[
    ("id", ColumnType::Int64, "bigint"),
    ("flag", ColumnType::Boolean, "boolean"),
    ("small", ColumnType::Int16, "smallint"),
    ("whole", ColumnType::Int32, "integer"),
    ("large", ColumnType::Int64, "bigint"),
    ("single", ColumnType::Float32, "real"),
    ("double", ColumnType::Float64, "double precision"),
    ("kg", ColumnType::Decimal { precision: 7, scale: 1 }, "numeric(7,1)"),
    ("price", ColumnType::Decimal { precision: 12, scale: 6 }, "numeric(12,6)"),
    ("remark", ColumnType::Text, "text"),
    ("code", ColumnType::Text, "text"),
    ("raw", ColumnType::Bytes, "bytea"),
    ("day", ColumnType::Date, "date"),
    ("plain_time", ColumnType::Timestamp, "timestamp without time zone"),
    ("moment", ColumnType::TimestampTz, "timestamp with time zone"),
    ("doc", ColumnType::Verbatim, "json"),
    ("docb", ColumnType::Verbatim, "jsonb"),
    ("tags", ColumnType::Verbatim, "text[]"),
    ("span", ColumnType::Verbatim, "interval"),
    ("clock", ColumnType::Verbatim, "time without time zone"),
];

pub fn table() -> Arc<TableSchema> {
    let column = |(name, ty, source_type): &(&str, ColumnType, &str)| Column {
        name: (*name).into(),
        ty: *ty,
        source_type: (*source_type).into(),
        key: *name == "id",
    };
    let columns = COLUMNS.iter().map(column).collect();
    Arc::new(TableSchema { system: "packhouse".into(), schema: "public".into(), table: "input".into(), columns })
}

pub fn tools() -> Tools {
    Tools::new(MaskKey::of(b"orchard"))
}

/// A reproducible sequence.
pub struct Dice(pub u64);

impl Dice {
    pub fn below(&mut self, n: u64) -> u64 {
        self.0 ^= self.0 << 13;
        self.0 ^= self.0 >> 7;
        self.0 ^= self.0 << 17;
        self.0 % n
    }

    pub fn pick<'a, T: ?Sized>(&mut self, from: &[&'a T]) -> &'a T {
        from[usize::try_from(self.below(from.len() as u64)).unwrap()]
    }
}

/// Rows as PostgreSQL's text, edges among them.
pub fn rows(count: usize, seed: u64) -> Vec<Vec<Option<String>>> {
    let mut dice = Dice(seed);
    let edges: &[&[&str]] = &[
        &[],
        &["t", "f"],
        &["0", "1", "-1", "32767", "-32768", "7", "12"],
        &["0", "1", "-1", "2147483647", "-2147483648", "7", "100", "65"],
        &["0", "1", "-1", "9223372036854775807", "-9223372036854775808", "12", "18"],
        &["0", "1.5", "-2.5", "1e+10", "1e-07", "0.1", "16777216", "3.4e+38"],
        &["0", "1.5", "-2.5", "2.5", "0.5", "1e+100", "1e-100", "0.1", "123456.789", "-0.3", "1e+15", "NaN"],
        &["0.0", "1.5", "18.4", "-18.4", "999999.9", "-999999.9", "412.0", "0.1", "NaN"],
        &["0.000000", "1.500000", "-1.500000", "0.000001", "999999.999999", "12.345678", "2.500000"],
        &[
            "",
            " ",
            "early, ripe",
            "Golden Noble",
            "Süß",
            "a\tb",
            "line\nbreak",
            "O'Hara",
            "100%",
            "lot-2026-7",
            "  both  ",
            "\u{e9}t\u{e9}",
            "x,y;z",
            "7",
            "-12.5",
            "{a,b}",
        ],
        &["A", "B", "C", "lot-7", "0161 496 0018", "a.b.c", "north/7/b", "abcabc", "true", "2026-11-25"],
        &["\\x", "\\x00", "\\xcafe", "\\x61620a"],
        &["2026-11-25", "1970-01-01", "2000-02-29", "1999-12-31", "2024-01-01", "1899-03-01", "2026-12-31"],
        &[
            "2026-11-25 06:30:15.5",
            "1970-01-01 00:00:00",
            "2000-02-29 23:59:59.999999",
            "2026-03-29 02:30:00",
            "1999-12-31 12:00:00",
        ],
        &[
            "2026-11-25 06:30:15.5+00",
            "1970-01-01 00:00:00+00",
            "2026-03-29 01:30:00+00",
            "2026-07-01 10:00:00+00",
            "2026-10-25 00:30:00+00",
        ],
        &[
            "{\"a\": 1, \"b\": [1, 2, {\"c\": \"x\"}], \"n\": null}",
            "[1, \"two\", null, true]",
            "{\"a\":\"text\", \"a\": 2}",
            "7",
            "\"plain\"",
            "{}",
            "[]",
            "{\"t\": \"Süß \\n\", \"f\": 1.50}",
        ],
        &[
            "{\"a\": 1, \"b\": [1, 2, {\"c\": \"x\"}]}",
            "[1, \"two\", null, true]",
            "{\"a\": 2.50, \"bb\": 1}",
            "{}",
            "7.10",
            "{\"a\": null, \"z\": {\"a\": null}}",
        ],
        &["{}", "{a,b}", "{\"with space\",NULL,\"\"}", "{x}", "{a,a,b}", "{\"q\\\"uote\",\"back\\\\slash\"}"],
        &["1 day", "-3 days", "1 year 2 mons 3 days 04:05:06.5", "00:00:00", "-01:30:00", "2 mons -1 days", "30:00:00"],
        &["00:00:00", "06:30:15.5", "23:59:59.999999"],
    ];
    (0..count)
        .map(|n| {
            let cell = |(column, edges): (usize, &&[&str])| {
                if column == 0 {
                    return Some(n.to_string());
                }
                (dice.below(8) != 0).then(|| dice.pick(edges).to_owned())
            };
            edges.iter().enumerate().map(cell).collect()
        })
        .collect()
}

pub fn batch(rows: &[Vec<Option<String>>]) -> ChangeBatch {
    let table = table();
    let mut builder = ChangeBatchBuilder::new(table.clone());
    let mut scratch = Vec::new();
    for row in rows {
        builder.begin(ChangeKind::Insert, Origin { position: 16, transaction: 7, sequence: 0, commit_time_us: 1_000_000 });
        for (n, cell) in row.iter().enumerate() {
            let value = match cell {
                None => Value::Null,
                Some(text) => sql_text::read(table.columns[n].ty, text.as_bytes(), &mut scratch).unwrap(),
            };
            builder.new_value(n, value).unwrap();
        }
        builder.no_old();
    }
    builder.finish()
}

/// The same rows in a table of PostgreSQL, and a way to ask it for one row's expression.
pub async fn in_postgresql(cluster: &TestCluster, rows: &[Vec<Option<String>>]) -> Client {
    let client = cluster.connect("packhouse").await.unwrap();
    let columns: Vec<String> = COLUMNS.iter().map(|(n, _, t)| format!("{n} {t}")).collect();
    client
        .batch_execute(&format!("SET TimeZone = 'UTC'; CREATE TABLE input ({}, PRIMARY KEY (id))", columns.join(", ")))
        .await
        .unwrap();
    for row in rows {
        let literal = |cell: &Option<String>| match cell {
            None => "NULL".to_owned(),
            Some(text) => format!("'{}'", text.replace('\'', "''")),
        };
        let cells: Vec<String> = row.iter().map(literal).collect();
        client.batch_execute(&format!("INSERT INTO input VALUES ({})", cells.join(", "))).await.unwrap();
    }
    client
        .batch_execute(
            "CREATE FUNCTION tried(expression text, wanted bigint) RETURNS text LANGUAGE plpgsql AS $$
             DECLARE found text; BEGIN
               EXECUTE 'SELECT (' || expression || ')::text FROM input WHERE id = ' || wanted INTO found; RETURN found;
             EXCEPTION WHEN OTHERS THEN RETURN 'FAILS ' || SQLERRM; END $$",
        )
        .await
        .unwrap();
    client
}
