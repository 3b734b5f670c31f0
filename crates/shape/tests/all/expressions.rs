//! Expressions give what PostgreSQL gives for the same rows, nulls, edges and failures included.

use crate::support::{batch, in_postgresql, rows, table, tools};
use gonvel_core::column::Value;
use gonvel_shape::bind::bind;
use gonvel_shape::cast::text_of;
use gonvel_shape::columns::Columns;
use gonvel_shape::eval::{Faults, Input, eval};
use gonvel_shape::functions;
use gonvel_shape::ty::Ty;
use gonvel_stand_ins::test_cluster::TestCluster;

/// Expressions over the table's columns. `≈` marks those whose last digits may differ.
const EXPRESSIONS: &str = include_str!("expressions.txt");

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn expressions_give_what_postgresql_gives() {
    let cluster = TestCluster::start(&["packhouse"]).await;
    let rows = rows(120, 20_261_126);
    let client = in_postgresql(&cluster, &rows).await;
    let batch = batch(&rows);
    let (columns, tools) = (Columns::of(&table()), tools());
    let mut wrong = Vec::new();
    let mut compared = 0;
    for line in EXPRESSIONS.lines().map(str::trim).filter(|l| !l.is_empty() && !l.starts_with("--")) {
        let (near, text) = line.strip_prefix('≈').map_or((false, line), |rest| (true, rest.trim()));
        let (expr, _) = match bind(text, &columns, &tools) {
            Ok(bound) => bound,
            Err(finding) => {
                wrong.push(format!("{text}: refused: {finding}"));
                continue;
            }
        };
        let mut faults = Faults::default();
        let input = Input { columns: &batch.new, rows: rows.len(), origins: None, tools: &tools };
        let found = eval(&expr, input, &vec![true; rows.len()], &mut faults);
        let there = client
            .query("SELECT tried($1, id) FROM input ORDER BY id", &[&text])
            .await
            .unwrap_or_else(|e| panic!("{text}: {e}"));
        let mut said = 0;
        for (row, there) in there.iter().enumerate() {
            let there: Option<String> = there.get(0);
            let here = match (faults.0.get(&row), found.value(row)) {
                (Some((_, fault)), _) => Some(format!("FAILS {fault}")),
                (None, Value::Null) => None,
                (None, value) => Some(text_of(&expr.ty, value).into_owned()),
            };
            compared += 1;
            if !same(here.as_deref(), there.as_deref(), near, &expr.ty) && said < 2 {
                said += 1;
                wrong.push(format!(
                    "{text} [{}] row {row} {:?}: here {here:?}, there {there:?}",
                    expr.ty.name(),
                    given(&rows[row], text)
                ));
            }
        }
    }
    assert!(wrong.is_empty(), "{} differences:\n{}", wrong.len(), wrong.join("\n"));
    assert!(compared > 20_000, "{compared}");
}

fn given<'r>(row: &'r [Option<String>], text: &str) -> Vec<(&'static str, Option<&'r str>)> {
    let named = crate::support::COLUMNS.iter().zip(row).filter(|((name, ..), _)| text.contains(name));
    named.map(|((name, ..), cell)| (*name, cell.as_deref())).collect()
}

