//! Preflights against real servers that are set up wrongly: each check finds its fault, and its remedy mends it.

use gonvel_connectors::postgres::address::{DatabaseAddress, Login};
use gonvel_connectors::postgres::preflight::{connection, sink, source};
use gonvel_connectors::postgres::replication::ReplicationSession;
use gonvel_connectors::postgres::{client, tables, target};
use gonvel_core::connector::{CapturedTable, DeliveredTopic, ExistingRows, SourceDefinition, TargetRows, Writes};
use gonvel_core::delivered::Nulls;
use gonvel_core::ports::systems::{ConnectorError, Expected};
use gonvel_core::preflight::{Check, Outcome, Report, may_start};
use gonvel_core::secret::Secret;
use gonvel_core::table::{Column, TableSchema};
use gonvel_stand_ins::postgres_cluster::OWNER;
use gonvel_stand_ins::test_cluster::TestCluster;
use tokio_postgres::Client;
use uuid::Uuid;

fn captured(tables: &[&str]) -> SourceDefinition {
    let one = |name: &&str| {
        let (schema, table) = name.split_once('.').unwrap_or(("public", name));
        CapturedTable::whole(schema, table, &format!("packhouse.{table}"))
    };
    SourceDefinition::of(Uuid::nil(), tables.iter().map(one).collect(), 1)
}

fn address(cluster: &TestCluster, database: &str, user: &str) -> DatabaseAddress {
    let password = if user == OWNER { cluster.password.clone() } else { "pippin".into() };
    DatabaseAddress::new("127.0.0.1", cluster.port, database, user, &password)
}

fn find<'r>(report: &'r Report, name: &str) -> &'r Check {
    report.iter().find(|c| c.name == name).unwrap_or_else(|| panic!("no check {name:?} in {report:#?}"))
}

/// What a faulty server's report is to say.
struct Case {
    user: &'static str,
    table: &'static str,
    /// Sets the fault up.
    fault: &'static str,
    check: &'static str,
    outcome: Outcome,
    /// Part of the finding.
    finds: &'static str,
    /// Whether the report's own statement, run by a superuser as it is, mends it.
    mended: bool,
    /// Whether the connection's own login may.
    own: bool,
    /// What else is asked of the table.
    asks: fn(&mut CapturedTable),
}

fn case(user: &'static str, table: &'static str, fault: &'static str, check: &'static str, finds: &'static str) -> Case {
    Case { user, table, fault, check, outcome: Outcome::Failed, finds, mended: true, own: false, asks: |_| {} }
}

