import type { Schemas } from '../api/client';

export type Change = Schemas['Change'];
export type ObjectKind = Schemas['ObjectKind'];

interface Listed {
  id?: string;
  name: string;
}

/** What a change calls an object: its id, or its name where it has none. */
const idOf = (object: Listed) => object.id ?? object.name;

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
const byName = (a: Listed, b: Listed) => (a.name < b.name ? -1 : Number(a.name > b.name));
