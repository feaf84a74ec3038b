import { useEffect, useMemo, useRef, useState, type KeyboardEvent } from 'react';
import styled from 'styled-components';
import { useLocation } from 'wouter';
import {
  api,
  ask,
  useClosing,
  useExposure,
  useExposureChanges,
  useInForce,
  useLastChanges,
  useLooks,
  useVantages,
  type Open,
  type SeenLook,
  type Sight,
  type Undecided,
} from '../../api/client';
import { Ago, ago } from '../../ui/time';
import { SightMark, sightWords } from '../../ui/Sight';
import { useLongList } from '../../ui/print';
import { Choice } from '../../ui/Choice';
import { EffectList } from '../change/EffectList';
import { useViewHints } from '../../ui/hints';
import { useKeys } from '../../ui/keys';
import { cidrs } from '../../ui/marks';
import { MendLines } from '../change/MendLines';
import { VantagePicker } from '../../ui/Picker';
import { usePreview } from '../change/preview';
import { useAgainst } from '../change/tried';
import { Acts, Failed, LinkButton, Loading, Plain, Quiet, Strong } from '../../ui/Quiet';
import { traceURL, useQueryWord, withoutURL } from '../../ui/route';
import { seenWord } from '../look/Seen';
import { useSession } from '../change/session';
import { Tools } from '../../ui/Tools';
import { Wall, type Gap } from './Wall';
import { alteredProps, AlteredSaid, useAltered, type Altered } from '../../ui/altered';
import { size } from '../../ui/theme';

const View = styled.div`
  display: grid;
  grid-template-rows: fit-content(44%) minmax(0, 1fr);
  min-height: 0;
`;

const Sheet = styled.div`
  overflow: auto;
  outline: none;
`;

const Row = styled.div<{ $chosen?: boolean }>`
  display: grid;
  grid-template-columns: 156px 84px minmax(150px, 1fr) minmax(110px, 0.8fr) minmax(0, 2fr) 108px 132px;
  gap: 12px;
  padding: 7px 24px;
  border-bottom: 1px solid ${(p) => p.theme.hairline};
  align-items: start;
  background: ${(p) => (p.$chosen ? p.theme.hover : 'none')};
  box-shadow: ${(p) => (p.$chosen ? `inset 3px 0 0 ${p.theme.ink}` : 'none')};
  code {
    overflow-wrap: anywhere;
  }
  b {
    font-weight: 600;
  }
  small {
    color: ${(p) => p.theme.ink2};
    font-size: ${size.plain};
  }
`;

const Head = styled(Row)`
  position: sticky;
  top: 0;
  z-index: 1;
  background: ${(p) => p.theme.ground};
  border-bottom-color: ${(p) => p.theme.rule};
  font-size: ${size.plain};
  color: ${(p) => p.theme.ink2};
`;

const Group = styled.h3`
  font-size: ${size.plain};
  font-weight: 400;
  color: ${(p) => p.theme.ink2};
  padding: 14px 24px 4px;
  border-bottom: 1px solid ${(p) => p.theme.hairline};
  b {
    color: ${(p) => p.theme.ink};
  }
`;

const Placed = styled.div`
  position: absolute;
  left: 0;
  width: 100%;
`;

const Look = styled.span`
  border: 1px dashed ${(p) => p.theme.magenta};
  color: ${(p) => p.theme.magenta};
  padding: 0 6px;
  font-weight: 500;
`;

const ClosingBox = styled.div`
  display: grid;
  grid-template-columns: minmax(0, 5fr) minmax(0, 6fr);
  gap: 34px;
  padding: 12px 24px 6px 27px;
  border-bottom: 1px solid ${(p) => p.theme.rule};
  background: ${(p) => p.theme.panel};
  p {
    margin-bottom: 8px;
  }
`;

const Through = styled.div`
  font:
    12px/17px 'IBM Plex Mono',
    monospace;
  overflow-wrap: anywhere;
`;

interface Door {
  id: string;
  first: Open;
  sites: number;
  undeclared: string[];
}

