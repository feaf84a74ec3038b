import { useVirtualizer } from '@tanstack/react-virtual';
import { memo, useCallback, useDeferredValue, useEffect, useMemo, useRef, useState, type KeyboardEvent } from 'react';
import styled from 'styled-components';
import { useLocation } from 'wouter';
import {
  api,
  ask,
  useFree,
  useInForce,
  useMachinePorts,
  usePorts,
  type Depth,
  type Machine,
  type Port,
} from '../../api/client';
import { useKeys } from '../../ui/keys';
import { Failed, LinkButton, Loading, Quiet } from '../../ui/Quiet';
import { planURL, traceURL, usesURL, useChosen, useQueryWord, withoutURL } from '../../ui/route';
import { Choice } from '../../ui/Choice';
import { PlanPanel } from './PlanPanel';
import { Tools } from '../../ui/Tools';
import { useViewHints } from '../../ui/hints';
import { beginPublishing, writeInBearing } from '../frame/bearing';
import { alteredProps, AlteredSaid, useAltered } from '../../ui/altered';
import { size } from '../../ui/theme';

const names = 150; // the width of the machines' names, and of the layers'
const wide = 81; // of a port above
const deep = 150; // of a port below

const View = styled.div`
  display: grid;
  grid-template-rows: fit-content(45%) minmax(0, 1fr);
  min-height: 0;
  min-width: 0;
`;

const Split = styled.div<{ $two: boolean }>`
  display: grid;
  grid-template-columns: minmax(0, 1fr) ${(p) => (p.$two ? '372px' : '')};
  min-height: 0;
`;

const Sheet = styled.div`
  overflow: auto;
  position: relative;
  outline: none;
  border-bottom: 1px solid ${(p) => p.theme.rule};
  .head {
    position: sticky;
    top: 0;
    z-index: 3;
    height: 31px;
    line-height: 30px;
    background: ${(p) => p.theme.ground};
    border-bottom: 1px solid ${(p) => p.theme.rule};
    color: ${(p) => p.theme.ink2};
  }
  .row {
    position: absolute;
    left: 0;
    height: 27px;
    line-height: 26px;
    border-bottom: 1px solid ${(p) => p.theme.hairline};
    cursor: pointer;
  }
  .name {
    position: sticky;
    left: 0;
    z-index: 2;
    width: ${names}px;
    height: 100%;
    padding: 0 8px 0 24px;
    background: ${(p) => p.theme.ground};
    border-right: 1px solid ${(p) => p.theme.hairline};
    font-weight: 600;
    overflow: hidden;
    text-overflow: ellipsis;
    white-space: nowrap;
  }
  .head .name {
    font-weight: 400;
    font-size: ${size.plain};
  }
  .cell {
    position: absolute;
    top: 0;
    width: ${wide}px;
    height: 100%;
    padding: 0 8px;
    border-right: 1px solid ${(p) => p.theme.hairline};
    font-size: ${size.plain};
    white-space: nowrap;
    overflow: hidden;
  }
  .head .cell {
    font-family: 'IBM Plex Mono', monospace;
  }
  .row[aria-selected='true']::after {
    content: '';
    position: absolute;
    inset: -1px 0;
    border: solid ${(p) => p.theme.ink};
    border-width: 1px 0;
    z-index: 2;
    pointer-events: none;
  }
  .row[aria-selected='true'] .name {
    box-shadow: inset 3px 0 0 ${(p) => p.theme.ink};
  }
  .chosen {
    box-shadow: inset 0 0 0 1.5px ${(p) => p.theme.ink};
  }
  .world {
    background: ${(p) => p.theme.water};
    font-weight: 600;
  }
  .inside {
    background: ${(p) => p.theme.shallows};
  }
  .itself {
    background: ${(p) => p.theme.land};
  }
  .nobody {
    font-style: italic;
    color: ${(p) => p.theme.ink2};
  }
  .look {
    border: 1px dashed ${(p) => p.theme.magenta};
    color: ${(p) => p.theme.magenta};
    padding: 0 5px;
    margin-left: -6px;
    font-weight: 500;
    font-style: normal;
  }
`;

