//! What a sink connector needs.

use std::collections::HashMap;

use gonvel_core::connector::{DeliveredTopic, ExistingRows, Writes, check_rows_there};
use gonvel_core::data_type::DataType;
use gonvel_core::delivered::Nulls;
use gonvel_core::ports::systems::{ConnectorError, Expected};
use gonvel_core::preflight::{Check, NO_ROWS_YET, Report, records_of};
use gonvel_core::table::{Column, TableSchema};

use super::{Asked, from_error};
use crate::postgres::address::DatabaseAddress;
use crate::postgres::identity::key_columns;
use crate::postgres::names::{ident, literal, qualified};
use crate::postgres::target::{self, create_statement};
use crate::postgres::types::{known_here, name_of};

/// Checks what a sink connector needs.
pub async fn sink(address: &DatabaseAddress, topics: &[Expected], writes: Writes) -> Report {
    let mut asked = match Asked::open(address).await {
        Ok(asked) => asked,
        Err(report) => return report,
    };
    let outcome = checks(&mut asked, topics, writes).await;
    asked.end(outcome)
}

async fn checks(asked: &mut Asked<'_>, topics: &[Expected], writes: Writes) -> Result<(), ConnectorError> {
    let rows = asked
        .rows(
            "SELECT pg_is_in_recovery() OR current_setting('default_transaction_read_only') = 'on',
                CASE WHEN to_regnamespace('gonvel') IS NULL THEN has_database_privilege(current_database(), 'CREATE')
                    ELSE has_schema_privilege('gonvel', 'CREATE') END",
            &[],
        )
        .await?;
    let (read_only, room) = rows.first().map_or((false, false), |r| (r.get(0), r.get(1)));
    if read_only {
        asked.push(
            Check::failed("writable", "host", "the server takes no writes: it is a standby, or set to be read only")
                .remedy("connect to its primary, or turn default_transaction_read_only off"),
        );
        return Ok(());
    }
    let (name, user) = (&asked.address.user, ident(&asked.address.user));
    asked.push(if !writes.guarantee.in_target() {
        Check::passed("room for the position", "Gonvel keeps the position: nothing of its own stands in the target")
    } else if room {
        Check::passed("room for the position", "the position is kept beside the data, in schema gonvel")
    } else {
        let grant = format!("GRANT CREATE ON DATABASE {} TO {user};", ident(&asked.address.database));
        Check::failed("room for the position", "user", format!("user {name} may not make the schema gonvel"))
            .means("the position is kept there, beside the data, so that both commit together")
            .remedy("grant it, or let it deliver at least once: Gonvel then keeps the position itself")
            .statement(grant)
    });
    for Expected { topic, shape, nulls, begun, existing } in topics {
        let wanted = match shape {
            Some(shape) => Some(known_here(&asked.client, target::wanted(shape, writes, topic.rows.is_some())).await?),
            None => None,
        };
        if let Some(Err(error)) = wanted.as_ref().map(target::check_names) {
            asked.push(from_error(&format!("columns of {}.{}", topic.schema, topic.table), &error));
            continue;
        }
        let there = target_table(asked, &user, topic, wanted.as_ref()).await?;
        let Some(owns) = there else { continue };
        if !begun {
            rows_there(asked, topic, *existing).await?;
        }
        let mut found_by = Vec::new();
        if let Some(wanted) = wanted {
            columns(asked, topic, &wanted, owns, nulls.as_ref()).await?;
            found_by = wanted.columns.iter().filter(|c| c.key).map(|c| c.name.clone()).collect();
            if !found_by.is_empty() {
                key(asked, topic, &wanted, owns).await;
            }
        }
        side_effects(asked, topic, found_by).await?;
    }
    Ok(())
}

/// Rows of a target's table that are counted; from then on there are more.
const COUNTED: i64 = 1_000_000;

/// Rows that are in the table before anything is delivered into it.
async fn rows_there(
    asked: &mut Asked<'_>,
    topic: &DeliveredTopic,
    existing: Option<ExistingRows>,
) -> Result<(), ConnectorError> {
    let (plain, name) = (topic.table_name(), qualified(&topic.schema, &topic.table));
    let counted = format!("SELECT count(*) FROM (SELECT FROM {name} LIMIT {}) counted", COUNTED + 1);
    let count: i64 = asked.rows(&counted, &[]).await?.first().map_or(0, |row| row.get(0));
    if count > 0 {
        let count = if count > COUNTED { format!("more than {COUNTED}") } else { count.to_string() };
        let there = format!("{plain} holds {count} {}", if count == "1" { "row" } else { "rows" });
        let goes = "whoever reads the table finds it empty until the first rows are delivered";
        asked.push(check_rows_there(format!("rows of {plain}"), &there, existing, goes));
    }
    Ok(())
}

