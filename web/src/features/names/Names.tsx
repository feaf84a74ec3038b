import { memo, useCallback, useEffect, useMemo, useRef, useState, type KeyboardEvent } from 'react';
import styled, { css } from 'styled-components';
import { Link, useLocation } from 'wouter';
import { api, ask, useInForce, useNames, useSightings, type Row, type RowWay, type Seen } from '../../api/client';
import { ago } from '../../ui/time';
import { alteredProps, AlteredSaid, useAltered, type Altered } from '../../ui/altered';
import { SightMark, sightWords } from '../../ui/Sight';
import { useLongList } from '../../ui/print';
import { asColumns } from '../../ui/columns';
import { useViewHints } from '../../ui/hints';
import { useKeys } from '../../ui/keys';
import { isGood, Mark, outcomeWords } from '../../ui/marks';
import { VantagePicker } from '../../ui/Picker';
import { Failed, Loading, Quiet } from '../../ui/Quiet';
import { keepTablePlace, planURL, tablePlace, traceURL, useQueryWord } from '../../ui/route';
import { useSession } from '../change/session';
import { beginPublishing } from '../frame/bearing';
import { Choice } from '../../ui/Choice';
import { FilterField, Tools } from '../../ui/Tools';
import { size } from '../../ui/theme';

/** The height of a row in which a cell holds two values. */
const tall = 48;

const columns =
  'minmax(96px, 0.9fr) 46px minmax(122px, 1.15fr) minmax(166px, 1.35fr) minmax(88px, 0.75fr) minmax(112px, 0.95fr) minmax(62px, 0.5fr) minmax(112px, 1fr) minmax(140px, 1.25fr) minmax(136px, 0.9fr)';

const narrow =
  'minmax(72px, 0.8fr) 42px minmax(108px, 1.1fr) minmax(158px, 1.3fr) minmax(64px, 0.6fr) minmax(84px, 0.9fr) minmax(52px, 0.4fr) minmax(80px, 0.9fr) minmax(116px, 1.2fr) minmax(130px, 0.8fr)';

const Grid = styled.div`
  display: grid;
  grid-template-rows: minmax(0, 1fr);
  min-height: 0;
`;

const line = css`
  display: grid;
  grid-template-columns: ${columns};
  padding: 0 0 0 24px;
  @media (max-width: 1180px) {
    grid-template-columns: ${narrow};
  }
`;

const Head = styled.div`
  ${line}
  position: sticky;
  top: 0;
  z-index: 2;
  background: ${(p) => p.theme.ground};
  border-bottom: 1px solid ${(p) => p.theme.rule};
  font-size: ${size.plain};
  color: ${(p) => p.theme.ink2};
  > div {
    padding: 0 10px;
    height: 30px;
    line-height: 30px;
  }
  > div:first-child {
    padding-left: 0;
  }
`;

const HeadCell = styled.div<{ $ground?: 'water' | 'shallows' | 'land' }>`
  background: ${(p) =>
    p.$ground === 'water'
      ? p.theme.water
      : p.$ground === 'shallows'
        ? p.theme.shallowsHead
        : p.$ground === 'land'
          ? p.theme.landHead
          : 'none'};
`;

