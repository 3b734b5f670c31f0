import { Button, Popover, TextInput } from '@mantine/core';
import { useLocalStorage } from '@mantine/hooks';

import { WHO } from '../api/client';

/** Who sits here: a name for histories, kept in this browser. */
export function Person() {
  const [who, setWho] = useLocalStorage<string>({
    key: WHO,
    defaultValue: '',
    serialize: (name) => name,
    deserialize: (name) => name ?? '',
  });
  return (
    <Popover position="bottom-end" trapFocus>
      <Popover.Target>
        <Button variant="subtle" size="compact-sm" title="Your name, for histories">
          {who.trim() === '' ? 'Who are you?' : who}
        </Button>
      </Popover.Target>
      <Popover.Dropdown>
        <TextInput
          label="Your name"
          description="It stands in histories beside what you do; kept in this browser"
          maxLength={200}
          value={who}
          onChange={(e) => setWho(e.currentTarget.value)}
        />
      </Popover.Dropdown>
    </Popover>
  );
}