/// Whether the table is there and may be written; then, whether the user owns it.
async fn target_table(
    asked: &mut Asked<'_>,
    user: &str,
    topic: &DeliveredTopic,
    shape: Option<&TableSchema>,
) -> Result<Option<bool>, ConnectorError> {
    let (plain, name) = (format!("{}.{}", topic.schema, topic.table), qualified(&topic.schema, &topic.table));
    let label = format!("table {plain}");
    let schema = ident(&topic.schema);
    let rows = asked
        .rows(
            "SELECT c.oid IS NOT NULL, c.relkind::text,
                CASE WHEN c.oid IS NOT NULL THEN has_schema_privilege(c.relnamespace, 'USAGE')
                       AND has_table_privilege(c.oid, 'SELECT') AND has_table_privilege(c.oid, 'INSERT')
                       AND has_table_privilege(c.oid, 'UPDATE') AND has_table_privilege(c.oid, 'DELETE')
                     WHEN to_regnamespace($2) IS NULL THEN has_database_privilege(current_database(), 'CREATE')
                     ELSE has_schema_privilege(to_regnamespace($2), 'CREATE') END,
                coalesce(pg_has_role(c.relowner, 'USAGE'), false), to_regnamespace($2) IS NOT NULL
             FROM (SELECT 1) one LEFT JOIN pg_class c ON c.oid = to_regclass($1)",
            &[&name, &schema],
        )
        .await?;
    let Some(row) = rows.first() else { return Ok(None) };
    let (there, may, owns, schema_there): (bool, bool, bool, bool) = (row.get(0), row.get(2), row.get(3), row.get(4));
    let user_name = &asked.address.user;
    let (check, found) = match (there, may) {
        (true, _) if !matches!(row.get::<_, Option<&str>>(1), Some("r" | "p")) => (
            Check::failed(&label, "topics", format!("{plain} is no table that rows can be written to"))
                .remedy("choose another name"),
            None,
        ),
        (true, true) => (Check::passed(&label, "is there and may be written"), Some(owns)),
        (true, false) => (
            Check::failed(&label, "topics", format!("user {user_name} may not write {plain}")).remedy("grant it").statement(
                format!(
                    "GRANT USAGE ON SCHEMA {schema} TO {user}; GRANT SELECT, INSERT, UPDATE, DELETE ON {name} TO {user};"
                ),
            ),
            None,
        ),
        (false, true) => {
            let check = Check::passed(&label, "is not there: Gonvel makes it like the source's");
            let made = shape.map(|shape| create_statement(&name, shape));
            (
                made.into_iter()
                    .fold(check, |c, made| c.remedy("make it yourself to have it otherwise").statement(format!("{made};"))),
                None,
            )
        }
        (false, false) => (
            Check::failed(&label, "topics", format!("{plain} is not there and user {user_name} may not make it"))
                .remedy("grant it, or make the table")
                .statement(if schema_there {
                    format!("GRANT USAGE, CREATE ON SCHEMA {schema} TO {user};")
                } else {
                    format!("GRANT CREATE ON DATABASE {} TO {user};", ident(&asked.address.database))
                }),
            None,
        ),
    };
    asked.push(check);
    if shape.is_none() {
        asked.push(
            Check::warning(records_of(&topic.topic), NO_ROWS_YET)
                .means("whether its columns fit the table is seen when the first come"),
        );
    }
    Ok(found)
}

/// How values of a column's type come into the target's.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Fit {
    /// Every value is taken.
    Whole,
    /// Values may be too long, too large or not of the form.
    Partly,
    /// There is no way between the types.
    No,
}

struct TargetColumn {
    ty: String,
    /// It needs a value, and has none of its own.
    required: bool,
    may_be_null: bool,
    /// The target computes it.
    generated: bool,
    /// The target numbers it, and takes no number.
    numbered: bool,
}