const Below = styled.div`
  display: grid;
  grid-template-rows: auto minmax(0, 1fr);
  min-height: 0;
  min-width: 0;
`;

const Top = styled.header`
  display: flex;
  flex-wrap: wrap;
  align-items: baseline;
  gap: 2px 14px;
  padding: 8px 24px 4px;
  h2 {
    font-size: ${size.lead};
    line-height: 22px;
    font-weight: 600;
    max-width: 260px;
  }
  h2,
  > button {
    overflow: hidden;
    text-overflow: ellipsis;
    white-space: nowrap;
    flex: 0 1 auto;
    min-width: 60px;
  }
  > button {
    font-size: ${size.plain};
  }
  p {
    flex: 1 1 0;
    min-width: 0;
    color: ${(p) => p.theme.ink2};
    font-size: ${size.plain};
    overflow: hidden;
    text-overflow: ellipsis;
    white-space: nowrap;
  }
  form {
    margin-left: auto;
    display: flex;
    align-items: baseline;
    gap: 8px;
    flex: none;
    white-space: nowrap;
    font-size: ${size.plain};
    color: ${(p) => p.theme.ink2};
  }
  input {
    width: 6ch;
    border: 0;
    border-bottom: 1px dashed ${(p) => p.theme.ink2};
    background: none;
    color: ${(p) => p.theme.ink};
    font:
      12px 'IBM Plex Mono',
      monospace;
  }
  code {
    color: ${(p) => p.theme.ink};
  }
`;

const Chart = styled.div`
  overflow: auto;
  position: relative;
  outline: none;
  .ports {
    position: sticky;
    top: 0;
    z-index: 3;
    height: 24px;
    background: ${(p) => p.theme.ground};
    border-bottom: 1px solid ${(p) => p.theme.ink};
  }
  .corner {
    position: sticky;
    left: 0;
    z-index: 2;
    width: ${names - 14}px;
    height: 100%;
    background: ${(p) => p.theme.ground};
  }
  .port {
    position: absolute;
    top: 2px;
    font:
      600 12.5px/20px 'IBM Plex Mono',
      monospace;
    cursor: pointer;
    background: none;
    border: 0;
    padding: 0 4px;
    color: ${(p) => p.theme.ink};
  }
  .port[aria-pressed='true'] {
    box-shadow: inset 0 -2px 0 ${(p) => p.theme.ink};
  }
  .layer {
    position: absolute;
    left: 0;
    border-bottom: 1px solid ${(p) => p.theme.hairline};
  }
  .label {
    position: sticky;
    left: 0;
    z-index: 2;
    width: ${names - 14}px;
    height: 0;
    font-size: ${size.plain};
    color: ${(p) => p.theme.ink2};
  }
  .label > span {
    display: block;
    padding: 10px 0 0 24px;
  }
  .item {
    position: absolute;
    width: ${deep - 26}px;
    font:
      12px/15px 'IBM Plex Mono',
      monospace;
    overflow: hidden;
    text-overflow: ellipsis;
    white-space: nowrap;
  }
  .beyond {
    font-style: italic;
    color: ${(p) => p.theme.ink2};
  }
  .stops,
  .caution {
    color: ${(p) => p.theme.magenta};
    font:
      500 12px/15px 'IBM Plex Sans Variable',
      sans-serif;
  }
  .caution {
    position: absolute;
    width: ${deep - 8}px;
    overflow-wrap: anywhere;
  }
  .clash {
    position: absolute;
    border: 1px dashed ${(p) => p.theme.magenta};
    pointer-events: none;
  }
  svg {
    position: absolute;
    top: 0;
    overflow: visible;
    pointer-events: none;
  }
`;