/** The rows, styled from their scroller: plain elements, since some five hundred are painted at each page. */
const Scroll = styled.div`
  overflow: auto;
  position: relative;
  outline: none;
  .group {
    position: absolute;
    left: 0;
    right: 0;
    padding: 0 24px;
    height: 30px;
    line-height: 30px;
    border-bottom: 1px solid ${(p) => p.theme.rule};
    background: ${(p) => p.theme.ground};
    color: ${(p) => p.theme.ink2};
    font-size: ${size.plain};
  }
  .group b {
    font-weight: 600;
    font-size: ${size.text};
    margin-right: 8px;
    color: ${(p) => p.theme.ink};
  }
  .row {
    ${line}
    position: absolute;
    left: 0;
    right: 0;
    height: 31px;
    cursor: pointer;
    border-bottom: 1px solid ${(p) => p.theme.hairline};
  }
  .row.tall {
    height: ${tall}px;
  }
  .row[aria-selected='true'] {
    box-shadow:
      0 -1px 0 ${(p) => p.theme.ink},
      0 1px 0 ${(p) => p.theme.ink};
    z-index: 1;
  }
  .row:hover > * {
    filter: brightness(0.985);
  }
  .opener {
    position: absolute;
    left: 5px;
    top: 5px;
  }
  .opener button {
    width: 18px;
    height: 20px;
    padding: 0;
    border: 0;
    background: none;
    cursor: pointer;
    color: ${(p) => p.theme.ink2};
    font-size: ${size.small};
    line-height: 20px;
  }
  .cell {
    padding: 0 10px;
    height: 100%;
    line-height: 30px;
    min-width: 0;
    white-space: nowrap;
    overflow: hidden;
    text-overflow: ellipsis;
    font-family: 'IBM Plex Mono', monospace;
    font-size: ${size.plain};
    @media (max-width: 1180px) {
      padding-right: 4px;
    }
  }
  .water {
    background: ${(p) => p.theme.water};
  }
  .shallows {
    background: ${(p) => p.theme.shallows};
  }
  .land {
    background: ${(p) => p.theme.land};
  }
  .ghost {
    color: ${(p) => p.theme.ink2};
    font-style: italic;
  }
  .name {
    padding-left: 0;
    font-family: inherit;
    font-size: ${size.text};
    font-weight: 600;
  }
  .cell small {
    font-weight: 400;
    color: ${(p) => p.theme.ink2};
    font-size: ${size.plain};
  }
  .port {
    text-align: right;
    padding: 0 10px 0 0;
    color: ${(p) => p.theme.ink2};
  }
  .two {
    padding: 5px 0 4px;
    line-height: 19px;
  }
  .two > div {
    overflow: hidden;
    text-overflow: ellipsis;
  }
  .ditto {
    display: inline-block;
    width: 2px;
    height: 7px;
    background: ${(p) => p.theme.faint};
    box-shadow: 4px 0 0 ${(p) => p.theme.faint};
  }
  .break {
    display: block;
    margin: 3px -7px;
    height: 24px;
    padding: 0 7px;
    border: 1px dashed ${(p) => p.theme.magenta};
    background: ${(p) => p.theme.magentaWash};
    color: ${(p) => p.theme.magenta};
    font:
      500 12.5px/21px 'IBM Plex Sans Variable',
      sans-serif;
    overflow: hidden;
    text-overflow: ellipsis;
  }
  .verdict {
    height: 30px;
    display: flex;
    align-items: center;
    gap: 8px;
    font:
      500 13px/30px 'IBM Plex Sans Variable',
      sans-serif;
    padding-right: 10px;
    [data-sight] {
      margin-left: auto;
    }
  }
  .stops {
    color: ${(p) => p.theme.magenta};
  }
`;

const cells = ['answers', 'edge', 'letsIn', 'machine', 'service', 'site', 'backend'] as const;
type CellName = (typeof cells)[number];
const grounds: Record<CellName, 'water' | 'shallows' | 'land'> = {
  answers: 'water',
  edge: 'shallows',
  letsIn: 'shallows',
  machine: 'land',
  service: 'land',
  site: 'land',
  backend: 'land',
};
const titles: Record<CellName, string> = {
  answers: 'answers',
  edge: 'edge',
  letsIn: 'lets in',
  machine: 'machine',
  service: 'service',
  site: 'site',
  backend: 'backend',
};

type RowItem = { kind: 'row'; key: string; row: Row; way?: RowWay };
type Item = { kind: 'group'; key: string; title: string; note: string } | RowItem;

const groupings = ['zone', 'machine', 'verdict'] as const;
const shows = ['everything', 'stops', 'arrives', 'not known', 'seen otherwise'] as const;

