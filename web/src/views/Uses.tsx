import { useEffect, useMemo, useState } from 'react';
import styled from 'styled-components';
import { useLocation } from 'wouter';
import { api, ask, useUses, type Effect, type Swap, type UsesAnswer } from '../api/client';
import { EffectList } from '../parts/EffectList';
import { useKeys } from '../parts/keys';
import { MendLines } from '../parts/MendLines';
import { Failed, LinkButton, Loading, Quiet, Strong } from '../parts/Quiet';
import { traceURL, usesURL } from '../parts/route';
import { useSession } from '../parts/session';
import { useViewHints } from '../parts/hints';
import { Wrapping } from '../parts/Wrapping';

const Two = styled.div`
  display: grid;
  grid-template-columns: minmax(0, 1fr) 372px;
  min-height: 0;
`;

const Sheet = styled.div`
  overflow: auto;
  min-width: 0;
`;

const Side = styled.aside`
  border-left: 1px solid ${(p) => p.theme.rule};
  overflow: auto;
  padding: 18px 22px 24px 20px;
`;

const Top = styled.header`
  padding: 14px 24px 12px;
  border-bottom: 1px solid ${(p) => p.theme.rule};
  h2 {
    font-size: 17px;
    line-height: 24px;
    overflow-wrap: anywhere;
  }
  p {
    color: ${(p) => p.theme.ink2};
  }
`;

const Group = styled.h3`
  font-size: 12px;
  font-weight: 400;
  color: ${(p) => p.theme.ink2};
  padding: 14px 24px 4px;
`;

const Line = styled.div<{ $going?: boolean }>`
  display: grid;
  grid-template-columns: 26px minmax(0, 1fr) fit-content(38%);
  align-items: start;
  padding: 6px 24px;
  border-top: 1px solid ${(p) => p.theme.hairline};
  font:
    12px/19px 'IBM Plex Mono',
    monospace;
  background: ${(p) => (p.$going ? p.theme.panel : 'none')};
  input {
    margin: 3px 0 0;
    accent-color: ${(p) => p.theme.ink};
  }
  small {
    color: ${(p) => p.theme.ink2};
    font:
      12px/19px 'IBM Plex Sans Variable',
      sans-serif;
    padding-left: 16px;
    text-align: right;
  }
`;

const To = styled.label`
  display: grid;
  gap: 3px;
  color: ${(p) => p.theme.ink2};
  font-size: 12px;
  input {
    border: 1px solid ${(p) => p.theme.rule};
    border-bottom: 2px solid ${(p) => p.theme.ink};
    background: ${(p) => p.theme.panel};
    color: ${(p) => p.theme.ink};
    padding: 6px 9px;
    font:
      12.5px/18px 'IBM Plex Mono',
      monospace;
    width: 100%;
  }
`;

const Wrong = styled.p`
  color: ${(p) => p.theme.magenta};
  margin: 8px 0;
`;

const titles: Record<string, string> = {
  direct: 'It stands in',
  inside: 'It is inside of a network or wildcard in',
  told: 'A note tells of it in',
  led: 'Led to it by',
};

/** Where an address, a name or a machine is used, and another in its place, everywhere in one step. */
export function Uses({ word }: { word: string }) {
  const uses = useUses(word);
  const [, go] = useLocation();
  useViewHints([
    ['t', 'trace it'],
    ['r', 'put another in its place'],
  ]);
  useKeys({
    t: () => go(traceURL(uses.data?.of ?? word)),
    r: () => document.getElementById('move-to')?.focus(),
  });
  if (uses.isError) return <Failed error={uses.error} again={() => void uses.refetch()} />;
  if (!uses.data) return <Loading what="Looking through the records…" />;
  return <Found key={uses.data.of} answer={uses.data} />;
}

