import { useEffect, useState, type ReactNode } from 'react';
import styled from 'styled-components';
import { Link, useLocation, useSearch } from 'wouter';
import { Failure, useAppState, useCounts, type Through } from '../../api/client';
import { useMay, useMe } from '../../api/me';
import { lookThrough, useThrough } from '../../api/through';
import { Empty } from './Empty';
import { CameDue } from './CameDue';
import { Kept } from './Kept';
import { BearingLine } from './BearingLine';
import { Clashes } from '../change/Clashes';
import { Ago, count, Moment } from '../../ui/time';
import { Hints, KeysDialog, useHints } from '../../ui/hints';
import { useColumns } from '../../ui/columns';
import { offerFiles, readDropped } from '../records/incoming';
import { useKeys } from '../../ui/keys';
import { Rose } from '../../ui/marks';
import { Failed, LinkButton, Loading } from '../../ui/Quiet';
import { fromPath } from '../../ui/route';
import { useSession } from '../change/session';
import { toolsSlot } from '../../ui/Tools';
import { size } from '../../ui/theme';

const Page = styled.div`
  height: 100%;
  min-width: 1024px;
  display: grid;
  grid-template: auto auto auto minmax(0, 1fr) auto / minmax(0, 1fr);
  @media (max-width: 700px) {
    min-width: 0;
  }
`;

const Top = styled.header`
  display: grid;
  grid-template-columns: 213px minmax(0, 1fr) auto;
  align-items: center;
  gap: 20px;
  padding: 10px 24px 4px;
  @media (max-width: 700px) {
    grid-template-columns: 1fr;
    gap: 6px;
  }
`;

const Estate = styled.div`
  display: flex;
  align-items: center;
  gap: 10px;
  min-width: 0;
  h1 {
    font-weight: 600;
    font-size: ${size.lead};
    line-height: 19px;
    white-space: nowrap;
    overflow: hidden;
    text-overflow: ellipsis;
  }
  p {
    color: ${(p) => p.theme.ink2};
    font-size: ${size.plain};
    line-height: 16px;
    white-space: nowrap;
  }
  div {
    min-width: 0;
  }
`;

const Attention = styled.div`
  display: flex;
  gap: 14px;
  align-items: baseline;
  white-space: nowrap;
  color: ${(p) => p.theme.ink2};
  a:hover {
    color: ${(p) => p.theme.ink};
  }
`;

const Count = styled.b<{ $look?: boolean }>`
  font-size: ${size.lead};
  font-weight: 600;
  color: ${(p) => (p.$look ? p.theme.magenta : p.theme.ink)};
`;

const Views = styled.nav`
  display: flex;
  align-items: stretch;
  column-gap: 18px;
  padding: 0 24px;
  border-bottom: 1px solid ${(p) => p.theme.rule};
  @media (max-width: 700px) {
    flex-wrap: nowrap;
    overflow-x: auto;
  }
`;

const Tab = styled(Link)<{ $on: boolean }>`
  display: flex;
  align-items: center;
  height: 43px;
  gap: 7px;
  font-size: ${size.text};
  border-bottom: 3px solid ${(p) => (p.$on ? p.theme.ink : 'transparent')};
  border-top: 3px solid transparent;
  font-weight: ${(p) => (p.$on ? 600 : 400)};
  color: ${(p) => (p.$on ? p.theme.ink : p.theme.ink2)};
  small {
    font-size: ${size.plain};
    font-weight: 400;
    color: ${(p) => p.theme.ink2};
  }
  &:hover {
    color: ${(p) => p.theme.ink};
  }
`;

/** What the view in sight can be set to: its head. */
const Slot = styled.div`
  min-height: 35px;
  padding: 0 24px;
  display: flex;
  flex-wrap: wrap;
  align-items: center;
  gap: 2px 22px;
  border-bottom: 1px solid ${(p) => p.theme.rule};
  &:empty {
    display: none;
  }
`;

