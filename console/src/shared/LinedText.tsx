import { Textarea } from '@mantine/core';

interface Props {
  label: string;
  text: string;
  /** Lines at which something is wrong, from 1. */
  wrong: number[];
  placeholder?: string;
  onType: (text: string) => void;
}

/** A text to type with its lines numbered; those that are wrong are marked. */
export function LinedText({ label, text, wrong, placeholder, onType }: Props) {
  const lines = text.split('\n');
  const marked = new Set(wrong);
  return (
    <div className="editor">
      <div className="gutter mono" aria-hidden>
        {lines.map((_, n) => (
          <div key={n} data-wrong={marked.has(n + 1) || undefined}>
            {marked.has(n + 1) ? '▸' : ''}
            {n + 1}
          </div>
        ))}
      </div>
      <Textarea
        aria-label={label}
        variant="unstyled"
        autosize
        minRows={16}
        spellCheck={false}
        classNames={{ input: 'mono' }}
        value={text}
        placeholder={placeholder}
        wrapperProps={{ style: { flex: 1 } }}
        onChange={(e) => onType(e.currentTarget.value)}
      />
    </div>
  );
}
