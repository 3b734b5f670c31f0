// No kind of system is named outside its folder: what differs from one to another is the kind's own. Comments may tell of an example.
import { readFileSync, readdirSync } from 'node:fs';
import { join } from 'node:path';

/** Words of PostgreSQL's own: types, settings, its usual schema, what is made in it, positions. */
const WORDS = /postgres|'public'|"public"|pgoutput|\blsn\b|\bwal\b|replication slot|\bpublication\b|\bpg_\w|'0\/[0-9A-F]+'|"0\/[0-9A-F]+"/i;
const WHERE = [
  'core', 'manifests', 'runtime', 'server', 'http-api', 'command-line', 'port-contracts', 'events', 'shape', 'record-files', 'connectors',
].map((name) => `crates/${name}/src`);
const OWN = ['crates/connectors/src/postgres/'];
/** What is meant there is another thing. */
const MEANT = [
  ['crates/core/src/ports/error.rs', 'check that PostgreSQL is up', 'Gonvel’s own database'],
  ['crates/http-api/src/problem_type.rs', 'check that PostgreSQL is up', 'the same'],
  ['crates/connectors/src/kinds.rs', 'crate::postgres::kind::Postgres', 'the line of registration'],
  ['crates/connectors/src/lib.rs', 'pub mod postgres;', 'the line of registration'],
  ...['own', 'parse', 'ty'].map((name) => [`crates/shape/src/${name}.rs`, 'PostgreSqlDialect', 'the dialect of SQL that shapes are written in']),
  ['crates/shape/src/bind/calls.rs', 'pg_catalog.', 'the same: a function called by its whole name'],
  ['crates/events/src/form.rs', 'schema: "public"', 'the schema of rows of events, which rules written for them name'],
  ['console/src/features/builder/ShapeStage.tsx', "schema: 'public'", 'the same'],
  ['console/src/shared/shape/SqlField.tsx', 'PostgreSQL', 'the dialect of SQL that shapes are written in'],
];

function* files(folder) {
  for (const entry of readdirSync(folder, { withFileTypes: true })) {
    const path = join(folder, entry.name);
    if (entry.isDirectory()) yield* files(path);
    else if (/\.(rs|ts|tsx)$/.test(entry.name)) yield path;
  }
}

let found = 0;
let looked = 0;
for (const folder of [...WHERE, 'console/src']) {
  for (const path of files(folder)) {
    if (OWN.some((own) => path.startsWith(own)) || /(\.test\.|_tests?\.rs|\/tests\.rs|api\/types\.ts)/.test(path)) continue;
    looked += 1;
    let tests = false;
    for (const [number, line] of readFileSync(path, 'utf8').split('\n').entries()) {
      tests ||= /^#\[cfg\(test\)\]/.test(line);
      const code = line.replace(/\/\/.*$/, '').replace(/^\s*\*.*$/, '').replace(/\/\*.*?\*\//, '');
      if (tests || !WORDS.test(code) || MEANT.some(([file, text]) => path === file && code.includes(text))) continue;
      console.error(`${path}:${number + 1}: ${line.trim()}`);
      found += 1;
    }
  }
}
if (found > 0) {
  console.error(`${found} lines name a kind of system outside its folder: let the kind say it (core/ports/systems, core/kinds)`);
  process.exit(1);
}
console.log(`${looked} files: no kind of system is named outside its folder`);