const Filter = styled.input`
  border: 0;
  border-bottom: 1px dashed ${(p) => p.theme.ink2};
  background: none;
  color: ${(p) => p.theme.ink};
  width: 110px;
  padding: 1px 0 2px;
  &:focus {
    outline: none;
    border-bottom: 2px solid ${(p) => p.theme.ink};
    padding-bottom: 1px;
  }
`;

/** A port with its transport, in words; tcp goes without saying. */
function word(p: Port) {
  return `${p.port}${p.last !== p.port ? `-${p.last}` : ''}${p.transport === 'udp' ? '/udp' : ''}`;
}

const order = (a: string, b: string) => parseInt(a) - parseInt(b) || a.localeCompare(b);

/** Machines by ports, and below the chosen machine's in depth. */
const machineKey = (m: Machine) => m.name;

export function Ports() {
  const { chosen: machine, choose: setMachine, settle } = useChosen(...useQueryWord('machine', ''));
  const { chosen: port, choose: setPort, settle: settlePort } = useChosen(...useQueryWord('port', ''));
  const [find, setFind] = useQueryWord('find', '');
  const [plan, setPlan] = useQueryWord('plan', '');
  const machines = usePorts();
  const inForce = useInForce(
    ['ports'],
    async (query) => (await ask(api.GET('/api/ports', { params: { query } }))) ?? [],
  );
  const altered = useAltered(machines.data, inForce, machineKey);
  const scroll = useRef<HTMLDivElement>(null);
  const [, go] = useLocation();

  const shown = useMemo(() => (machines.data ?? []).filter((m) => matches(m, find)), [machines.data, find]);
  const columns = useMemo(
    () => [...new Set(shown.flatMap((m) => m.ports.map(word)))].filter((w) => hit(w, find)).sort(order),
    [shown, find],
  );
  const chosen = shown.find((m) => m.name === machine) ?? shown.find((m) => m.ports.length > 0) ?? shown[0];
  const at = chosen ? shown.indexOf(chosen) : -1;
  const ports = chosen ? chosen.ports.map(word) : [];
  const now = ports.includes(port) ? port : '';

  const rows = useVirtualizer({
    count: shown.length,
    getScrollElement: () => scroll.current,
    estimateSize: () => 27,
    overscan: 8,
    scrollPaddingEnd: 31, // the head stands before the rows
  });
  const across = useVirtualizer({
    horizontal: true,
    count: columns.length,
    getScrollElement: () => scroll.current,
    estimateSize: () => wide,
    overscan: 4,
    paddingStart: names,
    scrollPaddingStart: names,
  });
  const leave = useCallback(
    (url: string) => {
      settle();
      settlePort();
      go(url);
    },
    [settle, settlePort, go],
  );
  const below = useDeferredValue(chosen); // the arrow goes first
  const toMachine = (i: number) => {
    const next = shown[Math.max(0, Math.min(shown.length - 1, i))];
    if (!next) return;
    setMachine(next.name);
    rows.scrollToIndex(shown.indexOf(next));
  };
  const toPort = (step: number) => {
    const i = ports.indexOf(now);
    const next = ports[Math.max(0, Math.min(ports.length - 1, i < 0 ? 0 : i + step))];
    if (next) {
      setPort(next);
      across.scrollToIndex(Math.max(0, columns.indexOf(next)));
    }
  };
  const onKey = (e: KeyboardEvent) => {
    if (e.key === 'ArrowDown') toMachine(at + 1);
    else if (e.key === 'ArrowUp') toMachine(at - 1);
    else if (e.key === 'ArrowRight') toPort(1);
    else if (e.key === 'ArrowLeft') toPort(-1);
    else if (e.key === 'Home') toMachine(0);
    else if (e.key === 'End') toMachine(shown.length - 1);
    else return;
    e.preventDefault();
  };
  useKeys({
    f: () => document.getElementById('ports-find')?.focus(),
    n: () => document.getElementById('free-above')?.focus(),
    w: () => chosen && now && leave(usesURL(`${chosen.name}:${now}`)),
    g: () => chosen && leave(withoutURL(chosen.name)),
    p: () => setPlan(plan ? '' : 'open'),
    i: () => beginPublishing(chosen && now ? { place: `${chosen.name}:${now.split('/')[0]}` } : {}),
    z: () => chosen && leave(planURL(`retire ${chosen.name}`)),
  });
  useViewHints([
    ['↑↓', 'machine'],
    ['←→', 'port'],
    ['Enter', 'trace it'],
    ['w', 'where it is used'],
    ['g', 'what if gone'],
    ['n', 'next free'],
    ['p', 'port plan'],
    ['i', 'publish'],
    ['z', 'retire'],
    ['f', 'find'],
  ]);
  const loaded = machines.data !== undefined;
  useEffect(() => {
    if (loaded && document.activeElement === document.body) scroll.current?.focus({ preventScroll: true });
  }, [loaded]);

  const tools = (
    <Tools>
      <AlteredSaid altered={altered} name={machineKey} />
      <LinkButton onPress={() => setPlan(plan ? '' : 'open')}>{plan ? 'close the plan' : 'port plan'}</LinkButton>
      <label>
        <span className="visually-hidden">find a port or machine</span>
        <Filter
          id="ports-find"
          placeholder="find a port"
          value={find}
          onChange={(e) => setFind(e.target.value.trim())}
          onKeyDown={(e) => {
            if (e.key === 'Escape') setFind('');
            if (e.key === 'Escape' || e.key === 'Enter') scroll.current?.focus();
          }}
        />
      </label>
    </Tools>
  );
  if (machines.isError) return <Failed error={machines.error} again={() => void machines.refetch()} />;
  if (!machines.data) return <Loading what="Laying out the ports…" />;
  if (machines.data.length === 0)
    return <Quiet>No machine is recorded yet. Write a host line into the field above.</Quiet>;
  const width = across.getTotalSize();
  return (
    <Split $two={plan !== '' && chosen !== undefined}>
      <View>
        {tools}
        <Sheet
          ref={scroll}
          role="grid"
          aria-label="Machines by ports"
          aria-rowcount={shown.length + 1}
          aria-colcount={columns.length + 1}
          aria-activedescendant={at >= 0 ? `machine-${at}${now && `-${columns.indexOf(now)}`}` : undefined}
          tabIndex={0}
          onKeyDown={(e) => {
            if (e.key === 'Enter') document.getElementById('trace-port')?.click();
            onKey(e);
          }}
        >
          <div className="head" role="row" aria-rowindex={1} style={{ width }}>
            <div className="name" role="columnheader" aria-colindex={1} style={{ float: 'left' }}>
              machine {shown.length}
            </div>
            {across.getVirtualItems().map((c) => (
              <div
                key={c.key}
                role="columnheader"
                aria-colindex={c.index + 2}
                className="cell"
                style={{ left: c.start }}
              >
                {columns[c.index]}
              </div>
            ))}
          </div>
          {shown.length === 0 && <Quiet>No machine has that port.</Quiet>}
          <div role="rowgroup" style={{ height: rows.getTotalSize(), width, position: 'relative' }}>
            {rows.getVirtualItems().map((v) => {
              const m = shown[v.index];
              if (!m) return null;
              const by = new Map(m.ports.map((p) => [word(p), p]));
              return (
                <div
                  key={m.name}
                  id={`machine-${v.index}`}
                  className="row"
                  role="row"
                  aria-rowindex={v.index + 2}
                  aria-selected={m === chosen}
                  data-machine={m.name}
                  {...alteredProps(altered, m.name)}
                  style={{ width, transform: `translateY(${v.start}px)` }}
                  onClick={() => setMachine(m.name)}
                >
                  <div className="name" role="rowheader" aria-colindex={1} title={m.name}>
                    {m.name}
                  </div>
                  {across.getVirtualItems().map((c) => {
                    const w = columns[c.index] ?? '';
                    const p = by.get(w);
                    return (
                      <div
                        key={c.key}
                        id={`machine-${v.index}-${c.index}`}
                        role="gridcell"
                        aria-colindex={c.index + 2}
                        aria-selected={m === chosen && w === now}
                        className={`cell ${p?.reach ?? ''} ${m === chosen && w === now ? 'chosen' : ''}`}
                        style={{ left: c.start }}
                        title={p?.clash}
                        onClick={() => p && setPort(w)}
                      >
                        {p && <CellWord p={p} />}
                      </div>
                    );
                  })}
                </div>
              );
            })}
          </div>
        </Sheet>
        {below && (
          <InDepth key={below.name} machine={below} port={below === chosen ? now : ''} onPort={setPort} leave={leave} />
        )}
      </View>
      {plan !== '' && chosen && (
        <PlanPanel key={chosen.name} machine={chosen.name} router={chosen.router} onClose={() => setPlan('')} />
      )}
    </Split>
  );
}

