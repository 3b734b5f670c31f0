import { Tooltip } from '@mantine/core';
import { useInterval } from '@mantine/hooks';
import { useState } from 'react';

import { exact, relative } from './format';

/** A time, told from now; the exact one on hover. */
export function When({ time }: { time: string }) {
  const [now, setNow] = useState(() => Date.now());
  useInterval(() => setNow(Date.now()), 1000, { autoInvoke: true });
  return (
    <Tooltip label={exact(time)} multiline style={{ whiteSpace: 'pre-line' }}>
      <time dateTime={time} style={{ whiteSpace: 'nowrap' }}>
        {relative(time, now)}
      </time>
    </Tooltip>
  );
}
