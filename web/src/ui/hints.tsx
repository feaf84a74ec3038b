// The keys of the view in sight: along the foot, and all of them in a dialog.
import { useEffect, useSyncExternalStore } from 'react';
import { Dialog, Heading, Modal, ModalOverlay } from 'react-aria-components';
import styled from 'styled-components';
import { Acts, Plain, Strong } from './Quiet';
import { size } from './theme';

export type Hint = [keys: string, does: string];

let current: Hint[] = [];
const listeners = new Set<() => void>();

function set(hints: Hint[]) {
  current = hints;
  listeners.forEach((tell) => tell());
}

/** Says which keys a view has, while it is in sight. */
export function useViewHints(hints: Hint[]) {
  const key = JSON.stringify(hints);
  useEffect(() => {
    set(JSON.parse(key) as Hint[]);
    return () => set([]);
  }, [key]);
}

export function useHints() {
  return useSyncExternalStore(
    (tell) => {
      listeners.add(tell);
      return () => listeners.delete(tell);
    },
    () => current,
  );
}

/** Those that do not fit go to a second line, which is not shown: the dialog has all of them. */
const AsFit = styled.span`
  flex: 1 1 0;
  min-width: 0;
  flex-wrap: wrap;
  height: 30px;
  overflow: hidden;
`;

export function Hints() {
  const hints = useHints();
  return (
    <AsFit>
      <span>
        <kbd>?</kbd>keys and guide
      </span>
      {hints.map(([keys, does]) => (
        <span key={keys}>
          <kbd>{keys}</kbd>
          {does}
        </span>
      ))}
    </AsFit>
  );
}

const always: Hint[] = [
  ['/', 'to the bearing line: trace anything, or write a record'],
  ['1 – 9', 'the views, from left to right'],
  ['u', 'undo the last change'],
  ['U', 'redo it'],
  ['q', 'through a draft, and out of it'],
  ['S', 'the questions that are kept under a name'],
  ['?', 'all keys, the guide, and what the words mean'],
  ['Esc', 'back, or close'],
];

const Veil = styled(ModalOverlay)`
  position: fixed;
  inset: 0;
  background: rgb(14 38 64 / 28%);
  display: grid;
  place-items: center;
`;

const Sheet = styled(Modal)`
  background: ${(p) => p.theme.panel};
  border: 1px solid ${(p) => p.theme.ink};
  padding: 20px 26px;
  min-width: 420px;
  max-width: 640px;
  h2 {
    font-weight: 600;
    font-size: ${size.lead};
    margin-bottom: 10px;
  }
  dl {
    display: grid;
    grid-template-columns: auto 1fr;
    gap: 5px 18px;
    margin: 0 0 14px;
  }
  dd {
    margin: 0;
  }
  kbd {
    font-weight: 600;
  }
  section {
    outline: none;
  }
`;

export const DialogVeil = Veil;
export const DialogSheet = Sheet;

interface KeysDialogProps {
  hints: Hint[];
  isOpen: boolean;
  onClose: () => void;
  /** Opens the page that says what the words mean. */
  onWords: () => void;
  onGuide: () => void;
}

export function KeysDialog({ hints, isOpen, onClose, onWords, onGuide }: KeysDialogProps) {
  return (
    <Veil isOpen={isOpen} onOpenChange={(open) => !open && onClose()} isDismissable>
      <Sheet>
        <Dialog>
          <Heading slot="title" level={2}>
            Keys
          </Heading>
          <dl>
            {[...hints, ...always].map(([keys, does]) => (
              <Pair key={keys + does} keys={keys} does={does} />
            ))}
          </dl>
          <Acts>
            <Strong onPress={onGuide} autoFocus>
              The guide
            </Strong>
            <Plain onPress={onWords}>What the words mean</Plain>
            <Plain onPress={onClose}>Close</Plain>
          </Acts>
        </Dialog>
      </Sheet>
    </Veil>
  );
}

function Pair({ keys, does }: { keys: string; does: string }) {
  return (
    <>
      <dt>
        <kbd>{keys}</kbd>
      </dt>
      <dd>{does}</dd>
    </>
  );
}