/** The table of names: a row a name and port, in the order in which a stranger meets things. */
export function Names() {
  const [from, setFrom] = useQueryWord('from', 'internet');
  const [group, setGroup] = useQueryWord('by', 'zone');
  const [show, setShow] = useQueryWord('show', 'everything');
  const [filter, setFilter] = useQueryWord('filter', '');
  const names = useNames(from);
  const inForce = useInForce(['names', from], (query) =>
    ask(api.GET('/api/names', { params: { query: { from, ...query } } })),
  );
  const altered = useAltered(names.data?.rows, inForce?.rows, rowKey);
  const seen = useSightings(from).data;
  const sights = useMemo(() => new Map((seen ?? []).map((s) => [`${s.name}:${s.port}`, s])), [seen]);
  const [open, setOpen] = useState<ReadonlySet<string>>(new Set());
  const [, go] = useLocation();
  const { say } = useSession();
  const scroll = useRef<HTMLDivElement>(null);

  const items = useMemo(
    () => arrange(names.data?.rows ?? [], filter, group, show, open, sights),
    [names.data, filter, group, show, open, sights],
  );
  const [at, setAt] = useState(() => tablePlace().row);
  const found = items.findIndex((i) => i.key === at);
  const selected = found >= 0 ? found : items.findIndex((i) => i.kind === 'row');

  const virtual = useLongList({
    count: items.length,
    getScrollElement: () => scroll.current,
    estimateSize: useCallback((i: number) => (isTall(items[i]) ? tall : 31), [items]),
    overscan: 8,
    scrollPaddingEnd: 31, // the head stands before the rows
    getItemKey: useCallback((i: number) => items[i]?.key ?? i, [items]),
  });

  // Who comes back from a trace finds the row again that it was opened from.
  const back = useRef(at);
  useEffect(() => {
    if (back.current === '' || items.length === 0) return;
    const i = items.findIndex((item) => item.key === back.current);
    if (i >= 0) virtual.scrollToIndex(i, { align: 'center' });
    back.current = '';
  }, [items, virtual]);

  const toRow = useCallback(
    (i: number, step: number) => {
      let next = Math.max(0, Math.min(items.length - 1, i));
      while (items[next] && items[next]?.kind !== 'row') next += step;
      const item = items[next];
      if (item) {
        setAt(item.key);
        virtual.scrollToIndex(next);
      }
    },
    [items, virtual],
  );
  const toggle = useCallback((item: RowItem) => {
    if (item.row.ways.length < 2) return;
    setOpen((open) => {
      const next = new Set(open);
      const key = rowKey(item.row);
      if (!next.delete(key)) next.add(key);
      return next;
    });
  }, []);
  const pick = useCallback(
    (item: RowItem) => {
      setAt(item.key);
      keepTablePlace(item.key);
      go(traceURL(target(item.row), from));
    },
    [from, go],
  );
  const onKey = (e: KeyboardEvent) => {
    const page = Math.floor((scroll.current?.clientHeight ?? 600) / 31) - 1;
    const item = items[selected];
    switch (e.key) {
      case 'ArrowDown':
      case 'j':
        toRow(selected + 1, 1);
        break;
      case 'ArrowUp':
      case 'k':
        toRow(selected - 1, -1);
        break;
      case 'PageDown':
        toRow(selected + page, 1);
        break;
      case 'PageUp':
        toRow(selected - page, -1);
        break;
      case 'Home':
        toRow(0, 1);
        break;
      case 'End':
        toRow(items.length - 1, -1);
        break;
      case 'ArrowRight':
      case 'ArrowLeft':
        if (item?.kind === 'row') toggle(item);
        break;
      case 'Enter':
        if (item?.kind === 'row') pick(item);
        break;
      default:
        return;
    }
    e.preventDefault();
  };
  useKeys({
    b: () => go('/answers'),
    t: () => go(asCourses()),
    i: () => beginPublishing({}),
    z: () => {
      const item = items[selected];
      if (item?.kind === 'row') go(planURL(`retire ${item.row.name}`));
    },
    f: () => document.getElementById('filter')?.focus(),
    v: () => document.getElementById('vantage')?.focus(),
    ArrowDown: () => scroll.current?.focus(),
    j: () => scroll.current?.focus(),
    y: () => {
      const rows = items.flatMap((i) => (i.kind === 'row' ? [copied(i.row)] : []));
      const head = ['name', 'port', ...cells.map((c) => titles[c]), 'verdict'];
      void navigator.clipboard
        ?.writeText(asColumns([head, ...rows]))
        .then(() => say({ text: `Copied ${rows.length} rows; they paste into a sheet as columns.` }));
    },
  });
  useViewHints([
    ['↑↓', 'move'],
    ['Enter', 'open the trace'],
    ['→', 'each way of a row'],
    ['f', 'find'],
    ['v', 'seen from'],
    ['b', 'answers beside one another'],
    ['t', 'shown the other way'],
    ['i', 'publish'],
    ['z', 'retire'],
    ['y', 'copy'],
  ]);
  useEffect(() => {
    if (document.activeElement === document.body) scroll.current?.focus({ preventScroll: true });
  }, []);

  const tools = (
    <Tools>
      <FilterField value={filter} onChange={setFilter} onLeave={() => scroll.current?.focus()} />
      <Link href="/answers">answers</Link>
      <Link href={asCourses()}>courses</Link>
      <Choice label="show" value={show} options={shows} onChange={setShow} />
      <VantagePicker value={from} onChange={setFrom} />
      <Choice label="grouped by" value={group} options={groupings} onChange={setGroup} />
      <AlteredSaid altered={altered} name={target} />
    </Tools>
  );
  if (names.isError) {
    return (
      <>
        {tools}
        <Failed error={names.error} again={() => void names.refetch()} />
      </>
    );
  }
  const visible = virtual.getVirtualItems();
  return (
    <Grid>
      {tools}
      {!names.data ? (
        <Loading what="Tracing every name…" />
      ) : items.length === 0 ? (
        <Quiet>
          {names.data.rows.length === 0
            ? 'No name is recorded yet. Write a dns line into the field above.'
            : 'No name is like that. Escape in the filter shows all of them again.'}
        </Quiet>
      ) : (
        <Scroll
          ref={scroll}
          tabIndex={0}
          role="grid"
          aria-label={`Names seen from ${from}`}
          aria-rowcount={items.length + 1}
          aria-activedescendant={selected >= 0 ? `name-${selected}` : undefined}
          onKeyDown={onKey}
        >
          <Head role="row" aria-rowindex={1}>
            <HeadCell role="columnheader">name</HeadCell>
            <HeadCell role="columnheader">
              <span className="visually-hidden">port</span>
            </HeadCell>
            {cells.map((c) => (
              <HeadCell role="columnheader" key={c} $ground={grounds[c]}>
                {titles[c]}
              </HeadCell>
            ))}
            <HeadCell role="columnheader">verdict</HeadCell>
          </Head>
          <div role="rowgroup" style={{ height: virtual.getTotalSize(), position: 'relative' }}>
            {visible.map((v) => {
              const item = items[v.index];
              if (!item) return null;
              const style = { transform: `translateY(${v.start}px)` };
              if (item.kind === 'group') {
                return (
                  <div className="group" key={item.key} style={style} role="row" aria-rowindex={v.index + 2}>
                    <span role="gridcell" aria-colspan={cells.length + 3}>
                      <b>{item.title}</b>
                      {item.note}
                    </span>
                  </div>
                );
              }
              const before = items[v.index - 1];
              return (
                <NameRow
                  key={item.key}
                  id={`name-${v.index}`}
                  index={v.index}
                  start={v.start}
                  item={item}
                  before={before?.kind === 'row' ? before : undefined}
                  on={v.index === selected}
                  opened={open.has(rowKey(item.row))}
                  group={group}
                  onToggle={toggle}
                  onPick={pick}
                  sight={sights.get(`${item.row.name}:${item.row.port}`)}
                  altered={altered}
                />
              );
            })}
          </div>
        </Scroll>
      )}
    </Grid>
  );
}

