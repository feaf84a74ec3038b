// Times, days and numbers in the reader's manner; exact, as ISO 8601 has them, on hover.

const steps: [number, Intl.RelativeTimeFormatUnit][] = [
  [60, 'second'],
  [60, 'minute'],
  [24, 'hour'],
  [7, 'day'],
  [5, 'week'],
  [12, 'month'],
  [Infinity, 'year'],
];

/** How long ago a moment was. */
export function ago(at: string): string {
  let n = (Date.parse(at) - Date.now()) / 1000;
  const say = new Intl.RelativeTimeFormat(undefined, { numeric: 'auto' });
  for (const [most, unit] of steps) {
    if (Math.abs(n) < most) return say.format(Math.round(n), unit);
    n /= most === 5 ? 4.345 : most;
  }
  return at;
}

/** A moment, exactly, in the reader's own zone: 2026-12-01T14:05:09+01:00. */
export function exact(at: string | Date): string {
  const t = new Date(at);
  if (Number.isNaN(t.getTime())) return String(at);
  const minutes = -t.getTimezoneOffset();
  const two = (n: number) => String(Math.floor(Math.abs(n))).padStart(2, '0');
  const zone = `${minutes < 0 ? '-' : '+'}${two(minutes / 60)}:${two(minutes % 60)}`;
  return new Date(t.getTime() + minutes * 60_000).toISOString().slice(0, 19) + zone;
}

/** A moment: its time alone where it is of today. */
export function moment(at: string | Date): string {
  const t = new Date(at);
  const today = t.toDateString() === new Date().toDateString();
  return t.toLocaleString(undefined, today ? { timeStyle: 'short' } : { dateStyle: 'medium', timeStyle: 'short' });
}

/** A day of the calendar, as 2027-03-01. */
export function dayWords(day: string): string {
  const t = new Date(`${day}T00:00`);
  return Number.isNaN(t.getTime()) ? day : t.toLocaleDateString(undefined, { dateStyle: 'medium' });
}

/** How many. */
export function count(n: number): string {
  return n.toLocaleString();
}

/** A moment with its day and its time. */
export function Moment({ at }: { at: string }) {
  return (
    <time dateTime={at} title={exact(at)}>
      {new Date(at).toLocaleString(undefined, { dateStyle: 'medium', timeStyle: 'short' })}
    </time>
  );
}

/** How long ago a moment was. */
export function Ago({ at }: { at: string }) {
  return (
    <time dateTime={at} title={exact(at)}>
      {ago(at)}
    </time>
  );
}

export function Day({ day }: { day: string }) {
  return (
    <time dateTime={day} title={day}>
      {dayWords(day)}
    </time>
  );
}
