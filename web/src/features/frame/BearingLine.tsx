import { useEffect, useId, useMemo, useRef, useState, type ClipboardEvent, type KeyboardEvent } from 'react';
import { flushSync } from 'react-dom';
import styled from 'styled-components';
import { useLocation, useSearch } from 'wouter';
import { api, ask, queries, useKinds, type LineAnswer, type Vantage } from '../../api/client';
import { onBearing } from './bearing';
import { EffectList } from '../change/EffectList';
import { leftByProgram } from '../../ui/keys';
import { linesOf } from '../../ui/lines';
import { CameBack, PastedLines } from './PastedLines';
import { LinkButton } from '../../ui/Quiet';
import { planURL, traceURL, usesURL } from '../../ui/route';
import { useSession } from '../change/session';
import { size } from '../../ui/theme';

const Wrap = styled.div`
  position: relative;
`;

const Line = styled.div<{ $open: boolean }>`
  display: flex;
  align-items: center;
  height: 36px;
  background: ${(p) => p.theme.panel};
  border: 1px solid ${(p) => p.theme.rule};
  border-bottom: 2px solid ${(p) => p.theme.ink};
  padding: 0 12px;
  gap: 11px;
  &:focus-within {
    border-color: ${(p) => p.theme.ink};
  }
  input {
    flex: 1;
    min-width: 0;
    border: 0;
    background: none;
    color: ${(p) => p.theme.ink};
    font-size: ${size.text};
    outline: none;
  }
  kbd {
    border: 1px solid ${(p) => p.theme.rule};
    padding: 0 6px;
    color: ${(p) => p.theme.ink2};
    font-size: ${size.small};
  }
`;

const Sheet = styled.div`
  position: absolute;
  z-index: 30;
  left: 0;
  right: 0;
  top: 35px;
  background: ${(p) => p.theme.panel};
  border: 1px solid ${(p) => p.theme.ink};
  max-height: 70vh;
  overflow: auto;
`;

const Said = styled.div`
  padding: 9px 14px 10px;
  border-bottom: 1px solid ${(p) => p.theme.hairline};
  font-size: ${size.text};
  overflow: hidden;
  text-overflow: ellipsis;
`;

const Caution = styled.div`
  padding: 8px 14px;
  color: ${(p) => p.theme.magenta};
  border-bottom: 1px solid ${(p) => p.theme.hairline};
  font-weight: 500;
`;

const Choice = styled.li<{ $on: boolean }>`
  list-style: none;
  display: flex;
  justify-content: space-between;
  gap: 20px;
  padding: 3px 14px;
  cursor: pointer;
  font-family: 'IBM Plex Mono', monospace;
  font-size: ${size.plain};
  background: ${(p) => (p.$on ? p.theme.shallows : 'transparent')};
  small {
    color: ${(p) => p.theme.ink2};
    font-size: ${size.small};
  }
`;

const Choices = styled.ul`
  margin: 0;
  padding: 4px 0;
  max-height: 230px;
  overflow: auto;
`;

interface Suggestion {
  text: string;
  detail: string;
}

const none: Suggestion[] = [];

/** What the first word of a line may be, beside a target. */
const begins: ReadonlySet<string> = new Set(['record', 'sentence']);

/** Whether a line begins like a record: a kind's word and a blank. */
function beginsRecord(answer: LineAnswer | null, text: string) {
  return /^\s*\S+\s/.test(text) && (answer?.record ?? false);
}

/** How long a field stays empty before a line that came back is put into it again, in milliseconds. */
const offerAfter = 600;

