import { useEffect, useState, type ReactNode } from 'react';
import { createPortal } from 'react-dom';

/** The place at the right of the views, in the frame. */
export const toolsSlot = 'view-tools';

/** What a view can be set to, shown at the right of the views. */
export function Tools({ children }: { children: ReactNode }) {
  const [slot, setSlot] = useState<HTMLElement | null>(null);
  useEffect(() => {
    // The slot is the frame's: it is there once this view is.
    setSlot(document.getElementById(toolsSlot)); // eslint-disable-line react-hooks/set-state-in-effect
  }, []);
  return slot ? createPortal(children, slot) : null;
}