/// Compares the columns: what is missing, of another type, or required by the target alone.
async fn columns(
    asked: &mut Asked<'_>,
    topic: &DeliveredTopic,
    shape: &TableSchema,
    owns: bool,
    nulls: Option<&Nulls>,
) -> Result<(), ConnectorError> {
    let (plain, name) = (format!("{}.{}", topic.schema, topic.table), qualified(&topic.schema, &topic.table));
    let there: HashMap<String, TargetColumn> = asked
        .rows(
            "SELECT attname::text, format_type(atttypid, atttypmod),
                    attnotnull AND NOT atthasdef AND attidentity = '' AND attgenerated = '', NOT attnotnull, attgenerated <> '',
                    attidentity = 'a'
             FROM pg_attribute WHERE attrelid = $1::text::regclass AND attnum > 0 AND NOT attisdropped",
            &[&name],
        )
        .await?
        .into_iter()
        .map(|r| {
            let column = TargetColumn {
                ty: r.get(1),
                required: r.get(2),
                may_be_null: r.get(3),
                generated: r.get(4),
                numbered: r.get(5),
            };
            (r.get(0), column)
        })
        .collect();
    let mut fits = true;
    for column in &shape.columns {
        let label = format!("column {} of {plain}", column.name);
        let Some(target) = there.get(&column.name) else {
            fits = false;
            let add = format!("ALTER TABLE {name} ADD COLUMN {} {};", ident(&column.name), name_of(&column.source_type));
            asked.push(if owns {
                Check::passed(label, "is not there: Gonvel adds it when the first record comes").statement(add)
            } else {
                Check::failed(label, "topics", format!("it is not there, and user {} may not add it", asked.address.user))
                    .remedy("let the table's owner add it")
                    .statement(add)
            });
            continue;
        };
        if let Some(check) = own_values(&label, &name, &column.name, target) {
            fits = false;
            asked.push(check.can_be_done(owns));
            continue;
        }
        if let Some(check) = null_values(&label, &name, column, target, nulls) {
            fits = false;
            asked.push(check.can_be_done(owns));
        }
        match fit(asked, &name_of(&column.source_type), &target.ty).await? {
            Fit::Whole => {}
            Fit::Partly => {
                fits = false;
                asked.push(
                    Check::warning(label, format!("{} comes, and {} is there", column.source_type, target.ty))
                        .means("a value that does not fit stops the connector")
                        .remedy("give the column the type that comes")
                        .statement(retype(&name, &column.name, &column.source_type))
                        .can_be_done(owns),
                );
            }
            Fit::No => {
                fits = false;
                asked.push(
                    Check::failed(label, "topics", format!("{} comes, and {} is there", column.source_type, target.ty))
                        .means("no value can be turned into the other type")
                        .remedy("give the column another type, or choose another table")
                        .statement(retype(&name, &column.name, &column.source_type)),
                );
            }
        }
    }
    let mut required: Vec<&String> =
        there.iter().filter(|(c, t)| t.required && !shape.columns.iter().any(|s| s.name == **c)).map(|(c, _)| c).collect();
    required.sort();
    for column in required {
        fits = false;
        asked.push(
            Check::failed(
                format!("column {column} of {plain}"),
                "topics",
                "it may not be null and has no default, and no record brings it",
            )
            .means("every insert would be refused")
            .remedy("let it be null, or give it a default")
            .statement(format!("ALTER TABLE {name} ALTER COLUMN {} DROP NOT NULL;", ident(column)))
            .can_be_done(owns),
        );
    }
    if fits {
        asked.push(Check::passed(format!("columns of {plain}"), "each has the type that comes, or one that takes it"));
    }
    Ok(())
}

/// A column that the target gives its values itself takes none that come.
fn own_values(label: &str, table: &str, column: &str, target: &TargetColumn) -> Option<Check> {
    let (finding, remedy, change) = if target.generated {
        ("records bring it, and it is generated there", "let it keep what comes", "DROP EXPRESSION")
    } else if target.numbered {
        ("records bring it, and it is always numbered there", "number only what comes without", "SET GENERATED BY DEFAULT")
    } else {
        return None;
    };
    let statement = format!("ALTER TABLE {table} ALTER COLUMN {} {change};", ident(column));
    Some(Check::failed(label, "topics", finding).means("every row would be refused").remedy(remedy).statement(statement))
}

/// A column that may not be null there, and is null in records or may be.
fn null_values(label: &str, table: &str, column: &Column, target: &TargetColumn, nulls: Option<&Nulls>) -> Option<Check> {
    if target.may_be_null || column.key {
        return None;
    }
    let finding = match nulls.filter(|n| n.rows > 0) {
        Some(Nulls { rows, of }) => {
            format!("it may not be null there, and is null in {} of the newest {rows} records", of.get(&column.name)?)
        }
        None => "it may not be null there, and whether records bring null is not known".into(),
    };
    let check =
        Check::warning(label, finding).means("a record with null there is refused, and waits in quarantine or halts");
    let statement = format!("ALTER TABLE {table} ALTER COLUMN {} DROP NOT NULL;", ident(&column.name));
    Some(check.remedy("let it be null there, as in the source").statement(statement))
}

fn retype(table: &str, column: &str, ty: &DataType) -> String {
    let (column, ty) = (ident(column), name_of(ty));
    format!("ALTER TABLE {table} ALTER COLUMN {column} TYPE {ty} USING {column}::{ty};")
}