/** What stands under the wall: a heading, a door, one that is shut now, or something nobody knows. */
type Item =
  | { kind: 'heading'; id: string; text: string; count: number; change?: string }
  | { kind: 'door' | 'shut'; id: string; door: Door }
  | { kind: 'undecided'; id: string; undecided: Undecided }
  | { kind: 'nobodys'; id: string; look: SeenLook };

const nothing = 'nothing';

/** Everything that can be touched from a vantage: the wall with its gaps, and a door a row, the undeclared first. */
export function Exposure() {
  const [from, setFrom] = useQueryWord('from', 'internet');
  const [against, setAgainst] = useQueryWord('against', '');
  const [chosen, setChosen] = useState('');
  const [closing, setClosing] = useState('');
  const exposure = useExposure(from);
  const changes = useExposureChanges(from, against);
  const inForce = useInForce(['exposure', from], (query) =>
    ask(api.GET('/api/exposure', { params: { query: { from, ...query } } })),
  );
  const doorsInForce = useMemo(() => inForce && group(inForce.open), [inForce]);
  const [, go] = useLocation();
  const { change } = useSession();
  const sheet = useRef<HTMLDivElement>(null);
  const doors = useMemo(() => group(exposure.data?.open ?? []), [exposure.data]);
  const altered = useAltered(exposure.data && doors, doorsInForce, doorKey);
  const opened = useMemo(() => group(against ? (changes.data?.opened ?? []) : []), [against, changes.data]);
  const closed = useMemo(() => group(against ? (changes.data?.closed ?? []) : []), [against, changes.data]);
  const looks = useLooks('', from).data;
  const nobodys = useMemo(
    () => (looks ?? []).filter((l) => l.finding === 'seen.open' && l.did === 'connect' && !l.old),
    [looks],
  );
  const sights = useMemo(() => sightsOf(looks ?? []), [looks]);
  const gaps = useMemo(
    () => gapsOf(doors, exposure.data?.undecided ?? [], against ? opened : null, closed, nobodys),
    [doors, exposure.data, against, opened, closed, nobodys],
  );
  const items = useMemo(
    () => [
      ...nobodysOf(nobodys),
      ...itemsOf(doors, exposure.data?.undecided ?? [], against !== '' && changes.data ? against : '', opened, closed),
    ],
    [doors, exposure.data, against, changes.data, opened, closed, nobodys],
  );
  const shown = useMemo(() => items.flatMap((i) => (i.kind === 'door' || i.kind === 'shut' ? [i] : [])), [items]);
  const at = shown.findIndex((i) => i.id === chosen || i.door.id === chosen);

  const rows = useLongList({
    count: items.length,
    getScrollElement: () => sheet.current,
    estimateSize: () => 36,
    getItemKey: (i) => items[i]?.id ?? i,
    overscan: 8,
    paddingStart: 33,
    scrollPaddingStart: 33,
  });
  const loaded = exposure.data !== undefined;
  useEffect(() => {
    if (loaded && document.activeElement === document.body) sheet.current?.focus({ preventScroll: true });
  }, [loaded]);

  const declare = (d: Door) => {
    const o = d.first;
    const n = Number(o.ports.split('-')[1] ?? o.ports) - Number(o.ports.split('-')[0]);
    const ports = `${o.port}${n > 0 ? `-${o.port + n}` : ''}${o.transport === 'udp' ? '/udp' : ''}`;
    void change({ remove: [], add: [`intend ${o.place} ${ports} for ${from}`] }, `Declared ${o.address}:${o.ports}`);
  };
  const trace = (d: Door) => {
    const o = d.first;
    const port = `${o.ports.split('-')[0]}${o.transport === 'udp' ? '/udp' : ''}`;
    go(traceURL(`${bracketed(o.address)}:${port}`, from));
  };
  const close = (d: Door) => setClosing((was) => (was === d.id ? '' : d.id));
  const choose = (id: string) => {
    setChosen(id);
    const i = items.findIndex((x) => x.id === id || ((x.kind === 'door' || x.kind === 'shut') && x.door.id === id));
    if (i >= 0) rows.scrollToIndex(i);
  };
  const move = (to: number) => {
    const next = shown[Math.max(0, Math.min(shown.length - 1, to))];
    if (next) choose(next.id);
  };
  const now = shown[at]?.kind === 'door' ? shown[at].door : undefined;
  const onKey = (e: KeyboardEvent) => {
    if (e.target !== sheet.current) return;
    if (e.key === 'ArrowDown') move(at + 1);
    else if (e.key === 'ArrowUp') move(at < 0 ? 0 : at - 1);
    else if (e.key === 'Home') move(0);
    else if (e.key === 'End') move(shown.length - 1);
    else if (e.key === 'Enter' && now) trace(now);
    else return;
    e.preventDefault();
  };
  useKeys({
    v: () => document.getElementById('vantage')?.focus(),
    d: () => now && mayDeclare(now) && declare(now),
    x: () => now && close(now),
    g: () => now && go(withoutURL(now.first.place)),
    Escape: () => setClosing(''),
    c: () => document.querySelector<HTMLElement>('#against button')?.focus(),
  });
  useViewHints([
    ['↑↓', 'door'],
    ['Enter', 'trace it'],
    ['d', 'declare'],
    ['x', 'close'],
    ['g', 'what if gone'],
    ['c', 'compare'],
    ['v', 'seen from'],
  ]);
  const tools = (
    <Tools>
      <VantagePicker value={from} onChange={setFrom} />
      <Against from={from} value={against} onChange={setAgainst} />
      <AlteredSaid altered={altered} name={doorKey} />
    </Tools>
  );
  if (exposure.isError) {
    return (
      <>
        {tools}
        <Failed error={exposure.error} again={() => void exposure.refetch()} />
      </>
    );
  }
  if (!exposure.data) {
    return (
      <>
        {tools}
        <Loading what="Trying every door…" />
      </>
    );
  }
  const picture = (i: Item) => {
    switch (i.kind) {
      case 'heading':
        return (
          <Group as="div" role="row" data-change={i.change}>
            <span role="cell">
              {i.text} {i.count > 0 && <b>{i.count}</b>}
            </span>
          </Group>
        );
      case 'undecided':
        return <UndecidedRow undecided={i.undecided} />;
      case 'nobodys':
        return <NobodysRow look={i.look} onTrace={() => go(traceURL(i.look.target, from))} />;
      case 'shut':
        return <DoorRow door={i.door} chosen={i === shown[at]} shut onChoose={() => setChosen(i.id)} />;
    }
    return (
      <>
        <DoorRow
          door={i.door}
          altered={altered}
          sight={sights.get(`${i.door.first.address} ${i.door.first.ports}`)}
          chosen={i === shown[at]}
          onChoose={() => setChosen(i.id)}
          onTrace={() => trace(i.door)}
          onDeclare={mayDeclare(i.door) ? () => declare(i.door) : undefined}
          onClose={() => close(i.door)}
        />
        {closing === i.door.id && <Closing door={i.door} from={from} onDone={() => setClosing('')} />}
      </>
    );
  };
  return (
    <View>
      {tools}
      <Wall addresses={exposure.data.addresses} gaps={gaps} chosen={chosen} onChoose={choose} />
      <Sheet
        ref={sheet}
        role="table"
        aria-label={`Open from ${from}`}
        aria-rowcount={items.length}
        tabIndex={0}
        onKeyDown={onKey}
      >
        <Head role="row">
          {['address', 'port', 'lands on', 'open to', 'through', 'meant for', ''].map((h) => (
            <span key={h} role="columnheader">
              {h}
            </span>
          ))}
        </Head>
        {against !== '' && changes.isError && <Failed error={changes.error} again={() => void changes.refetch()} />}
        {items.length === 0 && <Quiet>Nothing can be touched from {from}.</Quiet>}
        <div style={{ height: Math.max(0, rows.getTotalSize() - 33), position: 'relative' }}>
          {rows.getVirtualItems().map((v) => {
            const i = items[v.index];
            return i ? (
              <Placed
                key={v.key}
                ref={rows.measureElement}
                data-index={v.index}
                style={{ transform: `translateY(${v.start - 33}px)` }}
              >
                {picture(i)}
              </Placed>
            ) : null;
          })}
        </div>
      </Sheet>
    </View>
  );
}

