//! No function comes to grief over an argument: the largest, the smallest, the empty and the endless give a value or a fault.

use std::collections::BTreeSet;
use std::panic::{AssertUnwindSafe, catch_unwind};

use crate::support::{Dice, tools};
use gonvel_core::column::Value;
use gonvel_shape::bind::bind;
use gonvel_shape::cast::text_of;
use gonvel_shape::columns::Columns;
use gonvel_shape::eval::{Faults, Input, eval};
use gonvel_shape::functions::{self, Function, Group, Take};
use gonvel_shape::ty::Ty;

/// Calls of each signature.
const CALLS: usize = 120;

fn extremes(take: &Take) -> (&'static str, &'static [&'static str]) {
    const WHOLE: &[&str] = &["0", "1", "-1", "2147483647", "-2147483648", "31", "-32", "63", "64"];
    const NUMERIC: &[&str] =
        &["0", "9999999999999999999999999999", "-9999999999999999999999999999", "0.0000000001", "-0.5", "17"];
    const MOMENTS: &[&str] =
        &["infinity", "-infinity", "294246-12-31 23:59:59.999999", "4713-01-01 BC", "1970-01-01", "2024-02-29"];
    const TEXTS: &[&str] = &[
        "",
        " ",
        "é🍎",
        "9223372036854775807",
        "year",
        "week",
        "millennium",
        "epoch",
        "(((",
        "a{1000}",
        "%_\\",
        "[]",
        "{}",
        "null",
        "Europe/Berlin",
        "YYYY-MM-DD HH24:MI:SS",
        "FMMonth",
        "FM9G990V99",
        "S0D00PR",
        "FX IYYY-IW-ID CC BC TZH",
        "base64",
        "escape",
        "hex",
        "$.a[*]",
        "{a,b}",
        "0001-01-01",
        "1 day",
        "g",
    ];
    match take {
        Take::Is(Ty::Boolean) => ("boolean", &["true", "false"]),
        Take::Is(Ty::Int2) => ("smallint", &["0", "1", "-1", "32767", "-32768"]),
        Take::Is(Ty::Int4) => ("integer", WHOLE),
        Take::Is(Ty::Int8) => ("bigint", &["0", "1", "-1", "9223372036854775807", "-9223372036854775808", "64"]),
        Take::Is(Ty::Float4) => ("real", &["0", "3.4e38", "-1e-45", "NaN", "Infinity", "-Infinity"]),
        Take::Is(Ty::Float8) => {
            ("double precision", &["0", "1.7e308", "-1.7e308", "5e-324", "NaN", "Infinity", "-Infinity", "0.5"])
        }
        Take::Is(Ty::Numeric { .. }) | Take::Numeric => ("numeric", NUMERIC),
        Take::Is(Ty::Bytes) => ("bytea", &["", "\\x00", "\\xff80"]),
        Take::Is(Ty::Date) => ("date", &["infinity", "-infinity", "5874897-12-31", "4713-01-01 BC", "1970-01-01"]),
        Take::Is(Ty::Timestamp) => ("timestamp", MOMENTS),
        Take::Is(Ty::TimestampTz) => ("timestamptz", MOMENTS),
        Take::Is(Ty::Time) => ("time", &["00:00", "24:00", "23:59:59.999999"]),
        Take::Is(Ty::Interval) => (
            "interval",
            &[
                "0",
                "2147483647 months",
                "-2147483648 months",
                "2147483647 days",
                "-2147483648 days",
                "178956970 years",
                "300000000 weeks",
                "2562047788 hours",
                "-9223372036854775808 us",
                "2147483647 days 25:00",
                "-2147483648 days -25:00",
                "2147483647 months 35 days",
                "-2147483648 months -35 days",
                "99999999:59:59.999999",
                "-99999999:59:59.999999",
                "1 mon -1 days +1:00",
                "-0.000001 s",
            ],
        ),
        Take::Is(Ty::Json) => {
            ("json", &["null", "[]", "{}", "1e400", "-9223372036854775809", "{\"a\":[1,{\"a\":null}]}", "\"\\u0000\""])
        }
        Take::Is(Ty::Jsonb) => ("jsonb", &["null", "[]", "{}", "1e400", "{\"a\":[1,{\"a\":null}]}", "[[[]],1]"]),
        Take::Is(Ty::Array(_)) | Take::Array => ("text[]", &["{}", "{NULL}", "{\"\",a,\"b c\"}"]),
        Take::Any => ("interval", &["0", "-2147483648 days"]),
        Take::Is(_) => ("text", TEXTS),
    }
}

fn literal(value: &str, ty: &str) -> String {
    format!("CAST('{}' AS {ty})", value.replace('\'', "''"))
}

fn call(function: &Function, takes: &[Take], dice: &mut Dice) -> String {
    let argument = |take: &Take, dice: &mut Dice| {
        let (ty, values) = extremes(take);
        if dice.below(40) == 0 { format!("CAST(NULL AS {ty})") } else { literal(dice.pick(values), ty) }
    };
    let args: Vec<String> = takes.iter().map(|take| argument(take, dice)).collect();
    match (function.group, args.as_slice()) {
        (Group::Operators, [one]) if function.name == "bits not" => format!("~({one})"),
        (Group::Operators, [one]) => format!("-({one})"),
        (Group::Operators, [left, right]) => format!("{left} {} {right}", function.name),
        _ => format!("{}({})", function.name, args.join(", ")),
    }
}

/// Works an expression out; whether it could be bound.
fn worked_out(text: &str) -> bool {
    let tools = tools();
    let Ok((expr, _)) = bind(text, &Columns::default(), &tools) else { return false };
    let mut faults = Faults::default();
    let found = eval(&expr, Input { columns: &[], rows: 1, origins: None, tools: &tools }, &[true], &mut faults);
    if found.value(0) != Value::Null {
        drop(text_of(&expr.ty, found.value(0)));
    }
    true
}

#[test]
fn no_argument_brings_a_function_down() {
    let mut dice = Dice(20_261_126);
    let (mut fallen, mut bound, mut calls) = (Vec::new(), 0, 0);
    for function in functions::all() {
        for signature in &function.signatures {
            for _ in 0..CALLS {
                let few = signature.takes.len() - usize::try_from(dice.below(1 + signature.optional as u64)).unwrap();
                let text = call(function, &signature.takes[..few], &mut dice);
                calls += 1;
                match catch_unwind(AssertUnwindSafe(|| worked_out(&text))) {
                    Ok(done) => bound += usize::from(done),
                    Err(_) => fallen.push(text),
                }
            }
        }
    }
    assert!(fallen.is_empty(), "{} calls fell, such as\n{}", fallen.len(), fallen[..fallen.len().min(40)].join("\n"));
    // a literal that cannot be read would make the calls with it nothing
    let takes = functions::all().iter().flat_map(|f| &f.signatures).flat_map(|s| &s.takes);
    let literals = takes.map(extremes).flat_map(|(ty, values)| values.iter().map(move |value| (*value, ty)));
    let literals: BTreeSet<String> = literals.map(|(value, ty)| literal(value, ty)).collect();
    let nothing: Vec<&String> = literals.iter().filter(|text| !worked_out(text)).collect();
    assert!(nothing.is_empty(), "{nothing:?}");
    assert!(bound * 2 > calls, "only {bound} of {calls} could be worked out");
}
