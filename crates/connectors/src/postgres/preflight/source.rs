//! What a source connector needs.

use gonvel_core::change_form::read_position;
use gonvel_core::connector::{CapturedTable, SourceDefinition, Start, ValueForm};
use gonvel_core::naming::ConnectorId;
use gonvel_core::ports::systems::ConnectorError;
use gonvel_core::preflight::{Check, Report};
use gonvel_core::table_patterns::TablePatterns;
use tokio_postgres::Row;

use super::{Asked, log_login};
use crate::postgres::address::DatabaseAddress;
use crate::postgres::identity::{self, key_columns};
use crate::postgres::names::{self, ident, qualified};
use crate::postgres::publication;

/// What slots that no one reads may keep of the server's disk before it is told, in bytes.
const KEPT_UNREAD: i64 = 1 << 30;

/// Checks what a source connector needs. One that has its slot already, given by its id, needs no further one.
pub async fn source(address: &DatabaseAddress, source: &SourceDefinition, connector: Option<ConnectorId>) -> Report {
    let mut asked = match Asked::open(address).await {
        Ok(asked) => asked,
        Err(report) => return report,
    };
    let outcome = checks(&mut asked, source, connector).await;
    asked.end(outcome)
}

async fn checks(
    asked: &mut Asked<'_>,
    source: &SourceDefinition,
    connector: Option<ConnectorId>,
) -> Result<(), ConnectorError> {
    let standby = asked.rows("SELECT pg_is_in_recovery()", &[]).await?;
    if standby.iter().any(|row| row.get(0)) {
        asked.push(
            Check::failed("primary", "host", "the server is a standby: it replays the log of another one")
                .means("what is to be captured cannot be set up there")
                .remedy("connect to its primary"),
        );
        return Ok(());
    }
    let superuser = log(asked, connector).await?;
    disk(asked).await?;
    tables(asked, &source.tables, superuser).await?;
    conditions(asked, source).await?;
    if source.partitions > 1 {
        alike(asked, &source.tables).await?;
    }
    if let Some(patterns) = &source.patterns {
        found_by_name(asked, patterns).await?;
    }
    if source.values.form == ValueForm::Row {
        asked.push(
            Check::warning("row form", "a truncate has no row and is not sent")
                .means("rows that a truncate removed stay in the topic, and in what is made from it")
                .remedy("choose the change form if tables are truncated"),
        );
    }
    if connector.is_none() {
        beginning(asked, source.start.as_ref()).await?;
    }
    Ok(())
}

/// Whether a list of standbys, as the server has it, counts our sessions: they are called `gonvel`, in whatever case.
fn counts_us(names: &str) -> bool {
    let bare = names.split_once('(').map_or(names, |(_, rest)| rest.trim_end().trim_end_matches(')'));
    bare.split(',').map(|name| name.trim().trim_matches('"')).any(|name| name == "*" || name.eq_ignore_ascii_case("gonvel"))
}

/// Conditions of the initial load, as the server understands them.
async fn conditions(asked: &mut Asked<'_>, source: &SourceDefinition) -> Result<(), ConnectorError> {
    for table in source.tables.iter().filter(|_| source.load.rows) {
        let Some(only) = &table.load_where else { continue };
        let label = format!("rows of {} to load", table.qualified());
        let plan = format!("EXPLAIN SELECT 1 FROM {} WHERE (\n{only}\n)", qualified(&table.schema, &table.table));
        let check = match asked.try_out(&plan).await {
            Ok(()) => Check::passed(label, "the condition is understood"),
            Err(finding) => Check::failed(label, "tables", format!("the condition is not understood: {finding}"))
                .remedy("write it as in a WHERE clause of this server, with the table's own columns"),
        };
        asked.push(check);
    }
    Ok(())
}

