//! The condition on the rows of an initial load, before it goes to the source: one expression over the table's own columns.
//!
//! Whoever may edit a connector may write it, and it runs under the source's login. So it is read and bound by our own reader, and what
//! goes to the server is what was understood, not the text: nothing can end the condition and begin something else, and nothing is called
//! that is not a function of expressions.

use gonvel_core::connector::CapturedTable;
use gonvel_core::ports::systems::ConnectorError;
use gonvel_shape::bind::condition;
use gonvel_shape::columns::Columns;
use gonvel_shape::finding::Finding;
use gonvel_shape::parse;
use gonvel_shape::tools::{MaskKey, Tools};

use super::client::Client;
use super::names::qualified;
use super::tables::describe;

/// A table with the condition as it goes to the source.
///
/// # Errors
/// [`ConnectorError::Settings`] if it is no expression over the table's columns; others if the table cannot be described.
pub(super) async fn understood(
    client: &Client,
    system: &str,
    table: &CapturedTable,
) -> Result<CapturedTable, ConnectorError> {
    let Some(only) = &table.load_where else { return Ok(table.clone()) };
    let name = qualified(&table.schema, &table.table);
    let there = client.query_one("SELECT to_regclass($1) IS NOT NULL", &[&name]).await;
    if !there.is_ok_and(|there| there.get(0)) {
        // it is said elsewhere that it is missing; once it is there the lane starts anew
        return Ok(CapturedTable { load_where: Some("false".into()), ..table.clone() });
    }
    // columns that are not captured can be asked, too
    let whole = CapturedTable { leave_out: Vec::new(), ..table.clone() };
    let columns = Columns::of(&describe(client, system, &whole).await?);
    let refused = |finding: Finding| {
        let remedy = finding.suggestion.unwrap_or_else(|| "write one expression over the table's own columns".into());
        let finding = format!("the condition on rows of {} cannot be used: {}", table.qualified(), finding.message);
        ConnectorError::settings(Some("tables"), finding, remedy)
    };
    Ok(CapturedTable { load_where: Some(as_understood(only, &columns).map_err(refused)?), ..table.clone() })
}

/// A condition as it was understood.
fn as_understood(only: &str, columns: &Columns) -> Result<String, Finding> {
    // the hour of the load is a fact of its own: rows that come later are captured as changes
    let tools = Tools::new(MaskKey::of(b"no secret")).with_clock(chrono::Utc::now().timestamp_micros());
    condition(only, columns, &tools)?;
    let (sql, _) = parse::expression(only)?;
    Ok(sql.to_string())
}

#[cfg(test)]
mod tests {
    #![allow(clippy::unwrap_used, reason = "what fails here fails the test")]

    use gonvel_core::column::ColumnType;
    use gonvel_core::table::{Column, TableSchema};
    use gonvel_stand_ins::test_cluster::TestCluster;

    use super::*;

    fn columns() -> Columns {
        let column = |name: &str, ty, source_type: &str| Column {
            name: name.into(),
            ty,
            source_type: source_type.into(),
            key: name == "id",
        };
        let columns = vec![
            column("id", ColumnType::Int64, "bigint"),
            column("weight_kg", ColumnType::Decimal { precision: 7, scale: 1 }, "numeric(7,1)"),
            column("grade", ColumnType::Text, "text"),
            column("picked_at", ColumnType::TimestampTz, "timestamp with time zone"),
            column("Room No", ColumnType::Int32, "integer"),
        ];
        let name = |name: &str| name.to_owned();
        Columns::of(&TableSchema { system: name("packhouse"), schema: name("public"), table: name("bins"), columns })
    }

    #[test]
    fn what_is_no_expression_over_the_row_is_refused() {
        for hostile in [
            "true) UNION ALL SELECT 1, passwd FROM pg_shadow WHERE (true",
            "true); DROP TABLE bins; --",
            "true UNION SELECT true",
            "id IN (SELECT 1)",
            "EXISTS (SELECT 1 FROM pg_shadow)",
            "id = (SELECT max(id) FROM bins)",
            "id = ANY (ARRAY(SELECT 1))",
            "pg_terminate_backend(1)",
            "pg_sleep(10) IS NULL",
            "pg_catalog.pg_read_file('/etc/passwd') IS NOT NULL",
            "query_to_xml('SELECT 1', true, true, '') IS NOT NULL",
            "nextval('numbers') > 0",
            "setval('numbers', 1) > 0",
            "other.id = 1",
            "ctid IS NOT NULL",
            "weight",
            "id",
            "",
        ] {
            assert!(as_understood(hostile, &columns()).is_err(), "{hostile}: {:?}", as_understood(hostile, &columns()));
        }
    }

    /// What goes to the server means what was written.
    #[tokio::test]
    async fn what_is_understood_finds_the_same_rows() {
        let cluster = TestCluster::start(&["packhouse"]).await;
        let client = cluster.connect("packhouse").await.unwrap();
        client
            .batch_execute(
                "CREATE TABLE bins (id bigint PRIMARY KEY, weight_kg numeric(7,1), grade text, picked_at timestamptz, \"Room No\" int);
                 INSERT INTO bins SELECT n, n * 1.5, (ARRAY['first', 'second', E'it''s \\\\ odd', NULL])[1 + n % 4],
                   now() - n * interval '1 day', n % 7 FROM generate_series(1, 200) n",
            )
            .await
            .unwrap();
        for only in [
            "id <= 100 -- the first",
            "picked_at > now() - interval '30 days'",
            "picked_at::date >= current_date - 3",
            "grade IN ('first', 'second') AND NOT (id % 2 = 0 OR weight_kg BETWEEN 3 AND 9.5)",
            "grade = E'it\\'s \\\\ odd'",
            "grade = $$first$$ /* a remark */",
            "coalesce(grade, 'none') LIKE 'n%' OR grade ~ '^s.*d$'",
            "\"Room No\" = 3 AND weight_kg * 2 > 10 - -1",
            "CASE WHEN id > 10 THEN grade IS NULL ELSE true END",
            "id & 3 = 1 OR id | 8 = 12",
            "date_trunc('month', picked_at) < now() AND length(grade) > 5",
        ] {
            let sent = as_understood(only, &columns()).unwrap_or_else(|e| panic!("{only}: {e:?}"));
            let find = |condition: &str| {
                format!("SELECT coalesce(array_agg(id ORDER BY id), '{{}}') FROM bins WHERE (\n{condition}\n)")
            };
            let written: Vec<i64> = client.query_one(&find(only), &[]).await.unwrap().get(0);
            let found: Vec<i64> = client.query_one(&find(&sent), &[]).await.unwrap().get(0);
            assert_eq!(written, found, "{only} became {sent}");
            assert!(!found.is_empty() && found.len() < 200, "{only} tells nothing apart");
        }
    }
}
