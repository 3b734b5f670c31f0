//! Shapes on one core: five steps over rows in large and in small batches, lookups, and memory over many rows.

use std::sync::Arc;
use std::time::Instant;

use gonvel_core::change::{ChangeBatch, ChangeBatchBuilder, ChangeKind, Origin};
use gonvel_core::column::{ColumnType, Value};
use gonvel_core::shape::ShapeStep;
use gonvel_core::table::{Column, TableSchema};
use gonvel_shape::plan::{Plan, References, Shape};
use gonvel_shape::reference::Reference;
use gonvel_shape::run::Context;
use gonvel_shape::tools::{MaskKey, Tools};
use serde_json::json;

use crate::report::{Measured, median};
use crate::world::Outcome;

const ROUNDS: usize = 7;

fn table(name: &str, columns: &[(&str, ColumnType, &str)]) -> Arc<TableSchema> {
    let column = |(name, ty, source_type): &(&str, ColumnType, &str)| Column {
        name: (*name).into(),
        ty: *ty,
        source_type: (*source_type).into(),
        key: *name == "id",
    };
    let columns = columns.iter().map(column).collect();
    Arc::new(TableSchema { system: "packhouse".into(), schema: "public".into(), table: name.into(), columns })
}

fn bins() -> Arc<TableSchema> {
    let kg = ColumnType::Decimal { precision: 7, scale: 1 };
    table(
        "bins",
        &[
            ("id", ColumnType::Int64, "bigint"),
            ("block_id", ColumnType::Int64, "bigint"),
            ("weight_kg", kg, "numeric(7,1)"),
            ("grade", ColumnType::Text, "text"),
            ("room_id", ColumnType::Int32, "integer"),
            ("remark", ColumnType::Text, "text"),
        ],
    )
}

fn rows(from: i64, count: usize) -> Outcome<ChangeBatch> {
    let mut builder = ChangeBatchBuilder::new(bins());
    for row in from..from + i64::try_from(count)? {
        builder
            .begin(ChangeKind::Insert, Origin { position: 7, commit_time_us: 1_795_000_000_000_000, ..Origin::default() });
        builder.new_value(0, Value::Long(row))?;
        builder.new_value(1, Value::Long(row.wrapping_mul(7_919) % 1_000_000))?;
        builder.new_value(2, Value::Decimal(i128::from(1_000 + row % 4_000)))?;
        builder.new_value(3, Value::Text(["A", "B", "C", "windfall"][usize::try_from(row % 4)?]))?;
        builder.new_value(4, Value::Int(i32::try_from(row % 60)?))?;
        builder.new_value(5, Value::Text(&format!("bin {row}, a little russet at the stalk")))?;
        builder.no_old();
    }
    Ok(builder.finish())
}

fn plan(steps: serde_json::Value, references: &References) -> Outcome<Plan> {
    let steps: Vec<ShapeStep> = serde_json::from_value(steps)?;
    let compiled = Plan::compile(&bins(), Shape { rules: &[], steps: &steps }, references, &tools());
    compiled.plan.ok_or_else(|| format!("{:?}", compiled.findings).into())
}

fn tools() -> Tools {
    Tools::new(MaskKey::of(b"orchard"))
}

/// Rename, computed column, keyed hash, CASE, filter.
fn five(hidden: &str) -> serde_json::Value {
    json!([
        {"step": "rename", "columns": [{"column": "weight_kg", "to": "kg"}]},
        {"step": "compute", "column": "net_kg", "value": "kg - 35.5"},
        {"step": "mask", "columns": [hidden], "how": "hash"},
        {"step": "compute", "column": "size", "value": "CASE WHEN kg > 400 THEN 'large' WHEN kg > 200 THEN 'usual' ELSE 'small' END"},
        {"step": "filter", "only": "room_id <> 7"},
    ])
}

