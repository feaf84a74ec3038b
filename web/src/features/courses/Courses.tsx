import { linkHorizontal } from 'd3-shape';
import { useCallback, useMemo, useRef, useState, useSyncExternalStore, type KeyboardEvent } from 'react';
import styled, { useTheme } from 'styled-components';
import { Link, useLocation, useSearch } from 'wouter';
import { useInForce, ask, api, useCourses, type CoursesChart, type Fold } from '../../api/client';
import { AlteredSaid, useAltered } from '../../ui/altered';
import { Choice } from '../../ui/Choice';
import { useViewHints } from '../../ui/hints';
import { useKeys } from '../../ui/keys';
import { VantagePicker } from '../../ui/Picker';
import { Failed, LinkButton, Loading, Quiet } from '../../ui/Quiet';
import { traceURL, useQueryWord, withoutURL } from '../../ui/route';
import { FilterField, Tools } from '../../ui/Tools';
import { columns, laidOut, letter, shortName, type Drawn, type Placed, type Sheet } from './layout';
import { saveDrawing } from './save';
import { size } from '../../ui/theme';

const View = styled.div`
  display: grid;
  grid-template-rows: auto auto minmax(0, 1fr);
  min-height: 0;
`;

const Chosen = styled.p`
  display: flex;
  flex-wrap: wrap;
  gap: 2px 14px;
  padding: 6px 24px 7px;
  border-bottom: 1px solid ${(p) => p.theme.hairline};
  color: ${(p) => p.theme.ink2};
  b {
    font-weight: 600;
    color: ${(p) => p.theme.ink};
  }
`;

const Head = styled.div`
  display: flex;
  height: 29px;
  line-height: 29px;
  border-bottom: 1px solid ${(p) => p.theme.rule};
  font-size: ${size.plain};
  color: ${(p) => p.theme.ink2};
  scrollbar-gutter: stable;
  overflow: hidden;
  > div {
    padding-left: 12px;
  }
  > div:first-child {
    padding-left: 24px;
  }
`;

const Scroll = styled.div`
  overflow: auto;
  scrollbar-gutter: stable;
  min-height: 0;
  g[role='button'] {
    cursor: pointer;
    outline: none;
  }
  g[role='button'] rect {
    fill: transparent;
  }
  g[role='button']:hover rect {
    fill: ${(p) => p.theme.hover};
  }
  g[role='button']:focus-visible rect {
    stroke: ${(p) => p.theme.ink};
    stroke-width: 2;
  }
  @media print {
    overflow: visible;
  }
`;

const folds: readonly ('as it fits' | Fold)[] = ['as it fits', 'nothing', 'zone', 'edge', 'machine'];

/** The choices in the page's address: what the courses go by. */
function useThrough(): [string[], (next: string[]) => void] {
  const search = useSearch();
  const [, go] = useLocation();
  const through = useMemo(() => new URLSearchParams(search).getAll('through'), [search]);
  const set = useCallback(
    (next: string[]) => {
      const words = new URLSearchParams(window.location.search);
      words.delete('through');
      next.forEach((t) => words.append('through', t));
      const text = words.toString();
      go(window.location.pathname + (text ? `?${text}` : ''));
    },
    [go],
  );
  return [through, set];
}

function useWindowWidth() {
  return useSyncExternalStore(
    (tell) => {
      window.addEventListener('resize', tell);
      return () => window.removeEventListener('resize', tell);
    },
    () => window.innerWidth,
  );
}

/** The least width at which labels can be read, in pixels. */
const least = 960;