interface RowProps {
  id: string;
  index: number;
  start: number;
  item: RowItem;
  before?: RowItem;
  on: boolean;
  opened: boolean;
  group: string;
  onPick: (item: RowItem) => void;
  onToggle: (item: RowItem) => void;
  sight: Seen | undefined;
  altered: Altered<Row>;
}

const NameRow = memo(function NameRow({
  id,
  index,
  start,
  item,
  before,
  on,
  opened,
  group,
  onPick,
  onToggle,
  sight,
  altered,
}: RowProps) {
  const { row, way } = item;
  const ways = way ? [way] : row.ways;
  const same = before?.row.name === row.name && !way;
  const broken = worst(ways)?.cells;
  const brokenAt = broken && !row.asMeant ? cells.indexOf(broken.broken as CellName) : -1;
  const verdict = way ? way.outcome : row.verdict;
  const mark = way ? way.mark : row.mark;
  return (
    <div
      id={id}
      role="row"
      className={isTall(item) ? 'row tall' : 'row'}
      aria-rowindex={index + 2}
      aria-selected={on}
      style={{ transform: `translateY(${start}px)` }}
      onClick={() => onPick(item)}
      data-name={row.name}
      data-port={row.port}
      {...alteredProps(altered, rowKey(row), (was) => outcomeWords[was.verdict])}
    >
      <div
        role="gridcell"
        className={way ? 'cell name ghost' : 'cell name'}
        title={row.unicode ? `${row.unicode}, ${row.name}` : row.name}
      >
        {!way && row.ways.length > 1 && (
          <span className="opener">
            <button
              type="button"
              tabIndex={-1}
              aria-label={opened ? 'close the ways' : `each of ${row.ways.length} ways`}
              onClick={(e) => {
                e.stopPropagation();
                onToggle(item);
              }}
            >
              {opened ? '▾' : '▸'}
            </button>
          </span>
        )}
        {way ? (
          <small style={{ paddingLeft: 16 }}>{way.family === 'ipv6' ? 'IPv6' : 'IPv4'}</small>
        ) : (
          <NameText row={row} full={group !== 'zone'} faint={same} />
        )}
      </div>
      <div role="gridcell" className="cell port">
        {!way && row.port}
        {!way && row.transport === 'udp' && '/udp'}
      </div>
      {cells.map((c, i) => (
        <ValueCell
          key={c}
          ground={grounds[c]}
          values={cellValues(ways, c)}
          above={before ? cellValues(before.way ? [before.way] : before.row.ways, c) : []}
          reason={i === brokenAt ? broken?.reason : undefined}
          ghost={brokenAt >= 0 && i > brokenAt}
          zone={row.zone}
        />
      ))}
      <div
        role="gridcell"
        className={mark === 'stops' ? 'cell verdict stops' : 'cell verdict'}
        title={row.asMeant ? `meant for ${row.for.join(', ')}` : undefined}
      >
        <Mark kind={mark} />
        <span>
          {outcomeWords[verdict]}
          {row.asMeant && ', as meant'}
        </span>
        {!way && sight && (
          <SightMark
            sight={sight.state}
            title={`${sightWords[sight.state]}, ${ago(sight.at)}${sight.says && `. ${sight.says}`}`}
          />
        )}
      </div>
    </div>
  );
});

