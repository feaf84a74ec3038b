import { useState } from 'react';
import { useLocation } from 'wouter';
import { useLeads, type Lead } from '../../api/client';
import { Mark } from '../../ui/marks';
import { VantagePicker } from '../../ui/Picker';
import { Failed, LinkButton, Quiet } from '../../ui/Quiet';
import { traceURL } from '../../ui/route';
import { Group, MarkedLine } from '../../ui/TwoPane';

/** How many ways in are listed. */
const mostWays = 200;

/** Every way in that ends at a place, by name and by bare address, from a vantage that can be chosen. */
export function WaysIn({ to }: { to: string }) {
  const [from, setFrom] = useState('internet');
  const leads = useLeads(to, from);
  return (
    <section aria-label="Ways that end here" data-leads>
      <Group style={{ display: 'flex', justifyContent: 'space-between' }}>
        <span>
          Ways that end here <b>{leads.data?.ways.length ?? ''}</b>
        </span>
        <VantagePicker value={from} onChange={setFrom} />
      </Group>
      {leads.isError && <Failed error={leads.error} again={() => void leads.refetch()} />}
      {leads.isPending && <Quiet>Following every name from {from}…</Quiet>}
      {leads.data && leads.data.ways.length === 0 && <Quiet>From {from} nothing ends here.</Quiet>}
      <Ways ways={leads.data?.ways ?? []} from={from} />
    </section>
  );
}

/** The other end of a line that is broken: what does come to where it is meant to lead. */
export function OtherEnd({ to, from }: { to: string; from: string }) {
  const leads = useLeads(to, from);
  if (!leads.data) return null;
  const n = leads.data.ways.length;
  return (
    <section aria-label="From the other end" data-other-end={n}>
      <Group>
        From the other end: {n === 0 ? `nothing comes to ${to} from ${from}` : `what does come to ${to} from ${from}`}
      </Group>
      <Ways ways={leads.data.ways} from={from} />
    </section>
  );
}

/** Ways in, those through a front apart from those by none. */
function Ways({ ways, from }: { ways: Lead[]; from: string }) {
  const fronted = ways.filter((w) => w.front);
  const direct = ways.filter((w) => !w.front);
  const shown = [...fronted, ...direct].slice(0, mostWays);
  const apart = fronted.length > 0 && direct.length > 0;
  return (
    <>
      {shown.map((w, i) => (
        <div key={`${w.name} ${w.address} ${w.port} ${w.transport} ${w.urlpath} ${w.end}`}>
          {apart && i === 0 && <Group as="h4">through a front</Group>}
          {apart && i === fronted.length && <Group as="h4">around it</Group>}
          <WayLine way={w} from={from} />
        </div>
      ))}
      {ways.length > mostWays && <Quiet>and {ways.length - mostWays} more</Quiet>}
    </>
  );
}

function WayLine({ way, from }: { way: Lead; from: string }) {
  const [, go] = useLocation();
  const asked = way.name || (way.address.includes(':') ? `[${way.address}]` : way.address);
  const target = `${asked}:${way.port}${way.transport === 'udp' ? '/udp' : ''}`;
  return (
    <MarkedLine>
      <span style={{ lineHeight: '15px' }}>
        <Mark kind="arrives" />
      </span>
      <span>
        <LinkButton onPress={() => go(traceURL(target, from))}>{target}</LinkButton>
        {way.urlpath !== '/' && way.urlpath}
      </span>
      <small>
        {way.name && `${way.address} `}
        {way.front && `through ${way.front} `}to {way.end}
      </small>
    </MarkedLine>
  );
}
