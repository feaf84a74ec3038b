import styled from 'styled-components';
import { useLog, type Entry } from '../../api/client';
import { useViewHints } from '../../ui/hints';
import { Failed, LinkButton, Loading, Quiet } from '../../ui/Quiet';
import { useSession } from '../change/session';

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
    font-size: 12px;
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
  font-size: 12px;
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

const most = 8;

/** Every change: when, who, which lines went and came, and what it did. */
export function Log() {
  const log = useLog();
  const { undo, redo } = useSession();
  useViewHints([
    ['u', 'undo the last change'],
    ['U', 'redo it'],
  ]);
  if (log.isError) return <Failed error={log.error} again={() => void log.refetch()} />;
  if (!log.data) return <Loading what="Reading the log…" />;
  if (log.data.length === 0) return <Quiet>Nothing has been changed yet.</Quiet>;
  return (
    <Sheet role="table" aria-label="Changes">
      <Head $faint={false} role="row">
        {['revision', 'when, who', 'lines', 'what it did', ''].map((h) => (
          <span key={h} role="columnheader">
            {h === 'revision' ? 'rev.' : h}
          </span>
        ))}
      </Head>
      {log.data.map((e) => (
        <Row key={e.revision} $faint={e.undone} role="row" data-revision={e.revision}>
          <b role="cell">{e.revision}</b>
          <div role="cell">
            {new Date(e.at).toLocaleString(undefined, { dateStyle: 'medium', timeStyle: 'short' })}
            <small>{e.who}</small>
          </div>
          <div role="cell">
            {title(e) && <div>{title(e)}</div>}
            <LogLines entry={e} />
          </div>
          <span role="cell">{e.effect || '–'}</span>
          <span role="cell">
            {e.act === 'edit' &&
              (e.undone ? (
                <LinkButton onPress={() => void redo()}>redo</LinkButton>
              ) : (
                <LinkButton aria-label={`undo revision ${e.revision}`} onPress={() => void undo(e.revision)}>
                  undo
                </LinkButton>
              ))}
          </span>
        </Row>
      ))}
    </Sheet>
  );
}

function title(e: Entry) {
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
