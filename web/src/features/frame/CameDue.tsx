import { useEffect, useState } from 'react';
import { useLocation } from 'wouter';
import { useDates, type Due } from '../../api/client';
import { useMe } from '../../api/me';
import { LinkButton } from '../../ui/Quiet';
import { Day } from '../../ui/time';

/** How many are named. */
const most = 3;

/**
 * What came due since somebody was here last, until it was looked at or put away. It is kept in this browser, apart for each
 * who signs in; the day is the program's.
 */
export function CameDue({ children }: { children: (said: React.ReactNode) => React.ReactNode }) {
  const me = useMe();
  const place = `visited ${me.data?.who?.name ?? ''}`;
  const [location, go] = useLocation();
  const calendar = useDates();
  const [seen, setSeen] = useState(() => ({ place, day: localStorage.getItem(place) }));
  if (seen.place !== place) setSeen({ place, day: localStorage.getItem(place) });
  const day = calendar.data?.day;
  const over = (calendar.data?.dates ?? []).filter(
    (d: Due) => seen.day !== null && day !== undefined && d.days < 0 && d.date >= seen.day,
  );
  const done = over.length === 0 || location === '/dates';
  useEffect(() => {
    if (day && done && me.data && (seen.day === null || day > seen.day)) {
      localStorage.setItem(place, day);
      setSeen({ place, day }); // eslint-disable-line react-hooks/set-state-in-effect -- what was told is known
    }
  }, [day, done, place, seen.day, me.data]);
  if (done || !day) return null;
  return children(
    <>
      <span data-came-due>
        Since you were here last, {over.length === 1 ? 'this came' : `${over.length} things came`} due:{' '}
        {over.slice(0, most).map((d, i) => (
          <span key={d.kind + d.name + d.date}>
            {i > 0 && ', '}
            {d.name} (<Day day={d.date} />)
          </span>
        ))}
        {over.length > most && ` and ${over.length - most} more`}.{' '}
        <LinkButton onPress={() => go('/dates')}>Look at Dates</LinkButton>
      </span>
      <LinkButton
        onPress={() => {
          localStorage.setItem(place, day);
          setSeen({ place, day });
        }}
      >
        put away
      </LinkButton>
    </>,
  );
}
