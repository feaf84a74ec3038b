// A mend is offered once it was tried in the engine, and holds.
import { useQuery } from '@tanstack/react-query';
import { useRef } from 'react';
import styled from 'styled-components';
import { api, ask, needed, queries, useAppState, type Mend } from '../../api/client';
import { EffectList } from './EffectList';
import { MendLines } from './MendLines';
import { Plain, Quiet } from '../../ui/Quiet';
import { revisionNow, useSession } from './session';

/** What a mend is for: a finding, or a break on a way. */
export interface MendFor {
  code: string;
  subject: string;
  target?: string;
  from?: string;
  port?: number;
  udp?: boolean;
}

const trial = (revision: number, mend: Mend | undefined, of: MendFor) => ({
  queryKey: ['mend', revision, mend, of],
  queryFn: ({ signal }: { signal: AbortSignal }) =>
    ask(api.POST('/api/mend', { body: { remove: mend?.remove ?? [], add: mend?.add ?? [], ...of }, signal })),
});

function useTrial(mend: Mend | undefined, of: MendFor) {
  const revision = useAppState().data?.revision ?? 0;
  return useQuery({ ...trial(revision, mend, of), enabled: Boolean(mend) });
}

/** Makes a mend that holds, once however often it is asked for meanwhile; says of another why it is not made. */
export function useMending() {
  const { change } = useSession();
  const busy = useRef(false);
  return async (mend: Mend, of: MendFor, what: string) => {
    if (busy.current) return;
    busy.current = true;
    const unless = async () => {
      const { against } = await needed(() => queries.fetchQuery(trial(revisionNow(), mend, of)));
      return against.length > 0 ? `No mend that holds is known. ${against[0]}` : '';
    };
    await change(mend, what, { unless });
    busy.current = false;
  };
}

const Besides = styled.p`
  margin-top: 7px;
`;

const Reasons = styled.ul`
  margin: 6px 0 0;
  padding: 0 0 0 16px;
  li {
    padding: 1px 0;
  }
`;

/** The mend that holds once what it opens is declared; null where there is none, or it needs no such line. */
export function useDeclaring(mend: Mend | undefined, of: MendFor) {
  return useTrial(mend, of).data?.declaring ?? null;
}

interface Props {
  mend: Mend;
  of: MendFor;
  /** The effect is not said again where it stands elsewhere. */
  withEffect: boolean;
}

const shown = 4;

/** Whether a mend may be offered. */
export function useHolds(mend: Mend | undefined, of: MendFor) {
  return useTrial(mend, of).data?.holds ?? false;
}

/** Other mends that hold for the same. */
function useOthers(mend: Mend | undefined, of: MendFor) {
  const revision = useAppState().data?.revision ?? 0;
  const { data } = useQuery({
    queryKey: ['others', revision, mend, of],
    queryFn: ({ signal }: { signal: AbortSignal }) =>
      ask(api.POST('/api/mend/others', { body: { remove: mend?.remove ?? [], add: mend?.add ?? [], ...of }, signal })),
  });
  return data?.others ?? [];
}

/** The other mends, each to be made in place of the first. */
export function Others({ mend, of, first }: { mend: Mend | undefined; of: MendFor; first: boolean }) {
  const { change } = useSession();
  const others = useOthers(mend, of);
  if (others.length === 0) return null;
  return (
    <div data-others={others.length} style={{ marginTop: 12 }}>
      {others.map((o, i) => (
        <div key={[...o.mend.remove, '', ...o.mend.add].join('\n')} style={{ marginTop: 8 }}>
          <p style={{ marginBottom: 4 }}>{first || i > 0 ? 'or' : 'This holds:'}</p>
          <MendLines mend={o.mend} />
          {o.short && <Quiet style={{ padding: '4px 0 6px' }}>{o.short}</Quiet>}
          <Plain onPress={() => void change(o.mend, `Mended ${of.code} of ${of.subject} the other way`)}>
            Mend this way
          </Plain>
        </div>
      ))}
    </div>
  );
}

/** What speaks against lines that are for nothing in particular. */
export function useAgainst(mend: Mend | undefined) {
  return useTrial(mend, { code: '', subject: '' }).data?.against ?? [];
}

/** A mend with what the trial found: what is so after it, or why it is not offered. */
export function Tried({ mend, of, withEffect }: Props) {
  const { data, isPending, error } = useTrial(mend, of);
  const others = useOthers(mend, of);
  return (
    <div data-tried={data ? (data.holds ? 'holds' : 'not') : undefined}>
      {data && !data.holds && <p>What is nearest was tried, and does not hold:</p>}
      <MendLines mend={mend} />
      {isPending && <Quiet style={{ padding: '4px 0' }}>Trying it…</Quiet>}
      {error && <Quiet style={{ padding: '4px 0' }}>{error.message}</Quiet>}
      {data && !data.holds && (
        <Reasons>
          {data.against.slice(0, shown).map((a) => (
            <li key={a}>{a}</li>
          ))}
          {data.against.length > shown && <li>and {data.against.length - shown} more that speak against it</li>}
        </Reasons>
      )}
      {data?.declaring && (
        <>
          <Besides>It holds once it is declared that it is meant to be open:</Besides>
          <MendLines mend={{ remove: [], add: data.declaring.add.filter((line) => !mend.add.includes(line)) }} />
        </>
      )}
      {data?.holds && data.with > 0 && (
        <Besides>
          {data.with === 1 ? 'One more thing is' : `${data.with} more things are`} left on the way; with{' '}
          {data.with === 1 ? 'its mend' : 'their mends'} it gets through.
        </Besides>
      )}
      {data?.holds && data.opens.length > 0 && (
        <Besides>Nothing was ever recorded to stop others there: {data.opens.join('; ')}.</Besides>
      )}
      {data && <Others mend={mend} of={of} first={data.holds} />}
      {data?.holds && withEffect && (
        <div style={{ margin: '12px -14px 0' }}>
          <EffectList effect={data.effect} verb={others.length > 0 ? 'After the first' : 'After it'} />
        </div>
      )}
    </div>
  );
}
