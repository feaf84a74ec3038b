import { useTheme } from 'styled-components';
import type { Sight } from '../api/client';

export const sightWords: Record<Sight, string> = {
  'as-recorded': 'seen as recorded',
  otherwise: 'seen otherwise',
  before: 'seen before the last change of what it hangs on',
};

/** A small mark of what was seen: a full point as recorded, a broken ring otherwise, an empty one before the last change. */
export function SightMark({ sight, title }: { sight: Sight; title?: string }) {
  const theme = useTheme();
  const word = title ?? sightWords[sight];
  return (
    <svg
      width="9"
      height="9"
      viewBox="0 0 9 9"
      role="img"
      aria-label={word}
      style={{ flex: 'none' }}
      data-sight={sight}
    >
      <title>{word}</title>
      {sight === 'as-recorded' && <circle cx="4.500" cy="4.500" r="2.600" fill={theme.ink2} />}
      {sight === 'before' && <circle cx="4.500" cy="4.500" r="2.900" fill="none" stroke={theme.ink2} />}
      {sight === 'otherwise' && (
        <circle
          cx="4.500"
          cy="4.500"
          r="3.500"
          fill="none"
          stroke={theme.magenta}
          strokeWidth="1.600"
          strokeDasharray="3 1.400"
        />
      )}
    </svg>
  );
}