/** Names as courses: every name through its addresses, edges, machines and fronts to its backends. */
export function Courses() {
  const [from, setFrom] = useQueryWord('from', 'internet');
  const [filter, setFilter] = useQueryWord('filter', '');
  const [fold, setFold] = useQueryWord('fold', '');
  const [through, setThrough] = useThrough();
  const known = folds.find((f) => f === fold) ?? 'as it fits';
  const asked = { fold: known === 'as it fits' ? ('' as const) : known, through, like: filter };
  const courses = useCourses(from, asked);
  const inForce = useInForce(['courses', from, JSON.stringify(asked)], (query) =>
    ask(
      api.GET('/api/courses', {
        params: { query: { from, fold: asked.fold || undefined, through, like: filter || undefined, ...query } },
      }),
    ),
  );
  const nodes = useMemo(() => courses.data && hangingOn(courses.data), [courses.data]);
  const nodesInForce = useMemo(() => inForce && hangingOn(inForce), [inForce]);
  const altered = useAltered(nodes, nodesInForce, (n) => n.key);
  const [, go] = useLocation();
  const svg = useRef<SVGSVGElement>(null);
  const [at, setAt] = useState<string>('');
  const wide = Math.max(least, useWindowWidth() - 16);
  const chart = courses.data;
  const sheet = useMemo(() => (chart ? laidOut(chart, wide) : null), [chart, wide]);
  const table = () => {
    const words = new URLSearchParams(window.location.search);
    words.delete('through');
    words.delete('fold');
    const text = words.toString();
    return `/${text && `?${text}`}`;
  };
  const gone = () => {
    const n = sheet?.nodes.find((p) => nodeKey(p) === at)?.node;
    if (n?.part) go(withoutURL(n.part));
    else if (n?.target) go(withoutURL(n.target, { kind: 'name', from }));
  };
  useKeys({
    t: () => go(table()),
    f: () => document.getElementById('filter')?.focus(),
    v: () => document.getElementById('vantage')?.focus(),
    g: gone,
    ArrowDown: () => svg.current?.querySelector<SVGGElement>('g[role=button]')?.focus(),
    Escape: () => (through.length > 0 ? setThrough(through.slice(0, -1)) : go(table())),
  });
  useViewHints([
    ['↑↓ ←→', 'along the courses'],
    ['Enter', 'only what hangs on it; of a name, its trace'],
    ['g', 'what if gone'],
    ['f', 'find'],
    ['v', 'seen from'],
    ['t', 'shown the other way'],
    ['Esc', 'back'],
  ]);
  const choose = (p: Placed) => {
    if (p.node.target) go(traceURL(p.node.target, from));
    else setThrough([...through, `${p.node.column}:${p.node.key}`]);
  };
  return (
    <View>
      <Tools>
        <AlteredSaid altered={altered} name={(n) => n.word} />
        <FilterField value={filter} onChange={setFilter} />
        <Link href={table()}>as a table</Link>
        <VantagePicker value={from} onChange={setFrom} />
        <Choice
          label="folded by"
          value={known}
          options={folds}
          onChange={(f) => setFold(f === 'as it fits' ? '' : f)}
        />
        <LinkButton onPress={() => svg.current && saveDrawing(svg.current, `courses from ${from}`)}>SVG</LinkButton>
      </Tools>
      {courses.isError ? (
        <Failed error={courses.error} again={() => void courses.refetch()} />
      ) : !chart || !sheet ? (
        <Loading what="Following every name…" />
      ) : (
        <>
          <Choices chart={chart} through={through} like={filter} onChange={setThrough} />
          <Head aria-hidden="true">
            {columns.map((c, i) => (
              <div key={c} style={{ flex: 'none', width: (sheet.lefts[i + 1] ?? wide) - (sheet.lefts[i] ?? 0) }}>
                {c === 'name' && chart.fold !== 'nothing' ? `names, by ${chart.fold}` : c}
              </div>
            ))}
          </Head>
          <Scroll>
            {chart.nodes.length === 0 ? (
              <Quiet>
                {chart.of === 0
                  ? 'No name is recorded yet. Write a dns line into the field above.'
                  : 'No name is like that. Escape in the filter shows all of them again.'}
              </Quiet>
            ) : (
              <Drawing ref={svg} {...{ chart, sheet, wide, at, setAt, choose }} marked={altered.marked} />
            )}
          </Scroll>
        </>
      )}
    </View>
  );
}