fn source_cases() -> Vec<Case> {
    let warning = |c: Case| Case { outcome: Outcome::Warning, ..c };
    let unmended = |c: Case| Case { mended: false, ..c };
    let own = |c: Case| Case { own: true, ..c };
    let asks = |c: Case, asks: fn(&mut CapturedTable)| Case { asks, ..c };
    vec![
        case("picker", "bins", "ALTER ROLE picker NOREPLICATION", "replication right", "user picker may not replicate"),
        case(
            "picker",
            "bins",
            "REVOKE CREATE ON DATABASE packhouse FROM picker",
            "publication right",
            "may not create a publication",
        ),
        case("picker", "yard.bays", "", "table yard.bays", "may not use the schema"),
        case(
            "picker",
            "rooms",
            "REVOKE orchard FROM picker; REVOKE SELECT ON rooms FROM picker",
            "table public.rooms",
            "may not read",
        ),
        case(
            "picker",
            "rooms",
            "REVOKE orchard FROM picker; GRANT SELECT ON rooms TO picker",
            "table public.rooms",
            "belongs to orchard",
        ),
        case("picker", "growers", "", "table public.growers", "row security hides rows"),
        own(case(
            "picker",
            "blocks",
            "ALTER TABLE blocks REPLICA IDENTITY NOTHING",
            "table public.blocks",
            "replica identity nothing",
        )),
        own(case("picker", "scratch", "", "table public.scratch", "is an unlogged table")),
        unmended(case("picker", "notes", "", "table public.notes", "has no primary key")),
        unmended(case("picker", "orchards", "", "table public.orchards", "there is no table public.orchards")),
        unmended(case("picker", "heavy", "", "table public.heavy", "is a view")),
        unmended(warning(case("picker", "weighings", "", "partitions of public.weighings", "under the table's own name"))),
        asks(unmended(case("picker", "blocks", "", "table public.blocks", "has no column plot")), |t| {
            t.key = vec!["plot".into()]
        }),
        asks(own(case("picker", "blocks", "", "table public.blocks", "variety may be null")), |t| {
            t.key = vec!["variety".into()]
        }),
        asks(
            own(case(
                "picker",
                "notes",
                "ALTER TABLE notes ALTER remark SET NOT NULL",
                "table public.notes",
                "does not hold remark",
            )),
            |t| t.key = vec!["remark".into()],
        ),
        asks(
            own(warning(case(
                "picker",
                "notes",
                "ALTER TABLE notes ALTER remark SET NOT NULL, REPLICA IDENTITY FULL",
                "key of public.notes",
                "nothing in the source keeps remark unique",
            ))),
            |t| t.key = vec!["remark".into()],
        ),
        asks(unmended(case("picker", "blocks", "", "table public.blocks", "id is part of the key")), |t| {
            t.leave_out = vec!["id".into()]
        }),
        asks(
            unmended(warning(case("picker", "blocks", "", "columns left out of public.blocks", "plot is not there"))),
            |t| {
                t.leave_out = vec!["plot".into(), "variety".into()];
            },
        ),
        asks(
            unmended(case("picker", "blocks", "", "rows of public.blocks to load", "column \"plot\" does not exist")),
            |t| {
                t.load_where = Some("plot > 3".into());
            },
        ),
        asks(unmended(case("picker", "blocks", "", "rows of public.blocks to load", "syntax error")), |t| {
            t.load_where = Some("true); DROP TABLE blocks; --".into());
        }),
        warning(case(
            "picker",
            "blocks",
            "ALTER TABLE blocks REPLICA IDENTITY FULL",
            "replica identity of public.blocks",
            "whole old row",
        )),
        // what has no identity of its own could not be updated any more in the source once it is published
        own(case(
            "picker",
            "blocks",
            "ALTER TABLE blocks DROP CONSTRAINT blocks_pkey, ADD PRIMARY KEY (id) DEFERRABLE",
            "table public.blocks",
            "public.blocks has a deferrable primary key",
        )),
        own(case(
            "picker",
            "rooms",
            "ALTER TABLE rooms ALTER label SET NOT NULL; CREATE UNIQUE INDEX by_label ON rooms (label);
             ALTER TABLE rooms REPLICA IDENTITY USING INDEX by_label",
            "table public.rooms",
            "lacks a column of the key",
        )),
        asks(
            own(case(
                "picker",
                "rooms",
                "ALTER TABLE rooms ALTER label SET NOT NULL; CREATE UNIQUE INDEX by_label ON rooms (label);
                 ALTER TABLE rooms REPLICA IDENTITY USING INDEX by_label; DROP INDEX by_label",
                "table public.rooms",
                "an index as its replica identity that is gone",
            )),
            |t| t.key = vec!["label".into()],
        ),
        own(case(
            "picker",
            "weighings",
            "CREATE TABLE early PARTITION OF weighings FOR VALUES FROM (1) TO (9);
             CREATE TABLE late PARTITION OF weighings FOR VALUES FROM (9) TO (99); ALTER TABLE early OWNER TO orchard;
             ALTER TABLE late OWNER TO orchard; ALTER TABLE early REPLICA IDENTITY NOTHING",
            "table public.weighings",
            "public.early has replica identity nothing",
        )),
        own(case(
            "picker",
            "weighings",
            "CREATE TABLE early PARTITION OF weighings FOR VALUES FROM (1) TO (9); ALTER TABLE early OWNER TO orchard;
             ALTER TABLE weighings REPLICA IDENTITY FULL",
            "table public.weighings",
            "public.early has not the replica identity full",
        )),
        own(case(
            "picker",
            "weighings",
            "CREATE UNLOGGED TABLE early PARTITION OF weighings FOR VALUES FROM (1) TO (9); ALTER TABLE early OWNER TO orchard",
            "table public.weighings",
            "public.early is an unlogged table",
        )),
        unmended(case(
            "picker",
            "bins",
            "ALTER TABLE bins ADD half numeric GENERATED ALWAYS AS (weight_kg / 2) STORED, DROP CONSTRAINT bins_pkey, ADD PRIMARY KEY (id, half)",
            "table public.bins",
            "half is part of the key of public.bins and is generated",
        )),
        unmended(warning(case("picker", "bins", "", "types in public.bins", "grade (grade)"))),
        unmended(warning(case("picker", "bins", "", "generated columns of public.bins", "not captured: heavy"))),
    ]
}

