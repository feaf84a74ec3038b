// What changes while the page is printed: all of a list is there, in ink on white.
import { useVirtualizer, type PartialKeys, type VirtualizerOptions } from '@tanstack/react-virtual';
import { useSyncExternalStore } from 'react';
import { flushSync } from 'react-dom';

let printing = false;
const listeners = new Set<() => void>();

function turn(now: boolean) {
  printing = now;
  flushSync(() => listeners.forEach((tell) => tell()));
}

window.addEventListener('beforeprint', () => turn(true));
window.addEventListener('afterprint', () => turn(false));

export function usePrinting() {
  return useSyncExternalStore(
    (tell) => {
      listeners.add(tell);
      return () => listeners.delete(tell);
    },
    () => printing,
  );
}

/** How many rows of a list are printed at most. */
const mostPrinted = 5000;

type Options = PartialKeys<
  VirtualizerOptions<HTMLDivElement, Element>,
  'observeElementRect' | 'observeElementOffset' | 'scrollToFn'
>;

/** A long list of which only what is in sight is in the page, but for when it is printed. */
export function useLongList(options: Options) {
  const all = usePrinting();
  // eslint-disable-next-line react-hooks/incompatible-library
  return useVirtualizer<HTMLDivElement, Element>({ ...options, overscan: all ? mostPrinted : options.overscan });
}
