import styled from 'styled-components';
import { useLocation } from 'wouter';
import { api, ask, refresh, useAppState, useDraft, type DraftSeen, type WorkStep } from '../../api/client';
import { EffectList } from '../change/EffectList';
import { useSession } from '../change/session';
import { ago } from '../../ui/age';
import { useViewHints } from '../../ui/hints';
import { useKeys } from '../../ui/keys';
import { isGood, Mark, outcomeWords } from '../../ui/marks';
import { Failed, LinkButton, Loading, Plain, Quiet, Strong } from '../../ui/Quiet';
import { traceURL } from '../../ui/route';
import { Sheet, Side } from '../../ui/TwoPane';
import { ChangeLines } from './ChangeLines';
import { StepsChart } from './StepsChart';

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
    font-size: 17px;
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

function Seen({ draft }: { draft: DraftSeen }) {
  const [, go] = useLocation();
  const { say, undo } = useSession();
  const state = useAppState();
  const acting = async (act: () => Promise<unknown>, after?: () => void) => {
    try {
      await act();
      await refresh();
      after?.();
    } catch (e) {
      say({ text: e instanceof Error ? e.message : String(e), look: true });
      await refresh();
    }
  };
  const path = { params: { path: { id: draft.id } } };
  const steps = draft.order?.steps ?? [];
  const next = steps.find((s) => s.kind === 'edit');
  const last = steps.filter((s) => s.kind === 'edit').length === 1;
  const done = () => {
    if (!next || !state.data) return;
    const body = { base: state.data.revision, place: next.at, remove: next.remove, add: next.add };
    void acting(
      () => ask(api.POST('/api/drafts/{id}/done', { ...path, body })),
      last ? () => go('/drafts') : undefined,
    );
  };
  const all = () =>
    void acting(
      () => ask(api.POST('/api/drafts/{id}/apply', path)),
      () => go('/drafts'),
    );
  const drop = () =>
    void acting(
      () => api.POST('/api/drafts/{id}/drop', path),
      () => go('/drafts'),
    );
  useViewHints([
    ['h', 'the next step is done'],
    ['Esc', 'all drafts'],
  ]);
  useKeys({ h: done, Escape: () => go('/drafts') });
  return (
    <View>
      <Head>
        <h2>{draft.title}</h2>
        <p>
          begun at revision {draft.revision} by {draft.author}, {ago(draft.at)} · {draft.lines}{' '}
          {draft.lines === 1 ? 'line' : 'lines'}
          {draft.short && ` · ${draft.short}`}
        </p>
        <div>
          <Plain onPress={drop}>Drop</Plain>
          <Plain onPress={() => window.print()}>Print</Plain>
          <Plain onPress={all} isDisabled={!!draft.cannot}>
            Make it at once
          </Plain>
          <Strong onPress={done} isDisabled={!next}>
            {next ? `${next.at} is done` : 'Nothing to do'}
          </Strong>
        </div>
      </Head>
      <Two>
        <Sheet tabIndex={0} aria-label="What becomes of names and doors">
          {draft.cannot && (
            <Quiet role="alert" data-cannot>
              {draft.missing.length > 0
                ? 'It takes out lines that are not there any more. Somebody changed or removed them meanwhile:'
                : draft.cannot}
            </Quiet>
          )}
          {draft.missing.length > 0 && (
            <div style={{ padding: '0 24px' }}>
              <ChangeLines remove={draft.missing} add={[]} />
              <h3>What is wanted</h3>
              <ChangeLines remove={draft.remove} add={draft.add} />
            </div>
          )}
          {draft.unordered && <Quiet>It is not put in order: {draft.unordered}.</Quiet>}
          {draft.order && draft.order.steps.length > 0 && <StepsChart order={draft.order} />}
          {draft.effect && (
            <div style={{ padding: '12px 10px 30px' }}>
              <EffectList effect={draft.effect} verb="When all of it is made" />
            </div>
          )}
        </Sheet>
        <Side aria-label="Steps">
          {draft.order?.gaps.map((g) => (
            <Gap key={g.what + g.from} data-gap>
              {g.why} Between steps {g.between.join(' and ')}: these exclude each other.
            </Gap>
          ))}
          {draft.done.length > 0 && (
            <p>
              Done:{' '}
              {draft.done.map((d, n) => (
                <span key={n}>
                  {n > 0 && ', '}
                  {d.place} ({d.who}, {ago(d.at)}, <LinkButton onPress={() => void undo(d.revision)}>undo</LinkButton>)
                </span>
              ))}
            </p>
          )}
          <Steps>
            {steps.map((s, n) => (
              <OneStep key={n} step={s} number={n + 1} isNext={s === next} />
            ))}
          </Steps>
        </Side>
      </Two>
    </View>
  );
}

function OneStep({ step, number, isNext }: { step: WorkStep; number: number; isNext: boolean }) {
  const [, go] = useLocation();
  if (step.kind === 'wait')
    return (
      <li data-wait>
        <span>{number}</span>
        <header>wait {step.why}</header>
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
        <ChangeLines remove={step.remove} add={step.add} most={8} />
        {!!step.seen && <p>Everybody sees it within {lasts(step.seen)}.</p>}
        {step.look.map((l) => (
          <p key={l.target + l.from}>
            <Mark kind={isGood(l.verdict) ? 'arrives' : 'stops'} /> look{' '}
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