function CellWord({ p }: { p: Port }) {
  if (p.clash) return <span className="look">2 claim it</span>;
  return p.undeclared ? <span className="look">{p.reach}</span> : p.reach;
}

function hit(w: string, find: string) {
  return find === '' || !/^\d/.test(find) || w.startsWith(find) || inRange(w, find);
}

function inRange(w: string, find: string) {
  const [lo, hi] = w.split('/')[0]?.split('-').map(Number) ?? [];
  const n = Number(find);
  return lo !== undefined && hi !== undefined && n >= lo && n <= hi;
}

function matches(m: Machine, find: string) {
  if (find === '') return true;
  return /^\d/.test(find) ? m.ports.some((p) => hit(word(p), find)) : m.name.includes(find.toLowerCase());
}

const layers = ['forwarded at', 'let in by', 'mapped', 'listening', 'served as'];

interface DepthProps {
  machine: Machine;
  port: string;
  onPort: (w: string) => void;
  leave: (url: string) => void;
}

/** A machine's ports as columns, the layers from the outside in as rows, and how far what comes in gets. */
const InDepth = memo(function InDepth({ machine, port, onPort, leave }: DepthProps) {
  const depth = useMachinePorts(machine.name);
  const scroll = useRef<HTMLDivElement>(null);
  const ports = useMemo(() => depth.data?.ports ?? [], [depth.data]);
  const heights = useMemo(
    () => layers.map((_, l) => Math.max(40, 20 + 15 * Math.max(1, ...ports.map((d) => d.layers?.[l]?.length ?? 0)))),
    [ports],
  );
  const tops = heights.map((_, l) => 24 + heights.slice(0, l).reduce((a, b) => a + b, 0));
  const bottom = 24 + heights.reduce((a, b) => a + b, 0);
  // eslint-disable-next-line react-hooks/incompatible-library -- the compiler leaves this view as it is
  const across = useVirtualizer({
    horizontal: true,
    count: ports.length,
    getScrollElement: () => scroll.current,
    estimateSize: () => deep,
    overscan: 3,
    paddingStart: names,
    scrollPaddingStart: names,
  });
  const at = ports.findIndex((d) => word(d) === port);
  useEffect(() => {
    if (at >= 0) across.scrollToIndex(at, { align: 'auto' });
  }, [at, across]);
  const chosen = ports[at];
  const width = across.getTotalSize();
  return (
    <Below>
      <Top>
        <h2 title={machine.name}>{machine.name}</h2>
        {chosen && (
          <LinkButton id="trace-port" onPress={() => leave(traceURL(chosen.target, chosen.from))}>
            trace {chosen.target} from {chosen.from}
          </LinkButton>
        )}
        {chosen && (
          <LinkButton onPress={() => leave(usesURL(`${machine.name}:${word(chosen)}`))}>where it is used</LinkButton>
        )}
        <p>
          {machine.router && 'router · '}
          {machine.addresses.join(', ') || 'no address'} · {count(machine.sockets, 'socket')},{' '}
          {count(machine.maps, 'map')}
        </p>
        <NextFree machine={machine} />
      </Top>
      {depth.isError ? (
        <Failed error={depth.error} again={() => void depth.refetch()} />
      ) : !depth.data ? (
        <Loading what="Following each port…" />
      ) : ports.length === 0 ? (
        <Quiet>Nothing of {machine.name} speaks of a port.</Quiet>
      ) : (
        <Chart ref={scroll} tabIndex={0} role="group" aria-label={`The ports of ${machine.name} in depth`}>
          <div style={{ width, height: bottom + 64, position: 'relative' }}>
            <div className="ports" style={{ width }}>
              <div className="corner" />
              {across.getVirtualItems().map((c) => {
                const d = ports[c.index];
                return d ? (
                  <button
                    key={c.key}
                    type="button"
                    className="port"
                    aria-pressed={c.index === at}
                    data-port={word(d)}
                    style={{ left: c.start - 4 }}
                    onClick={() => onPort(word(d))}
                  >
                    {word(d)}
                  </button>
                ) : null;
              })}
            </div>
            {layers.map((name, l) => (
              <Ground key={name} className="layer" $layer={l} style={{ top: tops[l], height: heights[l], width }} />
            ))}
            <div className="label">
              {layers.map((name, l) => (
                <Ground key={name} as="span" $layer={l} style={{ height: (heights[l] ?? 0) - 1, marginBottom: 1 }}>
                  {name}
                </Ground>
              ))}
            </div>
            {clashes(ports).map((c) => (
              <div
                key={c.from}
                className="clash"
                style={{
                  left: names + c.from * deep + 6,
                  width: (c.to - c.from) * deep + deep - 26,
                  top: (tops[c.top] ?? 0) + 6,
                  height: (tops[c.bottom] ?? 0) - (tops[c.top] ?? 0) + 8 + 15 * c.items,
                }}
              />
            ))}
            {across.getVirtualItems().map((c) => {
              const d = ports[c.index];
              return d ? <Column key={c.key} d={d} x={c.start} tops={tops} heights={heights} bottom={bottom} /> : null;
            })}
          </div>
        </Chart>
      )}
    </Below>
  );
});

