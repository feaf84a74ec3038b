// What other parts may put into the bearing line.

const event = 'bearing';

/** Begins a line in the bearing line, to be written on there. */
export function writeInBearing(text: string) {
  window.dispatchEvent(new CustomEvent(event, { detail: text }));
}

/** Hears of lines begun elsewhere. */
export function onBearing(hear: (text: string) => void) {
  const heard = (e: Event) => hear(String((e as CustomEvent).detail));
  window.addEventListener(event, heard);
  return () => window.removeEventListener(event, heard);
}