const Bar = styled.div<{ $look?: boolean }>`
  padding: 6px 24px;
  border-bottom: 1px solid ${(p) => p.theme.rule};
  background: ${(p) => p.theme.panel};
  color: ${(p) => (p.$look ? p.theme.magenta : p.theme.ink)};
  display: flex;
  justify-content: space-between;
  gap: 24px;
`;

const Main = styled.main`
  min-height: 0;
  position: relative;
  display: grid;
  grid-template: minmax(0, 1fr) / minmax(0, 1fr);
`;

const Foot = styled.footer`
  @media (max-width: 700px) {
    display: none;
  }
  display: flex;
  gap: 22px;
  align-items: center;
  justify-content: space-between;
  padding: 0 24px;
  height: 30px;
  line-height: 30px;
  white-space: nowrap;
  > span {
    display: flex;
    gap: 22px;
  }
  > span:last-child {
    line-height: 20px;
    align-items: baseline;
  }
  border-top: 1px solid ${(p) => p.theme.rule};
  color: ${(p) => p.theme.ink2};
  font-size: ${size.plain};
  kbd {
    color: ${(p) => p.theme.ink};
    font-weight: 600;
    font-size: ${size.small};
    margin-right: 6px;
  }
`;

export function Frame({ children, dark, onTurn }: { children: ReactNode; dark: boolean; onTurn: () => void }) {
  const state = useAppState();
  const counts = useCounts();
  const me = useMe();
  const editor = useMay('editor');
  useStillThere(state.error);
  const { notice, connected, waiting, say, undoLast, redo } = useSession();
  const [location, go] = useLocation();
  const search = useSearch();
  const [keysOpen, setKeysOpen] = useState(false);
  const hints = useHints();
  const looking = useThrough();
  const from = new URLSearchParams(search).get('from');
  const keep = from ? `?from=${encodeURIComponent(from)}` : '';
  const undoByKey = () =>
    undoLast((last) => {
      go('/log');
      say({ text: `Revision ${last.revision} changed ${last.lines} lines. Undo it here, if it is meant.` });
    });
  useKeys({
    '/': () => document.getElementById('bearing')?.focus(),
    '?': () => setKeysOpen(true),
    u: () => void undoByKey(),
    U: () => void redo(),
    ...(notice && { Escape: () => say(null) }),
    ...(looking !== 0 && { q: () => lookThrough(0) }),
    '1': () => go(`/${keep}`),
    '2': () => go('/ports'),
    '3': () => go(`/exposure${keep}`),
    '4': () => go('/certificates'),
    '5': () => go('/findings'),
    '6': () => go('/drafts'),
    '7': () => go('/dates'),
    '8': () => go('/records'),
    '9': () => go('/log'),
  });
  useColumns();
  const take = async (dropped: DataTransfer) => {
    offerFiles(await readDropped(dropped));
    go('/records');
  };
  const c = counts.data;
  useTitle(location, new URLSearchParams(search).get('table'), state.data?.name);
  const tabs: [string, string, number | undefined, boolean][] = [
    ['Names', `/${keep}`, c?.names, location === '/' || /^\/(trace|compare|answers|courses)\b/.test(location)],
    ['Ports', '/ports', c?.machines, location === '/ports'],
    ['Exposure', `/exposure${keep}`, c?.open, location === '/exposure'],
    ['Certificates', '/certificates', undefined, location === '/certificates'],
    ['Findings', '/findings', c?.causes, location.startsWith('/findings')],
    ['Drafts', '/drafts', state.data?.drafts || undefined, location.startsWith('/drafts')],
    ['Dates', '/dates', undefined, location === '/dates'],
    ['Records', '/records', state.data?.records, location === '/records' || location.startsWith('/filters/')],
    ['Log', '/log', undefined, location === '/log'],
  ];
  return (
    <Page
      onDragOver={(e) => e.dataTransfer.types.includes('Files') && e.preventDefault()}
      onDropCapture={(e) => {
        if (e.dataTransfer.files.length === 0) return;
        e.preventDefault();
        e.stopPropagation();
        void take(e.dataTransfer);
      }}
    >
      <Top>
        <Estate>
          <Rose />
          <div>
            <h1 title={state.data?.name}>{state.data ? state.data.name || 'Without a name yet' : 'Steady Compass'}</h1>
            <p>{state.data ? `${count(state.data.records)} records, revision ${state.data.revision}` : '\u00a0'}</p>
          </div>
        </Estate>
        <BearingLine />
        <Attention>
          {c && (
            <>
              <Link href="/?show=stops">
                <Count $look={c.stop > 0}>{count(c.stop)}</Count> {c.stop === 1 ? 'stops' : 'stop'}
              </Link>
              <Link href="/exposure">
                <Count $look={c.undeclared > 0}>{count(c.undeclared)}</Count> open, undeclared
              </Link>
              <Link href="/?show=arrives">
                <Count>{count(c.arrive)}</Count> {c.arrive === 1 ? 'arrives' : 'arrive'}
              </Link>
            </>
          )}
          {me.data?.who && !me.data.alone && (
            <Link href="/people" data-who>
              {me.data.who.name}
            </Link>
          )}
        </Attention>
      </Top>
      <div>
        <Views aria-label="Views">
          {tabs.map(([name, href, n, on]) => (
            <Tab key={name} href={href} $on={on} aria-current={on ? 'page' : undefined}>
              {name} {n !== undefined && <small>{short(n)}</small>}
            </Tab>
          ))}
          <Kept />
        </Views>
        <Slot id={toolsSlot} />
      </div>
      <div role="status" aria-live="polite">
        {state.data?.through && <LookingThrough through={state.data.through} />}
        {!connected && (
          <Bar $look>The program does not answer. What is shown is as it was. {waitingWords(waiting)}</Bar>
        )}
        {connected && (state.data?.trouble || state.data?.readOnly) && (
          <Bar $look={!!state.data.trouble} data-trouble>
            {state.data.trouble || state.data.readOnly}
          </Bar>
        )}
        {!editor && (
          <Bar data-reader>
            You may read here. What you try is tried, and nothing is kept; a keeper can make you an editor.
          </Bar>
        )}
        <CameDue>{(said) => <Bar>{said}</Bar>}</CameDue>
        {notice && (
          <Bar $look={notice.look}>
            <span>
              {notice.text}{' '}
              {notice.act && (
                <LinkButton
                  onPress={() => {
                    notice.act?.run();
                    say(null);
                  }}
                >
                  {notice.act.label}
                </LinkButton>
              )}
              {notice.problem?.clashes && (
                <Clashes clashes={notice.problem.clashes} turning={notice.turning} done={() => say(null)} />
              )}
            </span>
            <LinkButton onPress={() => say(null)}>close</LinkButton>
          </Bar>
        )}
      </div>
      <Main>
        {state.isError ? (
          <Failed error={state.error} again={() => void state.refetch()} />
        ) : !state.data ? (
          <Loading what="Reading the estate…" />
        ) : state.data.records === 0 &&
          !['/records', '/log', '/words', '/people'].includes(location) &&
          !location.startsWith('/guide') ? (
          <Empty />
        ) : (
          children
        )}
      </Main>
      <Foot>
        <Hints />
        <span>
          {state.data?.copied && (
            <span data-copied title={state.data.copied.at ?? undefined}>
              {state.data.copied.at ? (
                <>
                  last copied <Ago at={state.data.copied.at} />
                </>
              ) : (
                'never copied'
              )}
              , and {state.data.copied.changes === 1 ? 'a change was' : `${state.data.copied.changes} changes were`}{' '}
              made: <code>steady-compass backup</code>
            </span>
          )}
          {me.data?.alone && <Link href="/people">people</Link>}
          <LinkButton onPress={onTurn}>{dark ? 'day' : 'night'}</LinkButton>
        </span>
      </Foot>
      <KeysDialog
        hints={hints}
        isOpen={keysOpen}
        onClose={() => setKeysOpen(false)}
        onGuide={() => {
          setKeysOpen(false);
          go('/guide');
        }}
        onWords={() => {
          setKeysOpen(false);
          go('/words');
        }}
      />
    </Page>
  );
}