const mapped = 2;
const listening = 3;

/** What clashes, over all the ports and layers that it spans: two maps, two listeners, or a map and a listener. */
function clashes(ports: Depth[]) {
  const out: { from: number; to: number; top: number; bottom: number; items: number; why: string }[] = [];
  ports.forEach((d, i) => {
    if (!d.clash) return;
    const count = (l: number) => d.layers?.[l]?.length ?? 0;
    const top = count(mapped) > 0 ? mapped : listening;
    const bottom = count(mapped) > 1 ? mapped : listening;
    const last = out[out.length - 1];
    if (last && last.to === i - 1 && last.why === d.clash && last.top === top && last.bottom === bottom) {
      last.to = i;
      last.items = Math.max(last.items, count(bottom));
      return;
    }
    out.push({ from: i, to: i, top, bottom, items: Math.max(1, count(bottom)), why: d.clash });
  });
  return out;
}

const Ground = styled.div<{ $layer: number }>`
  background: ${(p) => (p.$layer === 0 ? p.theme.water : p.$layer === 1 ? p.theme.shallows : p.theme.land)};
`;

function count(n: number, what: string) {
  return `${n} ${what}${n === 1 ? '' : 's'}`;
}

const Way = styled.path<{ $look: boolean; $beyond?: boolean }>`
  fill: none;
  stroke: ${(p) => (p.$beyond ? p.theme.faint : p.$look ? p.theme.magenta : p.theme.ink)};
  stroke-width: 2;
  stroke-dasharray: ${(p) => (p.$beyond ? '1.5 4' : 'none')};
`;

