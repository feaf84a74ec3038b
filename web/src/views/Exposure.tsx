import { useMemo } from 'react';
import styled from 'styled-components';
import { useLocation } from 'wouter';
import { useExposure, type Open } from '../api/client';
import { useViewHints } from '../parts/hints';
import { useKeys } from '../parts/keys';
import { cidrs } from '../parts/marks';
import { VantagePicker } from '../parts/Picker';
import { Failed, LinkButton, Loading, Quiet } from '../parts/Quiet';
import { traceURL, useQueryWord } from '../parts/route';
import { useSession } from '../parts/session';
import { Tools } from '../parts/Tools';

const Sheet = styled.div`
  overflow: auto;
`;

const Row = styled.div`
  display: grid;
  grid-template-columns: 156px 76px minmax(150px, 1fr) minmax(120px, 0.8fr) minmax(0, 2fr) 108px 104px;
  gap: 12px;
  padding: 7px 24px;
  border-bottom: 1px solid ${(p) => p.theme.hairline};
  align-items: start;
  code {
    overflow-wrap: anywhere;
  }
  b {
    font-weight: 600;
  }
  small {
    color: ${(p) => p.theme.ink2};
    font-size: 12px;
  }
`;

const Head = styled(Row)`
  position: sticky;
  top: 0;
  z-index: 1;
  background: ${(p) => p.theme.ground};
  border-bottom-color: ${(p) => p.theme.rule};
  font-size: 12px;
  color: ${(p) => p.theme.ink2};
`;

const Look = styled.span`
  border: 1px dashed ${(p) => p.theme.magenta};
  color: ${(p) => p.theme.magenta};
  padding: 0 6px;
  font-weight: 500;
`;

const Through = styled.div`
  font:
    12px/17px 'IBM Plex Mono',
    monospace;
  overflow-wrap: anywhere;
`;

interface Door {
  first: Open;
  sites: number;
  undeclared: string[];
}

/** Everything that can be touched from a vantage: a door a row, the undeclared first. */
export function Exposure() {
  const [from, setFrom] = useQueryWord('from', 'internet');
  const exposure = useExposure(from);
  const [, go] = useLocation();
  const { change } = useSession();
  useKeys({ v: () => document.getElementById('vantage')?.focus() });
  useViewHints([['v', 'seen from']]);
  const doors = useMemo(() => group(exposure.data?.open ?? []), [exposure.data]);
  const declare = (d: Door) => {
    const o = d.first;
    const n = Number(o.ports.split('-')[1] ?? o.ports) - Number(o.ports.split('-')[0]);
    const ports = `${o.port}${n > 0 ? `-${o.port + n}` : ''}${o.transport === 'udp' ? '/udp' : ''}`;
    void change({ remove: [], add: [`intend ${o.place} ${ports} for ${from}`] }, `Declared ${o.address}:${o.ports}`);
  };
  const tools = (
    <Tools>
      <VantagePicker value={from} onChange={setFrom} />
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
  return (
    <Sheet role="table" aria-label={`Open from ${from}`}>
      {tools}
      <Head role="row">
        {['address', 'port', 'lands on', 'open to', 'through', 'meant for', ''].map((h) => (
          <span key={h} role="columnheader">
            {h}
          </span>
        ))}
      </Head>
      {doors.length === 0 && <Quiet>Nothing can be touched from {from}.</Quiet>}
      {doors.map((d, i) => {
        const o = d.first;
        const bad = d.undeclared.length > 0 || o.intent !== 'declared';
        const host = o.address.includes(':') ? `[${o.address}]` : o.address;
        return (
          <Row key={i} role="row" data-door={`${host}:${o.ports}`}>
            <code role="cell">{o.address}</code>
            <code role="cell" style={{ fontWeight: 600 }}>
              {o.ports}
              {o.transport === 'udp' && '/udp'}
            </code>
            <span role="cell">
              <b>{o.place}</b>{' '}
              <small>
                {o.service}
                {d.sites > 1 ? `, ${d.sites} sites` : ''}
              </small>
            </span>
            <span role="cell">{openTo(o)}</span>
            <Through role="cell">
              {through(o.records).map((r) => (
                <div key={r}>{r}</div>
              ))}
              {d.undeclared.length > 0 && d.sites > 1 && <div>nobody declared {d.undeclared.join(', ')}</div>}
            </Through>
            <span role="cell">
              {bad ? <Look>{o.intent === 'partial' ? 'in part' : 'undeclared'}</Look> : 'declared'}
            </span>
            <span role="cell" style={{ display: 'flex', gap: 12 }}>
              <LinkButton
                onPress={() =>
                  go(traceURL(`${host}:${o.ports.split('-')[0]}${o.transport === 'udp' ? '/udp' : ''}`, from))
                }
              >
                trace
              </LinkButton>
              {bad && d.sites <= 1 && <LinkButton onPress={() => declare(d)}>declare</LinkButton>}
            </span>
          </Row>
        );
      })}
      {exposure.data.undecided.map((u, i) => (
        <Row key={`dark ${i}`} role="row">
          <code role="cell">{u.address}</code>
          <code role="cell">
            {u.ports}
            {u.transport === 'udp' && '/udp'}
          </code>
          <span role="cell">
            <b>{u.place}</b>
          </span>
          <i role="cell">not known</i>
          <span role="cell">{u.why}</span>
          <span role="cell" />
          <span role="cell" />
        </Row>
      ))}
    </Sheet>
  );
}

/** The lines that let it in; where there are none, the listener that is simply there. */
function through(records: string[]) {
  const lines = records.filter((r) => /^(forward|map|rule|filter) /.test(r)).slice(0, 3);
  return lines.length ? lines : records.filter((r) => r.startsWith('listen ')).slice(0, 1);
}

function openTo(o: Open) {
  if (o.sources.only.length) return cidrs(o.sources.only);
  const all = o.sources.of === 'internet' ? 'everyone' : `all of ${o.sources.of}`;
  return o.sources.except.length ? `${all} but ${cidrs(o.sources.except)}` : all;
}

function group(open: Open[]): Door[] {
  const at = new Map<string, Door>();
  for (const o of open) {
    const key = [o.address, o.ports, o.transport, o.place, o.sources.only, o.sources.except].join(' ');
    const d = at.get(key) ?? { first: o, sites: 0, undeclared: [] };
    if (o.site !== null) d.sites++;
    if (o.intent !== 'declared') d.undeclared.push(o.site ?? o.service);
    at.set(key, d);
  }
  return [...at.values()].sort((a, b) => Number(b.undeclared.length > 0) - Number(a.undeclared.length > 0));
}