/// Rows a second through five steps, in batches of a size. The grade, which is hidden, has four values; every remark is another.
pub fn steps(batch_size: usize, hidden: &str, name: &'static str, what: &'static str, goal: f64) -> Outcome<Measured> {
    let plan = plan(five(hidden), &References::new())?;
    let mut context = Context::new(tools());
    let batches: Vec<ChangeBatch> =
        (0..100_000 / batch_size).map(|n| rows(i64::try_from(n * batch_size)?, batch_size)).collect::<Outcome<_>>()?;
    let mut figures = Vec::new();
    for _ in 0..ROUNDS {
        let start = Instant::now();
        let mut out = 0;
        for batch in &batches {
            out += plan.apply(batch, &mut context).parts.iter().map(|p| p.rows.len()).sum::<usize>();
        }
        if out == 0 {
            return Err("no row came through".into());
        }
        figures.push(100_000.0 / start.elapsed().as_secs_f64());
    }
    let rate = median(figures);
    let detail = format!("{rate:.0} rows/s, batches of {batch_size}, {hidden} hidden; wanted {goal:.0}");
    Ok(Measured { name, what, ratio: rate / goal, goal: 1.0, detail })
}

fn resident() -> f64 {
    let text = std::fs::read_to_string("/proc/self/statm").unwrap_or_default();
    let pages: f64 = text.split(' ').nth(1).and_then(|p| p.parse().ok()).unwrap_or(0.0);
    pages * 4_096.0
}

/// A lookup into a reference of a million rows.
pub fn lookup() -> Outcome<Measured> {
    const ROWS: i64 = 1_000_000;
    let blocks = table("blocks", &[("id", ColumnType::Int64, "bigint"), ("variety", ColumnType::Text, "text")]);
    let before = resident();
    let mut reference = Reference::new(blocks.clone(), vec![1]);
    let mut data = 0_usize;
    for chunk in 0..ROWS / 10_000 {
        let mut builder = ChangeBatchBuilder::new(blocks.clone());
        for row in chunk * 10_000..(chunk + 1) * 10_000 {
            let variety = format!("variety {}", row % 977);
            data += 8 + variety.len();
            builder.begin(ChangeKind::Load, Origin::default());
            builder.new_value(0, Value::Long(row))?;
            builder.new_value(1, Value::Text(&variety))?;
            builder.no_old();
        }
        reference.apply(&builder.finish());
    }
    #[allow(clippy::cast_precision_loss, reason = "bytes for people")]
    let beyond = (resident() - before - data as f64) / ROWS as f64;
    let references = References::from([("packhouse.blocks".to_owned(), blocks)]);
    let plan = plan(
        json!([{"step": "lookup", "topic": "packhouse.blocks", "by": [{"column": "block_id", "key": "id"}],
                "columns": [{"from": "variety", "column": "variety"}]}]),
        &references,
    )?;
    let mut context = Context::new(tools());
    context.references.insert("packhouse.blocks".into(), reference);
    let batches: Vec<ChangeBatch> = (0..20).map(|n| rows(n * 5_000, 5_000)).collect::<Outcome<_>>()?;
    let mut figures = Vec::new();
    for _ in 0..ROUNDS {
        let start = Instant::now();
        for batch in &batches {
            let _ = plan.apply(batch, &mut context);
        }
        figures.push(100_000.0 / start.elapsed().as_secs_f64());
    }
    let rate = median(figures);
    let detail = format!("{rate:.0} rows/s of 500,000 wanted; {beyond:.0} bytes a row beyond its data, of 200 at most");
    let ratio = (rate / 500_000.0).min(200.0 / beyond.max(1.0));
    Ok(Measured {
        name: "shape-lookup",
        what: "a lookup of 1 M rows: the worse of speed and memory, each over its limit",
        ratio,
        goal: 1.0,
        detail,
    })
}

/// Memory after many rows, over memory after a few.
pub fn memory() -> Outcome<Measured> {
    const ROWS: usize = 100_000_000;
    let plan = plan(five("grade"), &References::new())?;
    let mut context = Context::new(tools());
    let batch = rows(0, 5_000)?;
    let pass = |count: usize, context: &mut Context| (0..count / 5_000).for_each(|_| drop(plan.apply(&batch, context)));
    pass(1_000_000, &mut context);
    let before = resident();
    pass(ROWS, &mut context);
    let after = resident();
    let detail = format!("{:.1} MiB after 1 M rows, {:.1} MiB after 100 M", before / 1_048_576.0, after / 1_048_576.0);
    Ok(Measured {
        name: "shape-memory",
        what: "memory after 100 M rows through five steps: that after 1 M over it",
        ratio: before / after,
        goal: 0.9,
        detail,
    })
}
