import { TextInput } from '@mantine/core';
import { useDebouncedCallback } from '@mantine/hooks';
import { useEffect, useState } from 'react';
import { useSearchParams } from 'react-router';

/** A list's filter, which stands in the address: a moment after it was typed, so that no letter waits for the address. */
export function useFilter(name = 'q'): [string, (text: string) => void] {
  const [search, setSearch] = useSearchParams();
  const inAddress = search.get(name) ?? '';
  const [typed, setTyped] = useState(inAddress);
  const [written, setWritten] = useState(inAddress);
  const [seen, setSeen] = useState(inAddress);
  if (inAddress !== seen) {
    setSeen(inAddress);
    // a link or the way back, not what was typed here
    if (inAddress !== written) setTyped(inAddress);
  }
  const write = useDebouncedCallback((text: string) => {
    setWritten(text);
    setSearch(
      (before) => {
        if (text === '') before.delete(name);
        else before.set(name, text);
        return before;
      },
      { replace: true },
    );
  }, 150);
  // before anything else is done: an address that is written later would take back a way that has begun
  useEffect(() => {
    const left = () => write.flush();
    document.addEventListener('focusout', left);
    return () => document.removeEventListener('focusout', left);
  }, [write]);
  const set = (text: string) => {
    setTyped(text);
    write(text);
  };
  return [typed, set];
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
