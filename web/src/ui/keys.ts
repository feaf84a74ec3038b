import { useEffect, useRef } from 'react';

type Keys = Record<string, (e: KeyboardEvent) => void>;

function typing(target: EventTarget | null) {
  return (
    target instanceof HTMLElement &&
    (target.isContentEditable || ['INPUT', 'TEXTAREA', 'SELECT'].includes(target.tagName))
  );
}

/** How long after the program left a field, or after the last key since, keys are still meant for that field. */
const stillTyping = 600;

let left: { field: HTMLElement; until: number } | null = null;

/** Says that the program, not the person, has left a field: who goes on typing goes on in it. */
export function leftByProgram(field: HTMLElement | null) {
  left = field && { field, until: performance.now() + stillTyping };
}

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
      if (left && performance.now() < left.until) {
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
