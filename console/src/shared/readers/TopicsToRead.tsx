import { MultiSelect, Select } from '@mantine/core';
import { useQuery } from '@tanstack/react-query';

import { topicsQuery } from '../topicsQuery';

export type Begins = 'earliest' | 'latest';

interface Props {
  reads: string[];
  onReads: (topics: string[]) => void;
  begins: Begins;
  onBegins: (begins: Begins) => void;
  /** What begins there, where it is not all of them. */
  label?: string;
  /** Whether anything begins. */
  disabled?: boolean;
}

/** Which topics a reader reads, and where it begins in those that are new to it. */
export function TopicsToRead({ reads, onReads, begins, onBegins, label = 'Begins at', disabled = false }: Props) {
  const topics = useQuery(topicsQuery);
  return (
    <>
      <MultiSelect
        mt="sm"
        label="Reads"
        placeholder={reads.length === 0 ? 'Choose topics' : undefined}
        data={(topics.data ?? []).map((t) => t.name)}
        value={reads}
        onChange={onReads}
        searchable
        limit={50}
      />
      <Select
        mt="sm"
        label={label}
        data={[
          { value: 'earliest', label: 'the oldest kept records' },
          { value: 'latest', label: 'what is appended from now on' },
        ]}
        value={begins}
        onChange={(value) => onBegins(value === 'latest' ? 'latest' : 'earliest')}
        disabled={disabled}
      />
    </>
  );
}