async fn fit(asked: &Asked<'_>, from: &str, to: &str) -> Result<Fit, ConnectorError> {
    if from == to {
        return Ok(Fit::Whole);
    }
    let rows = asked
        .rows(
            &format!(
                "SELECT f.oid = t.oid, t.typcategory::text, f.typcategory::text, $2::text LIKE '%(%',
                    (SELECT castcontext::text FROM pg_cast WHERE castsource = f.oid AND casttarget = t.oid)
                 FROM pg_type f, pg_type t WHERE f.oid = to_regtype($1) AND t.oid = {}::regtype",
                literal(to)
            ),
            &[&from, &to],
        )
        .await?;
    // one of the two went since they were looked for
    let Some(row) = rows.first() else { return Ok(Fit::Partly) };
    let (same, limited): (bool, bool) = (row.get(0), row.get(3));
    let (category, comes): (String, String) = (row.get(1), row.get(2));
    let cast: Option<String> = row.get(4);
    Ok(match cast.as_deref() {
        _ if same || category == "S" => {
            if limited {
                Fit::Partly
            } else {
                Fit::Whole
            }
        }
        Some("i") if !limited => Fit::Whole,
        Some(_) => Fit::Partly,
        None if comes == "S" => Fit::Partly,
        None => Fit::No,
    })
}

async fn key(asked: &mut Asked<'_>, topic: &DeliveredTopic, shape: &TableSchema, owns: bool) {
    let (plain, name) = (format!("{}.{}", topic.schema, topic.table), qualified(&topic.schema, &topic.table));
    let label = format!("key of {plain}");
    let check = match target::check_key(&asked.client, &name, shape).await {
        Ok(()) => Check::passed(label, "it has the source's key"),
        Err(error) => from_error(&label, &error).means("a row could not be found again to be changed").can_be_done(owns),
    };
    asked.push(check);
}

/// What the target does by itself when rows come. `key` is the key that rows are found by there, if
/// they are.
async fn side_effects(asked: &mut Asked<'_>, topic: &DeliveredTopic, mut key: Vec<String>) -> Result<(), ConnectorError> {
    let (plain, name) = (format!("{}.{}", topic.schema, topic.table), qualified(&topic.schema, &topic.table));
    key.sort();
    let rows = asked
        .rows(
            concat!("SELECT (SELECT string_agg(tgname::text, ', ' ORDER BY tgname) FROM pg_trigger
                     WHERE tgrelid = $1::text::regclass AND NOT tgisinternal AND tgenabled IN ('O', 'A')),
                    (SELECT string_agg(conname || ' to ' || confrelid::regclass::text, ', ' ORDER BY conname) FROM pg_constraint
                     WHERE conrelid = $1::text::regclass AND contype = 'f'),
                    (SELECT string_agg(i.indexrelid::regclass::text, ', ' ORDER BY i.indexrelid) FROM pg_index i
                     WHERE i.indrelid = $1::text::regclass AND i.indisunique AND $2::text[] <> (
                       SELECT array_agg(a.attname::text ORDER BY a.attname::text COLLATE \"C\") FROM pg_attribute a
                       WHERE a.attrelid = i.indrelid AND a.attnum = ANY (", key_columns!(), "))),
                    row_security_active($1::text::regclass)"),
            &[&name, &key],
        )
        .await?;
    let Some(row) = rows.first() else { return Ok(()) };
    if let Some(triggers) = row.get::<_, Option<String>>(0) {
        asked.push(
            Check::warning(format!("triggers of {plain}"), format!("they run for every row that comes: {triggers}"))
                .means("what the source's own triggers did comes as rows already, and would be done twice")
                .remedy("switch off those that do what the source does"),
        );
    }
    if let Some(foreign) = row.get::<_, Option<String>>(1) {
        asked.push(
            Check::warning(format!("foreign keys of {plain}"), foreign)
                .means(
                    "tables are written one after the other, so a row may come before the one it points to, and be refused",
                )
                .remedy("drop the constraint in the target: the source keeps it"),
        );
    }
    if let Some(unique) = row.get::<_, Option<String>>(2).filter(|_| !key.is_empty()) {
        asked.push(
            Check::warning(
                format!("unique keys of {plain}"),
                format!("beside the key that rows are found by there is {unique}"),
            )
            .means("rows that come together are written in no order, so one that takes over another's value may be refused")
            .remedy("drop it in the target, or make it an index that is not unique: the source keeps it unique"),
        );
    }
    if row.get::<_, Option<bool>>(3) == Some(true) {
        let (user, role) = (asked.address.user.clone(), ident(&asked.address.user));
        asked.push(
            Check::failed(format!("row security of {plain}"), "topics", format!("it hides rows from user {user}"))
                .means("rows that are hidden would neither be changed nor removed, and others would be refused")
                .remedy("let a superuser lift it for this user")
                .statement(format!("ALTER ROLE {role} BYPASSRLS;")),
        );
    }
    Ok(())
}
