import { useState } from 'react';
import styled from 'styled-components';
import { useLocation } from 'wouter';
import { api, ask, refresh, useAppState, useDraft, type DraftSeen, type WorkStep } from '../../api/client';
import { EffectList } from '../change/EffectList';
import { lookThrough, through, useThrough } from '../../api/through';
import { useSession } from '../change/session';
import { useLookNow } from '../look/lookNow';
import { Ago, moment } from '../../ui/time';
import { useViewHints } from '../../ui/hints';
import { useKeys } from '../../ui/keys';
import { isGood, Mark, outcomeWords } from '../../ui/marks';
import { Failed, LinkButton, Loading, Plain, Quiet, Strong } from '../../ui/Quiet';
import { compareURL, traceURL } from '../../ui/route';
import { Sheet, Side } from '../../ui/TwoPane';
import { ChangeLines } from './ChangeLines';
import { changeText, DraftText } from './DraftText';
import { Meanwhile } from './Meanwhile';
import { StepsChart } from './StepsChart';
import { size } from '../../ui/theme';

const View = styled.div`
  display: grid;
  grid-template-rows: auto minmax(0, 1fr);
  min-height: 0;
`;

const Head = styled.header`
  display: flex;
  align-items: center;
  gap: 6px 18px;
  flex-wrap: wrap;
  padding: 10px 24px;
  border-bottom: 1px solid ${(p) => p.theme.rule};
  h2 {
    font-size: ${size.head};
    line-height: 24px;
    overflow-wrap: anywhere;
  }
  p {
    color: ${(p) => p.theme.ink2};
    flex: 1 1 240px;
  }
  div {
    display: flex;
    gap: 10px;
  }
  @media print {
    div {
      display: none;
    }
  }
`;

const Two = styled.div`
  display: grid;
  grid-template-columns: minmax(0, 1fr) 404px;
  min-height: 0;
  @media print {
    display: block;
  }
`;

const Steps = styled.ol`
  list-style: none;
  margin: 0;
  padding: 0;
  > li {
    display: grid;
    grid-template-columns: 24px minmax(0, 1fr);
    padding: 10px 0 8px;
    border-top: 1px solid ${(p) => p.theme.hairline};
    break-inside: avoid;
  }
  header {
    display: flex;
    justify-content: space-between;
    gap: 12px;
    font-weight: 600;
    small {
      font-weight: 400;
      color: ${(p) => p.theme.ink2};
    }
  }
  p {
    color: ${(p) => p.theme.ink2};
  }
`;

const Gap = styled.p`
  border: 1px dashed ${(p) => p.theme.magenta};
  color: ${(p) => p.theme.magenta};
  padding: 5px 10px;
  margin: 0 0 10px;
`;

/** A draft: how names fare through its steps, and the steps. */
export function Draft({ id }: { id: number }) {
  const draft = useDraft(id);
  if (draft.isError) return <Failed error={draft.error} again={() => void draft.refetch()} />;
  if (!draft.data) return <Loading what="Putting it in order…" />;
  return <Seen draft={draft.data} />;
}

/** What can be done with a draft. */
function useActs(draft: DraftSeen) {
  const [, go] = useLocation();
  const { say } = useSession();
  const state = useAppState();
  const path = { params: { path: { id: draft.id } } };
  const acting = async (act: () => Promise<unknown>, after?: () => void) => {
    try {
      await act();
      after?.();
    } catch (e) {
      say({ text: e instanceof Error ? e.message : String(e), look: true });
    }
    await refresh();
  };
  /** The draft is no more: neither is it looked through. */
  const over = () => {
    if (through() === draft.id) lookThrough(0);
    go('/drafts');
  };
  return {
    done: (step: WorkStep, last: boolean) => {
      const waits = step.kind === 'wait';
      const body = {
        base: state.data?.revision ?? 0,
        place: waits ? 'wait' : step.at,
        remove: step.remove,
        add: step.add,
      };
      return acting(() => ask(api.POST('/api/drafts/{id}/done', { ...path, body })), last ? over : undefined);
    },
    all: () => acting(() => ask(api.POST('/api/drafts/{id}/apply', path)), over),
    drop: () =>
      acting(
        () => api.POST('/api/drafts/{id}/drop', path),
        () => {
          const { title, why, remove, add } = draft;
          const back = () => acting(() => ask(api.POST('/api/drafts', { body: { title, why, remove, add } })));
          say({ text: `Dropped ${title}.`, act: { label: 'take it back', run: () => void back() } });
          over();
        },
      ),
    choose: ({ remove, add }: { remove: string[]; add: string[] }) => {
      if (remove.length + add.length === 0) return acting(() => api.POST('/api/drafts/{id}/drop', path), over);
      const { edition, title, why } = draft;
      return acting(() => ask(api.POST('/api/drafts/{id}', { ...path, body: { edition, title, why, remove, add } })));
    },
    ahead: (step: WorkStep) => {
      const { remove, add } = step.ahead ?? { remove: [], add: [] };
      const body = { base: state.data?.revision ?? 0, place: 'the ttl is lowered', remove, add };
      return acting(() => ask(api.POST('/api/drafts/{id}/ahead', { ...path, body })));
    },
    takeBack: () => acting(() => ask(api.POST('/api/drafts/{id}/undo', path))),
  };
}

