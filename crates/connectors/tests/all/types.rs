//! Names of types, both ways, against the server.

use gonvel_connectors::postgres::address::DatabaseAddress;
use gonvel_connectors::postgres::target::create_statement;
use gonvel_connectors::postgres::types::known_here;
use gonvel_connectors::postgres::{client, tables};
use gonvel_core::column::ColumnType;
use gonvel_core::connector::CapturedTable;
use gonvel_core::data_type::DataType;
use gonvel_core::table::{Column, TableSchema};
use gonvel_stand_ins::postgres_cluster::OWNER;
use gonvel_stand_ins::test_cluster::TestCluster;
use tokio_postgres::Client;

const DOCUMENT: &str = include_str!("../../../../docs/sources-and-sinks.md");

/// What the document says: a source's type, what it is, and what a sink makes of it.
fn documented() -> Vec<[&'static str; 3]> {
    let rows =
        DOCUMENT.split("| a source's column |").nth(1).unwrap().lines().skip(2).take_while(|line| line.starts_with('|'));
    let quoted = |cell: &'static str| cell.split('`').nth(1);
    let row = |line: &'static str| {
        let cells: Vec<&str> = line.trim_matches('|').split('|').collect();
        let source = match (cells[0].trim(), quoted(cells[0])) {
            (said, Some(over)) if said.starts_with("a domain") => {
                if over == "int4" {
                    "weight"
                } else {
                    ""
                }
            }
            (_, Some(named)) => named,
            _ => "grade",
        };
        [source, quoted(cells[1]).unwrap(), quoted(cells[2]).unwrap()]
    };
    rows.map(row).collect()
}

async fn connected(cluster: &TestCluster) -> Client {
    let address = DatabaseAddress::new("127.0.0.1", cluster.port, "packhouse", OWNER, &cluster.password);
    client::connect(&address).await.unwrap()
}

async fn described(client: &Client, table: &str) -> TableSchema {
    tables::describe(client, "packhouse", &CapturedTable::whole("public", table, "")).await.unwrap()
}

async fn named_by_the_server(client: &Client, table: &str) -> Vec<String> {
    let names = "SELECT format_type(atttypid, atttypmod) FROM pg_attribute WHERE attrelid = to_regclass($1) AND attnum > 1 ORDER BY attnum";
    client.query(names, &[&table]).await.unwrap().iter().map(|row| row.get(0)).collect()
}

#[tokio::test]
async fn each_type_is_what_the_document_says_and_a_sink_makes_one_like_it() {
    let cluster = TestCluster::start(&["packhouse"]).await;
    let client = connected(&cluster).await;
    let documented = documented();
    assert!(documented.len() > 25, "{documented:?}");
    let columns: Vec<String> = documented.iter().enumerate().map(|(n, [source, ..])| format!("c{n} {source}")).collect();
    let made = "CREATE TYPE grade AS ENUM ('first', 'juice'); CREATE DOMAIN weight AS int4;";
    client.batch_execute(&format!("{made} CREATE TABLE given (id int PRIMARY KEY, {})", columns.join(", "))).await.unwrap();
    let shape = described(&client, "given").await;
    let known = known_here(&client, shape.clone()).await.unwrap();
    assert_eq!(known, shape, "this server has all of them");
    client.batch_execute(&create_statement("made", &known)).await.unwrap();
    let has = named_by_the_server(&client, "made").await;
    for ((column, [source, is, makes]), has) in shape.columns[1..].iter().zip(documented).zip(has) {
        assert_eq!((column.source_type.to_string().as_str(), has.as_str()), (is, makes), "{source}");
        let own = matches!(&column.source_type, DataType::Own(name) if name == "inet" || name == "numeric(5,-2)");
        assert!(own || !matches!(column.source_type, DataType::Own(_)), "{source} has no name that others know");
    }
    let types = |shape: &TableSchema| shape.columns.iter().map(|column| column.source_type.clone()).collect::<Vec<_>>();
    assert_eq!(types(&described(&client, "made").await), types(&shape), "once more from there it is the same");
}

#[tokio::test]
async fn what_this_server_does_not_have_is_text_and_nothing_of_a_name_is_carried_out() {
    let cluster = TestCluster::start(&["packhouse"]).await;
    let client = connected(&cluster).await;
    client.batch_execute("CREATE TABLE kept (id int)").await.unwrap();
    let names = [
        "geography(point,4326)",
        "geography",
        "enum('first','juice')",
        "set('a')[]",
        "geometry[]",
        "int); DROP TABLE kept; --",
        "int4\"; DROP TABLE kept; --",
        "",
        "a\u{7f}b",
        "Text",
        "inet",
        "inet[]",
        "tsrange",
    ];
    let column = |(n, name): (usize, &&str)| Column {
        name: format!("c{n}"),
        ty: ColumnType::Verbatim,
        source_type: DataType::named(name),
        key: false,
    };
    let id = Column { name: "id".into(), ty: ColumnType::Int32, source_type: DataType::Int32, key: true };
    let columns = std::iter::once(id).chain(names.iter().enumerate().map(column)).collect();
    let shape = TableSchema { system: "another".into(), schema: "public".into(), table: "made".into(), columns };
    let known = known_here(&client, shape).await.unwrap();
    client.batch_execute(&create_statement("made", &known)).await.unwrap();
    let texts = vec!["text"; names.len() - 3];
    assert_eq!(named_by_the_server(&client, "made").await, [texts, vec!["inet", "inet[]", "tsrange"]].concat());
    assert_eq!(described(&client, "made").await.columns[1].ty, ColumnType::Text);
    client.query("SELECT FROM kept", &[]).await.unwrap();
}