function Choices({
  chart,
  through,
  like,
  onChange,
}: {
  chart: CoursesChart;
  through: string[];
  like: string;
  onChange: (next: string[]) => void;
}) {
  const n = chart.names;
  return (
    <Chosen role="status">
      <span>
        <b>{n}</b> {n === 1 ? 'name' : 'names'}
        {n !== chart.of && ` of ${chart.of}`}
        {like && ` like “${like}”`}
      </span>
      {through.map((t, i) => {
        const [column, ...key] = t.split(':');
        return (
          <span key={t}>
            {column === 'name' ? 'of the' : `by the ${column}`} <b>{key.join(':')}</b>{' '}
            <LinkButton
              aria-label={`not only by ${key.join(':')}`}
              onPress={() => onChange(through.filter((_, k) => k !== i))}
            >
              leave out
            </LinkButton>
          </span>
        );
      })}
      {through.length === 0 && chart.around.length > 0 && (
        <span>
          {chart.around.length} {chart.around.length === 1 ? 'way goes' : 'ways go'} around a front
        </span>
      )}
    </Chosen>
  );
}

/** The nodes of a chart, each with the strokes that come to it and go from it. */
function hangingOn(chart: CoursesChart) {
  const key = (i: number) => `${chart.nodes[i]?.column}:${chart.nodes[i]?.key}`;
  const out = chart.nodes.map((n, i) => ({ key: key(i), word: n.word, strokes: [] as string[] }));
  for (const s of chart.strokes) {
    const text = `${key(s.from)} ${s.to === null ? '' : key(s.to)} ${s.state} ${s.names}`;
    out[s.from]?.strokes.push(text);
    if (s.to !== null) out[s.to]?.strokes.push(text);
  }
  return out;
}

function nodeKey(p: Placed) {
  return `${p.node.column}:${p.node.key}`;
}

/** A node in words. */
function said({ node }: Placed) {
  const names = `${node.names} ${node.names === 1 ? 'name' : 'names'}`;
  const more = [node.more, names].filter((m, i, all) => m && all.indexOf(m) === i);
  return `${node.column} ${node.word}${node.target ? '' : `: ${more.join(', ')}`}`;
}

interface DrawingProps {
  ref: React.Ref<SVGSVGElement>;
  chart: CoursesChart;
  sheet: Sheet;
  wide: number;
  at: string;
  setAt: (key: string) => void;
  choose: (p: Placed) => void;
  /** The nodes on which something else hangs than in force. */
  marked: ReadonlyMap<string, unknown>;
}

const sans = "'IBM Plex Sans Variable', 'IBM Plex Sans', sans-serif";
const mono = "'IBM Plex Mono', monospace";

/** How many ways around are drawn. */
const mostAround = 10;
const aroundPitch = 22;