interface ValueProps {
  ground: string;
  values: string[];
  above: string[];
  reason?: string; // of the break that stands here
  ghost: boolean;
  zone: string;
}

/** One value, two, or how many; a ditto where it is what stands above; the break where there is one. */
function ValueCell({ ground, values, above, reason, ghost, zone }: ValueProps) {
  const text = values.join(', ');
  const name = `cell ${ground}${ghost ? ' ghost' : ''}`;
  let shown;
  if (reason !== undefined) {
    shown = <span className="break">{reason}</span>;
  } else if (text !== '' && text === above.join(', ')) {
    shown = (
      <>
        <i className="ditto" aria-hidden="true" />
        <span className="visually-hidden">{text}</span>
      </>
    );
  } else if (values.length === 2) {
    shown = (
      <div className="two">
        {values.map((v) => (
          <div key={v}>{short(v, zone)}</div>
        ))}
      </div>
    );
  } else {
    shown = values.length > 2 ? `${values.length} ways` : short(text, zone);
  }
  return (
    <div role="gridcell" className={name} title={reason ?? text}>
      {shown}
    </div>
  );
}

function NameText({ row, full, faint }: { row: Row; full: boolean; faint: boolean }) {
  const inside = row.zone && row.name.endsWith(`.${row.zone}`) ? row.name.slice(0, -row.zone.length - 1) : row.name;
  const text = full ? row.name : inside;
  if (faint) return <small>{text === row.name && row.name === row.zone ? '@ apex' : text}</small>;
  if (!full && row.name === row.zone) {
    return (
      <>
        @ <small>apex</small>
      </>
    );
  }
  return row.unicode ? (
    <>
      {row.unicode.replace(`.${row.zone}`, full ? `.${row.zone}` : '')} <small>{text}</small>
    </>
  ) : (
    <>{text}</>
  );
}

