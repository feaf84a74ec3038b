import { useState } from 'react';
import styled from 'styled-components';
import { useBetween, useKinds, useLog, type Entry } from '../../api/client';
import { lookThrough } from '../../api/through';
import { EffectList } from '../change/EffectList';
import { ChangeLines } from '../drafts/ChangeLines';
import { Choice } from '../../ui/Choice';
import { useViewHints } from '../../ui/hints';
import { useKeys } from '../../ui/keys';
import { Failed, LinkButton, Loading, Quiet } from '../../ui/Quiet';
import { useQueryWord } from '../../ui/route';
import { FilterField, Tools } from '../../ui/Tools';
import { Side, Two } from '../../ui/TwoPane';
import { Moment } from '../../ui/time';
import { useSession } from '../change/session';
import { size } from '../../ui/theme';

const Sheet = styled.div`
  overflow: auto;
`;

const Row = styled.div<{ $faint: boolean }>`
  display: grid;
  grid-template-columns: 52px 148px minmax(0, 1fr) minmax(170px, 240px) 84px;
  gap: 14px;
  padding: 9px 24px 10px;
  border-bottom: 1px solid ${(p) => p.theme.hairline};
  color: ${(p) => (p.$faint ? p.theme.ink2 : p.theme.ink)};
  small {
    display: block;
    font-size: ${size.plain};
    color: ${(p) => p.theme.ink2};
  }
  > b {
    font-weight: 600;
  }
`;

const Head = styled(Row)`
  position: sticky;
  top: 0;
  background: ${(p) => p.theme.ground};
  border-bottom-color: ${(p) => p.theme.rule};
  font-size: ${size.plain};
  color: ${(p) => p.theme.ink2};
  padding-block: 6px;
`;

const Lines = styled.div`
  font:
    12px/18px 'IBM Plex Mono',
    monospace;
  overflow-wrap: anywhere;
  del {
    color: ${(p) => p.theme.ink2};
  }
  ins {
    text-decoration: none;
  }
`;

const Acts = styled.span`
  display: flex;
  flex-direction: column;
  align-items: flex-start;
  gap: 4px;
`;

const most = 8;

/** Any kind of line. */
const anyKind = 'any kind';