function Seen({ draft }: { draft: DraftSeen }) {
  const [, go] = useLocation();
  const { say, undo } = useSession();
  const looking = useThrough();
  const acts = useActs(draft);
  const [editing, setEditing] = useState(false);
  const [early, setEarly] = useState(false); // it was said that the wait is not over
  const steps = draft.order?.steps ?? [];
  const next = steps[0];
  const waits = next?.kind === 'wait' && draft.until && new Date(draft.until) > new Date() ? draft.until : '';
  const done = () => {
    if (!next) return;
    if (waits && !early) {
      setEarly(true);
      say({ text: `Until ${moment(waits)} somebody may still have the old answer. Once more, and the wait is over.` });
      return;
    }
    setEarly(false);
    void acts.done(next, steps.length === 1);
  };
  useViewHints([
    ['h', 'the next step is done'],
    ['q', 'through a draft, and out of it'],
    ['Esc', 'all drafts'],
  ]);
  useKeys({
    h: done,
    ...(looking === 0 && !draft.cannot && { q: () => lookThrough(draft.id) }),
    Escape: () => (editing ? setEditing(false) : go('/drafts')),
  });
  return (
    <View>
      <Head>
        <h2>{draft.title}</h2>
        <p>
          {draft.why && `${draft.why} · `}begun at revision {draft.revision} by {draft.author}, <Ago at={draft.at} /> ·{' '}
          {draft.lines} {draft.lines === 1 ? 'line' : 'lines'}
          {draft.short && ` · ${draft.short}`}
        </p>
        <div>
          {looking !== draft.id && (
            <Plain onPress={() => lookThrough(draft.id)} isDisabled={!!draft.cannot}>
              Look through it
            </Plain>
          )}
          <Plain onPress={() => setEditing(!editing)}>{editing ? 'Its steps' : 'Edit'}</Plain>
          <Plain onPress={() => void acts.drop()}>Drop</Plain>
          <Plain onPress={() => void acts.all()} isDisabled={!!draft.cannot}>
            Make it at once
          </Plain>
          <Strong onPress={done} isDisabled={!next}>
            {!next ? 'Nothing to do' : next.kind === 'wait' ? 'The wait is over' : `${next.at} is done`}
          </Strong>
        </div>
      </Head>
      {editing ? (
        <Sheet>
          <DraftText
            draft={draft}
            onDone={(kept) => {
              setEditing(false);
              if (kept) void refresh();
            }}
          />
        </Sheet>
      ) : (
        <Two>
          <Sheet tabIndex={0} aria-label="What becomes of names and doors">
            {draft.clashes.length > 0 && <Meanwhile clashes={draft.clashes} onChoose={(l) => void acts.choose(l)} />}
            {draft.cannot && draft.clashes.length === 0 && (
              <Quiet role="alert" data-cannot>
                {draft.cannot}
              </Quiet>
            )}
            {draft.unordered && <Quiet>It is not put in order: {draft.unordered}.</Quiet>}
            {draft.order && draft.order.steps.length > 0 && <StepsChart order={draft.order} />}
            {draft.effect && (
              <div style={{ padding: '12px 10px 30px' }}>
                <EffectList
                  effect={draft.effect}
                  verb="When all of it is made; each leads to both traces, side by side"
                  all
                  compared={(target, from) => compareURL(target, { from, draft: draft.id })}
                />
              </div>
            )}
          </Sheet>
          <Side aria-label="Steps">
            {draft.order?.gaps.map((g) => (
              <Gap key={g.what + g.from} data-gap>
                {g.why} Between steps {g.between.join(' and ')}: these exclude each other.
              </Gap>
            ))}
            <Links>
              <LinkButton onPress={() => window.print()}>print</LinkButton>
              <LinkButton
                onPress={() =>
                  void navigator.clipboard?.writeText(sheetText(draft)).then(() => say({ text: 'Copied, as text.' }))
                }
              >
                copy as text
              </LinkButton>
              <LinkButton
                onPress={() =>
                  void navigator.clipboard
                    ?.writeText(JSON.stringify({ steps, gaps: draft.order?.gaps ?? [] }, null, 2))
                    .then(() => say({ text: 'Copied, as JSON.' }))
                }
              >
                copy as JSON
              </LinkButton>
              {draft.undo > 0 && (
                <LinkButton onPress={() => void acts.takeBack()}>take back what was written last</LinkButton>
              )}
            </Links>
            {draft.done.length > 0 && (
              <Made>
                {draft.done.map((d, n) => (
                  <li key={n} data-done={d.place}>
                    <Mark kind="arrives" /> {d.place === 'wait' ? 'waited' : d.place}{' '}
                    <small>
                      {d.who}, <Ago at={d.at} />
                      {d.place !== 'wait' && (
                        <>
                          {' '}
                          · <LinkButton onPress={() => void undo(d.revision)}>undo</LinkButton>
                        </>
                      )}
                    </small>
                  </li>
                ))}
              </Made>
            )}
            <Steps>
              {steps.map((s, n) => (
                <OneStep
                  key={n}
                  step={s}
                  number={n + 1}
                  isNext={s === next}
                  until={s === next ? waits : ''}
                  onAhead={(step) => void acts.ahead(step)}
                />
              ))}
            </Steps>
          </Side>
        </Two>
      )}
    </View>
  );
}

