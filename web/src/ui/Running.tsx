import { useEffect, useState } from 'react';
import { Plain } from './Quiet';

/** Something long that is under way: for how long by now, and how to stop it. */
export function Running({ what, stop }: { what: string; stop: () => void }) {
  const [seconds, setSeconds] = useState(0);
  useEffect(() => {
    const timer = setInterval(() => setSeconds((s) => s + 1), 1000);
    return () => clearInterval(timer);
  }, []);
  return (
    <>
      <Plain onPress={stop}>Stop</Plain>
      <span role="timer">
        {what}
        {seconds > 1 && `, ${seconds} s`}…
      </span>
    </>
  );
}
