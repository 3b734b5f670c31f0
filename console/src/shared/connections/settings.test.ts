import { describe, expect, it } from 'vitest';

import { settingsOf, settingsText } from './settings';

describe('settings of a session', () => {
  it.each([
    { text: '', settings: {} },
    { text: 'lock_timeout=5s', settings: { lock_timeout: '5s' } },
    {
      text: ' lock_timeout = 5 s \n\nsearch_path=yard,public',
      settings: { lock_timeout: '5 s', search_path: 'yard,public' },
    },
    { text: 'role=a=b', settings: { role: 'a=b' } },
    { text: 'lock_timeout', settings: { lock_timeout: '' } },
  ])('are read from $text', ({ text, settings }) => {
    expect(settingsOf(text)).toEqual(settings);
    expect(settingsOf(settingsText(settingsOf(text)))).toEqual(settings);
  });
});