/** What closes a door, and what else that would do, before anything is kept. */
function Closing({ door, from, onDone }: { door: Door; from: string; onDone: () => void }) {
  const lines = useClosing(from, door.first);
  const { change } = useSession();
  const mend = lines.data ?? { remove: [], add: [] };
  const preview = usePreview(mend.remove, mend.add);
  const against = useAgainst(lines.data);
  const keep = async () => {
    if (await change(mend, `Closed ${door.first.address}:${door.first.ports} from ${from}`)) onDone();
  };
  return (
    <ClosingBox role="row" data-closing>
      <div role="cell">
        <p>
          Closes {bracketed(door.first.address)}:{door.first.ports} for {from}
        </p>
        {lines.isError && <Look role="alert">{lines.error.message}</Look>}
        {lines.data && <MendLines mend={mend} />}
        {against.slice(0, 3).map((a) => (
          <p key={a}>
            <Look>{a}</Look>
          </p>
        ))}
        <Acts>
          <Strong isDisabled={!preview.effect} onPress={() => void keep()}>
            {against.length > 0 ? 'Close it all the same' : 'Close it'}
          </Strong>
          <Plain onPress={onDone}>Leave it</Plain>
        </Acts>
      </div>
      <div role="cell">
        {preview.wrong !== '' && <Look role="alert">{preview.wrong}</Look>}
        {preview.effect && <EffectList effect={preview.effect} verb="This would" />}
      </div>
    </ClosingBox>
  );
}

