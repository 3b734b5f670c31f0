//! Schemas: values written and read by them, values checked by them, and a registry of many.

use std::sync::Arc;
use std::time::{Duration, Instant};

use bytes::Bytes;
use gonvel_core::change::{ChangeBatch, ChangeBatchBuilder, ChangeKind, OldImage, Origin};
use gonvel_core::column::{ColumnType, Value};
use gonvel_core::connector::Values;
use gonvel_core::record_form::{ReadForm, RecordForm};
use gonvel_core::schemas::Language;
use gonvel_core::schemas::values::ValueSchema;
use gonvel_core::table::{Column, TableSchema};
use serde_json::{Value as Json, json};

use crate::report::{Measured, median};
use crate::served::Served;
use crate::world::{Outcome, World};

const ROWS: usize = 10_000;
const ROUNDS: usize = 15;

fn bins() -> Arc<TableSchema> {
    let column = |name: &str, ty: ColumnType, source_type: &str| Column {
        name: name.into(),
        ty,
        source_type: source_type.into(),
        key: name == "id",
    };
    let columns = vec![
        column("id", ColumnType::Int64, "bigint"),
        column("block_id", ColumnType::Int64, "bigint"),
        column("picked_at", ColumnType::TimestampTz, "timestamptz"),
        column("weight_kg", ColumnType::Decimal { precision: 7, scale: 1 }, "numeric(7,1)"),
        column("grade", ColumnType::Text, "text"),
        column("room_id", ColumnType::Int32, "integer"),
        column("status", ColumnType::Text, "text"),
        column("remark", ColumnType::Text, "text"),
        column("line", ColumnType::Int16, "smallint"),
        column("checked", ColumnType::Boolean, "boolean"),
        column("checked_on", ColumnType::Date, "date"),
        column("sugar", ColumnType::Float64, "double precision"),
    ];
    Arc::new(TableSchema { system: "packhouse".into(), schema: "public".into(), table: "bins".into(), columns })
}

/// Updates of a table of twelve columns, as the server sends them: the row after it, and where the whole row before it is sent as
/// well, that.
fn updates(table: &Arc<TableSchema>, with_old: bool) -> Outcome<ChangeBatch> {
    let mut builder = ChangeBatchBuilder::new(table.clone());
    for row in 0..i64::try_from(ROWS)? {
        let origin = Origin {
            position: 7_000_000 + row.cast_unsigned(),
            transaction: 91_000,
            sequence: row.cast_unsigned(),
            commit_time_us: 1_795_000_000_000_000 + row,
        };
        builder.begin(ChangeKind::Update, origin);
        let day = i32::try_from(20_400 + row % 300)?;
        let small = i32::try_from(row % 12)?;
        let room = i32::try_from(row % 60)?;
        let values = |grade: &'static str, tenths: i128| {
            [
                Value::Long(row),
                Value::Long(row % 4_000),
                Value::Timestamp(1_795_000_000_000_000 + row),
                Value::Decimal(tenths),
                Value::Text(grade),
                Value::Int(room),
                Value::Text("stored"),
                Value::Text("picked by hand"),
                Value::Int(small),
                Value::Boolean(row % 2 == 0),
                Value::Date(day),
                Value::Double(row as f64 / 7.0),
            ]
        };
        for (column, value) in values("A", 1_830 + i128::from(row % 90)).into_iter().enumerate() {
            builder.new_value(column, value)?;
        }
        if !with_old {
            builder.no_old();
            continue;
        }
        builder.begin_old(OldImage::Row);
        for (column, value) in values("B", 1_790 + i128::from(row % 90)).into_iter().enumerate() {
            builder.old_value(column, value)?;
        }
    }
    Ok(builder.finish())
}

/// Records a second of the rounds' middle one, on one core.
fn rate(mut round: impl FnMut() -> Outcome<()>) -> Outcome<f64> {
    let mut rates = Vec::with_capacity(ROUNDS);
    for _ in 0..ROUNDS {
        let start = Instant::now();
        round()?;
        rates.push(ROWS as f64 / start.elapsed().as_secs_f64());
    }
    Ok(median(rates))
}

/// Records written and read a second.
fn coded(table: &Arc<TableSchema>, with_old: bool) -> Outcome<(f64, f64)> {
    let batch = updates(table, with_old)?;
    let form = RecordForm::of(table.clone(), Values::default());
    let read_form = ReadForm::from_value_text(form.value_text())?;
    let mut written: Vec<(Vec<u8>, Vec<u8>)> = vec![(Vec::new(), Vec::new()); ROWS];
    let encode = rate(|| {
        for (row, (key, value)) in written.iter_mut().enumerate() {
            key.clear();
            value.clear();
            form.write_key(batch.identifying(row), row, key);
            form.write_value(&batch, row, value);
        }
        Ok(())
    })?;
    let decode = rate(|| {
        let mut builder = ChangeBatchBuilder::new(table.clone());
        for (key, value) in &written {
            read_form.read(key, Some(value), 0, &mut builder)?;
        }
        if builder.finish().len() == ROWS { Ok(()) } else { Err("records were lost".into()) }
    })?;
    Ok((encode, decode))
}

