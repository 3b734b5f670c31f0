//! Functions of one's own give what the same function gives in PostgreSQL, called by columns, by each other and with edges.

use gonvel_core::column::Value;
use gonvel_core::own_function::{FunctionExample, OwnFunction, Parameter};
use gonvel_shape::bind::bind;
use gonvel_shape::cast::text_of;
use gonvel_shape::columns::Columns;
use gonvel_shape::eval::{Faults, Input, eval};
use gonvel_shape::own::Own;
use gonvel_shape::own_tried::tried;
use gonvel_shape::tools::Tools;
use gonvel_stand_ins::test_cluster::TestCluster;

use crate::support::{batch, in_postgresql, rows, table, tools};

fn function(name: &str, parameters: &[(&str, &str)], gives: &str, value: &str) -> OwnFunction {
    let parameter = |(name, ty): &(&str, &str)| Parameter { name: (*name).into(), ty: (*ty).into() };
    OwnFunction {
        name: name.into(),
        parameters: parameters.iter().map(parameter).collect(),
        gives: gives.into(),
        value: value.into(),
        description: String::new(),
        examples: vec![FunctionExample { given: vec!["NULL".into(); parameters.len()], gives: None }],
    }
}

fn functions() -> Vec<OwnFunction> {
    vec![
        function("grade_points", &[("grade", "text")], "integer", "CASE grade WHEN 'A' THEN 4 WHEN 'B' THEN 3 END"),
        function("pair_of", &[("a", "integer"), ("b", "integer")], "bigint", "coalesce(a, 0)::bigint * 2 - coalesce(b, 7)"),
        function(
            "share",
            &[("part", "numeric(7,1)"), ("all_of", "numeric(12,6)")],
            "numeric(12,4)",
            "part / nullif(all_of, 0)",
        ),
        function(
            "points_of",
            &[("code", "text"), ("small", "smallint")],
            "integer",
            "grade_points(upper(left(code, 1))) + small",
        ),
        function(
            "shown",
            &[("at", "timestamp with time zone")],
            "text",
            "to_char(at, 'DD.MM.YYYY') || ' ' || extract(dow from at)",
        ),
        function("listed", &[("tags", "text[]")], "text", "array_to_string(tags || 'z'::text, '-', '?')"),
        function("seven", &[], "integer", "7"),
        function("is_far", &[("x", "double precision")], "boolean", "x > 100 OR x IS NULL"),
        function("first_of", &[("doc", "jsonb")], "text", "coalesce(doc ->> 'a', doc #>> '{0}')"),
    ]
}

const CALLS: &[&str] = &[
    "grade_points(code)",
    "grade_points(NULL)",
    "pair_of(whole, small)",
    "pair_of(b.whole, 3)",
    "share(kg, price)",
    "share(7, 2)",
    "points_of(code, small) * 2",
    "points_of(remark, NULL)",
    "shown(moment)",
    "listed(tags)",
    "seven() + whole",
    "is_far(double) AND NOT flag",
    "first_of(docb)",
    "CASE WHEN is_far(whole) THEN seven() ELSE pair_of(1, 2) END",
    "pair_of(seven(), grade_points('A'))",
    "SEVEN()",
];

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn they_give_what_the_same_functions_give_in_postgresql() {
    let cluster = TestCluster::start(&["packhouse"]).await;
    let rows = rows(90, 20_261_129);
    let client = in_postgresql(&cluster, &rows).await;
    for f in functions() {
        let parameters: Vec<String> = f.parameters.iter().map(|p| format!("{} {}", p.name, p.ty)).collect();
        let made = format!(
            "CREATE FUNCTION {}({}) RETURNS {} LANGUAGE sql AS $$ SELECT CAST({} AS {}) $$",
            f.name,
            parameters.join(", "),
            f.gives,
            f.value,
            f.gives
        );
        client.batch_execute(&made).await.unwrap();
    }
    let tools = tools().with(Own::of(functions()));
    let (batch, columns) = (batch(&rows), Columns::of(&table()));
    let mut wrong = Vec::new();
    for call in CALLS.iter().map(|call| call.replace("b.whole", "input.whole")) {
        let (expr, _) = bind(&call, &columns, &tools).unwrap_or_else(|e| panic!("{call}: {e}"));
        let mut faults = Faults::default();
        let input = Input { columns: &batch.new, rows: rows.len(), origins: None, tools: &tools };
        let found = eval(&expr, input, &vec![true; rows.len()], &mut faults);
        let there = client.query("SELECT tried($1, id) FROM input ORDER BY id", &[&call]).await.unwrap();
        for (row, there) in there.iter().enumerate() {
            let there: Option<String> = there.get(0);
            let here = match (faults.0.contains_key(&row), found.value(row)) {
                (true, _) => Some("FAILS".to_owned()),
                (false, Value::Null) => None,
                (false, value) => Some(text_of(&expr.ty, value).into_owned()),
            };
            let there = there.map(|t| if t.starts_with("FAILS") { "FAILS".into() } else { t });
            // NaN by a numeric that is none fails in neither
            if here != there {
                wrong.push(format!("{call} row {row}: here {here:?}, there {there:?}"));
            }
        }
    }
    assert!(wrong.is_empty(), "{} differences:\n{}", wrong.len(), wrong[..wrong.len().min(30)].join("\n"));
}

