import { useEffect, useRef, useState } from 'react';
import styled from 'styled-components';
import { api, ask, Failure, type TraceResult } from '../../api/client';
import { LinkButton } from '../../ui/Quiet';
import { revisionNow, useSession } from '../change/session';

const Editing = styled.div`
  textarea {
    display: block;
    width: 100%;
    resize: none;
    border: 1px solid ${(p) => p.theme.ink};
    background: ${(p) => p.theme.panel};
    color: ${(p) => p.theme.ink};
    padding: 3px 6px;
    line-height: 17px;
    field-sizing: content;
  }
  p {
    font-style: normal;
    padding: 4px 0;
  }
`;

/** A record being edited, and the step at which it stood. The step stays while what is typed changes the path. */
export interface Edited {
  record: string;
  step: number;
  text: string;
  caret: number;
}

export function begin(record: string, step: number): Edited {
  return { record, step, text: record, caret: record.length };
}

interface EditorProps {
  edited: Edited;
  target: string;
  from: string;
  onType: (e: Edited) => void;
  onDraft: (r: TraceResult | null) => void;
  onDone: () => void;
}

/**
 * A record edited where it stands; the verdict answers as one types, and nothing is kept before Enter. What is typed
 * is the trace's, since the step it stands at comes and goes with the path.
 */
export function RecordEditor({ edited, target, from, onType, onDraft, onDone }: EditorProps) {
  const { record, text, caret } = edited;
  const [wrong, setWrong] = useState('');
  const { change } = useSession();
  const field = useRef<HTMLTextAreaElement>(null);
  const place = useRef(caret);
  useEffect(() => {
    field.current?.focus();
    field.current?.setSelectionRange(place.current, place.current);
  }, []);
  useEffect(() => {
    if (text === record) {
      onDraft(null);
      return;
    }
    let gone = false;
    const stop = new AbortController();
    const timer = setTimeout(async () => {
      try {
        const add = text.trim() === '' ? [] : [text];
        const body = { base: revisionNow(), remove: [record], add, target, from };
        const r = await ask(api.POST('/api/draft/trace', { body, signal: stop.signal }));
        if (gone) return;
        setWrong('');
        onDraft(r);
      } catch (error) {
        if (gone) return;
        const fault = error instanceof Failure ? error.problem?.faults?.[0] : undefined;
        setWrong(
          fault
            ? `${fault.what}${fault.expected ? `; expected ${fault.expected}` : ''}`
            : String((error as Error).message),
        );
      }
    }, 70);
    return () => {
      gone = true;
      clearTimeout(timer);
      stop.abort();
    };
  }, [text, record, target, from, onDraft]);
  const save = async () => {
    if (text === record) {
      onDone();
      return;
    }
    const did = await change({ remove: [record], add: text.trim() === '' ? [] : [text.trim()] }, 'Changed the record');
    if (did) onDone();
  };
  return (
    <Editing>
      <textarea
        ref={field}
        rows={2}
        aria-label="the record as notation"
        value={text}
        spellCheck={false}
        onChange={(e) =>
          onType({
            ...edited,
            text: e.target.value.replace(/\n/g, ' '),
            caret: e.target.selectionStart ?? e.target.value.length,
          })
        }
        onKeyDown={(e) => {
          if (e.key === 'Enter') {
            e.preventDefault();
            void save();
          } else if (e.key === 'Escape') {
            e.preventDefault();
            e.stopPropagation();
            onDone();
          }
        }}
      />
      <p role="status">
        {wrong !== ''
          ? wrong
          : text.trim() === ''
            ? 'Enter removes the record.'
            : 'Enter keeps it, Escape leaves it as it was.'}{' '}
        <LinkButton onPress={() => void save()}>keep</LinkButton> · <LinkButton onPress={onDone}>leave</LinkButton>
      </p>
    </Editing>
  );
}
