// The records that are chosen, the same in the text and in the tables.

const place = 'records-chosen';

/** How many are kept. */
const most = 2000;

/** The records that are chosen, as lines without the blanks that align them, the one at hand first. */
export function chosenLines(): string[] {
  return JSON.parse(sessionStorage.getItem(place) ?? '[]') as string[];
}

export function keepChosen(lines: string[]) {
  sessionStorage.setItem(place, JSON.stringify(lines.slice(0, most)));
}

/** Where a kind is shown as a table; the one that was looked at last, where none is named. */
export function tableURL(kind = '') {
  return `/records?table=${encodeURIComponent(kind || (chosenLines()[0]?.split(' ')[0] ?? 'dns'))}`;
}
