// Fails when files of a crate use each other in a circle: what is in one is then one idea, or one function stands in the wrong file.
// What a file uses is read from its paths (`use`, `crate::`, `super::`, the modules it declares); names that a module only passes
// on count for the file they come from.
import { readFileSync, readdirSync } from 'node:fs';
import { join } from 'node:path';

/** The text without comments, strings, and what only tests see, which may use everything. */
function bare(text) {
  let out = '';
  let at = 0;
  const literal = /\/\/[^\n]*|\/\*[\s\S]*?\*\/|r(#*)"[\s\S]*?"\1|b?"(?:[^"\\]|\\[\s\S])*"|b?'(?:[^'\\]|\\.|\\u\{[^}]*\})'/g;
  for (const found of text.matchAll(literal)) {
    out += text.slice(at, found.index) + ' ';
    at = found.index + found[0].length;
  }
  out += text.slice(at);
  for (;;) {
    const tests = out.match(/#\[cfg\(test\)\]\s*(?:pub\s+)?mod\s+\w+\s*(;|\{)/);
    if (tests === null) return out;
    let end = tests.index + tests[0].length;
    for (let depth = tests[1] === '{' ? 1 : 0; depth > 0; end++) depth += out[end] === '{' ? 1 : out[end] === '}' ? -1 : 0;
    out = out.slice(0, tests.index) + out.slice(end);
  }
}

/** The paths of a `use`, each with the name it gives. */
function unfolded(tree, before = []) {
  const text = tree.trim();
  const group = text.match(/^([\s\S]*?)\{([\s\S]*)\}$/);
  if (group === null) {
    const [path, alias] = text.split(/\s+as\s+/);
    const names = [...before, ...path.split('::').map((n) => n.trim())];
    if (names.at(-1) === 'self') names.pop();
    return [{ path: names, name: alias?.trim() ?? names.at(-1) }];
  }
  const prefix = group[1].split('::').map((n) => n.trim());
  const inner = [];
  let depth = 0;
  let part = '';
  for (const letter of group[2]) {
    if (letter === ',' && depth === 0) {
      inner.push(part);
      part = '';
      continue;
    }
    depth += letter === '{' ? 1 : letter === '}' ? -1 : 0;
    part += letter;
  }
  inner.push(part);
  return inner.filter((p) => p.trim() !== '').flatMap((p) => unfolded(p, [...before, ...prefix.filter((n) => n !== '')]));
}

/** The modules of a crate by their paths. */
function modules(folder) {
  const found = new Map();
  const walk = (at, path) => {
    for (const entry of readdirSync(at, { withFileTypes: true })) {
      const file = join(at, entry.name);
      if (entry.isDirectory()) walk(file, [...path, entry.name]);
      if (!entry.name.endsWith('.rs')) continue;
      const name = entry.name.slice(0, -3);
      const own = ['lib', 'main', 'mod'].includes(name) ? path : [...path, name];
      const text = bare(readFileSync(file, 'utf8'));
      const uses = [...text.matchAll(/(pub(?:\([^)]*\))?\s+)?\buse\s+([^;]+);/g)].flatMap((use) =>
        unfolded(use[2]).map((one) => ({ ...one, passedOn: use[1] !== undefined })),
      );
      const body = text.replace(/(pub(?:\([^)]*\))?\s+)?\buse\s+[^;]+;/g, ' ');
      const key = own.join('::');
      // a crate with both has one root for each: what the program's own uses is the other's
      if (!(found.has(key) && name === 'main')) found.set(key, { file, own, uses, body });
    }
  };
  walk(folder, []);
  return found;
}