interface DoorProps {
  door: Door;
  chosen: boolean;
  shut?: boolean;
  onChoose: () => void;
  onTrace?: () => void;
  onDeclare?: () => void;
  onClose?: () => void;
  sight?: Seeing;
  altered?: Altered<Door>;
}

function DoorRow({ altered, sight, door, chosen, shut, onChoose, onTrace, onDeclare, onClose }: DoorProps) {
  const o = door.first;
  const bad = door.undeclared.length > 0 || o.intent !== 'declared';
  return (
    <Row
      role="row"
      aria-selected={chosen}
      $chosen={chosen}
      data-door={`${bracketed(o.address)}:${o.ports}`}
      onClick={onChoose}
      {...(altered && alteredProps(altered, doorKey(door), (was) => `open to ${openTo(was.first)}`))}
    >
      <code role="cell">{o.address}</code>
      <code role="cell" style={{ fontWeight: 600 }}>
        {o.ports}
        {o.transport === 'udp' && '/udp'}
      </code>
      <span role="cell">
        <b>{o.place}</b>{' '}
        <small>
          {o.service}
          {door.sites > 1 ? `, ${door.sites} sites` : ''}
        </small>
      </span>
      <span role="cell">{openTo(o)}</span>
      <Through role="cell">
        {o.through.map((r) => (
          <div key={r}>{r}</div>
        ))}
        {door.undeclared.length > 0 && door.sites > 1 && <div>nobody declared {few(door.undeclared)}</div>}
      </Through>
      <span role="cell">
        {shut ? 'shut now' : bad ? <Look>{o.intent === 'partial' ? 'in part' : 'undeclared'}</Look> : 'declared'}
      </span>
      <span role="cell" style={{ display: 'flex', gap: 12 }}>
        {onTrace && <LinkButton onPress={onTrace}>trace</LinkButton>}
        {onDeclare && <LinkButton onPress={onDeclare}>declare</LinkButton>}
        {onClose && <LinkButton onPress={onClose}>close</LinkButton>}
        {sight && (
          <span style={{ marginLeft: 'auto' }}>
            <SightMark sight={sight.sight} title={`${sightWords[sight.sight]}, ${ago(sight.at)}`} />
          </span>
        )}
      </span>
    </Row>
  );
}

function UndecidedRow({ undecided }: { undecided: Undecided }) {
  return (
    <Row role="row">
      <code role="cell">{undecided.address}</code>
      <code role="cell">
        {undecided.ports}
        {undecided.transport === 'udp' && '/udp'}
      </code>
      <span role="cell">
        <b>{undecided.place}</b>
      </span>
      <i role="cell">not known</i>
      <span role="cell">{undecided.why}</span>
      <span role="cell" />
      <span role="cell" />
    </Row>
  );
}

