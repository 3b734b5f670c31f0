import { TextInput } from '@mantine/core';
import { useSearchParams } from 'react-router';

/** A list's filter, which stands in the address. */
export function useFilter(name = 'q'): [string, (text: string) => void] {
  const [search, setSearch] = useSearchParams();
  const set = (text: string) =>
    setSearch(
      (before) => {
        if (text === '') before.delete(name);
        else before.set(name, text);
        return before;
      },
      { replace: true },
    );
  return [search.get(name) ?? '', set];
}

export function FilterInput({
  label,
  value,
  onChange,
}: {
  label: string;
  value: string;
  onChange: (text: string) => void;
}) {
  return (
    <TextInput
      size="sm"
      w={280}
      aria-label={label}
      placeholder={label}
      value={value}
      onChange={(event) => onChange(event.currentTarget.value)}
    />
  );
}

/** Whether every word of a filter stands in one of the texts. */
export function fits(filter: string, ...texts: string[]): boolean {
  const all = texts.join(' ').toLowerCase();
  return filter
    .toLowerCase()
    .split(/\s+/)
    .every((word) => all.includes(word));
}
