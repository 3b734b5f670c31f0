import { useWindowVirtualizer } from '@tanstack/react-virtual';
import { useRef } from 'react';

import { moveInList } from '../../shared/rowKeys';
import { useAbove } from '../../shared/useAbove';
import { ChangeCard } from './ChangeCard';
import { place } from './place';
import type { TopicRecord } from './topicsQueries';
import type { Form } from './view';

/** Height of a card before it was measured. */
const GUESS = 150;

interface Props {
  records: TopicRecord[];
  form: Form;
  busy: boolean;
  onReuse: (record: TopicRecord) => void;
}

/** Records one below the other; only those near the window are drawn. */
export function RecordList({ records, form, busy, onReuse }: Props) {
  const list = useRef<HTMLDivElement>(null);
  const above = useAbove(list);
  const virtualizer = useWindowVirtualizer({
    count: records.length,
    estimateSize: () => GUESS,
    overscan: 6,
    scrollMargin: above,
    getItemKey: (n) => {
      const record = records[n];
      return record ? place(record) : n;
    },
  });
  return (
    <div
      ref={list}
      onKeyDown={moveInList}
      {...(records.length > 0 && { role: 'feed', 'aria-label': 'Records', 'aria-busy': busy })}
      style={{ height: virtualizer.getTotalSize(), position: 'relative' }}
    >
      {virtualizer.getVirtualItems().map((item) => {
        const record = records[item.index];
        if (!record) return null;
        return (
          <div
            key={item.key}
            ref={virtualizer.measureElement}
            data-index={item.index}
            style={{
              position: 'absolute',
              insetInline: 0,
              top: 0,
              transform: `translateY(${item.start - virtualizer.options.scrollMargin}px)`,
            }}
          >
            <ChangeCard record={record} form={form} onReuse={onReuse} />
          </div>
        );
      })}
    </div>
  );
}