#[test]
fn what_is_wrong_with_one_is_said_at_its_field_and_its_examples_are_its_tests() {
    let known = |extra: &[OwnFunction]| -> Tools { tools().with(Own::of(functions().into_iter().chain(extra.to_vec()))) };
    let cases = [
        (function("upper", &[], "integer", "1"), "name", "upper is built in already"),
        (function("coalesce", &[], "integer", "1"), "name", "built in already"),
        (function("both", &[], "integer", "1"), "name", "both is a word of SQL"),
        (function("f", &[("a", "txt")], "integer", "1"), "parameters", "there is no type txt"),
        (function("f", &[], "number", "1"), "gives", "there is no type number"),
        (function("f", &[("a", "text")], "integer", "b + 1"), "value", "there is no column b"),
        (function("f", &[("a", "text")], "integer", "a +"), "value", "this is not SQL"),
        (function("f", &[], "date", "true"), "value", "in f"),
        (function("f", &[], "integer", "f() + 1"), "value", "f calls itself"),
        (function("seven", &[], "integer", "pair_of(seven(), 1)::integer"), "value", "seven calls itself"),
        (function("f", &[], "integer", "pair_of('x', 1)"), "value", "it is not a value of type integer"),
        (function("f", &[], "bigint", "pair_of(1)"), "value", "pair_of has 1 arguments here, and takes 2"),
        (function("f", &[("d", "date")], "bigint", "pair_of(d, 1)"), "value", "pair_of takes integer for a, not date"),
    ];
    for (function, field, part) in cases {
        let (findings, examples) = tried(&function, &known(std::slice::from_ref(&function)));
        let said = findings.first().map(|f| (f.field, f.to_string())).unwrap_or_default();
        assert!(said.0 == field && said.1.contains(part) && examples.is_empty(), "{function:?}: {said:?}");
    }
    let mut points = function(
        "grade_points",
        &[("grade", "text")],
        "integer",
        "CASE grade WHEN 'A' THEN 4 ELSE 1 / (length(grade) - 1) END",
    );
    let example =
        |given: &str, gives: Option<&str>| FunctionExample { given: vec![given.into()], gives: gives.map(Into::into) };
    points.examples = vec![example("'A'", Some("4")), example("'A'", Some("5")), example("'C'", None), example("'A'", None)];
    let (findings, examples) = tried(&points, &known(std::slice::from_ref(&points)));
    assert!(findings.is_empty(), "{findings:?}");
    assert_eq!(examples.iter().map(|e| e.holds).collect::<Vec<_>>(), [true, false, false, false]);
    assert_eq!(examples[1].found.as_deref(), Some("4"));
    assert!(examples[2].finding.as_deref().is_some_and(|f| f.contains("division by zero")), "{examples:?}");
    // those that a text calls, by others too; no word that is only like one, and none in a text
    let own = Own::of(functions());
    let called = |text: &str| own.called_by(text).into_iter().map(str::to_owned).collect::<Vec<_>>();
    assert_eq!(called("points_of(a, b) || 'seven()'"), ["grade_points", "points_of"]);
    assert_eq!(called("seven + Pair_of (1, 2)"), ["pair_of"]);
    assert!(called("it's no SQL: seven(").is_empty());
}
