// What other parts may put into the bearing line.

const event = 'bearing';

interface Begun {
  text: string;
  /** Where it is to be written on. */
  caret: number;
}

/** Begins a line in the bearing line, to be written on there: at its end, or where it is said. */
export function writeInBearing(text: string, caret = text.length) {
  window.dispatchEvent(new CustomEvent<Begun>(event, { detail: { text, caret } }));
}

/** Begins the sentence by which something is published: to be told the name where it ends at a place, or the place of a name. */
export function beginPublishing(of: { name?: string; place?: string }) {
  if (of.place) writeInBearing(`publish  to ${of.place} for internet`, 'publish '.length);
  else writeInBearing(of.name ? `publish ${of.name} to ` : 'publish ');
}

/** Hears of lines begun elsewhere. */
export function onBearing(hear: (begun: Begun) => void) {
  const heard = (e: Event) => hear((e as CustomEvent<Begun>).detail);
  window.addEventListener(event, heard);
  return () => window.removeEventListener(event, heard);
}