const Tip = styled.path<{ $look: boolean }>`
  fill: ${(p) => (p.$look ? p.theme.magenta : p.theme.ink)};
`;

interface ColumnProps {
  d: Depth;
  x: number;
  tops: number[];
  heights: number[];
  bottom: number;
}

function Column({ d, x, tops, heights, bottom }: ColumnProps) {
  const top = (l: number) => (tops[l] ?? 0) + 6;
  const mid = (l: number) => (tops[l] ?? 0) + 17;
  const end = (l: number) => (tops[l] ?? 0) + (heights[l] ?? 0) - 8;
  const deepest = Math.max(d.ends, ...(d.layers ?? []).map((items, l) => ((items ?? []).length > 0 ? l : -1)));
  const y = d.arrives ? end(d.ends) : mid(d.ends);
  const look = d.undeclared;
  return (
    <div data-depth={word(d)}>
      <svg width="20" height={bottom} style={{ left: x - 8 }} aria-hidden="true">
        <Way $look={look} d={`M8 ${top(d.first)}V${y}`} />
        {d.arrives ? (
          <Tip $look={look} d={`M3.5 ${y - 1}H12.5L8 ${y + 6}Z`} />
        ) : (
          <>
            <Way $look d={`M2 ${y}H14M4 ${y + 4}H12`} />
            {deepest > d.ends && <Way $look={false} $beyond d={`M8 ${y + 8}V${end(deepest)}`} />}
          </>
        )}
      </svg>
      {(d.layers ?? []).map((items, l) =>
        (items ?? []).map((i, n) => (
          <div
            key={`${l} ${n}`}
            className={`item ${i.stops ? 'stops' : i.beyond ? 'beyond' : ''}`}
            style={{ left: x + 12, top: (tops[l] ?? 0) + 10 + 15 * n }}
            title={i.text}
          >
            {i.text}
          </div>
        )),
      )}
      {(d.clash || d.undeclared) && (
        <div className="caution" style={{ left: x - 2, top: bottom + 6 }}>
          {d.clash || 'open to the world, undeclared'}
        </div>
      )}
    </div>
  );
}

