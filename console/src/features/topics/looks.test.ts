import { describe, expect, it } from 'vitest';

import { asText, fromBase64, hexLines } from './bytes';
import { draftOf, recordText, sampleDraft } from './draft';
import { stacked, type Flag } from './flags';
import { sample } from './sample';
import { joinSpan, SIZES, SPANS, splitSpan } from './spans';
import { ceiling, path, rates } from './trend';

describe('bytes', () => {
  it('are shown as text only where they are text', () => {
    expect(asText(fromBase64('YmluIDc='))).toBe('bin 7');
    expect(asText(fromBase64('AP8='))).toBeNull();
  });

  it('are shown sixteen a line', () => {
    const lines = hexLines(fromBase64(btoa('weighed at line 2 \n'))).split('\n');
    expect(lines).toEqual([
      '000000  77 65 69 67 68 65 64 20  61 74 20 6c 69 6e 65 20  weighed at line ',
      '000010  32 20 0a                                          2 ·',
    ]);
    expect(hexLines(new Uint8Array(5000))).toMatch(/… 904 bytes more$/);
  });
});

describe('a sample of a schema', () => {
  const bin = {
    type: 'record',
    name: 'Bin',
    fields: [
      { name: 'id', type: 'long' },
      {
        name: 'weight_kg',
        sourceName: 'weight kg',
        type: ['null', { type: 'bytes', logicalType: 'decimal', scale: 2 }],
      },
      { name: 'grade', type: { type: 'enum', name: 'Grade', symbols: ['extra', 'class I'] } },
      { name: 'tags', type: { type: 'array', items: 'string' } },
      { name: 'from', type: ['null', 'Bin'] },
    ],
  };
  it('has every field, and does not go round in a circle', () => {
    expect(sample(bin)).toEqual({ id: 0, 'weight kg': '0.00', grade: 'extra', tags: [], from: null });
  });

  it('begins a record', () => {
    expect(
      sampleDraft('string', { type: 'record', name: 'Key', fields: [{ name: 'id', type: 'long' }] }),
    ).toMatchObject({
      key: '{"id":0}',
      value: '""',
    });
  });
});

describe('the text of a record to append', () => {
  const draft = { key: 'bin-7', value: '{"weight": 18.50}', headers: 'room: 3\nseal', partition: '' };
  it('keeps the value as it was typed', () => {
    expect(recordText(draft, false)).toBe(
      '{"value": {"weight": 18.50}, "key": "bin-7", "headers": [{"name":"room","value":"3"},{"name":"seal","value":""}]}',
    );
  });

  it.each([
    [{ ...draft, key: '{"id": 7}', headers: '' }, true, '{"value": {"weight": 18.50}, "key": {"id": 7}}'],
    [{ ...draft, key: '7', headers: '' }, false, '{"value": {"weight": 18.50}, "key": "7"}'],
    [{ key: '', value: ' ', headers: '', partition: '2' }, false, '{"value": null, "partition": 2}'],
  ])('%j', (draft, latest, text) => expect(recordText(draft, latest)).toBe(text));

  it('begins with a former record', () => {
    const record = { key: { id: 7 }, value: null, headers: [{ name: 'room', value: '3' }] };
    expect(draftOf(record as never)).toEqual({ key: '{"id":7}', value: 'null', headers: 'room: 3', partition: '' });
  });
});

describe('spans and sizes', () => {
  it.each([
    [604_800_000, SPANS, 7, 'd'],
    [90_000, SPANS, 90, 's'],
    [2_000_000_000, SIZES, 2, 'GB'],
    [null, SPANS, null, 'd'],
  ])('%j is split and joined', (value, units, number, unit) => {
    expect(splitSpan(value, units)).toEqual({ number, unit });
    expect(joinSpan(number ?? '', unit, units)).toBe(value);
  });
});

describe('the rate over time', () => {
  const at = (minute: number, appended: number) => ({
    at: new Date(minute * 60_000).toISOString(),
    appended,
    bytes: 0,
  });
  it('is counted between neighbours and is 0 while nothing was noted', () => {
    expect(rates([at(0, 0), at(1, 600), at(11, 1500)])).toEqual([
      { at: 60_000, value: 10 },
      { at: 60_001, value: 0 },
      { at: 570_000, value: 0 },
      { at: 660_000, value: 10 },
    ]);
    expect(rates([at(0, 5)])).toEqual([]);
  });

  it('is drawn to a round scale', () => {
    expect([0, 0.3, 7, 20, 21, 999].map(ceiling)).toEqual([1, 0.5, 10, 20, 50, 1000]);
    expect(
      path(
        [
          { at: 0, value: 0 },
          { at: 10, value: 5 },
        ],
        0,
        10,
        10,
        100,
        50,
      ),
    ).toBe('M0.0,50.0L100.0,25.0');
  });
});

describe('flags on a ruler', () => {
  const flag = (name: string, next: number): Flag => ({ name, next, lag: 0, lagMs: null });
  it.each([
    { at: [0, 50, 100], rows: [0, 0, 0] },
    // the outer one of two neighbours stands above: its pole passes beside the other's name
    { at: [10, 12], rows: [0, 1] },
    { at: [98, 100], rows: [1, 0] },
    { at: [100, 100, 100], rows: [0, 1, 2] },
    { at: [10, 11, 98, 100], rows: [0, 1, 1, 0] },
  ])('at $at stand in rows $rows', ({ at, rows }) => {
    const flags = at.map((next, n) => flag(`pay-${n}`, next));
    const placed = new Map(stacked(flags, 100).map((p) => [p.flag, p.row]));
    expect(flags.map((f) => placed.get(f))).toEqual(rows);
  });
});
