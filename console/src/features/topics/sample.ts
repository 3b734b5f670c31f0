/** A value that fits an Avro schema, to begin with. */

type Named = Map<string, unknown>;

function isObject(value: unknown): value is Record<string, unknown> {
  return typeof value === 'object' && value !== null && !Array.isArray(value);
}

const PRIMITIVES: Record<string, unknown> = {
  null: null,
  boolean: false,
  int: 0,
  long: 0,
  float: 0,
  double: 0,
  bytes: '\\x',
  string: '',
};

function byLogical(schema: Record<string, unknown>): unknown {
  switch (schema.logicalType) {
    case 'decimal':
      return '0' + (Number(schema.scale ?? 0) > 0 ? `.${'0'.repeat(Number(schema.scale))}` : '');
    case 'date':
      return '2026-11-25';
    case 'timestamp-micros':
    case 'timestamp-millis':
      return '2026-11-25T09:30:00Z';
    case 'local-timestamp-micros':
      return '2026-11-25T09:30:00';
    case 'uuid':
      return '00000000-0000-0000-0000-000000000000';
    default:
      return undefined;
  }
}

export function sample(schema: unknown, named: Named = new Map(), depth = 0): unknown {
  if (depth > 8) return null;
  if (typeof schema === 'string') {
    if (schema in PRIMITIVES) return PRIMITIVES[schema];
    return named.has(schema) ? sample(named.get(schema), named, depth + 1) : null;
  }
  if (Array.isArray(schema)) {
    // the branch that says something, unless it leads back to where it came from
    const telling = schema.find((s) => s !== 'null' && !(typeof s === 'string' && named.has(s))) ?? 'null';
    return sample(telling, named, depth + 1);
  }
  if (!isObject(schema)) return null;
  if (typeof schema.name === 'string') {
    named.set(schema.name, schema);
    if (typeof schema.namespace === 'string') named.set(`${schema.namespace}.${schema.name}`, schema);
  }
  const meant = byLogical(schema);
  if (meant !== undefined) return meant;
  switch (schema.type) {
    case 'record': {
      const fields = Array.isArray(schema.fields) ? (schema.fields as Record<string, unknown>[]) : [];
      const entry = (field: Record<string, unknown>) => [
        typeof field.sourceName === 'string' ? field.sourceName : String(field.name),
        sample(field.type, named, depth + 1),
      ];
      return Object.fromEntries(fields.map(entry)) as unknown;
    }
    case 'enum':
      return Array.isArray(schema.symbols) ? (schema.symbols[0] as unknown) : null;
    case 'array':
      return [];
    case 'map':
      return {};
    case 'fixed':
      return `\\x${'00'.repeat(Number(schema.size ?? 0))}`;
    default:
      return sample(schema.type, named, depth + 1);
  }
}
