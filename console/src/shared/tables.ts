/** A table by its schema and name; of a system without schemas, as of files, by its name alone. */
export interface TableName {
  schema?: string;
  table: string;
}

/** A table as it is known by: with its schema, where there are schemas. */
export function keyOf({ schema = '', table }: TableName): string {
  return schema === '' ? table : `${schema}.${table}`;
}

/**
 * Whether a pattern is for a table: `*` stands for any characters, `?` for one. Without a dot it is for any schema; of any schema is also of
 * none, where a name's dots are its own.
 */
export function covers(pattern: string, table: TableName): boolean {
  const ofNone = (table.schema ?? '') === '';
  const named = ofNone ? pattern.replace(/^\*\./, '') : pattern.includes('.') ? pattern : `*.${pattern}`;
  const source = named
    .replace(/[.+^${}()|[\]\\]/g, '\\$&')
    .replace(/\*/g, '.*')
    .replace(/\?/g, '.');
  return new RegExp(`^${source}$`, 's').test(keyOf(table));
}
