// Fails when a crate uses one that the layers in docs/architecture.md do not let it use.
import { execFileSync } from 'node:child_process';

/** What each crate may use. `dev` is what only its tests may use besides. */
const MAY_USE = {
  'gonvel-core': { uses: [] },
  'gonvel-manifests': { uses: ['gonvel-core'] },
  'gonvel-shape': { uses: ['gonvel-core'], dev: ['gonvel-stand-ins'] },
  'gonvel-events': { uses: ['gonvel-core', 'gonvel-shape'] },
  'gonvel-port-contracts': { uses: ['gonvel-core'] },
  'gonvel-wire': { uses: ['gonvel-core'] },
  'gonvel-tending': { uses: [] },
  'gonvel-storage': { uses: ['gonvel-core', 'gonvel-tending', 'gonvel-wire'], dev: ['gonvel-port-contracts', 'gonvel-stand-ins', 'gonvel-lake'] },
  'gonvel-connectors': { uses: ['gonvel-core', 'gonvel-shape', 'gonvel-wire'], dev: ['gonvel-port-contracts', 'gonvel-stand-ins'] },
  'gonvel-runtime': {
    uses: ['gonvel-core', 'gonvel-shape', 'gonvel-events', 'gonvel-connectors', 'gonvel-tending'],
    dev: ['gonvel-storage', 'gonvel-stand-ins'],
  },
  'gonvel-http-api': { uses: ['gonvel-core', 'gonvel-manifests'] },
  'gonvel-record-files': { uses: ['gonvel-core'] },
  'gonvel-command-line': { uses: ['gonvel-http-api'] },
  'gonvel-server': {
    uses: [
      'gonvel-core', 'gonvel-manifests', 'gonvel-shape', 'gonvel-events', 'gonvel-runtime', 'gonvel-storage', 'gonvel-http-api', 'gonvel-record-files', 'gonvel-tending',
    ],
    dev: ['gonvel-stand-ins'],
  },
  'gonvel-stand-ins': { uses: [] },
  'gonvel-lake': { uses: [] },
  gonvel: { uses: '*' },
  'gonvel-bench': { uses: '*' },
};
/** Packages that the core must not know: it does no I/O. */
const NOT_IN_CORE = ['tokio', 'diesel', 'diesel-async', 'axum', 'tokio-postgres', 'reqwest', 'hyper'];

const metadata = JSON.parse(
  execFileSync('cargo', ['metadata', '--format-version', '1', '--no-deps'], { maxBuffer: 1 << 28 }).toString(),
);
const findings = [];
for (const crate of metadata.packages) {
  const rule = MAY_USE[crate.name];
  if (rule === undefined) {
    findings.push(`${crate.name} is in no layer: say in scripts/check-arrows.mjs what it may use`);
    continue;
  }
  for (const dependency of crate.dependencies) {
    if (crate.name === 'gonvel-core' && NOT_IN_CORE.includes(dependency.name)) {
      findings.push(`gonvel-core uses ${dependency.name}: the core does no I/O`);
    }
    if (!(dependency.name in MAY_USE) || rule.uses === '*') continue;
    const allowed = dependency.kind === 'dev' ? [...rule.uses, ...(rule.dev ?? [])] : rule.uses;
    if (!allowed.includes(dependency.name)) findings.push(`${crate.name} may not use ${dependency.name}`);
  }
}
for (const finding of findings) console.error(finding);
if (findings.length > 0) process.exit(1);
console.log(`${metadata.packages.length} crates: all arrows point the right way`);
