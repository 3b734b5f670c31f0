//! Steps give what their SQL gives in PostgreSQL, over rows with nulls and edges.

use crate::support::{batch, in_postgresql, rows, table, tools};
use gonvel_core::column::Value;
use gonvel_core::shape::ShapeStep;
use gonvel_shape::cast::text_of;
use gonvel_shape::plan::{Plan, References, Shape};
use gonvel_shape::run::Context;
use gonvel_shape::sql_view::statement;
use gonvel_shape::ty::Ty;
use gonvel_stand_ins::test_cluster::TestCluster;
use serde_json::json;

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn steps_give_what_their_sql_gives() {
    let cluster = TestCluster::start(&["packhouse"]).await;
    let rows = rows(150, 7);
    let client = in_postgresql(&cluster, &rows).await;
    let batch = batch(&rows);
    let shapes = [
        json!([{"step": "keep", "columns": ["id", "remark", "kg"]}, {"step": "rename", "columns": [{"column": "kg", "to": "weight"}]}]),
        json!([{"step": "drop", "columns": ["raw", "doc", "docb", "single", "double"]}, {"step": "reorder", "columns": ["day", "id"]}]),
        json!([{"step": "keep", "columns": ["id", "whole", "kg", "price"]},
               {"step": "compute", "column": "worth", "value": "round(kg * price, 2)"},
               {"step": "compute", "column": "kg", "value": "coalesce(kg, 0) + 1"},
               {"step": "filter", "only": "worth IS NULL OR worth > 10"},
               {"step": "compute", "column": "double_worth", "value": "worth * 2"}]),
        json!([{"step": "keep", "columns": ["id", "remark", "code", "small"]},
               {"step": "trim", "columns": ["remark"]},
               {"step": "letters", "columns": ["code"], "to": "upper"},
               {"step": "substitute", "columns": ["remark"], "which": "control", "with": " "},
               {"step": "substitute", "columns": ["remark", "code"], "which": "these", "characters": "aO-.\\", "with": "<\\1&>"},
               {"step": "fill", "column": "small", "value": "-1"},
               {"step": "convert", "column": "small", "to": "bigint"}]),
        json!([{"step": "keep", "columns": ["id", "remark", "code", "day", "flag"]},
               {"step": "mask", "columns": ["remark", "code"], "how": "partial", "first": 1, "last": 2},
               {"step": "mask", "columns": ["day"], "how": "hide"},
               {"step": "mask", "columns": ["flag"], "how": "hide", "with": "true"}]),
        json!([{"step": "keep", "columns": ["id", "code", "doc", "docb"]},
               {"step": "split", "column": "code", "by": "/", "into": ["side", "number", "row"]},
               {"step": "unpack", "column": "doc", "fields": [{"path": ["a"], "column": "a", "type": "text"}, {"path": ["b", "2", "c"], "column": "c", "type": "text"}, {"path": ["b"], "column": "b", "type": "jsonb"}]},
               {"step": "substitute", "columns": ["code"], "which": "not_ascii", "with": "?"},
               {"off": true, "step": "drop", "columns": ["code"]}]),
        json!([{"step": "sql", "select": "SELECT *, whole % 2 = 0 AS even, upper(code) AS code FROM input WHERE whole IS NOT NULL"},
               {"step": "sql", "select": "SELECT id, code, even, CASE WHEN even THEN 'even' ELSE code END AS word FROM input WHERE code <> 'B'"}]),
    ];
    for steps in shapes {
        let steps: Vec<ShapeStep> = serde_json::from_value(steps).unwrap();
        let compiled = Plan::compile(&table(), Shape { rules: &[], steps: &steps }, &References::new(), &tools());
        let plan = compiled.plan.unwrap_or_else(|| panic!("{:?}", compiled.findings));
        let shaped = plan.apply(&batch, &mut Context::new(tools()));
        assert_eq!(shaped.failed, [], "{steps:?}");
        let statement = statement(&plan).unwrap();
        let mut here: Vec<Vec<Option<String>>> = Vec::new();
        for part in &shaped.parts {
            for row in 0..part.batch.len() {
                let cell = |(array, column): (&gonvel_core::column::ColumnArray, &gonvel_core::table::Column)| match array
                    .value(row)
                {
                    Value::Null => None,
                    value => Some(text_of(&Ty::of(column), value).into_owned()),
                };
                here.push(part.batch.new.iter().zip(&plan.output.columns).map(cell).collect());
            }
        }
        let names: Vec<String> = plan.output.columns.iter().map(|c| format!("\"{}\"::text", c.name)).collect();
        let outer = format!("SELECT {} FROM ({statement}) AS shaped ORDER BY shaped.id", names.join(", "));
        let there = client.query(&outer, &[]).await.unwrap_or_else(|e| panic!("{statement}: {e:?}"));
        let there: Vec<Vec<Option<String>>> =
            there.iter().map(|row| (0..names.len()).map(|n| row.get(n)).collect()).collect();
        assert_eq!(here.len(), there.len(), "{statement}");
        for (here, there) in here.iter().zip(&there) {
            for ((here, there), column) in here.iter().zip(there).zip(&plan.output.columns) {
                let number = |text: &Option<String>| match (Ty::of(column), text) {
                    (ty @ Ty::Numeric { .. }, Some(text)) => gonvel_shape::decimal::read(text, &ty).ok(),
                    _ => None,
                };
                assert!(
                    here == there || number(here).is_some() && number(here) == number(there),
                    "{statement}\n{}: {here:?}, {there:?}",
                    column.name
                );
            }
        }
    }
}
