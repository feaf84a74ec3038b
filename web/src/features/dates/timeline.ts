// Where dates stand on the line of time, and which have room for their words.
import { scaleSymlog } from 'd3-scale';
import type { Due } from '../../api/client';
import { moment } from '../../ui/time';

/** What is late has this much of the width, from the left edge to today. */
export const today = 150;
export const edge = 24;

/** Lanes for words, from the line upwards; and how high each is, in pixels. */
export const lanes = 4;
export const laneHeight = 46;

/** How many days are as far apart at first as all the rest: near dates get most of the width. */
const bend = 12;

export interface Place {
  due: Due;
  x: number;
  /** The lane its words stand in; none where there was no room. */
  lane?: number;
  /** Whether its words stand left of its mark. */
  before: boolean;
}

/** The steps that are marked on the line, as far as it goes. */
const steps: [number, string][] = [
  [7, 'a week'],
  [30, '30 days'],
  [90, '90'],
  [182, 'half a year'],
  [365, 'a year'],
  [730, 'two years'],
];

/** Where a day stands, so many days from today. */
export function scaled(dates: readonly Due[], width: number) {
  const last = Math.max(30, ...dates.map((d) => d.days));
  const first = Math.min(-7, ...dates.map((d) => d.days));
  const ahead = scaleSymlog([0, last], [today, Math.max(width - edge, today + 200)]).constant(bend);
  const behind = scaleSymlog([first, 0], [edge, today]).constant(bend);
  const at = (days: number) => (days < 0 ? behind(days) : ahead(days));
  return { at, steps: steps.filter(([days]) => days <= last).map(([days, word]) => ({ x: at(days), word })) };
}

/** About how wide words are, in pixels; those beside a mark are as wide as the longer line. */
const letter = 6.9;
export const wordsOf = (due: Due): [string, string] => [short(due.name, 26), short(when(due), 30)];
const widthOf = (due: Due) => Math.max(...wordsOf(due).map((w) => w.length)) * letter + 22;

/** Gives each date a lane in which its words meet no others, the lowest that is free. */
export function placed(dates: readonly Due[], at: (days: number) => number, width: number): Place[] {
  const taken: [number, number][][] = Array.from({ length: lanes }, () => []);
  const free = (lane: number, from: number, to: number) => (taken[lane] ?? []).every(([a, b]) => to <= a || from >= b);
  return dates.map((due) => {
    const x = at(due.days);
    const w = widthOf(due);
    const before = x + w > width || (x < today && x + w > today); // words keep off today's line
    const from = before ? x - w : x + 3;
    const to = before ? x - 3 : x + w;
    if (from < 0) return { due, x, before };
    for (let lane = 0; lane < lanes; lane++) {
      // The line from the mark up to its words goes through the lanes below.
      const through = Array.from({ length: lane }, (_, l) => free(l, x - 2, x + 2)).every(Boolean);
      if (!through || !free(lane, from, to)) continue;
      taken[lane]?.push([from, to]);
      for (let l = 0; l < lane; l++) taken[l]?.push([x - 2, x + 2]);
      return { due, x, lane, before };
    }
    return { due, x, before };
  });
}

const short = (text: string, most: number) => (text.length > most ? `${text.slice(0, most - 1)}…` : text);

/** When something comes due, in words. */
export function when(due: Due): string {
  if (due.at) {
    return `until ${moment(due.at)}`;
  }
  if (due.days === 0) return 'today';
  if (due.days < 0) return due.days === -1 ? 'a day ago' : `${-due.days} days ago`;
  return due.days === 1 ? 'tomorrow' : `in ${due.days} days`;
}