/** One field, always there: a name, address or place is traced; a line of notation is recorded. */
export function BearingLine() {
  const [text, setText] = useState('');
  const [open, setOpen] = useState(false);
  const [picked, setPicked] = useState(-1);
  const [answer, setAnswer] = useState<LineAnswer | null>(null);
  const [answered, setAnswered] = useState('');
  const [block, setBlock] = useState<string | null>(null); // several lines that were pasted
  const [offered, setOffered] = useState(''); // the line that came back and is in the field
  const field = useRef<HTMLInputElement>(null);
  const asked = useRef(0);
  const [, go] = useLocation();
  const search = useSearch();
  const { record: keep, returned, forget } = useSession();
  const kinds = useKinds();
  const listId = useId();

  useEffect(() => {
    if (!open || text.trim() === '') return;
    const turn = ++asked.current;
    const stop = new AbortController();
    const timer = setTimeout(async () => {
      try {
        const cursor = new TextEncoder().encode(text.slice(0, field.current?.selectionStart ?? text.length)).length;
        const got = await ask(api.POST('/api/line', { body: { line: text, cursor }, signal: stop.signal }));
        if (turn === asked.current) {
          setAnswer(got);
          setAnswered(text);
        }
      } catch {
        if (turn === asked.current) setAnswer(null); // the frame says that the program does not answer
      }
    }, 60);
    return () => {
      clearTimeout(timer);
      stop.abort();
    };
  }, [text, open]);

  useEffect(
    () =>
      onBearing(({ text: begun, caret }) => {
        flushSync(() => {
          setText(begun);
          setOpen(true);
        });
        field.current?.focus();
        field.current?.setSelectionRange(caret, caret);
      }),
    [],
  );

  // What came back goes into the field again, where nobody is typing there.
  const last = returned.at(-1);
  useEffect(() => {
    if (!last || last.id === offered || text !== '' || block !== null || linesOf(last.text).length > 1) return;
    const timer = setTimeout(() => {
      if (document.activeElement !== field.current) return;
      setOffered(last.id);
      setText(last.text);
      setOpen(true);
    }, offerAfter);
    return () => clearTimeout(timer);
  }, [last, offered, text, block]);

  const sentence = answer?.sentence ?? false;
  const record = beginsRecord(answer, text) || sentence;
  const names = useMemo(() => (record ? none : targets(text)), [record, text]);
  const words = answer?.completion.words ?? none;
  const choices: Suggestion[] =
    !open || text.trim() === ''
      ? none
      : record
        ? words
        : [...names, ...words.filter((w) => begins.has(w.detail) && w.text.startsWith(text.trim().toLowerCase()))];
  const at = Math.min(picked, choices.length - 1);

  const complete = (word: string) => {
    if (!record && !words.some((w) => w.text === word && begins.has(w.detail))) {
      trace(word);
      return;
    }
    const bytes = new TextEncoder().encode(text);
    const head = new TextDecoder().decode(bytes.slice(0, answer?.completion.from ?? bytes.length));
    const rest = text.slice(field.current?.selectionStart ?? text.length).trimStart();
    const next = `${head}${word} `;
    flushSync(() => setText(next + rest));
    field.current?.setSelectionRange(next.length, next.length);
    setPicked(-1);
    field.current?.focus();
  };

  const close = () => {
    setOpen(false);
    setPicked(-1);
  };

  const leave = (url: string) => {
    setText('');
    setAnswer(null);
    close();
    field.current?.blur();
    leftByProgram(field.current, () => queries.isFetching() === 0);
    go(url);
  };
  const trace = (target: string) => leave(traceURL(target, new URLSearchParams(search).get('from') ?? 'internet'));
  const whereUsed = (word: string) => leave(usesURL(word));

  /** Takes the line at once, and frees the field: what is wrong with it comes back beside what is typed by then. */
  const submit = () => {
    const line = text.trim();
    if (line === '') return;
    const several = /\s/.test(line);
    const isKind = kinds.data?.some((k) => k.word === line.split(/\s/)[0]?.toLowerCase()) ?? several;
    if (!several && isKind) return; // the sheet says what may follow
    if (!several) {
      trace(line);
      return;
    }
    if (/^(publish|retire) /.test(line)) {
      // a sentence, and no record: what it comes to is worked out
      leave(planURL(line));
      return;
    }
    keep(line);
    if (offered) forget(offered);
    setOffered('');
    setText('');
    setAnswer(null);
    setPicked(-1);
  };

  const keepBlock = () => {
    if (block === null || linesOf(block).length === 0) return;
    keep(block);
    setBlock(null);
    field.current?.focus();
  };

  const paste = (e: ClipboardEvent) => {
    const pasted = e.clipboardData.getData('text');
    if (linesOf(pasted).length < 2) return;
    e.preventDefault();
    const input = field.current;
    setBlock(
      text.slice(0, input?.selectionStart ?? text.length) + pasted + text.slice(input?.selectionEnd ?? text.length),
    );
    setText('');
  };

  const onKey = (e: KeyboardEvent) => {
    if (block !== null) {
      if (e.key === 'Enter') keepBlock();
      else if (e.key === 'Escape') setBlock(null);
      else return;
      e.preventDefault();
      return;
    }
    switch (e.key) {
      case 'ArrowDown':
        setPicked(Math.min(at + 1, choices.length - 1));
        setOpen(true);
        break;
      case 'ArrowUp':
        setPicked(Math.max(at - 1, -1));
        break;
      case 'Tab':
        if (choices.length === 0 || e.shiftKey || !open) return;
        complete(choices[Math.max(at, 0)]?.text ?? '');
        break;
      case 'Enter':
        if (e.shiftKey && !record && answer?.target) {
          whereUsed(answer.target.word);
        } else if (at >= 0) complete(choices[at]?.text ?? '');
        else submit();
        break;
      case 'Escape':
        if (open) close();
        else field.current?.blur();
        break;
      default:
        return;
    }
    e.preventDefault();
  };

  const stale = answered !== text;
  // What came back and is in the field again says why, until it is changed.
  const back = returned.find((r) => r.id === offered && r.text === text);
  const beside = returned.filter((r) => r !== back);
  const fault = answer?.fault;
  const slip =
    back?.message ??
    (!record && !stale && fault?.nearest && /\S\s+\S/.test(text) ? `${fault.what} (nearest: ${fault.nearest})` : '');
  const target = record || stale ? undefined : answer?.target;
  return (
    <Wrap
      onBlur={(e) => {
        if (!e.currentTarget.contains(e.relatedTarget)) close();
      }}
    >
      <Line $open={open}>
        <span aria-hidden="true">→</span>
        <input
          id="bearing"
          ref={field}
          value={text}
          onChange={(e) => {
            setText(e.target.value.replace(/^\//, '')); // the key that leads here is no part of a target
            setPicked(-1);
            setOpen(true);
            if (e.target.value.trim() === '') setAnswer(null);
          }}
          onFocus={() => setOpen(true)}
          onKeyDown={onKey}
          onPaste={paste}
          readOnly={block !== null}
          role="combobox"
          aria-label="Trace a name, address or place; or write a record"
          aria-expanded={choices.length > 0}
          aria-controls={listId}
          aria-activedescendant={at >= 0 ? `${listId}-${at}` : undefined}
          aria-autocomplete="list"
          autoComplete="off"
          spellCheck={false}
          placeholder="Trace a name, address or place; or write a record"
        />
        {record && text ? <kbd>{sentence ? 'Enter works it out' : 'Enter records'}</kbd> : <kbd>/</kbd>}
      </Line>
      {block !== null && <PastedLines text={block} onChange={setBlock} keep={keepBlock} leave={() => setBlock(null)} />}
      {((open && text.trim() !== '' && (choices.length > 0 || record || target || slip)) || beside.length > 0) && (
        <Sheet
          onMouseDown={(e) => {
            if (!(e.target instanceof HTMLElement && e.target.closest('[data-returned]'))) e.preventDefault();
          }}
        >
          {!open && beside.length > 0 && (
            <Said>
              <LinkButton
                onPress={() => {
                  setOpen(true);
                  field.current?.focus();
                }}
              >
                {beside.length === 1 ? 'One line came back' : `${beside.length} lines came back`}
              </LinkButton>{' '}
              <code>{beside.map((r) => linesOf(r.text)[0]).join(' · ')}</code>
            </Said>
          )}
          {(open ? beside.slice(-3) : []).map((r) => (
            <CameBack
              key={r.id}
              returned={r}
              edit={() => {
                setOffered(r.id);
                if (linesOf(r.text).length > 1) {
                  setBlock(r.text);
                  forget(r.id);
                } else setText(r.text);
                setOpen(true);
                field.current?.focus();
              }}
              forget={() => forget(r.id)}
            />
          ))}
          {open && beside.length > 3 && <Said>and {beside.length - 3} more that came back</Said>}
          {slip && <Caution role="alert">{slip}</Caution>}
          {record && answer?.meaning && <Said>{answer.meaning}</Said>}
          {record && answer?.fault && !stale && !back && (
            <Caution role="alert">
              {answer.fault.what}
              {answer.fault.expected && `; expected ${answer.fault.expected}`}
              {answer.fault.nearest && ` (nearest: ${answer.fault.nearest})`}
            </Caution>
          )}
          {target?.says && (
            <Said>
              {target.says}
              {target.offer && (
                <p>
                  <LinkButton
                    onPress={() => {
                      setText(`${target.offer} `);
                      field.current?.focus();
                    }}
                  >
                    {target.offer}
                  </LinkButton>
                </p>
              )}
            </Said>
          )}
          {target && target.uses > 0 && (
            <Said>
              <LinkButton onPress={() => whereUsed(target.word)}>
                Used in {target.uses} {target.uses === 1 ? 'record' : 'records'}
              </LinkButton>{' '}
              <kbd>Shift Enter</kbd>
            </Said>
          )}
          {record && answer?.effect && <EffectList effect={answer.effect} verb="Recording this would" />}
          <Choices role="listbox" id={listId} aria-label="What could stand here">
            {choices.map((c, i) => (
              <Choice
                key={c.text}
                id={`${listId}-${i}`}
                role="option"
                aria-selected={i === at}
                $on={i === at}
                onClick={() => complete(c.text)}
                ref={(el) => {
                  if (i === at) el?.scrollIntoView({ block: 'nearest' });
                }}
              >
                <span>{c.text}</span> <small>{c.detail}</small>
              </Choice>
            ))}
          </Choices>
        </Sheet>
      )}
    </Wrap>
  );
}

/** What is known and could be traced: names first, then places. */
function targets(text: string): Suggestion[] {
  const word = text.trim().toLowerCase();
  const out: Suggestion[] = [];
  const seen = new Set<string>();
  const add = (t: string, detail: string) => {
    if (out.length < 12 && t.includes(word) && !seen.has(t)) {
      seen.add(t);
      out.push({ text: t, detail });
    }
  };
  for (const [, data] of queries.getQueriesData<{ rows: { name: string; port: number }[] }>({ queryKey: ['names'] })) {
    for (const r of data?.rows ?? []) {
      if (out.length >= 12) break;
      add(r.name, 'name');
    }
  }
  for (const v of queries.getQueryData<Vantage[]>(['vantages']) ?? []) {
    if (v.kind === 'host' || v.kind === 'container') add(v.name, v.kind);
  }
  return out;
}