fn same(here: Option<&str>, there: Option<&str>, near: bool, ty: &Ty) -> bool {
    let (Some(here), Some(there)) = (here, there) else { return here == there };
    if here.starts_with("FAILS ") || there.starts_with("FAILS ") {
        return here.starts_with("FAILS ") && there.starts_with("FAILS ");
    }
    // numerics of one column have one scale here, and no more digits than that
    if let (Ty::Numeric { .. }, Ok(there)) = (ty, gonvel_shape::decimal::read(there, ty)) {
        return gonvel_shape::decimal::read(here, ty) == Ok(there);
    }
    if near && let (Ok(a), Ok(b)) = (here.parse::<f64>(), there.parse::<f64>()) {
        return a == b || a.is_nan() && b.is_nan() || ((a - b) / a.abs().max(b.abs())).abs() < 1e-12;
    }
    here == there
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn every_example_gives_what_it_says_here_and_in_postgresql() {
    let cluster = TestCluster::start(&["packhouse"]).await;
    let client = cluster.connect("packhouse").await.unwrap();
    client.batch_execute("SET TimeZone = 'UTC'").await.unwrap();
    let tools = tools();
    assert!(functions::all().len() >= 90, "{}", functions::all().len());
    let mut wrong = Vec::new();
    for function in functions::all() {
        let example = function.example;
        let (expr, _) = bind(example, &Columns::default(), &tools).unwrap_or_else(|e| panic!("{example}: {e}"));
        let mut faults = Faults::default();
        let found = eval(&expr, Input { columns: &[], rows: 1, origins: None, tools: &tools }, &[true], &mut faults);
        let here = text_of(&expr.ty, found.value(0)).into_owned();
        if here != function.result {
            wrong.push(format!("{example}: gives {here}, said {}", function.result));
        }
        if ["keyed_hash", "token"].contains(&function.name) {
            continue;
        }
        let there =
            client.query_one(&format!("SELECT ({example})::text"), &[]).await.unwrap_or_else(|e| panic!("{example}: {e:?}"));
        let there: String = there.get(0);
        if !same(Some(&here), Some(&there), true, &expr.ty) {
            wrong.push(format!("{example}: here {here}, there {there}"));
        }
    }
    assert!(wrong.is_empty(), "{}", wrong.join("\n"));
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn every_letter_of_a_template_is_written_as_postgresql_writes_it() {
    let cluster = TestCluster::start(&["packhouse"]).await;
    let client = cluster.connect("packhouse").await.unwrap();
    client.batch_execute("SET TimeZone = 'UTC'").await.unwrap();
    let tools = tools();
    let words = [
        "HH", "HH12", "HH24", "MI", "SS", "MS", "US", "FF1", "FF2", "FF3", "FF4", "FF5", "FF6", "SSSS", "SSSSS", "AM",
        "A.M.", "PM", "P.M.", "am", "a.m.", "pm", "p.m.", "Y,YYY", "YYYY", "YYY", "YY", "Y", "IYYY", "IYY", "IY", "I", "BC",
        "B.C.", "AD", "A.D.", "bc", "b.c.", "ad", "a.d.", "MONTH", "Month", "month", "MON", "Mon", "mon", "MM", "DAY",
        "Day", "day", "DY", "Dy", "dy", "DDD", "IDDD", "DD", "D", "ID", "W", "WW", "IW", "CC", "J", "Q", "RM", "rm", "TZ",
        "tz", "TZH", "TZM", "OF", "hh", "hh12", "hh24", "mi", "ss", "ms", "us", "y,yyy", "yyyy", "yyy", "yy", "y", "iyyy",
        "iyy", "iy", "i", "mm", "ddd", "iddd", "dd", "d", "id", "w", "ww", "iw", "cc", "j", "q", "FX", "\"MM\"", "-", "/",
        "kg",
    ];
    let times = [
        "2026-11-25 09:05:07.012345",
        "2024-02-29 23:59:59.999999",
        "2000-01-01 00:00:00",
        "1999-12-31 12:00:00.5",
        "2026-01-02 13:11:12",
        "2027-01-03 03:13:21.1",
        "0987-03-11 11:22:33",
        "10234-05-23 01:02:03",
        "0044-03-15 06:07:08 BC",
    ];
    let mut wrong = Vec::new();
    for time in times {
        for kind in ["TIMESTAMP", "TIMESTAMPTZ"] {
            for word in words {
                for template in [
                    word.to_owned(),
                    format!("FM{word}"),
                    format!("{word}TH"),
                    format!("FM{word}th,{word}"),
                    format!("TM{word}"),
                ] {
                    let text = format!("to_char({kind} '{time}', '{template}')");
                    let here = match bind(&text, &Columns::default(), &tools) {
                        Ok((expr, _)) => {
                            let mut faults = Faults::default();
                            let input = Input { columns: &[], rows: 1, origins: None, tools: &tools };
                            text_of(&expr.ty, eval(&expr, input, &[true], &mut faults).value(0)).into_owned()
                        }
                        Err(finding) => format!("refused: {finding}"),
                    };
                    let there: String = client.query_one(&format!("SELECT {text}"), &[]).await.unwrap().get(0);
                    if here != there {
                        wrong.push(format!("{text}: here {here:?}, there {there:?}"));
                    }
                }
            }
        }
    }
    assert!(wrong.is_empty(), "{} differences:\n{}", wrong.len(), wrong[..wrong.len().min(60)].join("\n"));
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn parts_of_times_have_the_digits_that_postgresql_gives_them() {
    let cluster = TestCluster::start(&["packhouse"]).await;
    let client = cluster.connect("packhouse").await.unwrap();
    client.batch_execute("SET TimeZone = 'UTC'").await.unwrap();
    let tools = tools();
    let fields = [
        "year",
        "isoyear",
        "quarter",
        "month",
        "week",
        "day",
        "hour",
        "minute",
        "second",
        "millisecond",
        "microsecond",
        "dow",
        "isodow",
        "doy",
        "decade",
        "century",
        "millennium",
        "epoch",
        "julian",
    ];
    let of = ["TIMESTAMP '2026-11-25 09:05:07.012345'", "TIMESTAMPTZ '1999-12-31 23:59:59.5'", "DATE '2026-03-01'"];
    for (time, field) in of.iter().flat_map(|time| fields.iter().map(move |field| (time, field))) {
        if time.starts_with("DATE") && ["hour", "minute", "second", "millisecond", "microsecond"].contains(field) {
            continue;
        }
        let text = format!("extract({field} from {time})");
        let (expr, _) = bind(&text, &Columns::default(), &tools).unwrap();
        let mut faults = Faults::default();
        let found = eval(&expr, Input { columns: &[], rows: 1, origins: None, tools: &tools }, &[true], &mut faults);
        let there: String = client.query_one(&format!("SELECT ({text})::text"), &[]).await.unwrap().get(0);
        let here = text_of(&expr.ty, found.value(0));
        // a Julian day has the digits of a microsecond here, and those of its own there
        let equal = if *field == "julian" { same(Some(&here), Some(&there), false, &expr.ty) } else { here == there };
        assert!(equal, "{text}: here {here}, there {there}");
    }
    let large = bind("1e308::float8", &Columns::default(), &tools).unwrap().0;
    let mut faults = Faults::default();
    let found = eval(&large, Input { columns: &[], rows: 1, origins: None, tools: &tools }, &[true], &mut faults);
    assert_eq!(found.value(0), Value::Double(1e308));
    // a refusal says why
    for (text, why) in [
        ("'{\"a\": 1}'::jsonb @? '$.a'", "the operator @? is not known here"),
        ("~2 + 3", "is not clear"),
        ("array_append(ARRAY[1], 2.5)", "an array of integer takes no numeric(2,1)"),
        ("(SELECT 1)", "an expression sees one row"),
    ] {
        let finding = bind(text, &Columns::default(), &tools).unwrap_err().to_string();
        assert!(finding.contains(why), "{text}: {finding}");
    }
}
