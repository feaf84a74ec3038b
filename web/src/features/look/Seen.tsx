// What was seen of a way, beside what is recorded: each layer's look stands at the station that it is of.
import styled from 'styled-components';
import { useLooks, type Path, type SeenLook } from '../../api/client';
import { SightMark } from '../../ui/Sight';
import { Ago, dayWords } from '../../ui/time';
import { size } from '../../ui/theme';

const Lines = styled.ul`
  list-style: none;
  margin: 3px 0 0;
  padding: 0;
  li {
    display: flex;
    gap: 6px;
    align-items: baseline;
    font-style: normal;
    font-size: ${size.plain};
    line-height: 17px;
    color: ${(p) => p.theme.ink2};
    overflow-wrap: anywhere;
  }
  [data-otherwise] {
    color: ${(p) => p.theme.magenta};
  }
`;

/** What was seen of a target from a vantage, with the name or address that stands in it. */
export function useSeen(name: string, from: string) {
  return useLooks(name, from).data ?? [];
}

/** Which looks stand at which station of a way. */
export function seenAt(path: Path, looks: readonly SeenLook[]): Map<number, SeenLook[]> {
  const map = new Map<number, SeenLook[]>();
  const put = (at: number, look: SeenLook) => {
    if (at >= 0) map.set(at, [...(map.get(at) ?? []), look]);
  };
  const stage = (name: Path['steps'][number]['stage']) => path.steps.findIndex((s) => s.stage === name && !s.ghost);
  const stopped = path.steps.findIndex((s) => s.verdict === 'break');
  const last = path.steps.length - 1;
  const type = path.family === 'ipv6' ? 'AAAA' : 'A';
  const or = (at: number, otherwise: number) => (at >= 0 ? at : otherwise);
  const lands = or(stage('socket'), or(stopped, last));
  for (const l of looks) {
    if (l.did === 'resolve') {
      if (l.target.endsWith(` ${type}`)) put(stage('resolve'), l);
      continue;
    }
    if (l.address !== path.address || l.port !== path.port || l.came === 'not-looked') continue;
    if (l.did === 'connect') put(lands, l);
    if (l.did === 'tls') put(or(stage('tls'), lands), l);
    if (l.did === 'http' && pathOf(l.target) === path.urlpath) put(or(stage('site'), lands), l);
  }
  return map;
}

function pathOf(url: string) {
  try {
    return new URL(url).pathname;
  } catch {
    return '/';
  }
}

/** The looks of one station, each with its age. */
export function SeenLines({ looks }: { looks: readonly SeenLook[] | undefined }) {
  if (!looks || looks.length === 0) return null;
  return (
    <Lines aria-label="What was seen">
      {looks.map((l) => (
        <li key={l.did + l.target} data-seen={l.did} data-otherwise={l.agrees === 'no' && !l.old ? '' : undefined}>
          <SightMark sight={l.old ? 'before' : l.agrees === 'no' ? 'otherwise' : 'as-recorded'} />
          <span>
            seen <Ago at={l.at} />: {seenWord(l)}
            {l.old && ', before the last change of what it hangs on'}
          </span>
        </li>
      ))}
    </Lines>
  );
}

const cameWords: Record<SeenLook['came'], string> = {
  arrived: 'it connected',
  cut: 'it connected and was cut off',
  refused: 'refused',
  'no-route': 'no route',
  silent: 'nothing came back',
  'not-looked': 'not looked at',
  answered: 'answered',
  failed: 'it failed',
};

/** What came of a look, in few words. */
export function seenWord(l: SeenLook): string {
  if (l.did === 'resolve' && l.came === 'answered')
    return l.answers?.join(', ') || (l.code === 'NXDOMAIN' ? 'no such name' : 'no such record');
  if (l.did === 'tls' && l.came === 'arrived')
    return `a certificate for ${l.names?.join(', ') || 'nobody'}${l.expires ? `, until ${dayWords(l.expires)}` : ''}`;
  if (l.did === 'http' && l.came === 'arrived') return `${l.status}${l.location ? `, to ${l.location}` : ''}`;
  return cameWords[l.came] + (l.detail && l.came !== 'refused' ? ` (${l.detail})` : '');
}