/// Writing and reading change records of twelve fields.
pub fn codec() -> Outcome<Measured> {
    let table = bins();
    let (encode, decode) = coded(&table, false)?;
    let (encode_both, decode_both) = coded(&table, true)?;
    Ok(Measured {
        name: "schema-codec",
        what: "change records of a table of 12 columns with the row after the change, written and read in batches of 10,000 on one core: the slower of both divided by 1,000,000 a second",
        ratio: encode.min(decode) / 1_000_000.0,
        goal: 1.0,
        detail: format!(
            "{encode:.0} written, {decode:.0} read a second; with the row before it as well {encode_both:.0} and {decode_both:.0}"
        ),
    })
}

/// Checking JSON records as an append does.
pub fn validate() -> Outcome<Measured> {
    let text = json!({"type": "object", "required": ["room"], "additionalProperties": false, "properties": {
        "room": {"type": "integer", "minimum": 1, "maximum": 60}, "celsius": {"type": "number"},
        "humidity": {"type": "number", "minimum": 0, "maximum": 100}, "open": {"type": "boolean"},
        "note": {"type": "string", "maxLength": 200}, "alarms": {"type": "array", "items": {"enum": ["warm", "door"]}}}});
    let schema = ValueSchema::new(Language::JsonSchema, &text.to_string())?;
    let records: Vec<Bytes> = (0..ROWS)
        .map(|n| json!({"room": n % 60 + 1, "celsius": n as f64 / 700.0, "humidity": 91.5, "open": n % 7 == 0, "note": "as it should be", "alarms": ["door"]}).to_string().into())
        .collect();
    let checked = rate(|| {
        for record in &records {
            schema.take(record)?;
        }
        Ok(())
    })?;
    // the reading of the text alone, which every check needs
    let parsed = rate(|| {
        for record in &records {
            serde_json::from_slice::<Json>(record)?;
        }
        Ok(())
    })?;
    Ok(Measured {
        name: "schema-validate",
        what: "JSON records of six fields, read and checked as an append does, on one core: divided by 200,000 a second",
        ratio: checked / 200_000.0,
        goal: 1.0,
        detail: format!("{checked:.0} a second; only reading the text {parsed:.0}"),
    })
}

const SCHEMAS: usize = 5_000;
const LOOKS: usize = 40;

async fn many_schemas(world: &World) -> Outcome<()> {
    let client = world.connect("gonvel").await?;
    let fields = "(SELECT string_agg('{\"name\":\"' || f || '_' || (n % 97) || '\",\"type\":[\"null\",\"string\"],\"default\":null}', ',') \
         FROM unnest(ARRAY['bin','room','grade','weight','picked','buyer','lot','line','block','status','remark']) f)";
    client
        .batch_execute(&format!(
            "INSERT INTO schemas (name, language, owner, reads_past, past_reads) \
               SELECT 'averling.schema_' || n, 'avro', 'packhouse', 'all', 'all' FROM generate_series(1, {SCHEMAS}) n; \
             INSERT INTO schema_versions (schema_id, version, text, fingerprint) \
               SELECT s.id, v, '{{\"type\":\"record\",\"name\":\"Lot\",\"fields\":[{{\"name\":\"id\",\"type\":\"long\"}},' || {fields} || \
                 ',{{\"name\":\"added_' || v || '\",\"type\":\"int\",\"default\":0}}]}}', s.id * 100 + v \
               FROM (SELECT id, id AS n FROM schemas) s, generate_series(1, 20) v; \
             INSERT INTO schema_fields (schema_id, path, last_version) \
               SELECT id, f || '_' || (id % 97), 20 FROM schemas, \
                 unnest(ARRAY['bin','room','grade','weight','picked','buyer','lot','line','block','status','remark']) f"
        ))
        .await?;
    client.batch_execute("VACUUM ANALYZE").await?;
    Ok(())
}

/// Searching many schemas, and checking a draft against all versions of one.
pub async fn registry() -> Outcome<Measured> {
    let world = World::start(&[]).await?;
    let served = Served::start(&world).await?;
    many_schemas(&world).await?;
    let client = reqwest::Client::new();
    let (mut slowest_search, mut slowest_check) = (Duration::ZERO, Duration::ZERO);
    for n in 0..LOOKS {
        let start = Instant::now();
        let url = format!("{}/schemas?search=weight_{n}", served.base());
        let found: Vec<Json> = client.get(url).send().await?.error_for_status()?.json().await?;
        slowest_search = slowest_search.max(start.elapsed());
        if found.is_empty() {
            return Err("nothing was found".into());
        }
        let name = format!("averling.schema_{}", 100 * n + 1);
        let one: Json = client.get(format!("{}/schemas/{name}", served.base())).send().await?.json().await?;
        let text = one["versions"][0]["text"].as_str().unwrap_or_default().replace("added_20", "added_21");
        let start = Instant::now();
        let url = format!("{}/schemas/{name}/check", served.base());
        let verdict: Json = client.post(url).json(&json!({"text": text})).send().await?.error_for_status()?.json().await?;
        slowest_check = slowest_check.max(start.elapsed());
        if verdict["passes"] != true {
            return Err(format!("the draft should pass: {verdict}").into());
        }
    }
    let ms = |time: Duration| time.as_secs_f64() * 1000.0;
    Ok(Measured {
        name: "schema-registry",
        what: "5,000 schemas with 20 versions: the smaller of 200 ms divided by the slowest search by a field's name, and 50 ms divided by the slowest check against all versions, over HTTP",
        ratio: (200.0 / ms(slowest_search)).min(50.0 / ms(slowest_check)),
        goal: 1.0,
        detail: format!("slowest of {LOOKS}: search {:.1} ms, check {:.1} ms", ms(slowest_search), ms(slowest_check)),
    })
}