const Links = styled.p`
  display: flex;
  gap: 18px;
  flex-wrap: wrap;
  margin-bottom: 12px;
  @media print {
    display: none;
  }
`;

const Made = styled.ul`
  list-style: none;
  margin: 0 0 12px;
  padding: 0;
  small {
    color: ${(p) => p.theme.ink2};
  }
`;

/** The steps as a sheet of text: to mail, or to go by at the machines. */
function sheetText(draft: DraftSeen) {
  const out = [draft.title, ''];
  (draft.order?.steps ?? []).forEach((s, n) => {
    if (s.kind === 'wait') {
      out.push(`${n + 1}. wait ${s.why ?? ''}`, '');
      return;
    }
    out.push(
      `${n + 1}. ${s.at}`,
      ...changeText(s)
        .split('\n')
        .map((l) => `   ${l}`),
    );
    for (const l of s.look) out.push(`   look: ${l.target} from ${l.from}: ${outcomeWords[l.verdict]}`);
    out.push('');
  });
  return out.join('\n');
}

interface StepProps {
  step: WorkStep;
  number: number;
  isNext: boolean;
  /** When the wait is over that is the next step. */
  until: string;
  onAhead: (step: WorkStep) => void;
}

function OneStep({ step, number, isNext, until, onAhead }: StepProps) {
  const [, go] = useLocation();
  const lookNow = useLookNow();
  if (step.kind === 'wait')
    return (
      <li data-wait>
        <span>{number}</span>
        <div>
          <header>
            <span>
              wait {step.why}
              {until && `; over at ${moment(until)}`}
            </span>
            {isNext && <small>next</small>}
          </header>
          {step.ahead && (
            <p data-ahead>
              Only {lasts(step.ahead.wait)}, where the ttl of {step.ahead.add.length}{' '}
              {step.ahead.add.length === 1 ? 'record' : 'records'} is lowered {lasts(step.ahead.seconds)} before the
              answers change. <LinkButton onPress={() => onAhead(step)}>lower it now</LinkButton>
            </p>
          )}
        </div>
      </li>
    );
  return (
    <li data-step={step.at}>
      <span>{number}</span>
      <div>
        <header>
          {step.at}
          {isNext && <small>next</small>}
        </header>
        <ChangeLines remove={step.remove} add={step.add} passing={step.passing} most={8} />
        {step.keepers.map((who) => (
          <p key={who} data-keeper>
            {who}: where it does so only when it starts, start it anew.
          </p>
        ))}
        {!!step.seen && <p>Everybody sees it within {lasts(step.seen)}.</p>}
        {step.look.map((l) => (
          <p key={l.target + l.from}>
            <Mark kind={isGood(l.verdict) ? 'arrives' : 'stops'} />{' '}
            {l.from === 'internet' ? (
              <LinkButton onPress={() => void lookNow([l.target])} aria-label={`look at ${l.target} now`}>
                look
              </LinkButton>
            ) : (
              'look'
            )}{' '}
            <LinkButton onPress={() => go(traceURL(l.target, l.from))}>{l.target}</LinkButton> from {l.from}:{' '}
            {outcomeWords[l.verdict]}
          </p>
        ))}
      </div>
    </li>
  );
}

/** A number of seconds as people say it. */
function lasts(seconds: number) {
  if (seconds % 86400 === 0) return `${seconds / 86400} d`;
  if (seconds % 3600 === 0) return `${seconds / 3600} h`;
  if (seconds % 60 === 0) return `${seconds / 60} min`;
  return `${seconds} s`;
}