const anywhere = 'any address';

/** The next port that nothing of a machine has, on an address and transport, and the lines that would take it. */
function NextFree({ machine }: { machine: Machine }) {
  const [above, setAbove] = useState('8000');
  const [transport, setTransport] = useState<'tcp' | 'udp'>('tcp');
  const [address, setAddress] = useState(anywhere);
  const n = Number(above);
  const at = address === anywhere ? '' : address;
  const free = useFree(machine.name, Number.isInteger(n) && n >= 0 && n < 65536 ? n : null, transport, at);
  const port = free.data?.port;
  const bind = `${at && (at.includes(':') ? `[${at}]:` : `${at}:`)}${port}${transport === 'udp' ? '/udp' : ''}`;
  return (
    <form onSubmit={(e) => e.preventDefault()}>
      <label>
        next free above{' '}
        <input id="free-above" inputMode="numeric" value={above} onChange={(e) => setAbove(e.target.value.trim())} />
      </label>
      <Choice label="over" value={transport} options={['tcp', 'udp'] as const} onChange={setTransport} />
      <Choice
        label="on"
        value={address}
        options={[anywhere, '127.0.0.1', ...machine.addresses]}
        onChange={setAddress}
      />
      {port === undefined ? (
        'wants a number below 65536'
      ) : port === 0 ? (
        'is none'
      ) : (
        <>
          is <code>{port}</code>
          <LinkButton onPress={() => writeInBearing(`map ${machine.name}/NAME ${bind} to `)}>map it</LinkButton>
          <LinkButton onPress={() => writeInBearing(`listen ${machine.name} ${bind} as `)}>listen on it</LinkButton>
        </>
      )}
    </form>
  );
}