/** The drawing stands alone: what it is drawn in is written on each part, so that it can be kept as a file. */
function Drawing({ ref, chart, sheet, wide, at, setAt, choose, marked }: DrawingProps) {
  const theme = useTheme();
  const around = chart.around.slice(0, mostAround);
  const below =
    around.length > 0 ? 34 + around.length * aroundPitch + (chart.around.length > mostAround ? aroundPitch : 0) : 0;
  const height = sheet.height + below;
  const chosen = sheet.nodes.find((p) => nodeKey(p) === at);
  const beside = (d: Drawn) => !chosen || d.from === chosen || d.to === chosen;
  const grounds = [theme.ground, theme.water, theme.shallows, theme.land];
  const onKey = (e: KeyboardEvent, p: Placed) => {
    const next = e.key === 'Enter' || e.key === ' ' ? null : neighbour(sheet, p, e.key);
    if (e.key === 'Enter' || e.key === ' ') choose(p);
    else if (next) e.currentTarget.parentElement?.querySelector<SVGGElement>(`[data-index="${next.index}"]`)?.focus();
    else return;
    e.preventDefault();
    e.stopPropagation();
  };
  return (
    <svg
      ref={ref}
      width={wide}
      height={height}
      viewBox={`0 0 ${wide} ${height}`}
      role="group"
      aria-label="Names as courses"
      fontFamily={mono}
      fontSize={size.plain}
      style={{ display: 'block', minHeight: '100%' }}
    >
      {grounds.map((fill, i) => (
        <rect
          key={i}
          x={sheet.lefts[i]}
          y={0}
          width={(i === 3 ? wide : (sheet.lefts[i + 1] ?? wide)) - (sheet.lefts[i] ?? 0)}
          height="100%"
          fill={fill}
        />
      ))}
      {sheet.strokes.map((d, i) => (
        <StrokeLine key={i} drawn={d} faded={!beside(d)} />
      ))}
      {sheet.nodes.map((p) => (
        <g
          key={nodeKey(p)}
          role="button"
          tabIndex={(chosen ?? sheet.nodes[0]) === p ? 0 : -1}
          data-column={p.node.column}
          data-node={p.node.word}
          data-index={p.index}
          onFocus={() => setAt(nodeKey(p))}
          onClick={() => choose(p)}
          onKeyDown={(e) => onKey(e, p)}
        >
          <title>{said(p) + (marked.has(nodeKey(p)) ? ', other than in force' : '')}</title>
          {marked.has(nodeKey(p)) && (
            <path d={`M${p.label - 7} ${p.y - 9}v18`} stroke={theme.ink} strokeWidth={4} data-altered />
          )}
          <rect x={p.label - 5} y={p.y - 15} width={Math.max(30, p.out - p.label + 2)} height={30} fill="none" />
          <NodeLabel placed={p} />
        </g>
      ))}
      {around.map((a, i) => {
        const to = sheet.nodes[a.to];
        const y = sheet.height + 22 + i * aroundPitch;
        const x = (sheet.lefts[1] ?? 0) + 12;
        const start = x + a.door.length * letter.word + 8;
        return (
          to && (
            <g key={a.door + a.by} data-around={a.door} fill={theme.magenta}>
              <path
                d={curve({ source: [start, y], target: [to.in, to.y + 4] })}
                fill="none"
                stroke={theme.magenta}
                strokeWidth={1.6}
                strokeDasharray="5 4"
              />
              <text x={24} y={y + 4} fontFamily={sans} fontSize={size.plain}>
                {i === 0 ? 'around a front, undeclared' : ''}
              </text>
              <text x={x} y={y + 4} fontWeight={600}>
                <title>{`open to ${a.by}`}</title>
                {a.door}
              </text>
            </g>
          )
        );
      })}
      {chart.around.length > mostAround && (
        <text x={(sheet.lefts[1] ?? 0) + 12} y={height - 12} fill={theme.magenta} fontFamily={sans}>
          and {chart.around.length - mostAround} more, in Exposure
        </text>
      )}
    </svg>
  );
}

type Ends = { source: [number, number]; target: [number, number] };
const link = linkHorizontal<Ends, [number, number]>();

function curve(ends: Ends) {
  return link(ends) ?? '';
}

/** The node that an arrow key leads to: above or below in the column, or where most names go. */
function neighbour(sheet: Sheet, p: Placed, key: string): Placed | undefined {
  const column = sheet.nodes.filter((n) => n.column === p.column).sort((a, b) => a.y - b.y);
  const i = column.indexOf(p);
  switch (key) {
    case 'ArrowDown':
      return column[i + 1];
    case 'ArrowUp':
      return column[i - 1];
    case 'Home':
      return column[0];
    case 'End':
      return column.at(-1);
    case 'ArrowRight':
      return widest(sheet.strokes.filter((d) => d.from === p))?.to ?? undefined;
    case 'ArrowLeft':
      return widest(sheet.strokes.filter((d) => d.to === p))?.from;
  }
  return undefined;
}

