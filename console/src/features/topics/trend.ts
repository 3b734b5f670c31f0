import type { Schemas } from '../../api/client';

/** A line to draw: times in milliseconds, values from 0. */
export interface Point {
  at: number;
  value: number;
}

type Sample = Schemas['TopicSample'];

/** The size over time. */
export function sizes(samples: Sample[]): Point[] {
  return samples.map((s) => ({ at: Date.parse(s.at), value: s.bytes }));
}

/** Records appended a second, between neighbouring samples; a sample is only taken when something changed. */
export function rates(samples: Sample[], every = 90_000): Point[] {
  const out: Point[] = [];
  samples.forEach((sample, n) => {
    const before = samples[n - 1];
    const at = Date.parse(sample.at);
    if (before === undefined) return;
    const ms = at - Date.parse(before.at);
    if (ms <= 0) return;
    // between two samples far apart nothing happened until shortly before the later one
    const span = Math.min(ms, every);
    if (ms > every) {
      out.push({ at: Date.parse(before.at) + 1, value: 0 }, { at: at - span, value: 0 });
    }
    out.push({ at, value: ((sample.appended - before.appended) * 1000) / span });
  });
  return out;
}

/** A round number that is not below a value, for the top of a scale. */
export function ceiling(value: number): number {
  if (value <= 0) return 1;
  const power = 10 ** Math.floor(Math.log10(value));
  return ([1, 2, 5, 10].find((step) => step * power >= value) ?? 10) * power;
}

/** The path of a line within a width and a height. */
export function path(points: Point[], from: number, to: number, top: number, width: number, height: number): string {
  const x = (at: number) => (((at - from) / Math.max(1, to - from)) * width).toFixed(1);
  const y = (value: number) => (height - (value / top) * height).toFixed(1);
  return points.map((p, n) => `${n === 0 ? 'M' : 'L'}${x(p.at)},${y(p.value)}`).join('');
}
