import { useEffect, useRef, useState } from 'react';
import styled from 'styled-components';
import type { KindWords, TableRow } from '../../api/client';
import { Acts, Plain, Strong } from '../../ui/Quiet';
import { EffectList } from '../change/EffectList';
import { usePreview } from '../change/preview';
import { useSession } from '../change/session';
import { Offers, useWriting } from './writing';
import { size } from '../../ui/theme';

const Fields = styled.div`
  display: grid;
  grid-template-columns: auto minmax(0, 1fr);
  gap: 3px 12px;
  align-items: baseline;
  margin: 4px 0 12px;
  label {
    color: ${(p) => p.theme.ink2};
    white-space: nowrap;
  }
  label[data-needed] {
    color: ${(p) => p.theme.ink};
    font-weight: 600;
  }
  input:not([type='checkbox']) {
    width: 100%;
    border: 0;
    border-bottom: 1px solid ${(p) => p.theme.rule};
    background: none;
    color: ${(p) => p.theme.ink};
    padding: 3px 0 4px;
    font:
      12px/18px 'IBM Plex Mono',
      monospace;
  }
  input:focus {
    outline: none;
    border-bottom-color: ${(p) => p.theme.ink};
    box-shadow: 0 1px 0 ${(p) => p.theme.ink};
  }
  input[aria-invalid='true'] {
    border-bottom: 1px dashed ${(p) => p.theme.magenta};
  }
  input[type='checkbox'] {
    justify-self: start;
    accent-color: ${(p) => p.theme.ink};
  }
  input[type='checkbox']:focus {
    outline: 2px solid ${(p) => p.theme.ink};
    outline-offset: 1px;
    box-shadow: none;
  }
  small {
    grid-column: 2;
    color: ${(p) => p.theme.ink2};
    font-size: ${size.plain};
    line-height: 16px;
    padding-bottom: 3px;
  }
  small[data-wrong] {
    color: ${(p) => p.theme.magenta};
  }
`;

const Written = styled.code`
  display: block;
  line-height: 19px;
  padding: 6px 0;
  border-top: 1px solid ${(p) => p.theme.hairline};
  overflow-wrap: anywhere;
`;

interface Props {
  kind: KindWords;
  /** The records that are changed; none for a new one. */
  lines: string[];
  /** The one of them, where it is one. */
  row?: TableRow;
  onLeave: () => void;
  /** The change is on its way; now is the line that came, where it is one. */
  onKept: (now: string) => void;
}

