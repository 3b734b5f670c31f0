import { type InputWrapperProps, NumberInput, PasswordInput, Select, Textarea, TextInput } from '@mantine/core';

import type { Setting } from './connectionsQueries';

interface Props {
  setting: Setting;
  text: string | undefined;
  error: string | undefined;
  /** Whether a secret is kept where none is typed. */
  kept: boolean;
  onText: (text: string | undefined) => void;
}

/** What it is for stands below, so that fields of a line stand in line. */
export const helpBelow: InputWrapperProps['inputWrapperOrder'] = ['label', 'input', 'error', 'description'];

/** The field of a setting, by what it takes. */
export function SettingField({ setting, text, error, kept, onText }: Props) {
  const common = {
    label: setting.label,
    description: setting.help || undefined,
    error,
    required: setting.needed,
    inputWrapperOrder: helpBelow,
  };
  const { takes } = setting;
  if (setting.secret && takes.is !== 'lines') {
    return (
      <PasswordInput
        {...common}
        style={{ flex: '1 1 0' }}
        placeholder={kept ? 'unchanged' : ''}
        value={text ?? ''}
        onChange={(e) => onText(e.currentTarget.value || undefined)}
        autoComplete="new-password"
      />
    );
  }
  switch (takes.is) {
    case 'whole':
      return (
        <NumberInput
          {...common}
          style={{ flex: '0 1 8rem' }}
          min={takes.least}
          max={takes.most}
          hideControls
          allowDecimal={false}
          value={text ?? ''}
          onChange={(value) => onText(String(value))}
        />
      );
    case 'choice':
      return (
        <Select
          {...common}
          data={takes.choices.map((choice) => ({ value: choice.value, label: choice.says }))}
          value={text ?? setting.usual ?? null}
          onChange={(value) => onText(value ?? undefined)}
        />
      );
    case 'lines':
    case 'pairs':
      return (
        <Textarea
          {...common}
          autosize
          minRows={takes.is === 'lines' ? 2 : 1}
          maxRows={takes.is === 'lines' ? 6 : undefined}
          classNames={{ input: 'mono' }}
          style={{ flex: '1 1 100%' }}
          placeholder={setting.secret && kept ? 'unchanged' : ''}
          value={text ?? ''}
          onChange={(e) => onText(e.currentTarget.value || undefined)}
        />
      );
    case 'text':
      return (
        <TextInput
          {...common}
          style={{ flex: '1 1 0' }}
          value={text ?? ''}
          onChange={(e) => onText(e.currentTarget.value)}
          autoComplete="off"
        />
      );
  }
}