/// Keys that can be written in several ways: what is written otherwise goes to another partition, though it is the same row.
async fn alike(asked: &mut Asked<'_>, tables: &[CapturedTable]) -> Result<(), ConnectorError> {
    // numbers without a scale and zeros are written in one form by us
    let statement = concat!(
        "SELECT w.schema || '.' || w.name, a.attname::text, format_type(a.atttypid, a.atttypmod)
         FROM unnest($1::text[], $2::text[], $3::text[]) AS w(schema, name, key)
         JOIN pg_namespace n ON n.nspname = w.schema JOIN pg_class c ON c.relnamespace = n.oid AND c.relname = w.name
         JOIN pg_attribute a ON a.attrelid = c.oid AND a.attnum > 0 AND NOT a.attisdropped
         JOIN pg_type t ON t.oid = a.atttypid JOIN pg_type b ON b.oid = coalesce(nullif(t.typbasetype, 0), t.oid)
         LEFT JOIN pg_type e ON e.oid = b.typelem AND b.typcategory = 'A' LEFT JOIN pg_collation l ON l.oid = a.attcollation
         WHERE (w.key::jsonb ? a.attname OR w.key = '[]' AND EXISTS (SELECT 1 FROM pg_index i
             WHERE i.indrelid = c.oid AND i.indisprimary AND a.attnum = ANY (",
        key_columns!(),
        ")))
           AND (NOT coalesce(l.collisdeterministic, true)
             OR coalesce(e.typname, b.typname) IN ('interval', 'jsonb', 'citext', 'hstore', 'numrange', 'nummultirange')
             OR coalesce(e.typname, b.typname) = 'bpchar' AND a.atttypmod < 0
             OR e.typname IN ('numeric', 'float4', 'float8')
             OR b.typtype = 'c')
         ORDER BY 1, 2"
    );
    let schemas: Vec<&str> = tables.iter().map(|t| t.schema.as_str()).collect();
    let names: Vec<&str> = tables.iter().map(|t| t.table.as_str()).collect();
    let keys: Vec<String> = tables.iter().map(|t| serde_json::Value::from(t.key.clone()).to_string()).collect();
    for row in asked.rows(statement, &[&schemas, &names, &keys]).await? {
        let (table, column, ty): (String, String, String) = (row.get(0), row.get(1), row.get(2));
        asked.push(
            Check::failed(
                format!("key of {table}"),
                "partitions",
                format!("{column} is {ty}: values of it that are equal can be written in several ways"),
            )
            .means(
                "a row whose key is written otherwise goes to another partition, where its changes may overtake each other",
            )
            .remedy("give the topics one partition, or choose other columns as the key"),
        );
    }
    Ok(())
}

/// What the patterns cover now, and what of it cannot be captured.
async fn found_by_name(asked: &mut Asked<'_>, patterns: &TablePatterns) -> Result<(), ConnectorError> {
    let all = publication::capturable(asked.client()).await?;
    let covered = all.iter().filter(|(t, _)| patterns.covers(&t.schema, &t.table));
    let (mut fine, mut not) = (0_usize, Vec::new());
    for (table, hindrance) in covered {
        match hindrance {
            None => fine += 1,
            Some(hindrance) => not.push(format!("{}.{}: {hindrance}", table.schema, table.table)),
        }
    }
    asked.push(if not.is_empty() {
        Check::passed("tables found by name", format!("{fine} now; those made later are looked for while it runs"))
    } else {
        Check::warning("tables found by name", format!("{fine} now, and some that cannot be captured: {}", few(&not)))
            .means("they are passed over until that is mended")
            .remedy("give them a primary key, or an owner that the user is a member of, or exclude them")
    });
    Ok(())
}

/// Whether the server still keeps the log from where it is to begin.
async fn beginning(asked: &mut Asked<'_>, start: Option<&Start>) -> Result<(), ConnectorError> {
    let Some(start) = start.filter(|s| !matches!(s, Start::Latest {})) else { return Ok(()) };
    let rows = asked
        .rows(
            "SELECT slot_name::text, confirmed_flush_lsn::text FROM pg_replication_slots
             WHERE database = current_database() AND plugin = 'pgoutput' AND slot_name LIKE 'gonvel\\_%'
               AND confirmed_flush_lsn IS NOT NULL ORDER BY confirmed_flush_lsn",
            &[],
        )
        .await?;
    let fits = |row: &&Row| match start {
        Start::Connector { connector } => row.get::<_, &str>(0) == names::slot(ConnectorId(*connector)),
        Start::Position { position } => {
            read_position(row.get(1)).zip(read_position(position)).is_some_and(|(kept, wanted)| kept <= wanted)
        }
        _ => true,
    };
    asked.push(match rows.iter().rev().find(fits) {
        Some(row) => Check::passed("start position", format!("the log is kept from {} on", row.get::<_, &str>(1))),
        None => {
            let kept = rows
                .first()
                .map_or_else(|| "none of it".to_owned(), |r| format!("what comes after {}", r.get::<_, &str>(1)));
            Check::failed(
                "start position",
                "start",
                format!("the log does not reach back so far: of it connectors keep {kept}"),
            )
            .means("changes between there and now are gone")
            .remedy("begin now, with an initial load of the rows that are there")
        }
    });
    Ok(())
}

/// The server's log and the rights to read it. Tells whether the user may do everything.
async fn log(asked: &mut Asked<'_>, connector: Option<ConnectorId>) -> Result<bool, ConnectorError> {
    let slot = connector.map(names::slot);
    let rows = asked
        .rows(
            "SELECT current_setting('wal_level'),
                current_setting('max_replication_slots')::bigint - (SELECT count(*) FROM pg_replication_slots),
                current_setting('max_wal_senders')::bigint - (SELECT count(*) FROM pg_stat_replication),
                coalesce((SELECT rolsuper OR rolreplication FROM pg_roles WHERE rolname = $2), false),
                has_database_privilege(current_database(), 'CREATE'),
                (SELECT rolsuper FROM pg_roles WHERE rolname = current_user),
                EXISTS (SELECT 1 FROM pg_replication_slots WHERE slot_name = $1),
                current_setting('synchronous_standby_names')",
            &[&slot, &asked.address.for_log().user],
        )
        .await?;
    let Some(row) = rows.first() else { return Ok(false) };
    let (level, slots, senders): (String, i64, i64) = (row.get(0), row.get(1), row.get(2));
    let (replicate, create, superuser, own): (bool, bool, bool, bool) = (row.get(3), row.get(4), row.get(5), row.get(6));
    asked.push(if level == "logical" {
        Check::passed("wal_level", "wal_level is logical")
    } else {
        Check::failed("wal_level", "connection", format!("wal_level is {level}"))
            .means("the server's log does not hold what changes need")
            .remedy("set it and restart the server")
            .statement("ALTER SYSTEM SET wal_level = 'logical';")
    });
    let standbys: String = row.get(7);
    if counts_us(&standbys) {
        asked.push(
            Check::failed(
                "standbys",
                "connection",
                format!("synchronous_standby_names is {standbys}: Gonvel's session counts as a standby"),
            )
            .means("commits in the source wait until Gonvel has taken them, and Gonvel may wait for them in turn")
            .remedy("name the standbys that commits are to wait for, without * and without gonvel"),
        );
    }
    if own {
        asked.push(Check::passed("free slots", "the connector has its slot"));
    } else {
        asked.push(room("free slots", slots, "max_replication_slots"));
        asked.push(room("free senders", senders, "max_wal_senders"));
    }
    let reads = asked.address.for_log();
    let field = if asked.address.log_login.is_some() { "log_user" } else { "user" };
    let login = log_login(asked.address).await;
    asked.report.extend(login);
    let (name, user) = (&asked.address.user, ident(&asked.address.user));
    let replication = if replicate {
        Check::passed("replication right", format!("{} may replicate", reads.user))
    } else {
        Check::failed("replication right", field, format!("user {} may not replicate", reads.user))
            .means("it cannot read the server's log")
            .remedy("let a superuser grant it")
            .statement(format!("ALTER ROLE {} REPLICATION;", ident(&reads.user)))
    };
    let database = &asked.address.database;
    let publication = if create {
        Check::passed("publication right", format!("{name} may create a publication"))
    } else {
        Check::failed("publication right", "user", format!("user {name} may not create a publication in {database}"))
            .means("the server cannot be told which tables to send")
            .remedy("let the database's owner grant it")
            .statement(format!("GRANT CREATE ON DATABASE {} TO {user};", ident(database)))
    };
    asked.push(replication);
    asked.push(publication);
    Ok(superuser)
}

/// The first few of many.
fn few(all: &[String]) -> String {
    let rest = if all.len() > 3 { format!("; and {} more", all.len() - 3) } else { String::new() };
    format!("{}{rest}", all.iter().take(3).cloned().collect::<Vec<_>>().join("; "))
}

fn room(name: &str, free: i64, setting: &str) -> Check {
    if free > 0 {
        return Check::passed(name, format!("{free} free"));
    }
    Check::failed(name, "connection", format!("all of {setting} are in use"))
        .means("a source connector needs one of its own")
        .remedy("raise it and restart the server, or remove what is not needed")
        .statement(format!("ALTER SYSTEM SET {setting} = 20;"))
}

/// What slots keep of the server's disk.
async fn disk(asked: &mut Asked<'_>) -> Result<(), ConnectorError> {
    let rows = asked
        .rows(
            "SELECT slot_name::text, active, pg_wal_lsn_diff(pg_current_wal_lsn(), restart_lsn)::bigint,
                    current_setting('max_slot_wal_keep_size') FROM pg_replication_slots
             WHERE restart_lsn IS NOT NULL ORDER BY 3 DESC",
            &[],
        )
        .await?;
    let mebibytes = |bytes: i64| bytes >> 20;
    let unread: Vec<&Row> = rows.iter().filter(|r| !r.get::<_, bool>(1) && r.get::<_, i64>(2) > KEPT_UNREAD).collect();
    if let Some(most) = unread.first() {
        let (slot, kept): (String, i64) = (most.get(0), most.get(2));
        asked.push(
            Check::warning(
                "disk kept by slots",
                format!("no one reads the slot {slot}, and it keeps {} MiB of log", mebibytes(kept)),
            )
            .means("the server's disk fills until the slot is read or dropped")
            .remedy("drop it if nothing needs it any more")
            .statement(format!("SELECT pg_drop_replication_slot({});", names::literal(&slot))),
        );
        return Ok(());
    }
    let kept: i64 = rows.iter().map(|r| r.get::<_, i64>(2)).max().unwrap_or(0);
    asked.push(Check::passed("disk kept by slots", format!("{} MiB of log for {} slots", mebibytes(kept), rows.len())));
    Ok(())
}

/// Everything about the chosen tables, asked at once. A relation that is not there has nulls.
fn about_tables() -> String {
    format!(
        concat!("SELECT c.relkind::text, c.relpersistence::text,
    has_schema_privilege(n.oid, 'USAGE') AND (has_table_privilege(c.oid, 'SELECT') OR
      (SELECT bool_and(has_column_privilege(c.oid, a.attnum, 'SELECT')) FROM pg_attribute a
       WHERE a.attrelid = c.oid AND a.attnum > 0 AND NOT a.attisdropped)),
    has_schema_privilege(n.oid, 'USAGE'),
    pg_has_role(c.relowner, 'USAGE'), quote_ident(pg_get_userbyid(c.relowner)), c.relreplident::text, row_security_active(c.oid),
    pk.columns IS NOT NULL,
    (SELECT string_agg(a.attname || ' (' || format_type(a.atttypid, a.atttypmod) || ')', ', ' ORDER BY a.attnum)
     FROM pg_attribute a JOIN pg_type t ON t.oid = a.atttypid LEFT JOIN pg_type e ON e.oid = t.typelem AND t.typcategory = 'A'
     WHERE a.attrelid = c.oid AND a.attnum > 0 AND NOT a.attisdropped AND a.attgenerated = ''
       AND CASE WHEN e.oid IS NOT NULL THEN e.oid >= 16384 AND NOT (e.typtype = 'd' AND e.typbasetype < 16384)
           ELSE t.oid >= 16384 AND NOT (t.typtype = 'd' AND t.typbasetype < 16384) END),
    (SELECT string_agg(a.attname, ', ' ORDER BY a.attnum) FROM pg_attribute a
     WHERE a.attrelid = c.oid AND a.attnum > 0 AND NOT a.attisdropped AND a.attgenerated <> ''),
    (SELECT string_agg(k, ', ') FROM jsonb_array_elements_text(w.key::jsonb) k WHERE NOT EXISTS (SELECT 1 FROM pg_attribute a
      WHERE a.attrelid = c.oid AND a.attname = k AND a.attnum > 0 AND NOT a.attisdropped AND a.attgenerated = '')),
    (SELECT string_agg(k, ', ') FROM jsonb_array_elements_text(w.key::jsonb) k JOIN pg_attribute a
      ON a.attrelid = c.oid AND a.attname = k AND NOT a.attisdropped WHERE NOT a.attnotnull),
    EXISTS (SELECT 1 FROM pg_index i WHERE i.indrelid = c.oid AND i.indisunique AND i.indpred IS NULL AND i.indexprs IS NULL
      AND (SELECT jsonb_agg(a.attname ORDER BY a.attname) FROM pg_attribute a WHERE a.attrelid = c.oid AND a.attnum = ANY (", key_columns!(), "))
        = (SELECT jsonb_agg(k ORDER BY k) FROM jsonb_array_elements_text(w.key::jsonb) k)),
    told.untold,
    (SELECT string_agg(l, ', ') FROM jsonb_array_elements_text(w.leave_out::jsonb) l WHERE NOT EXISTS (SELECT 1 FROM pg_attribute a
      WHERE a.attrelid = c.oid AND a.attname = l AND a.attnum > 0 AND NOT a.attisdropped)),
    (SELECT string_agg(l, ', ') FROM jsonb_array_elements_text(w.leave_out::jsonb) l JOIN pg_attribute a
      ON a.attrelid = c.oid AND a.attname = l JOIN pg_index i ON i.indrelid = c.oid AND i.indisprimary AND a.attnum = ANY (", key_columns!(), ")),
    told.mend, told.unlogged, told.log,
    (SELECT string_agg(a.attname, ', ') FROM jsonb_array_elements_text(coalesce(nullif(w.key::jsonb, '[]'), pk.columns)) k
      JOIN pg_attribute a ON a.attrelid = c.oid AND a.attname = k WHERE a.attgenerated <> '')
  FROM unnest($1::text[], $2::text[], $3::text[], $4::text[]) WITH ORDINALITY AS w(schema, name, key, leave_out, place)
  LEFT JOIN pg_namespace n ON n.nspname = w.schema
  LEFT JOIN pg_class c ON c.relnamespace = n.oid AND c.relname = w.name
  LEFT JOIN LATERAL {primary} pk ON true
  LEFT JOIN LATERAL (SELECT
      array_agg(part.name || ' ' || part.untold ORDER BY part.name) FILTER (WHERE part.untold IS NOT NULL) AS untold,
      string_agg(format('ALTER TABLE %s REPLICA IDENTITY %s;', part.name, part.mend), ' ' ORDER BY part.name)
        FILTER (WHERE part.untold IS NOT NULL) AS mend,
      array_agg(part.name || ' ' || part.unlogged ORDER BY part.name) FILTER (WHERE part.unlogged IS NOT NULL) AS unlogged,
      string_agg(format('ALTER TABLE %s SET LOGGED;', part.name), ' ' ORDER BY part.name)
        FILTER (WHERE part.unlogged = 'is an unlogged table') AS log
    FROM {parts}) told ON true
  ORDER BY w.place"),
        primary = identity::PRIMARY_KEY,
        parts = identity::parts("coalesce(nullif(w.key::jsonb, '[]'), pk.columns, '[]')"),
    )
}

async fn tables(asked: &mut Asked<'_>, chosen: &[CapturedTable], superuser: bool) -> Result<(), ConnectorError> {
    let schemas: Vec<&str> = chosen.iter().map(|t| t.schema.as_str()).collect();
    let names: Vec<&str> = chosen.iter().map(|t| t.table.as_str()).collect();
    let json = |list: &Vec<String>| serde_json::Value::from(list.clone()).to_string();
    let keys: Vec<String> = chosen.iter().map(|t| json(&t.key)).collect();
    let left_out: Vec<String> = chosen.iter().map(|t| json(&t.leave_out)).collect();
    let rows = asked.rows(&about_tables(), &[&schemas, &names, &keys, &left_out]).await?;
    for (table, row) in chosen.iter().zip(&rows) {
        let checks = table_checks(&asked.address.user, table, row, superuser);
        asked.report.extend(checks);
    }
    Ok(())
}

fn table_checks(user: &str, table: &CapturedTable, row: &Row, superuser: bool) -> Vec<Check> {
    let (plain, name) = (format!("{}.{}", table.schema, table.table), qualified(&table.schema, &table.table));
    let role = ident(user);
    let label = format!("table {plain}");
    let failed = |finding: String| vec![Check::failed(&label, "tables", finding)];
    let with = |finding: String, meaning: &str, remedy: &str, statement: String, may: bool| {
        vec![Check::failed(&label, "tables", finding).means(meaning).remedy(remedy).statement(statement).can_be_done(may)]
    };
    let Some(kind) = row.get::<_, Option<String>>(0) else {
        return vec![
            Check::failed(&label, "tables", format!("there is no table {plain}"))
                .remedy("it was dropped or renamed: take it out of the connector, or bring it back"),
        ];
    };
    let persistence: String = row.get(1);
    let flag = |column: usize| row.get::<_, Option<bool>>(column).unwrap_or(false);
    let (select, usage, owns, secured, keyed) = (flag(2), flag(3), flag(4) || superuser, flag(7), flag(8));
    let (owner, identity): (String, String) = (row.get(5), row.get(6));
    let listed = |column: usize| row.get::<_, Option<Vec<String>>>(column).unwrap_or_default();
    if !matches!(kind.as_str(), "r" | "p") {
        let what = match kind.as_str() {
            "v" => "a view",
            "m" => "a materialized view",
            "f" => "a foreign table",
            _ => "no ordinary table",
        };
        let remedy = "capture the tables it is made of";
        return vec![
            Check::failed(&label, "tables", format!("{plain} is {what}"))
                .means("the server's log holds no changes of it under this name")
                .remedy(remedy),
        ];
    }
    if persistence == "u" {
        let statement = format!("ALTER TABLE {name} SET LOGGED;");
        let meaning = "its changes are not in the server's log";
        return with(format!("{plain} is an unlogged table"), meaning, "make it a logged one", statement, owns);
    }
    if !usage {
        let statement = format!("GRANT USAGE ON SCHEMA {} TO {role};", ident(&table.schema));
        return with(
            format!("user {user} may not use the schema of {plain}"),
            "its rows cannot be read",
            "grant it",
            statement,
            false,
        );
    }
    if !select {
        let statement = format!("GRANT SELECT ON {name} TO {role};");
        return with(format!("user {user} may not read {plain}"), "its rows cannot be loaded", "grant it", statement, false);
    }
    if !owns {
        return with(
            format!("{plain} belongs to {owner}"),
            "only its owner may put it in a publication",
            "make the user a member of the owner, or connect as the owner",
            format!("GRANT {owner} TO {role};"),
            false,
        );
    }
    let text = |column: usize| row.get::<_, Option<String>>(column);
    if !table.key.is_empty() {
        if let Some(gone) = text(11) {
            return vec![
                Check::failed(&label, "tables", format!("{plain} has no column {gone}, which is to be part of its key"))
                    .remedy("choose the key anew"),
            ];
        }
        if let Some(open) = text(12) {
            let columns: Vec<String> = open.split(", ").map(|c| format!("ALTER {} SET NOT NULL", ident(c))).collect();
            return with(
                format!("{open} may be null in {plain}"),
                "rows without a value there could not be told apart",
                "forbid null, or choose other columns",
                format!("ALTER TABLE {name} {};", columns.join(", ")),
                owns,
            );
        }
    } else if !keyed {
        return with(
            format!("the table {plain} has no primary key"),
            "its rows cannot be told apart, so a change could not be applied twice with the same end",
            "add a primary key, choose columns that are its key, or leave the table out",
            format!("ALTER TABLE {name} ADD PRIMARY KEY (…);"),
            false,
        );
    }
    if secured {
        return failed(format!("row security hides rows of {plain} from user {user}"))
            .into_iter()
            .map(|c| {
                c.means("the initial load would lack them")
                    .remedy("let a superuser lift it for this user")
                    .statement(format!("ALTER ROLE {role} BYPASSRLS;"))
            })
            .collect();
    }
    if let Some(generated) = text(20) {
        return vec![
            Check::failed(&label, "tables", format!("{generated} is part of the key of {plain} and is generated"))
                .means("the server's log does not hold values that it computes itself, so its rows could not be told apart")
                .remedy("choose other columns that are its key"),
        ];
    }
    let unlogged = listed(18);
    if !unlogged.is_empty() {
        let check = Check::failed(&label, "tables", few(&unlogged))
            .means("its changes are not in the server's log")
            .remedy("make it a logged table of this server, or take it out of its table");
        return vec![text(19).into_iter().fold(check, Check::statement).can_be_done(owns)];
    }
    let untold = listed(14);
    if !untold.is_empty() {
        let finding = if table.key.is_empty() {
            few(&untold)
        } else {
            let key = table.key.join(", ");
            format!("the server's log does not hold {key} of rows of {plain} that are updated or deleted: {}", few(&untold))
        };
        return with(
            finding,
            "the log could not tell which row was changed, and without any identity the source refuses updates and deletes",
            "set its replica identity",
            text(17).unwrap_or_default(),
            owns,
        );
    }
    if let Some(needed) = text(16).filter(|_| table.key.is_empty()) {
        return vec![
            Check::failed(&label, "tables", format!("{needed} is part of the key of {plain} and cannot be left out"))
                .remedy("capture it"),
        ];
    }
    let mut out = vec![Check::passed(&label, "readable, with a key")];
    if !table.key.is_empty() && !flag(13) {
        let columns: Vec<String> = table.key.iter().map(|c| ident(c)).collect();
        out.push(
            Check::warning(
                format!("key of {plain}"),
                format!("nothing in the source keeps {} unique", table.key.join(", ")),
            )
            .means("of rows with the same key, what is made from the topic holds one")
            .remedy("have the source keep it unique")
            .statement(format!("ALTER TABLE {name} ADD UNIQUE ({});", columns.join(", ")))
            .can_be_done(owns),
        );
    }
    if let Some(gone) = text(15) {
        out.push(
            Check::warning(format!("columns left out of {plain}"), format!("{gone} is not there"))
                .means("a column of that name that comes later is left out too"),
        );
    }
    if kind == "p" {
        let later = "; one that is made later has no full replica identity of its own, and the source refuses updates in it until it has";
        out.push(Check::warning(format!("partitions of {plain}"), "their changes come under the table's own name").means(
            format!(
                "a truncate of one partition alone is not sent by the server, nor are the rows of one that is attached or detached: \
                 load the table again then{}",
                if identity == "f" { later } else { "" }
            ),
        ));
    }
    if identity == "f" && table.key.is_empty() {
        out.push(
            Check::warning(
                format!("replica identity of {plain}"),
                "it is full: every update and delete writes the whole old row to the log",
            )
            .means("changes bring their old rows whole; the server's log grows by as much")
            .remedy("keep it if old rows are wanted; else the key is enough")
            .statement(format!("ALTER TABLE {name} REPLICA IDENTITY DEFAULT;")),
        );
    }
    if let Some(made) = row.get::<_, Option<String>>(9) {
        out.push(
            Check::warning(format!("types in {plain}"), format!("types of this database's own: {made}"))
                .means("their values travel as text, and a table made in a target has text there"),
        );
    }
    if let Some(generated) = row.get::<_, Option<String>>(10) {
        out.push(
            Check::warning(format!("generated columns of {plain}"), format!("not captured: {generated}"))
                .means("the server's log does not hold values that it computes itself")
                .remedy("generate them in the target as well, where they are needed"),
        );
    }
    out
}

#[cfg(test)]
mod tests {
    use super::counts_us;

    #[test]
    fn a_list_of_standbys_counts_us_by_name_or_by_star() {
        let counts = ["*", "ANY 1 (*)", "FIRST 2 (a, \"*\")", "gonvel", "2 (north, Gonvel)"];
        let counts_not = ["", "north", "ANY 1 (north, south)", "gonvel_standby", "FIRST 1 (\"gon vel\")"];
        assert!(counts.into_iter().all(counts_us));
        assert!(!counts_not.into_iter().any(counts_us));
    }
}
