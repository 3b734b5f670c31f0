/** Numbers, sizes, spans and times as people read them. */

const whole = new Intl.NumberFormat('en-GB', { maximumFractionDigits: 0 });

export function count(value: number): string {
  return whole.format(value);
}

/** A number of things: `1 record`, `2,000 records`. */
export function counted(value: number, one: string, many = `${one}s`): string {
  return `${count(value)} ${value === 1 ? one : many}`;
}

export function rate(perSecond: number): string {
  if (perSecond >= 100) return whole.format(perSecond);
  return perSecond >= 10 || perSecond === 0 ? perSecond.toFixed(0) : perSecond.toFixed(1);
}

const UNITS = ['B', 'kB', 'MB', 'GB', 'TB'];

export function bytes(value: number): string {
  let scaled = value;
  let unit = 0;
  while (scaled >= 1000 && unit < UNITS.length - 1) {
    scaled /= 1000;
    unit += 1;
  }
  const digits = unit === 0 || scaled >= 100 ? 0 : 1;
  return `${scaled.toFixed(digits)} ${UNITS[unit] ?? ''}`;
}

/** A span in its two largest units: `2 h 10 min`, `4 min`, `1.3 s`, `12 ms`. */
export function span(ms: number): string {
  if (ms < 1000) return `${Math.round(ms)} ms`;
  const seconds = ms / 1000;
  if (seconds < 60) return `${seconds < 10 ? seconds.toFixed(1) : Math.round(seconds)} s`;
  const minutes = Math.round(seconds / 60);
  if (minutes < 60) return `${minutes} min`;
  const hours = Math.floor(minutes / 60);
  if (hours < 48) return minutes % 60 === 0 ? `${hours} h` : `${hours} h ${minutes % 60} min`;
  return `${Math.round(hours / 24)} d`;
}

/** How long ago, or until when: `3 min ago`, `in 20 s`. */
export function relative(time: string, now: number): string {
  const ms = now - Date.parse(time);
  if (Number.isNaN(ms)) return time;
  if (Math.abs(ms) < 2000) return 'just now';
  // whole seconds: a time that is told anew every second need not tell tenths
  const about = span(Math.abs(ms)).replace(/^(\d+)\.\d s$/, '$1 s');
  return ms > 0 ? `${about} ago` : `in ${about}`;
}

// made once: making one takes a millisecond
const LOCAL = new Intl.DateTimeFormat('en-GB', { dateStyle: 'medium', timeStyle: 'medium' });
const ZONE = LOCAL.resolvedOptions().timeZone;

/** The exact time in the viewer's zone and in UTC. */
export function exact(time: string): string {
  const date = new Date(time);
  if (Number.isNaN(date.getTime())) return time;
  return `${LOCAL.format(date)} (${ZONE})\n${date.toISOString()}`;
}

/** What the load of a table still needs at a rate; null when it cannot be said. */
export function timeLeft(done: number, total: number, perSecond: number): string | null {
  if (perSecond <= 0 || total <= done) return null;
  return span(((total - done) / perSecond) * 1000);
}
