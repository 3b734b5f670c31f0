import { describe, expect, it } from 'vitest';

import {
  arraysIn,
  elementFields,
  filledFrom,
  identityOf,
  othersOf,
  seen,
  summary,
  taken,
  withColumn,
  withExpand,
  withField,
  withIdentity,
  withOthers,
  withPart,
  type EventRows,
} from './eventRows';

const rows: EventRows = {
  columns: [
    { name: 'room', type: 'bigint', path: ['room'] },
    { name: 'door_open', type: 'boolean', path: ['door', 'open'] },
    { name: 'record_partition', type: 'integer', part: 'partition', key: true },
    { name: 'record_offset', type: 'bigint', part: 'offset', key: true },
  ],
};

describe('how events become rows', () => {
  it('says what identifies a row, and marks what does', () => {
    expect(identityOf(rows)).toBe('place');
    expect(summary(rows)).toBe('4 columns · each record a row');
    const keyed = withIdentity(rows, 'key');
    expect(keyed.columns.filter((c) => c.key).map((c) => c.name)).toEqual(['record_key']);
    expect(summary(keyed)).toBe('5 columns · the newest of each key');
    const chosen = withIdentity({ ...keyed, newest_by: 'record_offset' }, 'columns');
    expect([identityOf(chosen), chosen.newest_by]).toEqual(['columns', 'record_offset']);
    expect(summary(chosen)).toBe('5 columns · the newest of each room');
    const back = withIdentity(chosen, 'place');
    expect([identityOf(back), back.newest_by]).toEqual(['place', undefined]);
    expect(back.columns).toHaveLength(5);
  });

  it('keeps, leaves out or refuses fields without a column', () => {
    const kept = withOthers(rows, 'rest');
    expect([othersOf(rows), othersOf(kept), kept.columns.length]).toEqual(['leave_out', 'rest', 5]);
    const refused = withOthers(kept, 'quarantine');
    expect([othersOf(refused), refused.columns.length]).toEqual(['quarantine', 4]);
    expect(withOthers(refused, 'leave_out')).toEqual(rows);
  });

  it('adds each part once and each name once', () => {
    expect(withPart(rows, 'offset')).toBe(rows);
    const more = withField(rows, 'field', ['Door', 'Open'], 'text');
    expect(more.columns[4]).toEqual({ name: 'door_open_2', type: 'text', path: ['Door', 'Open'] });
    expect([taken(more, 'field', ['Door', 'Open']), taken(more, 'field', ['Door'])]).toEqual([true, false]);
    expect(withField(rows, 'header', ['ce-type'], 'text').columns[4]).toEqual({
      name: 'ce_type',
      type: 'text',
      part: 'header',
      path: ['ce-type'],
    });
    expect(more.columns.map(filledFrom)).toEqual(['room', 'door › open', 'its partition', 'its offset', 'Door › Open']);
  });

  it('finds the newest by its column, whatever that is called', () => {
    const newest = { ...rows, newest_by: 'room' };
    expect(withColumn(newest, 0, { name: 'room_no' }).newest_by).toBe('room_no');
    expect(withColumn(newest, 0, null).newest_by).toBeUndefined();
    expect(withColumn(newest, 1, null).newest_by).toBe('room');
  });

  it('says how often a field was there and as what', () => {
    const field = {
      path: ['celsius'],
      present: 30,
      null: 2,
      types: [{ what: 'number', records: 28 }],
      declared: false,
    };
    expect(seen(field, 30)).toBe('always · number · null 2');
    expect(seen({ ...field, types: [...field.types, { what: 'text', records: 1 }] }, 40)).toBe(
      'in 75 % · number 28, text 1 · null 2',
    );
    expect(seen({ ...field, present: 1, null: 0 }, 400)).toBe('1 time · number');
    expect(seen({ ...field, present: 0, null: 0, types: [] }, 40)).toBe('never yet');
  });

  it('makes a row of each element of an array, with columns for what it holds, and back', () => {
    const field = (path: string[], what: string, type: string) => ({
      path,
      present: 3,
      null: 0,
      types: [{ what, records: 3 }],
      type,
      declared: false,
    });
    const fields = [
      field(['room'], 'whole number', 'bigint'),
      field(['lots'], 'array', 'jsonb'),
      field(['lots', '[]'], 'object', 'jsonb'),
      field(['lots', '[]', 'lot'], 'whole number', 'bigint'),
      field(['lots', '[]', 'room'], 'text', 'text'),
      field(['tags'], 'array', 'jsonb'),
      field(['tags', '[]'], 'text', 'text'),
    ];
    expect(arraysIn(fields)).toEqual([['lots'], ['tags']]);
    const whole = withField(rows, 'field', ['lots'], 'jsonb');
    const each = withExpand(whole, ['lots'], fields);
    expect(each.columns.map((c) => c.name)).toEqual([
      'room',
      'door_open',
      'record_partition',
      'record_offset',
      'lot',
      'room_2',
      'place',
    ]);
    expect(each.columns.filter((c) => c.key).map((c) => c.part)).toEqual(['partition', 'offset', 'place']);
    expect([identityOf(each), summary(each)]).toEqual(['place', '7 columns · a row for each of lots']);
    expect(elementFields(each, fields).map((f) => f.path)).toEqual([[], ['lot'], ['room']]);
    expect(each.columns.map(filledFrom)).toContain('each element › lot');
    // single values are one column
    expect(withExpand(each, ['tags'], fields).columns.filter((c) => c.part === 'element')).toEqual([
      { name: 'element', type: 'text', part: 'element', path: [] },
    ]);
    const back = withExpand(each, null, fields);
    expect([back.expand, identityOf(back), back.columns.length]).toEqual([undefined, 'place', 4]);
  });
});
