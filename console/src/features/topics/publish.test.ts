import { describe, expect, it } from 'vitest';

import { lines, python, type Event } from './publish';

const event: Event = {
  origin: 'http://127.0.0.1:8470',
  topic: 'coldstore.doors',
  key: "room's 3",
  value: { room: 3, open: true, note: "don't", at: null },
};

describe('lines that publish', () => {
  it('quotes for the shell, so that what is sent is what was meant', () => {
    expect(lines('shell', 'json', event)).toBe(
      `curl -sS 'http://127.0.0.1:8470/api/v1/topics/coldstore.doors/records' \\
  -H 'content-type: application/json' \\
  -H 'producer-name: my-application' \\
  -d '{"key":"room'\\''s 3","value":{"room":3,"open":true,"note":"don'\\''t","at":null}}'`,
    );
    const events = lines('shell', 'cloudevents', event);
    expect(events).toContain("-H 'ce-partitionkey: room'\\''s%203'");
    expect(events).toContain("-H 'ce-type: coldstore.doors'");
  });

  it('writes values as the language has them', () => {
    expect(python({ a: [true, false, null, 1.5, 'x"y'] })).toBe('{"a": [True, False, None, 1.5, "x\\"y"]}');
    expect(lines('python', 'json', event)).toContain('"open": True, "note": "don\'t", "at": None');
    expect(lines('go', 'json', { ...event, value: 'a`b' })).toContain(
      '"{\\"key\\":\\"room\'s 3\\",\\"value\\":\\"a`b\\"}"',
    );
    expect(lines('javascript', 'cloudevents', event)).toContain('partitionkey: "room\'s 3"');
  });

  it('leaves out a key that there is none of', () => {
    for (const language of ['shell', 'python', 'javascript', 'go'] as const)
      for (const form of ['json', 'cloudevents'] as const)
        expect(lines(language, form, { ...event, key: null })).not.toMatch(/key/);
  });
});
