import { Button, Group, TextInput } from '@mantine/core';
import { useState, type ReactNode } from 'react';

import type { Problem } from '../api/client';
import { Dialog } from './Dialog';
import { ProblemNote } from './ProblemNote';

interface Props {
  name: string;
  title: string;
  action: string;
  children: ReactNode;
  problem: Problem | null;
  busy: boolean;
  /** It cannot be done as things are. */
  blocked?: boolean;
  onClose: () => void;
  onConfirm: () => void;
}

/** A dangerous action: says what will be lost and asks for the name. */
export function ConfirmByName({ name, title, action, children, problem, busy, blocked, onClose, onConfirm }: Props) {
  const [typed, setTyped] = useState('');
  return (
    <Dialog opened onClose={onClose} title={title}>
      <form
        onSubmit={(event) => {
          event.preventDefault();
          if (typed === name && !blocked) onConfirm();
        }}
      >
        <ProblemNote problem={problem} />
        {children}
        {!blocked && (
          <TextInput
            mt="md"
            label={
              <>
                To go on, type the name <span className="mono">{name}</span>
              </>
            }
            value={typed}
            onChange={(event) => setTyped(event.currentTarget.value)}
            data-autofocus
            autoComplete="off"
          />
        )}
        <Group mt="md" justify="flex-end">
          <Button variant="default" onClick={onClose}>
            Keep it
          </Button>
          {!blocked && (
            <Button type="submit" color="apricot.8" disabled={typed !== name} loading={busy}>
              {action}
            </Button>
          )}
        </Group>
      </form>
    </Dialog>
  );
}
