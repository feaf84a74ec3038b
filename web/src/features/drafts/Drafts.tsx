import { useEffect, useRef, useState, type ComponentProps } from 'react';
import styled from 'styled-components';
import { Link, useLocation } from 'wouter';
import {
  api,
  ask,
  queries,
  refresh,
  useDrafts,
  useTraceWith,
  usePlans,
  type DraftRow,
  type Proposal,
  type Proposals,
} from '../../api/client';
import { useThrough } from '../../api/through';
import { EffectList, targetOf } from '../change/EffectList';
import { useSession } from '../change/session';
import { beginPublishing, writeInBearing } from '../frame/bearing';
import { Ago } from '../../ui/time';
import { useViewHints } from '../../ui/hints';
import { useKeys } from '../../ui/keys';
import { Acts, Failed, LinkButton, Loading, Plain, Quiet, Strong } from '../../ui/Quiet';
import { useQueryWord } from '../../ui/route';
import { Running } from '../../ui/Running';
import { Sheet, Side, Top, Two } from '../../ui/TwoPane';
import { ChangeLines } from './ChangeLines';

const Row = styled(Link)`
  display: grid;
  grid-template-columns: minmax(0, 1fr) auto;
  gap: 2px 20px;
  padding: 11px 24px 12px;
  border-bottom: 1px solid ${(p) => p.theme.hairline};
  color: inherit;
  text-decoration: none;
  &:hover {
    background: ${(p) => p.theme.hover};
  }
  b {
    font-weight: 600;
    overflow-wrap: anywhere;
  }
  small,
  span {
    color: ${(p) => p.theme.ink2};
  }
`;

const Sentence = styled.p`
  font:
    12.5px/19px 'IBM Plex Mono',
    monospace;
  overflow-wrap: anywhere;
  border-bottom: 2px solid ${(p) => p.theme.ink};
  padding-bottom: 6px;
  margin-bottom: 8px;
`;

/** The changes that are not in force; and what a sentence comes to. */
export function Drafts() {
  const drafts = useDrafts();
  const [said] = useQueryWord('ask', '');
  const [, go] = useLocation();
  useViewHints([
    ['i', 'publish'],
    ['z', 'retire'],
    ['Enter', 'open it'],
  ]);
  useKeys({
    i: () => beginPublishing({}),
    z: () => writeInBearing('retire '),
    ...(said && { Escape: () => go('/drafts') }),
  });
  if (drafts.isError) return <Failed error={drafts.error} again={() => void drafts.refetch()} />;
  if (!drafts.data) return <Loading what="Looking for drafts…" />;
  return (
    <Two style={{ gridTemplateColumns: 'minmax(0, 1fr) 520px' }}>
      <Sheet>
        <Top>
          <h2>Drafts</h2>
          <p>Changes that are kept and not in force. Each can be made as one, or step by step in the safe order.</p>
        </Top>
        {drafts.data.length === 0 && (
          <Quiet>
            There are none. Publish or retire something by a sentence; or keep any change as a draft with{' '}
            <code>steady-compass draft new</code>.
          </Quiet>
        )}
        {drafts.data.map((d) => (
          <DraftLine key={d.id} draft={d} />
        ))}
      </Sheet>
      <Side aria-label="Publish or retire">
        {said === '' ? (
          <Begin />
        ) : (
          <>
            <Sentence data-sentence>{said}</Sentence>
            <p style={{ marginBottom: 12 }}>
              <LinkButton onPress={() => writeInBearing(said)}>say it otherwise</LinkButton>
            </p>
            <Plans sentence={said} />
          </>
        )}
      </Side>
    </Two>
  );
}

/** How a draft is begun by a sentence. */
function Begin() {
  return (
    <>
      <h3>Publish a name, or retire something</h3>
      <p style={{ margin: '6px 0 2px' }}>
        publish <i>name</i> to <i>place</i> for <i>audience</i>, and besides: guarded by, through, at
      </p>
      <p>
        retire <i>a name, a service or a place</i>
      </p>
      <Acts>
        <Plain onPress={() => beginPublishing({})}>Publish…</Plain>
        <Plain onPress={() => writeInBearing('retire ')}>Retire…</Plain>
      </Acts>
      <p>
        The lines are derived from how the names beside it are published, and tried, before anybody touches a machine.
      </p>
    </>
  );
}

function DraftLine({ draft }: { draft: DraftRow }) {
  return (
    <Row href={`/drafts/${draft.id}`} data-draft={draft.title}>
      <b>{draft.title}</b>
      <small>
        {draft.lines} {draft.lines === 1 ? 'line' : 'lines'}
      </small>
      <span>
        {draft.cannot ? draft.cannot : draft.short || 'changes nothing that anyone meets'}
        {draft.next && ` · next: ${draft.next}`}
      </span>
      <small>
        {draft.author}, <Ago at={draft.at} />
      </small>
    </Row>
  );
}

