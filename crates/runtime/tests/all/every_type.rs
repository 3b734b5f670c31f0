//! Every type of value, through the initial load and through the stream, from one database into another: what arrives is
//! what the source shows.

use crate::support::World;
use gonvel_core::connector::State;

const TABLE: &str = "
CREATE TYPE ripeness AS ENUM ('hard', 'ripe', 'over ''ripe''');
CREATE DOMAIN kilograms AS numeric(7,1) CHECK (VALUE > 0 OR VALUE = 'NaN');
CREATE TYPE place AS (room int, shelf text);
CREATE TABLE samples (
  id bigint, part text, PRIMARY KEY (part, id),
  yes boolean, small smallint, plain int, large bigint, single real, double double precision,
  weight numeric(7,1), exact numeric(38,10), free numeric, whole numeric(20,0), weighed kilograms,
  note text, short varchar(12), padded char(6), raw bytea,
  day date, clock time, moment timestamp, instant timestamptz(3), span interval,
  tag uuid, doc json, docb jsonb, numbers int[], texts text[], grid numeric(4,1)[], ripe ripeness, ripes ripeness[], spot place,
  address inet, range int4range, bits bit varying(9), \"Odd \"\"Name\"\"\" int);";

/// Rows of values that are easily lost on the way: extremes, empties, quotes, escapes, infinities, what looks like null.
const ROWS: [&str; 6] = [
    "(1, 'a', true, 32767, 2147483647, 9223372036854775807, 3.4028235e38, 1.7976931348623157e308,
      999999.9, 1234567890123456789012345678.0123456789, 1e-30, 99999999999999999999, 0.1,
      'plain', 'twelve chars', 'pad', '\\x00ff5c27',
      '2026-11-25', '23:59:59.999999', '2026-11-25 23:59:59.999999', '2026-11-25 23:59:59.9994+13', '1 year 2 mons -3 days 04:05:06.7',
      'a0eebc99-9c0b-4ef8-bb6d-6bb9bd380a11', '{\"b\": 1,  \"a\": [1, 2]}', '{\"b\": 1, \"a\": null}', '{1,NULL,3}', '{\"a b\",NULL,\"NULL\",\"\"}',
      '{{1.5,2.5},{3.5,4.5}}', 'over ''ripe''', '{hard,ripe}', '(7,\"top, left\")', '192.0.2.0/24', '[3,9)', '101', 7)",
    "(-9223372036854775808, '', false, -32768, -2147483648, -9223372036854775808, '-Infinity', 'NaN',
      'NaN', 'NaN', 'NaN', '-99999999999999999999', 'NaN',
      E'tab\\tline\\nback\\\\slash \\\\N \\\\.', '', '', '',
      'infinity', '00:00', '-infinity', 'infinity', '-1 day',
      '00000000-0000-0000-0000-000000000000', 'null', '\"\"', '{}', '{}', '{}', 'hard', '{}', '(,)', '::1', 'empty', '', -1)",
    "(0, 'it''s', NULL, NULL, NULL, NULL, NULL, NULL, NULL, NULL, NULL, NULL, NULL, NULL, NULL, NULL, NULL,
      NULL, NULL, NULL, NULL, NULL, NULL, NULL, NULL, NULL, NULL, NULL, NULL, NULL, NULL, NULL, NULL, NULL, NULL)",
    "(2, E'new\\nline', true, 0, 0, 0, -0.0, 4.9e-324, -0.1, -0.0000000001, 0, 0, 1,
      repeat('élan ✓ 🍐 ', 900), 'ünïcödé', 'ab', decode(repeat('00ff', 5000), 'hex'),
      '0044-03-15 BC', '12:00', '0001-01-01 00:00:00 BC', '1969-12-31 23:59:59.999Z', '178000000 years',
      'ffffffff-ffff-ffff-ffff-ffffffffffff', '[]', '{}', '{2147483647}', ARRAY['{', '}', ',', E'\\\\'], '{NULL}', 'ripe', NULL, NULL,
      '203.0.113.9', '(,5]', '1', 0)",
    "(3, 'NULL', false, 1, 1, 1, 0.1, 0.1, 1, 1, 123456789012345678901234567890.123456789, 1, 12.3,
      '\\N', '\\N', '\\N', '\\x5c4e', '4713-01-01 BC', '24:00', '294246-12-31 23:59:59.999999', '4714-11-24 00:00:00+00 BC', '0',
      'a0eebc99-9c0b-4ef8-bb6d-6bb9bd380a11', '\"\\u00e9\"', '\"\\u00e9\"', '[0:1]={5,6}', '{\"\\\\\\\\N\"}', '{0.0}', 'ripe', '{NULL}', '(1,)',
      '2001:db8::/32', '[1,1]', '000000000', 5)",
    "(4, '\\N', true, 1, 1, 1, 1e-45, 1e23, 1, 1, 1e20, 1, 1, E'\\r\\n', E'\\b\\f\\v', '-', '\\x', '5874897-12-31', '00:00:00.000001',
      '2000-01-01', '2000-01-01Z', '1.5 sec', NULL, '1', '1', '{}', '{}', '{}', 'hard', '{hard}', '(1,\"\"\"\")', '0.0.0.0', '(1,2)', '1', 1)",
];

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn what_arrives_is_what_the_source_shows() {
    let world = World::new().await;
    let source = world.cluster.connect("packhouse").await.unwrap();
    let target = world.cluster.connect("settlement").await.unwrap();
    source.batch_execute(TABLE).await.unwrap();
    for row in &ROWS[..3] {
        source.batch_execute(&format!("INSERT INTO samples VALUES {row}")).await.unwrap_or_else(|e| panic!("{row}: {e:?}"));
    }
    // the columns whose values travel in binary form both ways, in a connector of their own: one other makes all of it text
    let plain = "id, part, yes, small, plain, large, single, double, weight, exact, whole, note, short, padded, raw, day, moment, instant";
    source
        .batch_execute(&format!(
            "CREATE TABLE plain_samples AS SELECT {plain} FROM samples; ALTER TABLE plain_samples ADD PRIMARY KEY (part, id)"
        ))
        .await
        .unwrap();
    let mut from = world.source(&["plain_samples"], 2).await;
    from.load.chunks = 2;
    world.connector("plain-from", from).await;
    world.connector("plain-to", world.sink(&["plain_samples"]).await).await;
    let (source_id, _) = world.flow(&["samples"], 2).await;
    let fleet = world.fleet();
    world.until_state(source_id, State::Following).await;
    world.until_equal(&source, &target, &["samples"]).await;
    for row in &ROWS[3..] {
        source.batch_execute(&format!("INSERT INTO samples VALUES {row}")).await.unwrap_or_else(|e| panic!("{row}: {e:?}"));
    }
    // enough at once for COPY, and updates of every column in both directions
    source
        .batch_execute(
            "INSERT INTO samples (id, part, weight, note, raw, numbers, doc)
               SELECT n, 'many', n / 10.0, E'a\\tb' || n, decode(lpad(to_hex(n), 8, '0'), 'hex'), ARRAY[n, n], to_json(n)
               FROM generate_series(1, 400) n;
             UPDATE samples s SET weight = o.weight, note = o.note, day = o.day, moment = o.moment, numbers = o.numbers, ripe = o.ripe,
               spot = o.spot, \"Odd \"\"Name\"\"\" = 9 FROM samples o WHERE o.id = s.id + 1 AND s.part <> 'many';
             UPDATE samples SET part = part || '+' WHERE id IN (0, 2);
             DELETE FROM samples WHERE part = 'many' AND id % 3 = 0;",
        )
        .await
        .unwrap();
    world.until_equal(&source, &target, &["samples"]).await;
    source
        .batch_execute(&format!(
            "INSERT INTO plain_samples SELECT {plain} FROM samples s WHERE NOT EXISTS
               (SELECT 1 FROM plain_samples p WHERE (p.part, p.id) = (s.part, s.id));
             UPDATE plain_samples p SET weight = s.weight, exact = s.exact, double = s.double, day = s.day, raw = s.raw
               FROM samples s WHERE s.id = p.id + 1; DELETE FROM plain_samples WHERE id = 0; UPDATE plain_samples SET part = 'key ' || part"
        ))
        .await
        .unwrap();
    world.until_equal(&source, &target, &["plain_samples"]).await;
    // a column without a binary form comes in the middle: the session goes on as text, and nothing is lost
    source
        .batch_execute(
            "ALTER TABLE plain_samples ADD COLUMN span interval, ADD COLUMN tag uuid; UPDATE plain_samples SET span = '1 day', weight = 2.5 WHERE id = 1;
             INSERT INTO plain_samples (id, part, tag) VALUES (77, 'new', 'a0eebc99-9c0b-4ef8-bb6d-6bb9bd380a11')",
        )
        .await
        .unwrap();
    world.until_equal(&source, &target, &["plain_samples"]).await;
    // the table that was made is like the source's, but for types that the target does not have
    let types = "SELECT string_agg(attname || ' ' || format_type(atttypid, atttypmod), ', ' ORDER BY attname) FROM pg_attribute
                 WHERE attrelid = 'samples'::regclass AND attnum > 0 AND attname NOT IN ('ripe', 'ripes', 'spot', 'weighed')";
    let shape = |row: tokio_postgres::Row| row.get::<_, String>(0);
    assert_eq!(shape(source.query_one(types, &[]).await.unwrap()), shape(target.query_one(types, &[]).await.unwrap()));
    fleet.stop().await;
}