/** The same names as courses: seen from the same vantage, by the same filter. */
function asCourses() {
  const words = new URLSearchParams(window.location.search);
  words.delete('by');
  words.delete('show');
  const text = words.toString();
  return `/courses${text && `?${text}`}`;
}

function target(row: Row) {
  return `${row.name}:${row.port}${row.transport === 'udp' ? '/udp' : ''}`;
}

function rowKey(row: Row) {
  return `${row.name} ${row.port} ${row.transport}`;
}

/** The way whose break a row shows: the first that is broken. */
function worst(ways: RowWay[]) {
  return ways.find((w) => !isGood(w.outcome) && w.cells.broken) ?? ways.find((w) => w.cells.broken);
}

function cellValues(ways: RowWay[], cell: CellName) {
  return [...new Set(ways.map((w) => w.cells[cell]))].filter((v) => v !== '');
}

/** Whether a row has a cell of two values, so that it needs two lines. */
function isTall(item: Item | undefined) {
  return (
    item?.kind === 'row' &&
    !item.way &&
    item.row.ways.length > 1 &&
    cells.some((c) => cellValues(item.row.ways, c).length === 2)
  );
}

/** Leaves the zone out of a name in a narrow cell. */
function short(text: string, zone: string) {
  return zone && text.endsWith(`.${zone}`) ? `${text.slice(0, -zone.length)}…` : text;
}

/** A row as it is copied: each cell with all that its ways have there. */
function copied(row: Row) {
  return [
    row.unicode || row.name,
    `${row.port}/${row.transport}`,
    ...cells.map((c) => cellValues(row.ways, c).join('; ')),
    outcomeWords[row.verdict],
  ];
}

function arrange(
  rows: Row[],
  filter: string,
  group: string,
  show: string,
  open: ReadonlySet<string>,
  sights: ReadonlyMap<string, Seen>,
): Item[] {
  const word = filter.trim().toLowerCase();
  const wanted = rows.filter((r) => {
    if (show === 'stops' && r.mark !== 'stops') return false;
    if (show === 'arrives' && r.mark !== 'arrives') return false;
    if (show === 'not known' && r.verdict !== 'undecided') return false;
    if (show === 'seen otherwise' && sights.get(`${r.name}:${r.port}`)?.state !== 'otherwise') return false;
    if (!word) return true;
    return (
      target(r).includes(word) ||
      (r.unicode ?? '').toLowerCase().includes(word) ||
      outcomeWords[r.verdict].includes(word) ||
      r.ways.some(
        (w) =>
          cells.some((c) => w.cells[c].toLowerCase().includes(word)) || w.cells.reason.toLowerCase().includes(word),
      )
    );
  });
  const groups = new Map<string, Row[]>();
  const title = (r: Row) => {
    if (group === 'machine') return (r.ways[0]?.cells.machine ?? '').split('/')[0] || 'no machine reached';
    if (group === 'verdict') return r.asMeant ? 'unresolved, as meant' : outcomeWords[r.verdict];
    return (r.zone || 'in no recorded zone') + (r.for.length ? `\u0000${r.for.join(', ')}` : '');
  };
  for (const r of wanted) {
    const t = title(r);
    groups.set(t, [...(groups.get(t) ?? []), r]);
  }
  const out: Item[] = [];
  for (const [t, list] of [...groups].sort(([a], [b]) => Number(a.includes('\u0000')) - Number(b.includes('\u0000')))) {
    const [name, audience] = t.split('\u0000');
    const n = new Set(list.map((r) => r.name)).size;
    out.push({
      kind: 'group',
      key: `group ${t}`,
      title: name ?? '',
      note: `${n} ${n === 1 ? 'name' : 'names'}${group !== 'zone' ? '' : audience ? `, only for ${audience}` : ', public'}`,
    });
    for (const row of list) {
      out.push({ kind: 'row', key: rowKey(row), row });
      if (open.has(rowKey(row)) && row.ways.length > 1) {
        row.ways.forEach((way, i) => out.push({ kind: 'row', key: `${rowKey(row)} ${i}`, row, way }));
      }
    }
  }
  return out;
}
