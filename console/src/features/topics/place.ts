import type { TopicRecord } from './topicsQueries';

/** What tells one record of a topic from all others. */
export function place(record: TopicRecord): string {
  return `${record.partition}:${record.offset}`;
}
