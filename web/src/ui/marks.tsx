import { useTheme } from 'styled-components';
import type { Outcome, Path } from '../api/client';

/** Networks for a person: an address stands without its length. */
export function cidrs(list: string[]) {
  return list
    .map((c) => (c.endsWith('/128') || (c.endsWith('/32') && !c.includes(':')) ? c.split('/')[0] : c))
    .join(', ');
}

/** What an outcome is called. */
export const outcomeWords: Record<Outcome, string> = {
  arrives: 'arrives',
  redirect: 'redirects',
  unresolved: 'unresolved',
  outside: 'outside',
  unroutable: 'no way there',
  silent: 'silent',
  refused: 'refused',
  mismatched: 'mismatched',
  untrusted: 'untrusted',
  unanswered: 'unanswered',
  denied: 'denied',
  'gateway-error': 'gateway error',
  'lost-reply': 'reply lost',
  loop: 'goes round',
  undecided: 'not known',
  partly: 'partly',
};

export function isGood(outcome: Outcome) {
  return outcome === 'arrives' || outcome === 'redirect';
}

export type MarkKind = Path['mark'];

/** A line that arrives, one that is stopped, one that ends, or one that goes on unseen. */
export function Mark({ kind }: { kind: MarkKind }) {
  const theme = useTheme();
  const ink = kind === 'stops' ? theme.magenta : theme.ink;
  return (
    <svg width="14" height="10" viewBox="0 0 14 10" aria-hidden="true" style={{ flex: 'none' }}>
      {kind === 'arrives' && <path d="M1 5h6M6.500 1v8L11.500 5Z" stroke={ink} strokeWidth="1.6" fill={ink} />}
      {kind === 'stops' && <path d="M1 5h5M8 0.500v9M11.200 0.500v9" stroke={ink} strokeWidth="1.8" fill="none" />}
      {kind === 'ends' && <path d="M2 5h5M8.500 2v6" stroke={ink} strokeWidth="1.5" fill="none" />}
      {kind === 'unknown' && <path d="M1 5h3M6 5h2.500M10.500 5h2" stroke={ink} strokeWidth="1.6" fill="none" />}
    </svg>
  );
}

export function Lock() {
  const theme = useTheme();
  return (
    <svg width="9" height="11" viewBox="0 0 9 11" role="img" aria-label="encrypted" style={{ verticalAlign: '-1px' }}>
      <path d="M2 5V3.200a2.500 2.500 0 0 1 5 0V5" fill="none" stroke={theme.ink2} strokeWidth="1.200" />
      <rect x="0.800" y="4.800" width="7.400" height="5.400" fill="none" stroke={theme.ink2} strokeWidth="1.200" />
    </svg>
  );
}

export function Rose() {
  const theme = useTheme();
  return (
    <svg width="30" height="30" viewBox="0 0 32 32" aria-hidden="true">
      <circle cx="16" cy="16" r="14.5" fill="none" stroke={theme.ink} strokeWidth="1.2" />
      <circle cx="16" cy="16" r="11" fill="none" stroke={theme.rule} strokeWidth="1" strokeDasharray="1 3.600" />
      <path d="M16 3 19.500 16 16 13.800 12.500 16Z" fill={theme.magenta} />
      <path d="M16 29 12.500 16 16 18.200 19.500 16Z" fill={theme.ink} />
      <path d="M3.500 16H9M23 16h5.500" stroke={theme.ink} strokeWidth="1.300" />
    </svg>
  );
}