/** A record by its fields: a new one, one that is there, or what several are to have in common. */
export function RecordForm({ kind, lines, row, onLeave, onKept }: Props) {
  const { record, change } = useSession();
  const was = (index: number) => row?.cells[index] ?? '';
  const [typed, setTyped] = useState<Record<string, string>>({});
  const [at, setAt] = useState('');
  const [tried, setTried] = useState(false);
  const box = useRef<HTMLDivElement>(null);
  const { wrong, answer, offers } = useWriting({ kind: kind.word, lines, cells: typed, offer: at });
  const preview = usePreview(answer?.remove ?? [], answer?.add ?? []);
  useEffect(() => box.current?.querySelector('input')?.focus(), []);

  const touched = Object.keys(typed).length > 0;
  const nothing = answer !== null && answer.add.length === 0 && !answer.fault;
  const keep = async () => {
    setTried(true);
    if (!answer || answer.fault || !touched) return;
    if (nothing) {
      onLeave();
      return;
    }
    if (lines.length > 1) {
      if (await change({ remove: answer.remove, add: answer.add }, `Changed ${answer.add.length} records`)) onKept('');
      else return;
    } else {
      const text = [...answer.remove.map((l) => `- ${l}`), ...answer.add.map((l) => `+ ${l}`)].join('\n');
      void record(text).then((did) => did && onKept(answer.now ?? ''));
    }
    if (lines.length > 0) onLeave();
    else {
      setTyped({});
      setTried(false);
      box.current?.querySelector('input')?.focus();
    }
  };

  const type = (column: string, text: string, before: string) =>
    setTyped((now) => {
      const next = { ...now };
      if (text === before && lines.length < 2) delete next[column];
      else next[column] = text;
      return next;
    });
  // A place that is left empty is no fault before one has tried to keep it.
  const shown = wrong && (tried || wrong.said.indexOf('nothing stands here') < 0) ? wrong : null;
  const fields = kind.fields.map((f, index) => ({ ...f, before: was(index) }));
  return (
    <div
      ref={box}
      onKeyDown={(e) => {
        if (e.key === 'Escape') {
          e.stopPropagation();
          onLeave();
        } else if ((e.key === 'Enter' && e.target instanceof HTMLInputElement) || (e.key === 's' && e.ctrlKey)) {
          e.preventDefault();
          void keep();
        }
      }}
    >
      <h2>
        {lines.length === 0
          ? `A new ${kind.word}`
          : lines.length === 1
            ? `Change this ${kind.word}`
            : `Change ${lines.length} records at once: what is left empty stays as it is in each`}
      </h2>
      <Fields>
        {fields.map((f, n) => {
          const id = `field-${f.column}`;
          const value = typed[f.column] ?? f.before;
          const bad = shown?.column === f.column;
          return (
            <Field key={f.column}>
              <label htmlFor={id} data-needed={(f.required && lines.length < 2) || undefined} title={f.expected}>
                {f.title}
              </label>
              {f.flag ? (
                <input
                  id={id}
                  type="checkbox"
                  checked={value !== '' && value !== 'no'}
                  onFocus={() => setAt(f.column)}
                  onChange={(e) => type(f.column, e.target.checked ? 'yes' : '', f.before)}
                />
              ) : (
                <input
                  id={id}
                  value={value}
                  spellCheck={false}
                  autoComplete="off"
                  aria-invalid={bad}
                  list={at === f.column ? 'field-offers' : undefined}
                  placeholder={lines.length > 1 ? (f.column in typed ? 'taken out' : '') : ''}
                  onFocus={() => setAt(f.column)}
                  onChange={(e) => type(f.column, e.target.value, f.before)}
                />
              )}
              {bad ? (
                <small data-wrong role="alert">
                  {shown.said}
                </small>
              ) : (
                at === f.column && !f.flag && <small>{f.expected}</small>
              )}
              {kind.placed && n === 0 && lines.length < 2 && (
                <Field>
                  <label htmlFor="field-at" title="which of its list it is, from 1">
                    place
                  </label>
                  <input
                    id="field-at"
                    inputMode="numeric"
                    value={typed.at ?? (row?.at ? String(row.at) : '')}
                    autoComplete="off"
                    aria-invalid={shown?.column === 'at'}
                    placeholder="the last"
                    onFocus={() => setAt('at')}
                    onChange={(e) => type('at', e.target.value, row?.at ? String(row.at) : '')}
                  />
                  {shown?.column === 'at' && (
                    <small data-wrong role="alert">
                      {shown.said}
                    </small>
                  )}
                </Field>
              )}
            </Field>
          );
        })}
      </Fields>
      <Offers id="field-offers" offers={offers} />
      {shown && (shown.column === '' || lines.length > 1) && (
        <p role="alert">
          {shown.said}
          {answer?.at && <>, at {answer.at}</>}
        </p>
      )}
      {touched && answer && !answer.fault && (
        <>
          {answer.meaning && <p>{answer.meaning}</p>}
          {answer.add.slice(0, 3).map((l) => (
            <Written key={l}>{l}</Written>
          ))}
          {answer.add.length > 3 && <p>and {answer.add.length - 3} more</p>}
          {preview.wrong !== '' && <p role="alert">{preview.wrong}</p>}
          {preview.effect && (
            <div style={{ margin: '0 -14px' }}>
              <EffectList effect={preview.effect} verb="Keeping this would" />
            </div>
          )}
        </>
      )}
      <Acts data-act>
        <Strong onPress={() => void keep()} isDisabled={!touched}>
          Keep
        </Strong>
        <Plain onPress={onLeave}>Leave</Plain>
      </Acts>
    </div>
  );
}

/** A label, its field and what is said of it, each in its place of the grid. */
function Field({ children }: { children: React.ReactNode }) {
  return <>{children}</>;
}