function Found({ answer }: { answer: UsesAnswer }) {
  const { change } = useSession();
  const [, go] = useLocation();
  const [to, setTo] = useState('');
  const [swaps, setSwaps] = useState<Swap[] | null>(null);
  const [kept, setKept] = useState<ReadonlySet<string>>(new Set());
  const [effect, setEffect] = useState<Effect | null>(null);
  const [wrong, setWrong] = useState('');
  const target = to.trim();

  useEffect(() => {
    if (target === '') return;
    const stop = new AbortController();
    const timer = setTimeout(async () => {
      try {
        const body = { from: answer.of, to: target };
        const got = (await ask(api.POST('/api/move', { body, signal: stop.signal }))) ?? [];
        setSwaps(got);
        setKept(new Set(got.filter((s) => s.keep).map((s) => s.remove)));
        setWrong('');
      } catch (error) {
        if (!stop.signal.aborted) {
          setSwaps(null);
          setWrong((error as Error).message);
        }
      }
    }, 150);
    return () => {
      clearTimeout(timer);
      stop.abort();
    };
  }, [target, answer]);

  const shown = target === '' ? null : swaps;
  const going = useMemo(() => (shown ?? []).filter((s) => !kept.has(s.remove)), [shown, kept]);
  const key = JSON.stringify([going.map((s) => s.remove), going.map((s) => s.add)]);
  useEffect(() => {
    const [remove, add] = JSON.parse(key) as [string[], string[]];
    const stop = new AbortController();
    void (async () => {
      setEffect(null);
      if (remove.length === 0) return;
      try {
        setEffect(await ask(api.POST('/api/preview', { body: { base: 0, remove, add }, signal: stop.signal })));
        setWrong('');
      } catch (error) {
        if (!stop.signal.aborted) setWrong((error as Error).message);
      }
    })();
    return () => stop.abort();
  }, [key]);

  const keep = async () => {
    const body = { remove: going.map((s) => s.remove), add: going.map((s) => s.add) };
    if (await change(body, `Put ${target} in the place of ${answer.of}`)) go(usesURL(target));
  };
  const swapOf = new Map((shown ?? []).map((s) => [s.remove, s]));
  const toggle = (line: string) => {
    const next = new Set(kept);
    if (!next.delete(line)) next.add(line);
    setKept(next);
  };
  const groups = (['direct', 'inside', 'told', 'led'] as const)
    .map((how) => ({ how, uses: answer.uses.filter((u) => u.how === how) }))
    .filter((g) => g.uses.length > 0);
  return (
    <Two>
      <Sheet>
        <Top>
          <h2>{answer.of}</h2>
          <p>
            {answer.kind}, used in {answer.uses.length} {answer.uses.length === 1 ? 'record' : 'records'} ·{' '}
            <LinkButton onPress={() => go(traceURL(answer.of))}>trace it</LinkButton>
          </p>
        </Top>
        {groups.length === 0 && <Quiet>No record has it.</Quiet>}
        {groups.map((g) => (
          <section key={g.how} aria-label={titles[g.how]}>
            <Group>
              {titles[g.how]} <b>{g.uses.length}</b>
            </Group>
            {g.uses.map((u) => {
              const swap = swapOf.get(u.record);
              const goes = swap !== undefined && !kept.has(u.record);
              return (
                <Line key={u.record} $going={goes} data-use={u.how}>
                  {swap && !swap.wrong ? (
                    <input
                      type="checkbox"
                      aria-label={`change ${u.record}`}
                      checked={goes}
                      onChange={() => toggle(u.record)}
                    />
                  ) : (
                    <span />
                  )}
                  {goes ? (
                    <MendLines mend={{ remove: [swap.remove], add: [swap.add] }} />
                  ) : (
                    <span>
                      <Wrapping text={u.record} />
                    </span>
                  )}
                  <small>{swap?.wrong ? swap.wrong : swap && !goes ? 'stays' : u.via ? `by ${u.via}` : ''}</small>
                </Line>
              );
            })}
          </section>
        ))}
      </Sheet>
      <Side aria-label="Another in its place">
        <To>
          Put another in its place, everywhere
          <input
            id="move-to"
            value={to}
            placeholder={answer.kind === 'address' ? 'an address' : answer.kind === 'name' ? 'a name' : 'a machine'}
            autoComplete="off"
            spellCheck={false}
            onChange={(e) => setTo(e.target.value)}
            onKeyDown={(e) => {
              if (e.key === 'Escape') {
                setTo('');
                e.currentTarget.blur();
              }
              if (e.key === 'Enter' && going.length > 0) void keep();
            }}
          />
        </To>
        {target !== '' && wrong !== '' && <Wrong role="alert">{wrong}</Wrong>}
        {target === '' ? (
          <p style={{ marginTop: 10 }}>
            Each line is shown with what it would be, to change or to keep, and what it all does to names and doors,
            before anything is kept. It is one change, and one undo.
          </p>
        ) : (
          <>
            {effect && (
              <div style={{ margin: '12px -14px 0' }}>
                <EffectList effect={effect} verb="This would" />
              </div>
            )}
            <Strong style={{ marginTop: 14 }} isDisabled={going.length === 0} onPress={() => void keep()}>
              Change {going.length} {going.length === 1 ? 'line' : 'lines'}
            </Strong>
          </>
        )}
      </Side>
    </Two>
  );
}