const SOURCE: &str = "
    CREATE ROLE orchard; CREATE ROLE picker LOGIN REPLICATION PASSWORD 'pippin' IN ROLE orchard;
    GRANT CREATE ON DATABASE packhouse TO picker; GRANT USAGE ON SCHEMA public TO PUBLIC; GRANT CREATE ON SCHEMA public TO orchard;
    CREATE SCHEMA yard; CREATE TABLE yard.bays (id int PRIMARY KEY);
    CREATE TYPE grade AS ENUM ('first', 'second'); CREATE DOMAIN kilos AS numeric(7,1);
    CREATE TABLE bins (id bigint PRIMARY KEY, grade grade, weight_kg kilos, weights kilos[], heavy boolean GENERATED ALWAYS AS (weight_kg > 400) STORED);
    CREATE TABLE blocks (id bigint PRIMARY KEY, variety text);
    CREATE TABLE rooms (id int PRIMARY KEY, label text);
    CREATE TABLE notes (remark text);
    CREATE UNLOGGED TABLE scratch (id int PRIMARY KEY);
    CREATE VIEW heavy AS SELECT * FROM bins WHERE heavy;
    CREATE TABLE weighings (id int PRIMARY KEY) PARTITION BY RANGE (id);
    CREATE TABLE growers (id bigint PRIMARY KEY, phone text); ALTER TABLE growers ENABLE ROW LEVEL SECURITY, FORCE ROW LEVEL SECURITY;
    DO $$ DECLARE t text; BEGIN
      FOREACH t IN ARRAY ARRAY['bins','blocks','rooms','notes','scratch','weighings','growers'] LOOP EXECUTE format('ALTER TABLE %I OWNER TO orchard', t); END LOOP;
    END $$";

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_source_s_faults_are_found_and_their_remedies_mend_them() {
    let cluster = TestCluster::start(&["packhouse"]).await;
    let owner = cluster.connect("packhouse").await.unwrap();
    for case in source_cases() {
        // each on a database as it should be, but for the fault
        owner.batch_execute(SOURCE).await.unwrap();
        owner.batch_execute(case.fault).await.unwrap();
        let address = address(&cluster, "packhouse", case.user);
        let mut tables = captured(&[case.table]);
        (case.asks)(&mut tables.tables[0]);
        let report = source(&address, &tables, None).await;
        let check = find(&report, case.check);
        assert_eq!((check.outcome, check.can_be_done), (case.outcome, case.own), "{check:#?}");
        assert!(check.finding.contains(case.finds), "{check:#?}");
        assert_eq!(may_start(&report), case.outcome == Outcome::Warning, "{report:#?}");
        assert!(check.outcome == Outcome::Warning || check.remedy.is_some(), "{check:#?}");
        if case.mended {
            let statement = check.statement.clone().unwrap();
            let by: &Client = if case.own { &client::connect(&address).await.unwrap() } else { &owner };
            by.batch_execute(&statement).await.unwrap_or_else(|e| panic!("{statement}: {e:?}"));
            let after = source(&address, &tables, None).await;
            // the next fault of the same table may come to light; this one is gone
            assert!(after.iter().all(|c| c.name != case.check || !c.finding.contains(case.finds)), "{after:#?}");
        }
        owner
            .batch_execute(
                "DROP SCHEMA yard CASCADE; DROP SCHEMA public CASCADE; CREATE SCHEMA public;
                 REVOKE ALL ON DATABASE packhouse FROM picker; DROP OWNED BY orchard, picker; DROP ROLE picker, orchard",
            )
            .await
            .unwrap();
    }
    // nothing of all this asking stays in the server
    let left = "SELECT (SELECT count(*) FROM pg_replication_slots) + (SELECT count(*) FROM pg_publication)";
    assert_eq!(owner.query_one(left, &[]).await.unwrap().get::<_, i64>(0), 0);
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_server_s_own_faults_are_found() {
    let cluster =
        TestCluster::start_with(&["packhouse"], &["max_replication_slots=1", "max_wal_senders=2", "wal_init_zero=off"])
            .await;
    let owner = cluster.connect("packhouse").await.unwrap();
    owner
        .batch_execute(
            "CREATE TABLE bins (id bigint PRIMARY KEY);
             CREATE ROLE tail LOGIN REPLICATION PASSWORD 'pippin'; CREATE ROLE idle LOGIN PASSWORD 'pippin';
             SELECT pg_create_physical_replication_slot('forgotten', true)",
        )
        .await
        .unwrap();
    let mut address = address(&cluster, "packhouse", OWNER);
    let tables = captured(&["bins"]);
    let report = source(&address, &tables, None).await;
    assert_eq!(find(&report, "free slots").outcome, Outcome::Failed);
    assert!(find(&report, "free slots").statement.as_ref().unwrap().contains("max_replication_slots"));
    assert_eq!(find(&report, "disk kept by slots").outcome, Outcome::Passed);
    assert_eq!(find(&report, "clocks").outcome, Outcome::Passed);

    // senders that others have taken, and log that a slot keeps while no one reads it
    let mut readers = Vec::new();
    for _ in 0..2 {
        readers.push(ReplicationSession::connect(&address).await.unwrap());
    }
    let report = source(&address, &tables, None).await;
    assert_eq!(find(&report, "free senders").outcome, Outcome::Failed, "{report:#?}");
    assert!(find(&report, "free senders").statement.as_ref().unwrap().contains("max_wal_senders"));
    drop(readers);
    for _ in 0..65 {
        owner.batch_execute("SELECT pg_logical_emit_message(false, 'fill', ''); SELECT pg_switch_wal()").await.unwrap();
    }
    let report = source(&address, &tables, None).await;
    let disk = find(&report, "disk kept by slots");
    assert_eq!(disk.outcome, Outcome::Warning, "{disk:#?}");
    assert!(disk.finding.contains("no one reads the slot forgotten, and it keeps 10"), "{disk:#?}");
    owner.batch_execute(disk.statement.as_ref().unwrap()).await.unwrap();
    let report = source(&address, &tables, None).await;
    assert_eq!(find(&report, "disk kept by slots").outcome, Outcome::Passed);
    assert_eq!(find(&report, "free slots").outcome, Outcome::Passed);

    // another login may be the one that reads the log
    for (user, password, check, outcome) in [
        ("tail", "pippin", "login for the log", Outcome::Passed),
        ("tail", "pippin", "replication right", Outcome::Passed),
        ("idle", "pippin", "replication right", Outcome::Failed),
        ("tail", "russet", "login for the log", Outcome::Failed),
    ] {
        address.log_login = Some(Login { user: user.into(), password: Secret::new(password.into()) });
        let report = source(&address, &tables, None).await;
        let check = find(&report, check);
        assert_eq!(check.outcome, outcome, "{check:#?}");
        assert!(outcome == Outcome::Passed || check.field.as_ref().unwrap().starts_with("log_"), "{check:#?}");
    }
    // who may not connect to the database is told so, and with what it is granted
    owner.batch_execute("REVOKE CONNECT ON DATABASE packhouse FROM PUBLIC").await.unwrap();
    address.log_login = Some(Login { user: "tail".into(), password: Secret::new("pippin".into()) });
    for report in [connection(&address).await, source(&address, &tables, None).await] {
        let check = find(&report, "login for the log");
        assert_eq!((check.outcome, check.field.as_deref()), (Outcome::Failed, Some("log_user")), "{check:#?}");
        assert!(check.finding.contains("may not connect to the database"), "{check:#?}");
        owner.batch_execute(check.statement.as_ref().unwrap()).await.unwrap();
        assert_eq!(find(&connection(&address).await, "login for the log").outcome, Outcome::Passed);
        owner.batch_execute("REVOKE CONNECT ON DATABASE packhouse FROM tail").await.unwrap();
    }
    owner.batch_execute("GRANT CONNECT ON DATABASE packhouse TO PUBLIC").await.unwrap();
    let idle =
        DatabaseAddress { user: "idle".into(), password: Secret::new("pippin".into()), log_login: None, ..address.clone() };
    let refused = ReplicationSession::connect(&idle).await.err().unwrap();
    assert!(
        matches!(&refused, ConnectorError::Settings { field: Some("user"), finding, .. } if finding.contains("may not replicate")),
        "{refused:?}"
    );

    // a setting that the server does not take is told at its field
    address.log_login = None;
    for (name, value, outcome) in [
        ("lock_timeout", "5 s", Outcome::Passed),
        ("lock_timeout", "soon", Outcome::Failed),
        ("ripeness", "1", Outcome::Failed),
    ] {
        address.settings = [(name.to_owned(), value.to_owned())].into();
        let report = source(&address, &tables, None).await;
        let check = find(&report, "reach and log in");
        assert_eq!(check.outcome, outcome, "{name}={value}: {check:#?}");
        assert!(outcome == Outcome::Passed || check.field.as_deref() == Some("settings"), "{check:#?}");
    }
}

fn sink_cases() -> Vec<Case> {
    let warning = |c: Case| Case { outcome: Outcome::Warning, ..c };
    let unmended = |c: Case| Case { mended: false, ..c };
    let own = |c: Case| Case { own: true, ..c };
    let table =
        "CREATE TABLE bins (id bigint PRIMARY KEY, grade text, weight_kg numeric(7,1), room_id int, picked_at timestamptz);
        ALTER TABLE bins OWNER TO clerk;";
    let after: fn(&str) -> &'static str = |more| Box::leak(more.to_owned().into_boxed_str());
    let with = |more: &str| after(&format!("{table} {more}"));
    let swap = |from: &str, to: &str| after(&table.replace(from, to));
    vec![
        case(
            "clerk",
            "bins",
            "REVOKE CREATE ON DATABASE settlement FROM clerk",
            "room for the position",
            "may not make the schema gonvel",
        ),
        case(
            "clerk",
            "bins",
            "REVOKE CREATE ON SCHEMA public FROM clerk",
            "table public.bins",
            "is not there and user clerk may not make it",
        ),
        case("clerk", "bins", with("ALTER TABLE bins OWNER TO gonvel"), "table public.bins", "may not write"),
        unmended(case(
            "clerk",
            "bins",
            "CREATE VIEW bins AS SELECT 1 AS id",
            "table public.bins",
            "no table that rows can be written to",
        )),
        case(
            "clerk",
            "bins",
            with("ALTER TABLE bins DROP COLUMN grade; ALTER TABLE bins OWNER TO gonvel; GRANT ALL ON bins TO clerk"),
            "column grade of public.bins",
            "may not add it",
        ),
        own(warning(case(
            "clerk",
            "bins",
            swap("numeric(7,1)", "numeric(4,1)"),
            "column weight_kg of public.bins",
            "numeric(7,1) comes, and numeric(4,1) is there",
        ))),
        own(warning(case(
            "clerk",
            "bins",
            swap("room_id int", "room_id smallint"),
            "column room_id of public.bins",
            "integer comes, and smallint is there",
        ))),
        own(warning(case(
            "clerk",
            "bins",
            swap("grade text", "grade varchar(5)"),
            "column grade of public.bins",
            "text comes, and character varying(5)",
        ))),
        unmended(case(
            "clerk",
            "bins",
            swap("picked_at timestamptz", "picked_at boolean"),
            "column picked_at of public.bins",
            "timestamp with time zone comes, and boolean is there",
        )),
        own(case(
            "clerk",
            "bins",
            with("ALTER TABLE bins ADD COLUMN paid_on date NOT NULL"),
            "column paid_on of public.bins",
            "no record brings it",
        )),
        own(case("clerk", "bins", swap("bigint PRIMARY KEY", "bigint"), "key of public.bins", "has no unique key on id")),
        own(warning(case(
            "clerk",
            "bins",
            swap("grade text", "grade text NOT NULL"),
            "column grade of public.bins",
            "is null in 20 of the newest 100 records",
        ))),
        own(case(
            "clerk",
            "bins",
            swap("room_id int", "room_id int GENERATED ALWAYS AS IDENTITY"),
            "column room_id of public.bins",
            "always numbered",
        )),
        own(case(
            "clerk",
            "bins",
            swap("room_id int", "room_id int GENERATED ALWAYS AS (id % 60) STORED"),
            "column room_id of public.bins",
            "is generated there",
        )),
        unmended(warning(case(
            "clerk",
            "bins",
            with("CREATE UNIQUE INDEX by_room ON bins (room_id)"),
            "unique keys of public.bins",
            "there is by_room",
        ))),
        case(
            "clerk",
            "bins",
            with("ALTER TABLE bins ENABLE ROW LEVEL SECURITY, FORCE ROW LEVEL SECURITY"),
            "row security of public.bins",
            "hides rows from user clerk",
        ),
        unmended(warning(case(
            "clerk",
            "bins",
            with(
                "CREATE FUNCTION pay() RETURNS trigger LANGUAGE plpgsql AS 'BEGIN RETURN NEW; END'; CREATE TRIGGER pays AFTER INSERT ON bins FOR EACH ROW EXECUTE FUNCTION pay()",
            ),
            "triggers of public.bins",
            "pays",
        ))),
        unmended(warning(case(
            "clerk",
            "bins",
            with(
                "CREATE TABLE rooms (id int PRIMARY KEY); ALTER TABLE bins ADD CONSTRAINT in_room FOREIGN KEY (room_id) REFERENCES rooms",
            ),
            "foreign keys of public.bins",
            "in_room to rooms",
        ))),
    ]
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_sink_s_faults_are_found_and_their_remedies_mend_them() {
    let cluster = TestCluster::start(&["settlement", "packhouse"]).await;
    let owner = cluster.connect("settlement").await.unwrap();
    let packhouse = cluster.connect("packhouse").await.unwrap();
    packhouse
        .batch_execute("CREATE TABLE bins (id bigint PRIMARY KEY, grade text, weight_kg numeric(7,1), room_id int, picked_at timestamptz)")
        .await
        .unwrap();
    let shape: TableSchema =
        tables::describe(&packhouse, "packhouse", &CapturedTable::whole("public", "bins", "b")).await.unwrap();
    let fresh = "CREATE ROLE clerk LOGIN PASSWORD 'pippin'; GRANT CREATE ON DATABASE settlement TO clerk; GRANT USAGE, CREATE ON SCHEMA public TO clerk;";
    for case in sink_cases() {
        owner.batch_execute(fresh).await.unwrap();
        owner.batch_execute(case.fault).await.unwrap();
        let address = address(&cluster, "settlement", case.user);
        let topic =
            DeliveredTopic { topic: "packhouse.bins".into(), schema: "public".into(), table: case.table.into(), rows: None };
        // of a hundred records a fifth have no grade
        let nulls = Some(Nulls { rows: 100, of: [("grade".to_owned(), 20)].into() });
        let topics = [Expected { topic, shape: Some(shape.clone()), nulls, begun: true, existing: None }];
        let report = sink(&address, &topics, Writes::default()).await;
        let check = find(&report, case.check);
        assert_eq!((check.outcome, check.can_be_done), (case.outcome, case.own), "{check:#?}");
        assert!(check.finding.contains(case.finds), "{check:#?}");
        assert_eq!(may_start(&report), case.outcome == Outcome::Warning, "{report:#?}");
        if case.mended {
            let statement = check.statement.clone().unwrap();
            let by: &Client = if case.own { &client::connect(&address).await.unwrap() } else { &owner };
            by.batch_execute(&statement).await.unwrap_or_else(|e| panic!("{statement}: {e:?}"));
            let after = sink(&address, &topics, Writes::default()).await;
            assert!(after.iter().all(|c| c.name != case.check || c.outcome == Outcome::Passed), "{after:#?}");
            assert!(may_start(&after), "{after:#?}");
        }
        owner
            .batch_execute(
                "DROP SCHEMA public CASCADE; CREATE SCHEMA public; REVOKE ALL ON DATABASE settlement FROM clerk;
                 DROP OWNED BY clerk; DROP ROLE clerk",
            )
            .await
            .unwrap();
    }
    // where the table is not there, the statement that would make it is shown, and makes one that fits
    let address = address(&cluster, "settlement", OWNER);
    let topic = DeliveredTopic { topic: "packhouse.bins".into(), schema: "public".into(), table: "bins".into(), rows: None };
    let mut topics = [Expected { topic, shape: Some(shape), nulls: None, begun: true, existing: None }];
    let report = sink(&address, &topics, Writes::default()).await;
    owner.batch_execute(find(&report, "table public.bins").statement.as_ref().unwrap()).await.unwrap();
    let report = sink(&address, &topics, Writes::default()).await;
    assert!(report.iter().all(|c| c.outcome == Outcome::Passed), "{report:#?}");
    assert!(find(&report, "columns of public.bins").finding.contains("each has the type"));
    // nor does a table that was made for another way of writing lack anything, or have too much
    owner.batch_execute("CREATE SCHEMA told").await.unwrap();
    for rows in [TargetRows::History, TargetRows::Appended, TargetRows::Changes] {
        let (mut topics, writes) = (topics.clone(), Writes { rows, ..Writes::default() });
        (topics[0].topic.schema, topics[0].topic.table) = ("told".into(), format!("{rows:?}"));
        let report = sink(&address, &topics, writes).await;
        let made = report.iter().find_map(|c| c.statement.as_ref()).unwrap();
        owner.batch_execute(made).await.unwrap();
        let report = sink(&address, &topics, writes).await;
        assert!(report.iter().all(|c| c.outcome == Outcome::Passed), "{rows:?}: {report:#?}");
    }
    // a type that a producer's schema made up is looked for, not carried out: its values are text
    let hostile = "int); DROP TABLE bins; CREATE TABLE other (id int";
    let mut shape = topics[0].shape.clone().unwrap();
    shape.columns.push(Column { name: "trees".into(), source_type: hostile.into(), ..shape.columns[1].clone() });
    let topic = DeliveredTopic { schema: "told".into(), table: "made_up".into(), ..topics[0].topic.clone() };
    let client = client::connect(&address).await.unwrap();
    let made = target::ensure(&client, &topic, &shape, Writes::default()).await.unwrap();
    assert_eq!(made.types["trees"], "text");
    assert_eq!(owner.query_one("SELECT count(*) FROM bins", &[]).await.unwrap().get::<_, i64>(0), 0, "the table is there");
    // rows that are there before anything was delivered are counted, until it is said what becomes of them
    owner.batch_execute("INSERT INTO bins (id) SELECT generate_series(1, 12)").await.unwrap();
    let said = [None, Some(ExistingRows::Keep), Some(ExistingRows::Empty), Some(ExistingRows::Compare)];
    for (existing, outcome) in said.into_iter().zip([Outcome::Warning, Outcome::Passed, Outcome::Warning, Outcome::Passed]) {
        (topics[0].begun, topics[0].existing) = (false, existing);
        let report = sink(&address, &topics, Writes::default()).await;
        let check = find(&report, "rows of public.bins");
        assert_eq!((check.outcome, check.field.as_deref()), (outcome, Some("existing_rows")), "{check:#?}");
        assert!(check.finding.contains("public.bins holds 12 rows already"), "{}", check.finding);
    }
    topics[0].begun = true;
    let report = sink(&address, &topics, Writes::default()).await;
    assert!(!report.iter().any(|check| check.name == "rows of public.bins"), "they are its own");
    // a server that takes no writes
    owner.batch_execute("ALTER DATABASE settlement SET default_transaction_read_only = on").await.unwrap();
    assert_eq!(find(&sink(&address, &topics, Writes::default()).await, "writable").outcome, Outcome::Failed);
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn keys_that_can_be_written_in_several_ways_want_one_partition() {
    let cluster = TestCluster::start(&["packhouse"]).await;
    let owner = cluster.connect("packhouse").await.unwrap();
    owner
        .batch_execute(
            "CREATE COLLATION loose (provider = icu, locale = 'und-u-ks-level2', deterministic = false);
             CREATE DOMAIN age AS interval;
             CREATE TABLE named (name text COLLATE loose PRIMARY KEY); CREATE TABLE aged (id int, age age, PRIMARY KEY (id, age));
             CREATE TABLE listed (weights numeric[] PRIMARY KEY); CREATE TABLE told (id jsonb PRIMARY KEY, n int);
             CREATE TABLE plain (id numeric, name text, kg float8, at timestamptz, of uuid, site varchar(9), code char(4),
               PRIMARY KEY (id, name, kg, at, of, site, code), age interval)",
        )
        .await
        .unwrap();
    let address = address(&cluster, "packhouse", OWNER);
    let mut definition = captured(&["named", "aged", "listed", "told", "plain"]);
    let keys = |report: &Report| -> Vec<String> {
        let failed = report.iter().filter(|c| c.outcome == Outcome::Failed);
        failed.map(|c| format!("{}: {}", c.name, c.finding.split(' ').next().unwrap())).collect()
    };
    assert_eq!(keys(&source(&address, &definition, None).await), Vec::<String>::new());
    definition.partitions = 3;
    let found = keys(&source(&address, &definition, None).await);
    let expected = ["aged: age", "listed: weights", "named: name", "told: id"].map(|key| format!("key of public.{key}"));
    assert_eq!(found, expected);
}