function widest(strokes: Drawn[]) {
  return strokes.filter((d) => d.to).sort((a, b) => b.stroke.names - a.stroke.names)[0];
}

function NodeLabel({ placed }: { placed: Placed }) {
  const theme = useTheme();
  const { node, label, out, y } = placed;
  const isName = node.column === 'name' && Boolean(node.target);
  const word = isName ? shortName(node) : node.word;
  const room = Math.floor((out - label) / letter.word);
  const second = isName ? '' : node.more;
  return (
    <>
      <text
        x={label}
        y={second ? y - 1 : y + 4}
        fill={theme.ink}
        fontWeight={600}
        fontFamily={node.column === 'name' ? sans : mono}
        fontSize={node.column === 'name' ? size.text : size.plain}
      >
        {cut(word, room)}
      </text>
      {second && (
        <text x={label} y={y + 12} fill={theme.ink2} fontFamily={sans} fontSize={size.small}>
          {cut(second, Math.floor((out - label) / letter.more))}
        </text>
      )}
    </>
  );
}

function cut(text: string, room: number) {
  return text.length > room ? `${text.slice(0, Math.max(1, room - 1))}…` : text;
}

/** How far what goes no further is drawn, in pixels. */
const stub = 15;

/** How far along its stroke a break stands: near what it keeps from being reached. */
const breakAt = 0.76;

/** Where that is on the curve from one point to another. */
function along([x0, y0]: [number, number], [x1, y1]: [number, number]): [number, number] {
  const t = breakAt;
  const [near, middle, far] = [3 * (1 - t) * (1 - t) * t, 3 * (1 - t) * t * t, t * t * t];
  return [x0 + (x1 - x0) * ((near + middle) / 2 + far), y0 + (y1 - y0) * (middle + far)];
}

/** A stroke: as it goes, stopped at its break and on in outline, or ending. */
function StrokeLine({ drawn, faded }: { drawn: Drawn; faded: boolean }) {
  const theme = useTheme();
  const { stroke, from, to, y0, y1, width } = drawn;
  const start: [number, number] = [from.out, y0];
  const end: [number, number] = to ? [to.in, y1] : [from.out + stub, y0];
  const d = to ? curve({ source: start, target: end }) : `M${start.join()}L${end.join()}`;
  const look = { fill: 'none', strokeWidth: width, stroke: theme.ink, strokeOpacity: faded ? 0.12 : 0.78 };
  const outline = {
    fill: 'none',
    stroke: theme.faint,
    strokeWidth: Math.min(2, width),
    strokeDasharray: '1.5 4',
    strokeOpacity: faded ? 0.3 : 1,
  };
  const broken = to ? along(start, end) : [end[0] + 3, y0];
  const high = Math.max(5, width / 2 + 3);
  return (
    <g data-stroke={stroke.state}>
      {stroke.why && <title>{stroke.why}</title>}
      {stroke.state === 'outline' && <path d={d} {...outline} />}
      {stroke.state === 'live' && <path d={d} {...look} />}
      {stroke.state === 'unknown' && <path d={d} {...look} strokeDasharray="4 3" />}
      {stroke.state === 'ending' && (
        <>
          <path d={d} {...look} />
          <path d={`M${end[0] + 3} ${y0 - 4}v8`} {...look} strokeWidth={1.5} />
        </>
      )}
      {stroke.state === 'stopped' && (
        <>
          {to && <path d={d} {...outline} />}
          <path d={d} {...look} pathLength={1} strokeDasharray={to ? `${breakAt} 1` : undefined} />
          <path
            d={`M${broken[0]} ${(broken[1] ?? 0) - high}v${high * 2}m4 0v${-high * 2}`}
            fill="none"
            stroke={theme.magenta}
            strokeWidth={2}
            strokeOpacity={faded ? 0.3 : 1}
          />
        </>
      )}
    </g>
  );
}