const Band = styled(Bar)`
  background: ${(p) => p.theme.ink};
  color: ${(p) => p.theme.onInk};
  justify-content: flex-start;
  gap: 6px 20px;
  flex-wrap: wrap;
  button,
  a {
    color: inherit;
    border-color: currentColor;
  }
  a {
    font-weight: 600;
    overflow-wrap: anywhere;
  }
  button {
    margin-left: auto;
  }
  kbd {
    margin-right: 6px;
    font-weight: 600;
  }
`;

/** Says in every view that what is seen is not in force. */
function LookingThrough({ through }: { through: Through }) {
  return (
    <Band data-through={through.id} className="through">
      {through.id < 0 ? (
        <span>
          As it was at <Link href="/log">{through.title}</Link>
          {through.at && (
            <>
              , of <Moment at={through.at} />
            </>
          )}
        </span>
      ) : (
        <span>
          Looking through <Link href={`/drafts/${through.id}`}>{through.title}</Link>
        </span>
      )}
      {through.id < 0 ? (
        <span>
          {through.lines === 0
            ? 'Nothing is other than now.'
            : `${through.lines} ${through.lines === 1 ? 'line is' : 'lines are'} other than now; rows with a bar are other too. Nothing can be written here.`}
        </span>
      ) : through.cannot ? (
        <span>It cannot be made as the records are now: {through.cannot}.</span>
      ) : (
        <span>
          {through.lines} {through.lines === 1 ? 'line' : 'lines'} that {through.lines === 1 ? 'is' : 'are'} not in
          force; what is written goes into it. Rows with a bar are other than in force.
        </span>
      )}
      <LinkButton onPress={() => lookThrough(0)}>
        <kbd>q</kbd>leave it
      </LinkButton>
    </Band>
  );
}

