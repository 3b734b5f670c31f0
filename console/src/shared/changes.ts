import type { Schemas } from '../api/client';

export type Change = Schemas['Change'];
export type ObjectKind = Schemas['ObjectKind'];

interface Listed {
  id?: string;
  name?: string;
}

/** What a change calls an object: its id, or its name where it has none. */
const idOf = (object: Listed) => object.id ?? object.name ?? '';

/** Lists that are being read, each with what was told of its objects meanwhile. */
const reading = new Set<{ kind: ObjectKind; told: Change[] }>();

/** Has what was told count for lists that are being read: their answers may be older. */
export function told(changes: Change[]) {
  for (const list of reading) list.told.push(...changes.filter((change) => change.kind === list.kind));
}

/** Reads a list of objects that is kept current: as it was answered, with what was told since it was asked for. */
export async function current<T extends Listed>(kind: ObjectKind, read: () => Promise<T[]>): Promise<T[]> {
  const here = { kind, told: [] };
  reading.add(here);
  try {
    return changed(await read(), here.told);
  } finally {
    reading.delete(here);
  }
}

/** A list after changes of its objects. It stays the same list where none of them concerns it. */
export function changed<T extends Listed>(list: T[], changes: Change[]): T[] {
  const newest = new Map(changes.map((change) => [change.id, change.object as T | undefined]));
  if (newest.size === 0) return list;
  const out: T[] = [];
  for (const object of list) {
    const id = idOf(object);
    const now = newest.has(id) ? newest.get(id) : object;
    newest.delete(id);
    if (now !== undefined) out.push(now);
  }
  const made = [...newest.values()].filter((object) => object !== undefined);
  return made.length === 0 ? out : [...out, ...made].sort(byName);
}

// as the server orders names: by their code points
const byName = ({ name: a = '' }: Listed, { name: b = '' }: Listed) => (a < b ? -1 : Number(a > b));
