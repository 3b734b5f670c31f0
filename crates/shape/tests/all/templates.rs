//! Templates write and read numbers and times as PostgreSQL does, whatever is put together in them.

use std::fmt::Write as _;

use crate::support::{Dice, tools};
use gonvel_core::column::Value;
use gonvel_shape::bind::bind;
use gonvel_shape::cast::text_of;
use gonvel_shape::columns::Columns;
use gonvel_shape::eval::{Faults, Input, eval};
use gonvel_shape::tools::Tools;
use gonvel_shape::ty::Ty;
use gonvel_stand_ins::test_cluster::TestCluster;
use tokio_postgres::Client;

const NUMBERS: &[&str] = &[
    "0",
    "1",
    "-1",
    "7",
    "12",
    "-485",
    "1412",
    "2147483647",
    "0.1",
    "-0.1",
    "0.5",
    "-12.45",
    "148.5",
    "3.14159",
    "999.995",
    "-99.99",
    "1234567.891",
    "0.00012",
    "-0.000001",
    "100",
    "3999",
    "4000",
];
const NUMBER_TYPES: &[&str] =
    &["integer", "bigint", "numeric(20,6)", "numeric(12,1)", "numeric(9,0)", "double precision", "real", "smallint"];
const NUMBER_WORDS: &[&str] = &[
    "9", "9", "9", "99", "999", "0", "0", "00", "09", "90", ".", ".", "D", ",", "G", "FM", "S", "MI", "PL", "SG", "PR", "L",
    "TH", "th", "V", "EEEE", "RN", "rn", "B", "C", "SP", " ", "-", "\"kg\"", "x", "fm", "s", "d", "g", "/",
];

async fn database(cluster: &TestCluster) -> Client {
    let client = cluster.connect("packhouse").await.unwrap();
    client
        .batch_execute(
            "SET TimeZone = 'UTC';
             CREATE FUNCTION tried(expression text) RETURNS text LANGUAGE plpgsql AS $$
             DECLARE found text; BEGIN
               EXECUTE 'SELECT (' || expression || ')::text' INTO found; RETURN found;
             EXCEPTION WHEN OTHERS THEN RETURN 'FAILS ' || SQLERRM; END $$",
        )
        .await
        .unwrap();
    client
}

async fn there(client: &Client, texts: &[String]) -> Vec<Option<String>> {
    let rows = client
        .query("SELECT tried(t) FROM unnest($1::text[]) WITH ORDINALITY AS u(t, n) ORDER BY n", &[&texts])
        .await
        .unwrap();
    rows.iter().map(|row| row.get(0)).collect()
}

fn here(text: &str, tools: &Tools) -> (Option<String>, Ty) {
    let expr = match bind(text, &Columns::default(), tools) {
        Ok((expr, _)) => expr,
        Err(finding) => return (Some(format!("FAILS {finding}")), Ty::Text),
    };
    let mut faults = Faults::default();
    let found = eval(&expr, Input { columns: &[], rows: 1, origins: None, tools }, &[true], &mut faults);
    let text = match (faults.0.get(&0), found.value(0)) {
        (Some((_, fault)), _) => Some(format!("FAILS {fault}")),
        (None, Value::Null) => None,
        (None, value) => Some(text_of(&expr.ty, value).into_owned()),
    };
    (text, expr.ty)
}

/// Compares what both give; those that gave more than a failure are counted.
async fn compared(client: &Client, texts: &[String]) -> usize {
    let (tools, found) = (tools(), there(client, texts).await);
    let mut wrong = Vec::new();
    let mut given = 0;
    for (text, there) in texts.iter().zip(found) {
        let (here, ty) = here(text, &tools);
        let fails = |found: &Option<String>| found.as_ref().is_some_and(|f| f.starts_with("FAILS "));
        let same = match (&here, &there) {
            (Some(h), Some(t)) if !fails(&here) && matches!(ty, Ty::Numeric { .. }) => {
                gonvel_shape::decimal::read(h, &ty) == gonvel_shape::decimal::read(t, &ty)
            }
            _ => here == there || fails(&here) && fails(&there),
        };
        given += usize::from(!fails(&there));
        if !same {
            wrong.push(format!("{text}: here {here:?}, there {there:?}"));
        }
    }
    assert!(wrong.is_empty(), "{} differences:\n{}", wrong.len(), wrong[..wrong.len().min(40)].join("\n"));
    given
}

