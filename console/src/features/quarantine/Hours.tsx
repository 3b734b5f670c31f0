import { count } from '../../shared/format';
import { heights } from './said';

/** How many records came in each of the last 24 hours. */
export function Hours({ byHour }: { byHour: number[] }) {
  const says = `${count(byHour.reduce((sum, n) => sum + n, 0))} in the last 24 hours, ${count(byHour[23] ?? 0)} in the last one`;
  return (
    <svg className="hours" width="144" height="28" viewBox="0 0 144 28" role="img" aria-label={says}>
      <title>{says}</title>
      <line x1="0" y1="27.500" x2="144" y2="27.500" stroke="var(--hairline)" />
      {heights(byHour).map((height, hour) => (
        <rect
          key={hour}
          x={hour * 6 + 1}
          width="4"
          y={27 - Math.max(height * 25, height > 0 ? 2 : 0)}
          height={Math.max(height * 25, height > 0 ? 2 : 0)}
          fill="var(--warn)"
        />
      ))}
    </svg>
  );
}
