import { useQuery } from '@tanstack/react-query';

import { count, counted } from '../../shared/format';
import { When } from '../../shared/When';
import { keeperQuery } from './topicsQueries';

/** What the keeper did since it started and what waits for it. */
export function KeeperLine() {
  const keeper = useQuery(keeperQuery).data;
  if (!keeper?.at) return null;
  const waits = [
    [keeper.small_blocks_waiting, 'small blocks to merge'],
    [keeper.latest_waiting, 'partitions to rid of older records of a key'],
    [keeper.drops_waiting, 'deleted topics and files to remove'],
  ] as const;
  const waiting = waits.filter(([n]) => n > 0).map(([n, what]) => `${count(n)} ${what}`);
  return (
    <section className="keeper" aria-label="Keeper">
      {keeper.failure && (
        <div className="note">
          <strong>The keeper could not do all its work.</strong> {keeper.failure}. It tries again within a minute.
        </div>
      )}
      <p className="quiet">
        The keeper merged {counted(keeper.merged_blocks, 'small block')}, forgot{' '}
        {counted(keeper.forgotten_records, 'record')}, removed {count(keeper.superseded_records)} older records of a key
        and moved {count(keeper.moved_blocks)} blocks to object storage since it started. Waiting:{' '}
        {waiting.join(', ') || 'nothing'}. Seen <When time={keeper.at} />.
      </p>
    </section>
  );
}