/** Every change: when, who, which lines went and came, and what it did; the estate as it was, and what came of it since. */
export function Log() {
  const [who, setWho] = useQueryWord('who', '');
  const [kind, setKind] = useQueryWord('kind', '');
  const [word, setWord] = useQueryWord('word', '');
  const [from, setFrom] = useQueryWord('from', '');
  const [to, setTo] = useQueryWord('to', '');
  const log = useLog({ who, kind, word });
  const kinds = useKinds();
  const { undo, redo } = useSession();
  const [names, setNames] = useState<readonly string[]>([]);
  useViewHints([
    ['f', 'find'],
    ['u', 'undo the last change'],
    ['U', 'redo it'],
  ]);
  const leave = () => {
    setFrom('');
    setTo('');
  };
  useKeys({ f: () => document.getElementById('filter')?.focus(), ...(from && { Escape: leave }) });
  const entries = log.data?.pages.flat();
  const known = [...new Set([...names, ...(entries ?? []).map((e) => e.who)])];
  if (known.length !== names.length) setNames(known);
  if (log.isError) return <Failed error={log.error} again={() => void log.refetch()} />;
  if (!entries) return <Loading what="Reading the log…" />;
  const sought = who !== '' || kind !== '' || word !== '';
  if (entries.length === 0 && !sought) return <Quiet>Nothing has been changed yet.</Quiet>;
  const choose = (e: Entry) => {
    if (from === '') setFrom(String(e.revision));
    else setTo(String(e.revision));
  };
  const list = (
    <Sheet role="table" aria-label="Changes">
      <Head $faint={false} role="row">
        {['revision', 'when, who', 'lines', 'what it did', ''].map((h) => (
          <span key={h} role="columnheader">
            {h === 'revision' ? 'rev.' : h}
          </span>
        ))}
      </Head>
      {entries.length === 0 && <Quiet>No change is like that.</Quiet>}
      {entries.map((e, i) => (
        <Row key={e.revision} $faint={e.undone} role="row" data-revision={e.revision}>
          <b role="cell">{e.revision}</b>
          <div role="cell">
            <Moment at={e.at} />
            <small>{e.who}</small>
          </div>
          <div role="cell">
            {title(e) && <div>{title(e)}</div>}
            <LogLines entry={e} />
          </div>
          <span role="cell">{e.effect || '–'}</span>
          <Acts role="cell">
            {e.act === 'edit' &&
              (e.undone ? (
                <LinkButton aria-label={`redo revision ${e.revision}`} onPress={() => void redo(e.revision)}>
                  redo
                </LinkButton>
              ) : (
                <LinkButton aria-label={`undo revision ${e.revision}`} onPress={() => void undo(e.revision)}>
                  undo
                </LinkButton>
              ))}
            {(i > 0 || sought) && (
              <>
                <LinkButton aria-label={`as it was at revision ${e.revision}`} onPress={() => lookThrough(-e.revision)}>
                  as it was
                </LinkButton>
                <LinkButton
                  isDisabled={from === String(e.revision)}
                  aria-label={
                    from === ''
                      ? `since then: what came after revision ${e.revision}`
                      : `up to here: what came from revision ${from} to revision ${e.revision}`
                  }
                  onPress={() => choose(e)}
                >
                  {from === '' ? 'since then' : 'up to here'}
                </LinkButton>
              </>
            )}
          </Acts>
        </Row>
      ))}
      {log.hasNextPage && (
        <Quiet>
          <LinkButton isDisabled={log.isFetchingNextPage} onPress={() => void log.fetchNextPage()}>
            {log.isFetchingNextPage ? 'reading…' : 'earlier changes'}
          </LinkButton>
        </Quiet>
      )}
    </Sheet>
  );
  return (
    <>
      <Tools>
        <FilterField value={word} onChange={setWord} />
        <Choice
          label="by"
          value={who || 'anybody'}
          options={['anybody', ...known]}
          onChange={(v) => setWho(v === 'anybody' ? '' : v)}
        />
        <Choice
          label="with a line of"
          value={kind || anyKind}
          options={[anyKind, ...(kinds.data ?? []).map((k) => k.word)]}
          onChange={(v) => setKind(v === anyKind ? '' : v)}
        />
      </Tools>
      {from === '' ? (
        list
      ) : (
        <Two style={{ gridTemplateColumns: 'minmax(0, 1fr) 430px' }}>
          {list}
          <Side aria-label="Between two revisions" data-between>
            <Between from={Number(from)} to={Number(to)} leave={leave} />
          </Side>
        </Two>
      )}
    </>
  );
}

/** What came of the estate from one revision to another. */
function Between({ from, to, leave }: { from: number; to: number; leave: () => void }) {
  const between = useBetween(from, to);
  if (between.isError) return <Failed error={between.error} again={() => void between.refetch()} />;
  if (!between.data) return <Loading what="Holding them against one another…" />;
  const b = between.data;
  return (
    <>
      <h3>
        From revision {b.from} to {to === 0 ? 'now' : `revision ${b.to}`}
      </h3>
      <p style={{ marginBottom: 10 }}>
        {b.lines} {b.lines === 1 ? 'line' : 'lines'} · <LinkButton onPress={leave}>close</LinkButton>
      </p>
      <div style={{ marginBottom: 14 }}>
        <ChangeLines remove={b.remove} add={b.add} most={60} />
      </div>
      {b.effect && <EffectList effect={b.effect} verb="All of it together did" flush all />}
    </>
  );
}

function title(e: Entry) {
  if (e.act === 'restored') return e.why || 'Restored from a copy';
  if (e.act !== 'edit') return `${e.act === 'undo' ? 'Took back' : 'Made again'} revision ${e.of}`;
  return `${e.why ?? ''}${e.undone ? ' (taken back)' : ''}`;
}

function LogLines({ entry }: { entry: Entry }) {
  const lines = [...entry.removed.map((l) => ({ l, out: true })), ...entry.added.map((l) => ({ l, out: false }))];
  const all = entry.removedCount + entry.addedCount;
  return (
    <Lines>
      {lines.slice(0, most).map(({ l, out }, i) => (
        <div key={i}>{out ? <del>− {l}</del> : <ins>+ {l}</ins>}</div>
      ))}
      {all > most && <div>and {all - Math.min(most, lines.length)} lines more</div>}
    </Lines>
  );
}
