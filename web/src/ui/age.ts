const steps: [number, Intl.RelativeTimeFormatUnit][] = [
  [60, 'second'],
  [60, 'minute'],
  [24, 'hour'],
  [7, 'day'],
  [5, 'week'],
  [12, 'month'],
  [Infinity, 'year'],
];

/** How long ago a moment was, in the reader's manner. */
export function ago(at: string): string {
  let n = (Date.parse(at) - Date.now()) / 1000;
  const say = new Intl.RelativeTimeFormat(undefined, { numeric: 'auto' });
  for (const [most, unit] of steps) {
    if (Math.abs(n) < most) return say.format(Math.round(n), unit);
    n /= most === 5 ? 4.345 : most;
  }
  return at;
}
