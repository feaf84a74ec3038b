import { useState } from 'react';
import styled from 'styled-components';
import { Link, useLocation } from 'wouter';
import { api, ask, refresh, useDrafts, usePlans, type DraftRow, type Proposal, type Proposals } from '../../api/client';
import { useSession } from '../change/session';
import { ago } from '../../ui/age';
import { useViewHints } from '../../ui/hints';
import { useKeys } from '../../ui/keys';
import { Acts, Failed, LinkButton, Loading, Plain, Quiet, Strong } from '../../ui/Quiet';
import { useQueryWord } from '../../ui/route';
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

const Wish = styled.form`
  label {
    display: block;
    color: ${(p) => p.theme.ink2};
    margin-bottom: 4px;
  }
  textarea {
    width: 100%;
    box-sizing: border-box;
    border: 1px solid ${(p) => p.theme.rule};
    border-bottom: 2px solid ${(p) => p.theme.ink};
    background: ${(p) => p.theme.panel};
    color: ${(p) => p.theme.ink};
    padding: 6px 9px;
    resize: vertical;
    font:
      12.5px/19px 'IBM Plex Mono',
      monospace;
  }
`;

/** The changes that are not in force, and the sentence by which a new one is begun. */
export function Drafts() {
  const drafts = useDrafts();
  const [said, setSaid] = useQueryWord('ask', '');
  const [wish] = useQueryWord('wish', ''); // a sentence that was begun elsewhere
  useViewHints([
    ['i', 'publish or retire'],
    ['Enter', 'open it'],
  ]);
  useKeys({ i: () => document.getElementById('wish')?.focus() });
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
            There are none. Say what is to be published or retired, beside this; or keep any change as a draft with{' '}
            <code>steady-compass draft new</code>.
          </Quiet>
        )}
        {drafts.data.map((d) => (
          <DraftLine key={d.id} draft={d} />
        ))}
      </Sheet>
      <Side aria-label="Publish or retire">
        <Sentence begun={said || wish} focus={said === '' && wish !== ''} onSay={setSaid} />
        {said !== '' && <Plans sentence={said} />}
      </Side>
    </Two>
  );
}

function DraftLine({ draft }: { draft: DraftRow }) {
  return (
    <Row href={`/drafts/${draft.id}`} data-draft={draft.title}>
      <b>{draft.title}</b>
      <small>
        {draft.lines} {draft.lines === 1 ? 'line' : 'lines'}
      </small>
      <span>{draft.cannot ? draft.cannot : draft.short || 'changes nothing that anyone meets'}</span>
      <small>
        {draft.author}, {ago(draft.at)}
      </small>
    </Row>
  );
}

function Sentence({ begun, focus, onSay }: { begun: string; focus: boolean; onSay: (sentence: string) => void }) {
  const [text, setText] = useState(begun);
  return (
    <Wish
      onSubmit={(e) => {
        e.preventDefault();
        onSay(text.trim());
      }}
    >
      <label htmlFor="wish">Publish a name, or retire something</label>
      <textarea
        id="wish"
        autoFocus={focus}
        rows={2}
        spellCheck={false}
        placeholder="publish pics.fernmoor.example to zenith:9000 for internet"
        value={text}
        onChange={(e) => setText(e.target.value)}
        onKeyDown={(e) => {
          if (e.key === 'Escape') e.currentTarget.blur();
          if (e.key !== 'Enter' || e.shiftKey) return;
          e.preventDefault();
          e.currentTarget.form?.requestSubmit();
        }}
      />
      <p style={{ margin: '6px 0 10px' }}>
        publish <i>name</i> to <i>place</i> for <i>audience</i>, and besides: guarded by, through, at; or retire{' '}
        <i>a name, a service or a place</i>.
      </p>
      <Acts>
        <Plain type="submit">Work it out</Plain>
      </Acts>
    </Wish>
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
  if (!plans.data) return <Loading what="Deriving the lines, and trying them…" />;
  return <Worked sentence={sentence} plans={plans.data} />;
}

function Worked({ sentence, plans }: { sentence: string; plans: Proposals }) {
  const [, go] = useLocation();
  const { say, change } = useSession();
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
          <p>{p.effect?.short || 'Changes nothing that anyone meets.'}</p>
          <Acts>
            {n === 0 ? (
              <Strong onPress={() => void keep(p)}>Keep as draft</Strong>
            ) : (
              <Plain onPress={() => void keep(p)}>Keep as draft</Plain>
            )}
            <Plain
              onPress={() =>
                void change({ remove: p.remove, add: p.add }, sentence).then((made) => {
                  if (made) go('/drafts');
                })
              }
            >
              Make it now
            </Plain>
          </Acts>
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