function Plans({ sentence }: { sentence: string }) {
  const plans = usePlans(sentence);
  if (plans.isError)
    return (
      <p role="alert" data-unclear>
        {plans.error.message}
      </p>
    );
  if (!plans.data && plans.fetchStatus === 'idle')
    return (
      <p>
        Stopped. <LinkButton onPress={() => void plans.refetch()}>Work it out</LinkButton>
      </p>
    );
  if (!plans.data)
    return (
      <Acts>
        <Running
          what="Deriving the lines, and trying them"
          stop={() => void queries.cancelQueries({ queryKey: ['plans', sentence] })}
        />
      </Acts>
    );
  return <Worked sentence={sentence} plans={plans.data} />;
}

/** Puts the eye on what may be done first, where nothing else has it. */
function useFirst(ready: boolean) {
  const first = useRef<HTMLDivElement>(null);
  useEffect(() => {
    if (ready && document.activeElement === document.body) first.current?.querySelector('button')?.focus();
  }, [ready]);
  return first;
}

function Worked({ sentence, plans }: { sentence: string; plans: Proposals }) {
  const [, go] = useLocation();
  const looking = useThrough();
  const first = useFirst(plans.plans.length > 0);
  const { say, change } = useSession();
  const write = ({ remove, add }: Proposal, to: string) =>
    void change({ remove, add }, sentence).then((made) => {
      if (made) go(to);
    });
  const keep = async ({ remove, add }: Proposal) => {
    try {
      const draft = await ask(api.POST('/api/drafts', { body: { title: sentence, remove, add } }));
      await refresh();
      go(`/drafts/${draft.id}`);
    } catch (e) {
      say({ text: e instanceof Error ? e.message : String(e), look: true });
    }
  };
  return (
    <>
      {plans.none && <p data-none>{plans.none}</p>}
      {plans.plans.map((p, n) => (
        <section key={n} data-plan={n} style={{ marginTop: 16 }}>
          <h3>{plans.plans.length > 1 ? `Plan ${n + 1}` : 'The lines'}</h3>
          <ChangeLines remove={p.remove} add={p.add} derived={p.derived} />
          <Acts ref={n === 0 ? first : undefined}>
            {looking > 0 ? (
              <Choose strong={n === 0} onPress={() => write(p, `/drafts/${looking}`)}>
                Put it into the draft
              </Choose>
            ) : (
              <>
                <Choose strong={n === 0} onPress={() => void keep(p)}>
                  Keep as draft
                </Choose>
                <Plain onPress={() => write(p, '/drafts')}>Make it now</Plain>
              </>
            )}
          </Acts>
          {n === 0 && <Made plan={p} />}
          <Does plan={p} open={n === 0} />
        </section>
      ))}
      {plans.stays.length > 0 && (
        <section style={{ marginTop: 18 }}>
          <h3>Stays, since others need it</h3>
          {plans.stays.map((s) => (
            <Kept key={s.record} record={s.record} needs={s.for} />
          ))}
        </section>
      )}
    </>
  );
}

const Led = styled.ol`
  list-style: none;
  margin: 4px 0 10px;
  padding: 0;
  border-left: 2px solid ${(p) => p.theme.ink};
  li {
    padding: 1px 0 1px 12px;
    overflow-wrap: anywhere;
  }
  b {
    font-weight: 600;
  }
  small {
    color: ${(p) => p.theme.ink2};
  }
`;

/** The trace that a plan makes: of the first name that comes to arrive by it. */
function Made({ plan }: { plan: Proposal }) {
  const led = plan.effect?.names.find((n) => n.after === 'arrives');
  const trace = useTraceWith(plan, led ? targetOf(led) : '', led?.from ?? 'internet');
  const path = trace.data?.paths.find((p) => p.outcome === 'arrives');
  if (!led || !path) return null;
  return (
    <Led aria-label={`The trace of ${targetOf(led)} from ${led.from}`} data-made>
      {path.steps.map((s, n) => (
        <li key={n}>
          <b>{s.at}</b> <small>{s.why}</small>
        </li>
      ))}
    </Led>
  );
}

/** What a plan does; of all but the first in a word, until it is asked for. */
function Does({ plan, open }: { plan: Proposal; open: boolean }) {
  const [all, showAll] = useState(open);
  if (!plan.effect) return null;
  if (all) return <EffectList effect={plan.effect} verb="It would" flush />;
  return (
    <p>
      <LinkButton onPress={() => showAll(true)}>{plan.effect.short || 'changes nothing that anyone meets'}</LinkButton>
    </p>
  );
}

function Choose({ strong, ...rest }: { strong: boolean } & ComponentProps<typeof Plain>) {
  return strong ? <Strong {...rest} /> : <Plain {...rest} />;
}

const Needed = styled.div`
  padding: 4px 0 5px;
  border-top: 1px solid ${(p) => p.theme.hairline};
  code {
    overflow-wrap: anywhere;
  }
  p {
    color: ${(p) => p.theme.ink2};
  }
`;

const shown = 2;

function Kept({ record, needs }: { record: string; needs: string[] }) {
  const [all, showAll] = useState(false);
  return (
    <Needed>
      <code>{record}</code>
      {(all ? needs : needs.slice(0, shown)).map((n) => (
        <p key={n}>{n}</p>
      ))}
      {!all && needs.length > shown && (
        <LinkButton onPress={() => showAll(true)}>and {needs.length - shown} more</LinkButton>
      )}
    </Needed>
  );
}