interface Seeing {
  sight: Sight;
  at: string;
}

/** What was seen at each address and port last: the worst of it. */
function sightsOf(looks: readonly SeenLook[]): Map<string, Seeing> {
  const map = new Map<string, Seeing>();
  for (const l of looks) {
    if (!l.address || l.port === 0 || l.came === 'not-looked') continue;
    const key = `${l.address} ${l.port}`;
    const sight: Sight = l.old ? 'before' : l.agrees === 'no' ? 'otherwise' : 'as-recorded';
    const was = map.get(key);
    if (!was || (was.sight !== 'otherwise' && sight !== 'as-recorded')) map.set(key, { sight, at: was?.at ?? l.at });
  }
  return map;
}

/** A door that was seen open and that no line opens. */
function NobodysRow({ look, onTrace }: { look: SeenLook; onTrace: () => void }) {
  return (
    <Row role="row" data-nobodys={`${look.address}:${look.port}`}>
      <code role="cell">{look.address}</code>
      <code role="cell" style={{ fontWeight: 600 }}>
        {look.port}
      </code>
      <span role="cell">
        <Look>nobody&rsquo;s</Look>
      </span>
      <span role="cell">{look.from}</span>
      <span role="cell">
        seen <Ago at={look.at} />: {seenWord(look)}, and no line opens it
      </span>
      <span role="cell">
        <SightMark sight="otherwise" />
      </span>
      <span role="cell">
        <LinkButton onPress={onTrace}>trace</LinkButton>
      </span>
    </Row>
  );
}

function nobodysOf(looks: SeenLook[]): Item[] {
  if (looks.length === 0) return [];
  return [
    {
      kind: 'heading',
      id: 'nobodys',
      text: 'Seen open, and recorded by nobody',
      count: looks.length,
      change: 'opened',
    },
    ...looks.map((look): Item => ({ kind: 'nobodys', id: `nobodys ${look.address}:${look.port}`, look })),
    { kind: 'heading', id: 'recorded', text: 'Open by the records', count: 0 },
  ];
}

/** What opened and closed, where something is compared, all that is open, and what nobody knows. */
function itemsOf(doors: Door[], undecided: Undecided[], against: string, opened: Door[], closed: Door[]): Item[] {
  const out: Item[] = [];
  if (against !== '') {
    const where = whereWords(against);
    out.push({
      kind: 'heading',
      id: 'opened',
      text: `Open here, and not ${where}`,
      count: opened.length,
      change: 'opened',
    });
    out.push(...opened.map((door): Item => ({ kind: 'door', id: `opened ${door.id}`, door })));
    out.push({
      kind: 'heading',
      id: 'closed',
      text: `Open ${where}, and not here`,
      count: closed.length,
      change: 'closed',
    });
    out.push(...closed.map((door): Item => ({ kind: 'shut', id: `closed ${door.id}`, door })));
    out.push({ kind: 'heading', id: 'all', text: 'All that is open here', count: doors.length });
  }
  out.push(...doors.map((door): Item => ({ kind: 'door', id: door.id, door })));
  if (undecided.length > 0) out.push({ kind: 'heading', id: 'undecided', text: 'Not known', count: undecided.length });
  out.push(...undecided.map((d, i): Item => ({ kind: 'undecided', id: `undecided ${i}`, undecided: d })));
  return out;
}

/** What to hold the doors against: an earlier revision, or what another vantage sees. */
function Against({ from, value, onChange }: { from: string; value: string; onChange: (value: string) => void }) {
  const changes = useLastChanges();
  const vantages = useVantages();
  const revisions = changes.slice(0, 30).map((e) => revisionWords(e.revision - 1, e.why ?? e.act));
  const places = (vantages.data ?? [])
    .filter((v) => v.name !== from && (v.kind === 'network' || v.name === 'internet'))
    .slice(0, 30)
    .map((v) => v.name);
  const shown = /^\d+$/.test(value)
    ? (revisions.find((r) => r.startsWith(`revision ${value},`) || r === `revision ${value}`) ?? `revision ${value}`)
    : value || nothing;
  const options = [...new Set([nothing, shown, ...revisions.filter((r) => !r.startsWith('revision 0')), ...places])];
  return (
    <span id="against">
      <Choice
        label="compare with"
        value={shown}
        options={options}
        onChange={(o) => onChange(o === nothing ? '' : (/^revision (\d+)/.exec(o)?.[1] ?? o))}
      />
    </span>
  );
}

