import { useQuery } from '@tanstack/react-query';

import { problemOf } from '../../api/client';
import { bytes, rate } from '../../shared/format';
import { ProblemNote } from '../../shared/ProblemNote';
import { historyQuery } from './topicsQueries';
import { ceiling, path, rates, sizes, type Point } from './trend';

const WIDTH = 900;
const HEIGHT = 150;

/** A topic's size and the rate at which it grows, over the last day. */
export function Size({ name }: { name: string }) {
  const history = useQuery(historyQuery(name));
  const samples = history.data ?? [];
  const first = samples[0];
  const last = samples[samples.length - 1];
  return (
    <>
      <ProblemNote problem={history.data ? null : problemOf(history.error)} />
      {history.data && samples.length < 2 && (
        <div className="sheet">
          <div className="empty">
            <strong>Nothing to draw yet</strong>
            <p>The size is noted about once a minute while the topic changes, and kept for a day.</p>
          </div>
        </div>
      )}
      {first && last && samples.length >= 2 && (
        <div className="stages" style={{ gridTemplateColumns: 'minmax(0, 1fr)' }}>
          <Trend title="Appended" unit="records a second" points={rates(samples)} format={rate} />
          <Trend title="Stored" unit="compressed" points={sizes(samples)} format={bytes} />
        </div>
      )}
    </>
  );
}

interface TrendProps {
  title: string;
  unit: string;
  points: Point[];
  format: (value: number) => string;
}

function Trend({ title, unit, points, format }: TrendProps) {
  const from = points[0]?.at ?? 0;
  const to = points[points.length - 1]?.at ?? 1;
  const most = Math.max(...points.map((p) => p.value));
  const top = ceiling(most);
  const clock = (at: number) => new Date(at).toLocaleTimeString('en-GB', { hour: '2-digit', minute: '2-digit' });
  const now = points[points.length - 1]?.value ?? 0;
  const line = path(points, from, to, top, WIDTH, HEIGHT);
  return (
    <section className="sheet trend" aria-label={title}>
      <h2>
        {title} <span className="quiet">{unit}</span>
      </h2>
      <div className="plot">
        <div className="scale number">
          <span>{format(top)}</span>
          <span>{format(0)}</span>
        </div>
        <div>
          <svg
            viewBox={`0 0 ${WIDTH} ${HEIGHT}`}
            preserveAspectRatio="none"
            role="img"
            aria-label={`${title} from ${clock(from)} to ${clock(to)}: at most ${format(most)}, now ${format(now)}`}
          >
            <path className="area" d={`${line}L${WIDTH},${HEIGHT}L0,${HEIGHT}Z`} />
            <path className="pen" d={line} vectorEffect="non-scaling-stroke" />
          </svg>
          <div className="times quiet">
            <span>{clock(from)}</span>
            <span>
              most {format(most)}, now {format(now)}
            </span>
            <span>{clock(to)}</span>
          </div>
        </div>
      </div>
    </section>
  );
}