fn template(words: &[&str], most: u64, dice: &mut Dice) -> String {
    (0..=dice.below(most)).map(|_| dice.pick(words)).collect()
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn numbers_are_written_by_templates_as_postgresql_writes_them() {
    let cluster = TestCluster::start(&["packhouse"]).await;
    let client = database(&cluster).await;
    let mut dice = Dice(20_261_129);
    let mut texts = Vec::new();
    for _ in 0..12_000 {
        let (number, ty) = (dice.pick(NUMBERS), dice.pick(NUMBER_TYPES));
        let number = if ty.contains("int") { number.split('.').next().unwrap() } else { number };
        texts.push(format!("to_char('{number}'::{ty}, '{}')", template(NUMBER_WORDS, 8, &mut dice)));
    }
    texts.retain(|text| !(text.contains("2147483647") && text.contains("smallint")));
    assert!(compared(&client, &texts).await > 6_000);
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn numbers_are_read_by_templates_as_postgresql_reads_them() {
    let cluster = TestCluster::start(&["packhouse"]).await;
    let client = database(&cluster).await;
    let mut dice = Dice(20_261_130);
    let letters = &["1", "2", "3", "0", "45", "678", ".", ",", "-", "+", " ", "<", ">", "x", "kg", "st", "%"];
    let mut texts = Vec::new();
    for _ in 0..12_000 {
        let text = template(letters, 7, &mut dice);
        texts.push(format!("to_number('{text}', '{}')", template(NUMBER_WORDS, 8, &mut dice)));
    }
    assert!(compared(&client, &texts).await > 2_000);
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn times_are_read_by_templates_as_postgresql_reads_them() {
    const WORDS: &[&str] = &[
        "HH",
        "HH12",
        "HH24",
        "MI",
        "SS",
        "MS",
        "US",
        "FF1",
        "FF3",
        "FF6",
        "SSSS",
        "SSSSS",
        "AM",
        "P.M.",
        "pm",
        "Y,YYY",
        "YYYY",
        "YYY",
        "YY",
        "Y",
        "IYYY",
        "IYY",
        "IY",
        "I",
        "BC",
        "a.d.",
        "MONTH",
        "Month",
        "mon",
        "MM",
        "DAY",
        "Dy",
        "DDD",
        "IDDD",
        "DD",
        "D",
        "ID",
        "W",
        "WW",
        "IW",
        "CC",
        "J",
        "Q",
        "RM",
        "rm",
        "TZH",
        "TZM",
        "TZ",
        "OF",
        "YYYY-MM-DD",
        "YYYY-MM-DD",
        "DD.MM.YYYY",
        "HH24:MI:SS",
        "HH12:MI AM",
        "IYYY-IW-ID",
        "YYYYMMDD",
        "YYYYDDD",
        "FMMonth DD, YYYY",
        "DDth Mon YYYY",
    ];
    const BETWEEN: &[&str] = &["", " ", " ", "-", "/", ":", ".", "  ", "\"at\"", "T", " FM", " FX", ", "];
    const TIMES: &[&str] = &[
        "2026-11-25 09:05:07.012345",
        "2024-02-29 23:59:59.999999",
        "2000-01-01 00:00:00",
        "1999-12-31 12:00:00.5",
        "2027-01-03 03:13:21.1",
        "0987-03-11 11:22:33",
        "0044-03-15 06:07:08 BC",
        "1969-07-20 20:17:40",
    ];
    let cluster = TestCluster::start(&["packhouse"]).await;
    let client = database(&cluster).await;
    let mut dice = Dice(20_261_131);
    let mut templates = Vec::new();
    for _ in 0..9_000 {
        let mut template = String::new();
        for _ in 0..=dice.below(3) {
            let _ = write!(template, "{}{}", dice.pick(WORDS), dice.pick(BETWEEN));
        }
        templates.push(template);
    }
    // texts as the template writes them, and some that it does not quite
    let writing: Vec<String> =
        templates.iter().map(|t| format!("to_char(TIMESTAMPTZ '{}', '{t}')", dice.pick(TIMES))).collect();
    let written = there(&client, &writing).await;
    let mut texts = Vec::new();
    for (template, text) in templates.iter().zip(written) {
        let mut text = text.unwrap_or_default();
        match dice.below(6) {
            0 => text = text.replace(' ', "-"),
            1 => text = text.replace(['-', ':', '.'], " "),
            2 => text = text.chars().take(text.chars().count().saturating_sub(2)).collect(),
            _ => {}
        }
        for function in ["to_timestamp", "to_date"] {
            texts.push(format!("{function}('{text}', '{template}')"));
        }
    }
    assert!(compared(&client, &texts).await > 6_000);
}