/** Leaves a draft that is not there any more. */
function useStillThere(error: unknown) {
  const { say } = useSession();
  const looking = useThrough();
  const gone = looking !== 0 && error instanceof Failure && error.problem?.status === 404;
  useEffect(() => {
    if (!gone) return;
    lookThrough(0);
    say({ text: 'What was looked through is not there any more. This is what is in force.' });
  }, [gone, say]);
}

const titles: Record<string, string> = {
  '': 'Names',
  answers: 'What names answer',
  courses: 'Names as courses',
  ports: 'Ports',
  exposure: 'Exposure',
  findings: 'Findings',
  records: 'Records',
  certificates: 'Certificates',
  dates: 'Dates',
  drafts: 'Drafts',
  log: 'Log',
  people: 'People',
  guide: 'The guide',
  words: 'What the words mean',
  filters: 'Filter',
  uses: 'Uses of',
  without: 'Without',
  trace: 'Trace of',
  compare: 'Side by side:',
};

/** Gives the page the title of the view in sight, and of what it is about. */
function useTitle(location: string, table: string | null, estate: string | undefined) {
  const [, view = '', about = ''] = location.split('/');
  useEffect(() => {
    const of = ['trace', 'compare', 'filters', 'uses', 'without'].includes(view)
      ? ` ${fromPath(about)}`
      : view === 'records' && table
        ? `: ${table}`
        : '';
    document.title = `${titles[view] ?? 'No such page'}${of} · ${estate || 'Steady Compass'}`;
  }, [view, about, table, estate]);
}

/** What becomes of changes while nothing answers. */
function waitingWords(n: number) {
  if (n === 0) return 'Changes wait until it does.';
  return n === 1 ? 'One change waits, and is sent when it does.' : `${n} changes wait, and are sent when it does.`;
}

/** A count in few letters: what stands beside it is not to move when an estate is large. */
function short(n: number) {
  return n < 1000 ? String(n) : `${Math.floor(n / 1000)}k`;
}
