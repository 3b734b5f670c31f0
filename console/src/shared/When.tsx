import { exact, relative } from './format';
import { useNow } from './useNow';

/** A time, told from now; the exact one on hover. A list shows hundreds: the hint is the browser's own. */
export function When({ time }: { time: string }) {
  const now = useNow();
  return (
    <time dateTime={time} title={exact(time)} style={{ whiteSpace: 'nowrap' }}>
      {relative(time, now)}
    </time>
  );
}
