// Lines of notation as a person pastes or types them.
import type { Mend } from '../api/client';

/** The lines that a text has, without blank ones. */
export function linesOf(text: string) {
  return text
    .split('\n')
    .map((l) => l.replace(/\r$/, ''))
    .filter((l) => l.trim() !== '');
}

/** A text as a change: its lines come; where each begins with + or -, it is the text of a change. */
export function asChange(text: string): Mend {
  const lines = linesOf(text);
  if (!lines.every((l) => /^[+-] /.test(l))) return { remove: [], add: lines };
  return {
    remove: lines.filter((l) => l.startsWith('-')).map((l) => l.slice(2)),
    add: lines.filter((l) => l.startsWith('+')).map((l) => l.slice(2)),
  };
}
