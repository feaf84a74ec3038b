import { useEffect, useMemo, useState } from 'react';
import { WaysIn } from './WaysIn';
import styled from 'styled-components';
import { useLocation } from 'wouter';
import { api, ask, useFree, useUses, type Swap, type UsesAnswer } from '../../api/client';
import { EffectList } from '../change/EffectList';
import { useKeys } from '../../ui/keys';
import { Label, LinesField, written, writtenLines } from '../../ui/LinesField';
import { MendLines } from '../change/MendLines';
import { usePreview } from '../change/preview';
import { Failed, LinkButton, Loading, Quiet, Strong } from '../../ui/Quiet';
import { traceURL, usesURL, withoutURL, planURL } from '../../ui/route';
import { useSession } from '../change/session';
import { beginPublishing } from '../frame/bearing';
import { Group, MarkedLine, Sheet, Side, Top, Two } from '../../ui/TwoPane';
import { useViewHints } from '../../ui/hints';
import { Wrapping } from '../../ui/Wrapping';
import { useLinesInForce } from '../../ui/altered';

const Line = styled(MarkedLine)<{ $going?: boolean }>`
  background: ${(p) => (p.$going ? p.theme.panel : 'none')};
  input {
    margin: 3px 0 0;
    accent-color: ${(p) => p.theme.ink};
  }
`;

const To = styled(Label)`
  input {
    ${written}
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

/** Where an address, a name, a machine or a port is used, and another in its place, everywhere in one step. */
export function Uses({ word }: { word: string }) {
  const uses = useUses(word);
  const [, go] = useLocation();
  useViewHints([
    ['Enter', 'trace it'],
    ['r', 'put another in its place'],
    ['g', 'what if gone'],
    ['i', 'publish'],
    ['z', 'retire'],
  ]);
  useKeys({
    Enter: () => go(traceURL(uses.data?.of ?? word)),
    r: () => document.getElementById('move-to')?.focus(),
    g: () => go(withoutURL(word)),
    i: () => beginPublishing(uses.data?.kind === 'name' ? { name: word } : { place: word }),
    z: () => go(planURL(`retire ${word}`)),
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
  const [turned, setTurned] = useState<ReadonlySet<string>>(new Set()); // against what is right by itself
  const [more, setMore] = useState('');
  const [wrong, setWrong] = useState('');
  const target = to.trim();
  const beside = useMemo(() => writtenLines(more), [more]);

  useEffect(() => {
    if (target === '') return;
    const stop = new AbortController();
    const timer = setTimeout(async () => {
      try {
        const body = { from: answer.of, to: target, with: beside };
        const got = (await ask(api.POST('/api/move', { body, signal: stop.signal }))) ?? [];
        setSwaps(got);
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
  }, [target, answer, beside]);

  const aim = (word: string) => {
    setTo(word);
    setTurned(new Set());
  };
  const shown = target === '' ? null : swaps;
  const stays = (s: Swap) => s.keep !== turned.has(s.remove) || s.wrong !== undefined;
  const going = (shown ?? []).filter((s) => !stays(s));
  const remove = going.map((s) => s.remove);
  const add = [...going.map((s) => s.add), ...beside];
  const preview = usePreview(remove, add);
  const port = answer.kind === 'port';
  const [machine, number] = splitPort(answer.of);
  const free = useFree(machine, port && !machine.includes('/') ? Math.max(8000, number) : null);

  const keep = async () => {
    const what = target === '' ? `Added beside ${answer.of}` : `Put ${target} in the place of ${answer.of}`;
    if (!(await change({ remove, add }, what))) return;
    setMore('');
    if (target !== '') go(usesURL(port ? `${machine}:${target}${answer.of.endsWith('/udp') ? '/udp' : ''}` : target));
  };
  const inForce = useLinesInForce();
  const swapOf = new Map((shown ?? []).map((s) => [s.remove, s]));
  const toggle = (line: string) => {
    const next = new Set(turned);
    if (!next.delete(line)) next.add(line);
    setTurned(next);
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
            {!port && (
              <>
                {' '}
                ·{' '}
                <LinkButton onPress={() => go(withoutURL(answer.of))}>
                  {answer.kind === 'name' ? 'what it stands on' : 'without it'}
                </LinkButton>
              </>
            )}
          </p>
        </Top>
        {answer.kind !== 'address' && answer.kind !== 'name' && <WaysIn to={answer.of} />}
        {groups.length === 0 && <Quiet>No record has it.</Quiet>}
        {groups.map((g) => (
          <section key={g.how} aria-label={titles[g.how]}>
            <Group>
              {titles[g.how]} <b>{g.uses.length}</b>
            </Group>
            {g.uses.map((u) => {
              const swap = swapOf.get(u.record);
              const goes = swap !== undefined && !stays(swap);
              return (
                <Line
                  key={u.record}
                  $going={goes}
                  data-use={u.how}
                  data-altered={(inForce && !inForce.has(u.record)) || undefined}
                >
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
            placeholder={port ? 'another port' : `a${answer.kind === 'address' ? 'n' : ''} ${answer.kind}`}
            autoComplete="off"
            spellCheck={false}
            onChange={(e) => aim(e.target.value)}
            onKeyDown={(e) => {
              if (e.key === 'Escape') {
                aim('');
                e.currentTarget.blur();
              }
              if (e.key === 'Enter' && add.length > 0) void keep();
            }}
          />
        </To>
        {target !== '' && wrong !== '' && <Wrong role="alert">{wrong}</Wrong>}
        {free.data && free.data.port > 0 && (
          <p style={{ marginTop: 6 }}>
            The next free port there is{' '}
            <LinkButton onPress={() => aim(String(free.data.port))}>{free.data.port}</LinkButton>.
          </p>
        )}
        <div style={{ marginTop: 14 }}>
          <LinesField
            label="Lines that come with it"
            value={more}
            placeholder={port ? `map ${machine}/NAME ${number} to 80` : 'lines of notation, if any'}
            onChange={setMore}
          />
        </div>
        {preview.wrong !== '' && <Wrong role="alert">{preview.wrong}</Wrong>}
        {add.length === 0 ? (
          <p style={{ marginTop: 10 }}>
            Each line is shown with what it would be, to change or to keep, and what it all does to names and doors,
            before anything is kept. It is one change, and one undo.
          </p>
        ) : (
          <>
            {preview.effect && (
              <div style={{ margin: '12px -14px 0' }}>
                <EffectList effect={preview.effect} verb="This would" />
              </div>
            )}
            <Strong style={{ marginTop: 14 }} isDisabled={preview.wrong !== ''} onPress={() => void keep()}>
              {going.length > 0 && `Change ${going.length} ${going.length === 1 ? 'line' : 'lines'}`}
              {going.length > 0 && beside.length > 0 && ', '}
              {beside.length > 0 && `${going.length > 0 ? 'add' : 'Add'} ${beside.length}`}
            </Strong>
          </>
        )}
      </Side>
    </Two>
  );
}

/** A port's place and number. */
function splitPort(word: string): [string, number] {
  const [at = ''] = word.split('/udp');
  const i = at.lastIndexOf(':');
  return [at.slice(0, i), Number(at.slice(i + 1)) || 0];
}