function circles(folder) {
  const all = modules(folder);
  const absolute = (path, own) => {
    if (path[0] === 'crate') return path.slice(1);
    let from = own;
    let rest = path;
    if (rest[0] === 'self') rest = rest.slice(1);
    else if (rest[0] === 'super') {
      for (; rest[0] === 'super'; rest = rest.slice(1)) from = from.slice(0, -1);
    } else if (!all.has([...own, path[0]].join('::'))) return undefined;
    return [...from, ...rest];
  };
  const defines = (module, name) =>
    new RegExp(`\\b(?:fn|struct|enum|trait|type|const|static|union|macro_rules!)\\s+${name}\\b`).test(module.body);
  /** The file a path leads to, or undefined where it leads to a module and not into it. */
  const resolve = (path, seen = new Set()) => {
    let depth = 0;
    while (depth < path.length && all.has(path.slice(0, depth + 1).join('::'))) depth++;
    const module = all.get(path.slice(0, depth).join('::'));
    if (module === undefined || depth === path.length) return undefined;
    const name = path[depth];
    const mark = `${module.file} ${name}`;
    if (seen.has(mark)) return module.file;
    seen.add(mark);
    for (const use of module.uses) {
      const to = absolute(use.path, module.own);
      if (to === undefined) continue;
      if (use.name === name) return resolve([...to, ...path.slice(depth + 1)], seen) ?? resolve(to, seen) ?? module.file;
      if (use.name === '*') {
        const there = all.get(to.slice(0, -1).join('::'));
        if (there !== undefined && defines(there, name)) return there.file;
      }
    }
    return module.file;
  };
  const arrows = new Map();
  for (const module of all.values()) {
    const to = new Map();
    const arrow = (path, name) => {
      const file = path && resolve(path);
      if (file !== undefined && file !== module.file) to.set(file, (to.get(file) ?? new Set()).add(name));
    };
    const local = new Map();
    for (const use of module.uses) {
      const path = absolute(use.path, module.own);
      if (path === undefined) continue;
      if (use.name === '*') {
        // all of it may be used
        if (!use.passedOn) arrow([...path.slice(0, -1), '*'], '*');
      } else if (all.has(path.join('::'))) local.set(use.name, path);
      else if (!use.passedOn) arrow(path, use.name);
    }
    for (const key of all.keys()) {
      const path = key === '' ? [] : key.split('::');
      if (path.length === module.own.length + 1 && module.own.every((n, i) => n === path[i])) local.set(path.at(-1), path);
    }
    for (const found of module.body.matchAll(/(?<![\w:])(\w+)((?:::\w+)+)/g)) {
      const rest = found[2].split('::').slice(1);
      if (['crate', 'super', 'self'].includes(found[1])) arrow(absolute([found[1], ...rest], module.own), rest.at(-1));
      else if (local.has(found[1])) arrow([...local.get(found[1]), ...rest], rest[0]);
    }
    arrows.set(module.file, to);
  }
  // Tarjan's strongly connected components
  const index = new Map();
  const low = new Map();
  const stack = [];
  const out = [];
  const visit = (file) => {
    index.set(file, index.size);
    low.set(file, index.get(file));
    stack.push(file);
    for (const next of arrows.get(file).keys()) {
      if (!index.has(next)) {
        visit(next);
        low.set(file, Math.min(low.get(file), low.get(next)));
      } else if (stack.includes(next)) low.set(file, Math.min(low.get(file), index.get(next)));
    }
    if (low.get(file) !== index.get(file)) return;
    const circle = stack.splice(stack.indexOf(file));
    if (circle.length > 1) out.push(circle);
  };
  for (const file of arrows.keys()) if (!index.has(file)) visit(file);
  return out.map((files) => ({
    files: files.sort(),
    arrows: files.flatMap((file) =>
      [...arrows.get(file)].filter(([to]) => files.includes(to)).map(([to, names]) => `${file} -> ${to}: ${[...names].join(', ')}`),
    ),
  }));
}

const found = readdirSync('crates').sort().flatMap((crate) => circles(join('crates', crate, 'src')));
for (const circle of found) console.error(`these files use each other in a circle:\n  ${circle.arrows.join('\n  ')}`);
if (found.length > 0) process.exit(1);
console.log('no circles between files');
