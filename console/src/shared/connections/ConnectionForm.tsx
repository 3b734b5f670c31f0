import { Button, Group, TextInput } from '@mantine/core';
import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query';
import { Fragment, useState } from 'react';

import { fieldOf, problemOf, remedyOf, type Problem } from '../../api/client';
import { Checks } from '../Checks';
import { CopyLine, ProblemNote } from '../ProblemNote';
import {
  connectionsQuery,
  createConnection,
  kindsQuery,
  replaceConnection,
  testUnsaved,
  type Connection,
  type Kind,
  type Setting,
} from './connectionsQueries';
import { fieldsOf, headed, isOfUse, lines, requestOf } from './form';
import { KindPicker } from './KindPicker';
import { kindFor, type Role } from './kinds';
import { helpBelow, SettingField } from './SettingField';

interface Props {
  /** The connection to change; none makes a new one. */
  before?: Connection;
  /** What the connection is for; none for either. */
  role?: Role;
  onSaved: (connection: Connection) => void;
  onCancel?: () => void;
}

/** The kind of system, and then the fields of a connection to one of that kind. */
export function ConnectionForm(props: Props) {
  const kinds = useQuery(kindsQuery);
  const [chosen, setChosen] = useState<string | null>(null);
  if (!kinds.data) return <ProblemNote problem={problemOf(kinds.error)} />;
  const suitable = kinds.data.filter((kind) => kindFor(kind, props.role));
  const only = suitable.length === 1 ? suitable[0]?.kind : null;
  const kind = kinds.data.find((k) => k.kind === (props.before?.kind ?? chosen ?? only));
  if (!kind) return <KindPicker kinds={kinds.data} role={props.role} onPick={setChosen} />;
  const other = props.before || only !== null ? undefined : () => setChosen(null);
  return <KindForm key={kind.kind} {...props} kind={kind} onOther={other} />;
}

interface KindProps extends Props {
  kind: Kind;
  /** Goes back to the choice of the kind, where there is one. */
  onOther: (() => void) | undefined;
}

/** The fields that a kind describes; what is wrong stands beside its field, with the remedy. */
function KindForm({ before, kind, onOther, onSaved, onCancel }: KindProps) {
  const queries = useQueryClient();
  const [name, setName] = useState(before?.name ?? '');
  const [fields, setFields] = useState(() => fieldsOf(kind, before));
  const [opened, setOpened] = useState<string[]>([]);
  const request = () => requestOf(name, kind, fields);
  const test = useMutation({ mutationFn: () => testUnsaved(request()) });
  const save = useMutation({
    mutationFn: () => (before ? replaceConnection(before, request()) : createConnection(request())),
    onSuccess: (made) => {
      void queries.invalidateQueries({ queryKey: connectionsQuery.queryKey });
      onSaved(made);
    },
  });
  const changed = () => {
    test.reset();
    save.reset();
  };
  const failed = test.data?.checks.find((c) => c.outcome === 'failed');
  const problem: Problem | null = problemOf(save.error) ?? problemOf(test.error);
  const at = fieldOf(problem) ?? failed?.field ?? null;
  const finding = problem ? [problem.detail, remedyOf(problem)] : [failed?.finding, failed?.remedy];
  const statement = problem?.statement ?? failed?.statement;
  const besideField = at === 'name' || kind.settings.some((setting) => setting.name === at);
  const error = (field: string) =>
    besideField && field === at
      ? finding
          .filter(Boolean)
          .map((t) => `${t}.`)
          .join(' Remedy: ')
      : undefined;
  const ofUse = kind.settings.filter((setting) => isOfUse(setting, fields));
  const line = (settings: Setting[]) => (
    <Fragment key={settings[0]?.name}>
      <Group mt="sm" grow preventGrowOverflow={false} align="flex-start">
        {settings.map((setting) => (
          <SettingField
            key={setting.name}
            setting={setting}
            text={fields[setting.name]}
            error={error(setting.name)}
            kept={before?.kept_secrets.includes(setting.name) ?? false}
            onText={(text) => {
              setFields((now) => ({ ...now, [setting.name]: text }));
              changed();
            }}
          />
        ))}
      </Group>
      {statement && settings.some((setting) => setting.name === at) && <CopyLine text={statement} />}
    </Fragment>
  );
  return (
    <form
      onSubmit={(event) => {
        event.preventDefault();
        save.mutate();
      }}
    >
      {problem && !besideField && <ProblemNote problem={problem} />}
      {onOther && (
        <Group justify="space-between" align="flex-start" wrap="nowrap" mb="sm">
          <div>
            <strong>{kind.name}</strong>
            <div className="quiet">{kind.says}</div>
          </div>
          <Button variant="subtle" size="compact-sm" onClick={onOther}>
            Another kind
          </Button>
        </Group>
      )}
      <TextInput
        label="Name"
        description="How it is called in Gonvel: letters, digits, dots, dashes"
        inputWrapperOrder={helpBelow}
        value={name}
        error={error('name')}
        onChange={(e) => {
          setName(e.currentTarget.value);
          changed();
        }}
        required
        data-autofocus
        autoFocus={onOther !== undefined}
      />
      {lines(ofUse.filter((setting) => !setting.under)).map(line)}
      {headed(ofUse).map(([heading, settings]) => (
        <details
          key={heading}
          className="further"
          open={opened.includes(heading) || settings.some((setting) => setting.name === at)}
          onToggle={(event) => {
            // one that was opened for what is wrong in it stays open when that is mended
            const { open } = event.currentTarget;
            setOpened((now) => [...now.filter((other) => other !== heading), ...(open ? [heading] : [])]);
          }}
        >
          <summary>{heading}</summary>
          {lines(settings).map(line)}
        </details>
      ))}
      {statement && at === 'name' && <CopyLine text={statement} />}
      {test.data && !failed && (
        <div className="note well" style={{ marginTop: 14 }}>
          Answered in {test.data.took_ms} ms.
          <Checks checks={test.data.checks} />
        </div>
      )}
      {failed && !besideField && <Checks checks={[failed]} />}
      <Group mt="md" justify="flex-end">
        {onCancel && (
          <Button variant="subtle" onClick={onCancel}>
            Cancel
          </Button>
        )}
        <Button
          variant="default"
          loading={test.isPending}
          onClick={() => test.mutate()}
          disabled={
            before && kind.settings.some((s) => before.kept_secrets.includes(s.name) && fields[s.name] === undefined)
          }
        >
          Test
        </Button>
        <Button type="submit" loading={save.isPending}>
          {before ? 'Save' : 'Save connection'}
        </Button>
      </Group>
    </form>
  );
}
