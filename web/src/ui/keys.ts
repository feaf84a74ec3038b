import { useEffect, useRef } from 'react';

type Keys = Record<string, (e: KeyboardEvent) => void>;

function typing(target: EventTarget | null) {
  return (
    target instanceof HTMLElement &&
    (target.isContentEditable || ['INPUT', 'TEXTAREA', 'SELECT'].includes(target.tagName))
  );
}

/** How long after what was asked for is shown, in milliseconds, keys are still meant for the field that the program left. */
const stillTyping = 600;

let left: { field: HTMLElement; until: number } | null = null;

/**
 * Says that the program, not the person, has left a field: who goes on typing goes on in it, however long it takes until
 * what was asked for is shown. Who presses Escape, or somewhere, has left it too.
 */
export function leftByProgram(field: HTMLElement | null, shown: () => boolean) {
  if (!field) return;
  const leaving = { field, until: Infinity };
  left = leaving;
  const look = () => {
    if (left !== leaving) return;
    if (shown()) leaving.until = performance.now() + stillTyping;
    else requestAnimationFrame(look);
  };
  requestAnimationFrame(() => requestAnimationFrame(look)); // the second frame from here is drawn with what is there by then
}

const turnAway = () => (left = null);
window.addEventListener('pointerdown', turnAway, true);
window.addEventListener('keydown', (e) => e.key === 'Escape' && turnAway(), true);

/** Single keys that work wherever nothing is being typed. */
export function useKeys(keys: Keys) {
  const latest = useRef(keys);
  useEffect(() => {
    latest.current = keys;
  });
  useEffect(() => {
    const onKey = (e: KeyboardEvent) => {
      if (e.defaultPrevented || e.ctrlKey || e.metaKey || e.altKey || typing(e.target)) return;
      if (document.querySelector('[role=dialog]')) return;
      if (e.key === 'Enter' && e.target instanceof HTMLElement && e.target.closest('a, button')) return;
      if (left && e.timeStamp < left.until) {
        if (e.key.length === 1) left.field.focus(); // where the key is then typed
        return;
      }
      const act = latest.current[e.key];
      if (act) {
        e.preventDefault();
        act(e);
      }
    };
    window.addEventListener('keydown', onKey);
    return () => window.removeEventListener('keydown', onKey);
  }, []);
}
