import { ActionIcon, Button, Group, TextInput } from '@mantine/core';

import type { Schemas } from '../../api/client';
import { replaced, removed, type MadeRow } from './shape';

/** Rows that may be made. */
const MOST = 3;

interface Props {
  tried: Schemas['TriedShape'] | undefined;
  made: readonly MadeRow[];
  onChange: (made: MadeRow[]) => void;
}

/** Rows that a person makes up, to see what becomes of what has not come yet. Nothing of them is kept. */
export function MadeRows({ tried, made, onChange }: Props) {
  const columns = tried?.columns ?? [];
  const add = () => {
    const like = tried?.rows[0]?.cells ?? [];
    onChange([...made, Object.fromEntries(columns.map((column, n) => [column.name, like[n] ?? null]))]);
  };
  return (
    <details className="further" open={made.length > 0 || undefined}>
      <summary>Rows of your own</summary>
      {made.length === 0 && (
        <p className="quiet">What if a value were missing, or much too long? Make a row, and see.</p>
      )}
      {made.map((row, n) => (
        <fieldset className="maderow" key={n}>
          <legend>
            Made row {n + 1}
            <ActionIcon
              variant="subtle"
              aria-label={`Take made row ${n + 1} out`}
              onClick={() => onChange(removed(made, n))}
            >
              ×
            </ActionIcon>
          </legend>
          {columns.map((column) => {
            const value = row[column.name] ?? null;
            const set = (to: string | null) => onChange(replaced(made, n, { ...row, [column.name]: to }));
            return (
              <TextInput
                key={column.name}
                size="xs"
                label={column.name}
                placeholder="null"
                value={value ?? ''}
                onChange={(e) => set(e.currentTarget.value)}
                rightSectionWidth={44}
                rightSection={
                  value === null || column.key ? null : (
                    <Button
                      size="compact-xs"
                      variant="subtle"
                      aria-label={`${column.name} null`}
                      onClick={() => set(null)}
                    >
                      null
                    </Button>
                  )
                }
              />
            );
          })}
        </fieldset>
      ))}
      <Group mt="xs">
        <Button
          size="compact-xs"
          variant="default"
          disabled={columns.length === 0 || made.length >= MOST}
          onClick={add}
        >
          Make a row
        </Button>
      </Group>
    </details>
  );
}
