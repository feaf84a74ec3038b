// A trace in words.
import type { Path, TraceResult } from '../../api/client';
import { cidrs, outcomeWords } from '../../ui/marks';

export function wayWord(p: Path, result: TraceResult) {
  const several = new Set(result.paths.map((x) => x.port)).size > 1;
  const words = [
    several ? `${p.port}${p.transport === 'udp' ? '/udp' : ''}` : '',
    p.address || 'no address',
    p.urlpath === '/' ? '' : p.urlpath,
    p.member ? `to ${p.member}` : '',
    p.via ? `by ${p.via}` : '',
  ];
  const sources = p.sources.only.length
    ? `from ${cidrs(p.sources.only)}`
    : p.sources.except.length
      ? `except ${cidrs(p.sources.except)}`
      : '';
  return [...words, sources].filter(Boolean).join(' ');
}

/** The name, address or machine in a target. */
export function hostOf(target: string, name: string) {
  const host = URL.canParse(target) && target.includes('://') ? new URL(target).hostname : name;
  return host.replace(/^\[|\]$/g, '');
}

/** The trace as plain text, for a letter or a ticket. */
export function asText(r: TraceResult | null | undefined) {
  if (!r) return '';
  const out = [`${r.target} from ${r.from}: ${outcomeWords[r.verdict]}`];
  for (const p of r.paths) {
    out.push(
      '',
      `${p.port}/${p.transport} ${p.address}${p.urlpath === '/' ? '' : p.urlpath}${p.member ? ` to ${p.member}` : ''}: ${outcomeWords[p.outcome]}`,
    );
    for (const s of p.steps) {
      out.push(
        `  ${s.verdict === 'break' ? 'X' : s.ghost ? ':' : '|'} ${s.at}: ${s.why}`,
        ...s.records.map((x) => `        ${x}`),
      );
    }
    for (const b of p.breaks) {
      out.push(
        `  ${b.code}: ${b.why}`,
        ...(b.mend?.remove ?? []).map((x) => `    - ${x}`),
        ...(b.mend?.add ?? []).map((x) => `    + ${x}`),
      );
    }
  }
  return out.join('\n');
}