/** A revision, by the change that came after it. */
function revisionWords(revision: number, next: string) {
  const what = next.length > 34 ? `${next.slice(0, 33)}…` : next;
  return `revision ${revision}, before: ${what}`;
}

function whereWords(against: string) {
  return /^\d+$/.test(against) ? `at revision ${against}` : `from ${against}`;
}

/** What a door is, whichever way it stands in the list. */
function doorKey(d: Door) {
  return `${d.first.address} ${d.first.transport} ${d.first.ports} ${d.first.place}`;
}

function bracketed(address: string) {
  return address.includes(':') ? `[${address}]` : address;
}

function mayDeclare(d: Door) {
  return d.sites <= 1 && (d.undeclared.length > 0 || d.first.intent !== 'declared');
}

/** The first of a list, and how many more there are. */
function few(list: string[]) {
  return list.length > 4 ? `${list.slice(0, 3).join(', ')} and ${list.length - 3} more` : list.join(', ');
}

function openTo(o: Open) {
  if (o.sources.only.length) return cidrs(o.sources.only);
  const all = o.sources.of === 'internet' ? 'everyone' : `all of ${o.sources.of}`;
  return o.sources.except.length ? `${all} but ${cidrs(o.sources.except)}` : all;
}

function group(open: Open[]): Door[] {
  const at = new Map<string, Door>();
  for (const o of open) {
    const id = [o.address, o.ports, o.transport, o.place, o.sources.of, o.sources.only, o.sources.except].join(' ');
    const d = at.get(id) ?? { id, first: o, sites: 0, undeclared: [] };
    if (o.site !== null) d.sites++;
    if (o.intent !== 'declared') d.undeclared.push(o.site ?? o.service);
    at.set(id, d);
  }
  return [...at.values()].sort((a, b) => Number(b.undeclared.length > 0) - Number(a.undeclared.length > 0));
}

/** The gaps of the wall, address by address; where something is compared, with what opens and closes. */
function gapsOf(doors: Door[], undecided: Undecided[], opened: Door[] | null, closed: Door[], nobodys: SeenLook[]) {
  const at = new Map<string, Gap[]>();
  const put = (address: string, gap: Gap) => {
    const list = at.get(address);
    if (list) list.push(gap);
    else at.set(address, [gap]);
  };
  const gap = (d: Door, change?: Gap['change']): Gap => ({
    id: d.id,
    ...range(d.first.ports),
    udp: d.first.transport === 'udp',
    some: d.first.sources.only.length + d.first.sources.except.length > 0,
    look: d.undeclared.length > 0 && change !== 'closes',
    unknown: false,
    change,
  });
  const fresh = new Set((opened ?? []).map((d) => `${d.first.address} ${d.first.transport} ${d.first.ports}`));
  for (const d of doors) {
    if (!fresh.has(`${d.first.address} ${d.first.transport} ${d.first.ports}`)) put(d.first.address, gap(d));
  }
  for (const d of opened ?? []) put(d.first.address, gap(d, 'opens'));
  for (const d of closed) put(d.first.address, gap(d, 'closes'));
  for (const l of nobodys) {
    const id = `nobodys ${l.address}:${l.port}`;
    put(l.address ?? '', { id, lo: l.port, hi: l.port, udp: false, some: false, look: true, unknown: false });
  }
  undecided.forEach((u, i) => {
    for (const part of u.ports.split(',')) {
      const ports = part === 'any' ? { lo: 1, hi: 65535 } : range(part);
      const udp = u.transport === 'udp';
      put(u.address, { id: `undecided ${i}`, ...ports, udp, some: false, look: false, unknown: true });
    }
  });
  return at;
}

function range(ports: string) {
  const [lo = 0, hi = lo] = ports.split('-').map(Number);
  return { lo, hi };
}
