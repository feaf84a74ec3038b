// Where courses stand on the sheet: columns from the stranger inwards, and in each what goes together near what it goes to.
import { sankey, type SankeyLink, type SankeyNode } from 'd3-sankey';
import type { CourseNode, CoursesChart, Stroke } from '../../api/client';

export const columns = ['name', 'answers', 'edge', 'machine', 'front', 'backend'] as const;

/** How much of the sheet's width each column has. */
const parts = [0.15, 0.19, 0.2, 0.14, 0.15, 0.17];

/** The room for the two lines of a label, in pixels. */
const pitch = 27;
const margin = { left: 24, top: 16, bottom: 20 };

/** How wide a letter is: of the first line of a label, and of the second. */
export const letter = { word: 7.3, more: 6.2 };

/** The least room that strokes have between two columns, in pixels. */
const strait = 56;

/** The widest a stroke is, and the widest of one name, in pixels. */
const widest = 20;
const widestOfOne = 2.2;

export interface Placed {
  node: CourseNode;
  index: number;
  column: number;
  /** Where strokes come in, where the label begins, and where strokes go on. */
  in: number;
  label: number;
  out: number;
  y: number;
}

export interface Drawn {
  stroke: Stroke;
  from: Placed;
  to: Placed | null;
  y0: number;
  y1: number;
  width: number;
}

export interface Sheet {
  height: number;
  lefts: number[];
  nodes: Placed[];
  strokes: Drawn[];
}

interface Extra {
  index: number;
}
type Node = SankeyNode<Extra, { stroke: number }>;
type Link = SankeyLink<Extra, { stroke: number }>;

/** Lays a chart out on a sheet of a width. */
export function laidOut(chart: CoursesChart, width: number): Sheet {
  const lefts: number[] = [];
  parts.reduce((left, part) => {
    lefts.push(left);
    return left + part * width;
  }, 0);
  const columnOf = (i: number) => columns.indexOf(chart.nodes[i]?.column ?? 'name');
  const links = chart.strokes.flatMap((s, i) =>
    s.to === null ? [] : [{ source: s.from, target: s.to, value: s.names, stroke: i }],
  );

  const many = columns.map(() => 0);
  const value = columns.map(() => 0);
  const sides = chart.nodes.map(() => [0, 0] as [number, number]);
  for (const l of links) {
    const [source, target] = [sides[l.source], sides[l.target]];
    if (source) source[1] += l.value;
    if (target) target[0] += l.value;
  }
  let most = 1;
  sides.forEach(([a, b], i) => {
    const c = columnOf(i);
    many[c] = (many[c] ?? 0) + 1;
    value[c] = (value[c] ?? 0) + Math.max(a, b);
    most = Math.max(most, a, b);
  });
  const each = Math.min(widestOfOne, widest / most);
  const tallest = Math.max(120, ...many.map((n, c) => n * pitch + (value[c] ?? 0) * each));
  const height = margin.top + tallest + margin.bottom;

  const graph = { nodes: chart.nodes.map((_, index) => ({ index }) as Node), links: links as Link[] };
  if (graph.nodes.length > 0) {
    sankey<Extra, { stroke: number }>()
      .nodeAlign((n) => columnOf(n.index ?? 0))
      .nodeWidth(1)
      .nodePadding(pitch)
      .iterations(24)
      .extent([
        [0, margin.top],
        [width, margin.top + tallest],
      ])(graph);
  }
  const labels = columns.map((_, c) => (c === 0 ? margin.left : 12));
  const ends = columns.map((_, c) => {
    const ofThese = chart.nodes.filter((n) => n.column === columns[c]);
    const widths = ofThese.map((n) =>
      n.target ? shortName(n).length * letter.word : Math.max(n.word.length * letter.word, n.more.length * letter.more),
    );
    return Math.min((labels[c] ?? 0) + Math.max(0, ...widths) + 6, (parts[c] ?? 0) * width - strait);
  });
  const nodes = chart.nodes.map((node, index) => {
    const c = columnOf(index);
    const left = lefts[c] ?? 0;
    const at = graph.nodes[index];
    return {
      node,
      index,
      column: c,
      in: left + 4,
      label: left + (labels[c] ?? 0),
      out: c === columns.length - 1 ? width - 12 : left + (ends[c] ?? 0),
      y: ((at?.y0 ?? 0) + (at?.y1 ?? 0)) / 2,
    };
  });
  const going = new Set(links.map((l) => (l.source as unknown as Node).index ?? l.source));
  const byStroke = new Map(graph.links.map((l) => [l.stroke, l]));
  const stubs = new Map<number, number>(); // how many end behind a node, so far
  const strokes = chart.strokes.flatMap((stroke, i) => {
    const from = nodes[stroke.from];
    if (!from) return [];
    const link = byStroke.get(i);
    const to = stroke.to === null ? null : (nodes[stroke.to] ?? null);
    const ended = stubs.get(stroke.from) ?? 0;
    if (!to) stubs.set(stroke.from, ended + 1);
    const y0 = link?.y0 ?? from.y + (going.has(stroke.from) ? pitch / 2 : -3) + ended * 11;
    const wide = Math.max(1.3, link?.width ?? Math.min(widest, stroke.names * each));
    return [{ stroke, from, to, y0, y1: link?.y1 ?? y0, width: wide }];
  });
  return { height, lefts, nodes, strokes };
}

/** A name inside its zone. */
export function shortName({ word, more: zone }: CourseNode) {
  if (word === zone) return '@ apex';
  return zone && word.endsWith(`.${zone}`) ? word.slice(0, -zone.length - 1) : word;
}
