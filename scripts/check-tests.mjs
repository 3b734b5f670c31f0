// Fails where a test stands in a crate whose own code is not built for tests: it would never run.
import { execFileSync } from 'node:child_process';
import { readFileSync, readdirSync } from 'node:fs';
import { dirname, join } from 'node:path';

const metadata = JSON.parse(
  execFileSync('cargo', ['metadata', '--format-version', '1', '--no-deps'], { maxBuffer: 1 << 28 }).toString(),
);
const findings = [];
let looked = 0;
for (const crate of metadata.packages) {
  for (const target of crate.targets.filter((target) => target.kind.includes('lib') && !target.test)) {
    const folder = dirname(target.src_path);
    for (const file of readdirSync(folder, { recursive: true }).filter((name) => name.endsWith('.rs'))) {
      looked += 1;
      const text = readFileSync(join(folder, file), 'utf8');
      if (/#\[(test|tokio::test)\b|\bproptest!/.test(text)) findings.push(`${crate.name}: src/${file} holds a test that never runs`);
    }
  }
}
for (const finding of findings) console.error(finding);
if (findings.length > 0) {
  console.error('move it to the crate\'s tests/, or let [lib] be built for tests');
  process.exit(1);
}
console.log(`${looked} files of crates that are tested from outside hold no test of their own`);
