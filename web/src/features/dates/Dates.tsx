import styled, { css } from 'styled-components';
import { useLocation } from 'wouter';
import { api, ask, useDates, useInForce, type Calendar, type Due } from '../../api/client';
import { Choice } from '../../ui/Choice';
import { useViewHints } from '../../ui/hints';
import { ListLine, LongList } from '../../ui/LongList';
import { Failed, LinkButton, Loading, Quiet } from '../../ui/Quiet';
import { findingURL, useChosen, useQueryWord } from '../../ui/route';
import { FilterField, Tools } from '../../ui/Tools';
import { Side, Two } from '../../ui/TwoPane';
import { Day, exact, Moment } from '../../ui/time';
import { Wrapping } from '../../ui/Wrapping';
import { idOf, Timeline } from './Timeline';
import { when } from './timeline';
import { alteredProps, AlteredSaid, useAltered } from '../../ui/altered';

const View = styled.div`
  display: grid;
  grid-template-rows: auto minmax(0, 1fr);
  min-height: 0;
`;

const inColumns = css`
  display: grid;
  grid-template-columns: 104px minmax(110px, 1fr) minmax(0, 2.4fr);
  column-gap: 16px;
  align-items: baseline;
  padding: 6px 24px;
`;

const Line = styled(ListLine)`
  ${inColumns}
  border-bottom: 1px solid ${(p) => p.theme.hairline};
  line-height: 19px;
  overflow-wrap: anywhere;
  b {
    font-weight: 600;
  }
`;

const When = styled.span<{ $look: boolean }>`
  font-weight: 600;
  color: ${(p) => (p.$look ? p.theme.magenta : p.theme.ink)};
`;

const kinds = {
  'everything that comes due': '',
  certificates: 'certificate',
  'what is temporary': 'temporary',
  'findings taken on': 'taken-on',
  registrations: 'registration',
  'old answers': 'old-answer',
  'looks that grow old': 'looked',
} as const satisfies Record<string, Due['kind'] | ''>;
const spans = { 'a month': 31, 'a quarter': 92, 'a year': 366, 'any day': Infinity } as const;

type Kinds = keyof typeof kinds;
type Span = keyof typeof spans;

/** What comes due, and when: on a line of time, and as a list, what is late first. */
export function Dates() {
  const calendar = useDates();
  if (calendar.isError) return <Failed error={calendar.error} again={() => void calendar.refetch()} />;
  if (!calendar.data) return <Loading what="Looking for what comes due…" />;
  if (calendar.data.dates.length === 0)
    return (
      <Quiet>
        Nothing comes due. A certificate does that is written with <code>expires 2027-03-01</code>, a zone with the
        same, any line with <code>until 2027-03-01</code>, and an answer that was changed, until no cache has the old
        one.
      </Quiet>
    );
  return <Listed calendar={calendar.data} />;
}

function Listed({ calendar }: { calendar: Calendar }) {
  const [, go] = useLocation();
  const [show, setShow] = useQueryWord('show', 'everything that comes due');
  const [until, setUntil] = useQueryWord('until', 'any day');
  const [like, setLike] = useQueryWord('like', '');
  const inForce = useInForce(['dates'], (query) => ask(api.GET('/api/dates', { params: { query } })));
  const altered = useAltered(calendar.dates, inForce?.dates, idOf);
  const most = spans[until as Span] ?? Infinity;
  const kind = kinds[show as Kinds] ?? '';
  const dates = calendar.dates.filter(
    (d) =>
      d.days <= most &&
      (kind === '' || d.kind === kind) &&
      `${d.name} ${d.record ?? ''} ${d.means} ${d.date}`.toLowerCase().includes(like.toLowerCase()),
  );
  const [word, setWord] = useQueryWord('date', '');
  const { chosen, choose, settle } = useChosen(word, setWord);
  const due = dates.find((d) => idOf(d) === chosen) ?? dates[0];
  useViewHints([
    ['↑↓', 'date'],
    ['Enter', 'open it'],
  ]);
  const open = () => {
    const url = due && urlOf(due);
    if (!url) return;
    settle();
    go(url);
  };
  return (
    <View>
      <Tools>
        <FilterField value={like} onChange={setLike} />
        <Choice label="show" value={show as Kinds} options={Object.keys(kinds) as Kinds[]} onChange={setShow} />
        <Choice label="for" value={until as Span} options={Object.keys(spans) as Span[]} onChange={setUntil} />
        <a href="/api/dates.ics" title="A calendar to subscribe to (iCalendar): its address is this link's">
          calendar feed
        </a>
        <AlteredSaid altered={altered} name={(d) => d.name} />
      </Tools>
      <Timeline dates={dates} day={calendar.day} chosen={due ? idOf(due) : ''} onChoose={choose} />
      {dates.length === 0 ? (
        <Quiet>
          Nothing of that comes due.{' '}
          <LinkButton
            onPress={() => {
              setLike('');
              setShow('everything that comes due');
              setUntil('any day');
            }}
          >
            Show all
          </LinkButton>
        </Quiet>
      ) : (
        <Two>
          <LongList
            label="What comes due"
            items={dates.map((d) => ({ ...d, id: idOf(d) }))}
            chosen={due ? idOf(due) : ''}
            onChoose={choose}
            onEnter={open}
            lineHeight={32}
          >
            {(d) => (
              <Line id={d.id} textValue="" data-due={d.name} {...alteredProps(altered, idOf(d))}>
                <When $look={d.concern} title={d.at ? exact(d.at) : d.date}>
                  {when(d)}
                </When>
                <b>{d.name}</b>
                <span>{d.means}</span>
              </Line>
            )}
          </LongList>
          <Side aria-label="The chosen date">{due && <Chosen due={due} onOpen={open} />}</Side>
        </Two>
      )}
    </View>
  );
}

function Chosen({ due, onOpen }: { due: Due; onOpen: () => void }) {
  return (
    <>
      <h3>{due.name}</h3>
      <p style={{ marginBottom: 10 }}>
        {words[due.kind]}, {due.at ? <Moment at={due.at} /> : <Day day={due.date} />}
      </p>
      {due.record && (
        <p style={{ marginBottom: 10 }}>
          <code>
            <Wrapping text={due.record} />
          </code>
        </p>
      )}
      <p style={{ marginBottom: 10 }}>{due.means}</p>
      {due.window && (
        <p style={{ marginBottom: 10 }}>
          Tried from {due.window.from} on: {due.window.tries} {due.window.tries === 1 ? 'try' : 'tries'} left until its
          last day is over.
        </p>
      )}
      {urlOf(due) && (
        <p>
          <LinkButton onPress={onOpen}>{leads(due)}</LinkButton>
        </p>
      )}
    </>
  );
}

/** What it is that comes due. */
const words: Record<Due['kind'], string> = {
  certificate: 'A certificate ends',
  temporary: 'Meant to be in force until then',
  'taken-on': 'A finding, taken on until then',
  registration: 'A registration ends',
  'old-answer': 'Old answers, until then',
  looked: 'What was seen from there is a month old then',
};

/** Where one sees to it. */
function urlOf(d: Due): string {
  if (d.kind === 'certificate') return `/certificates?cert=${encodeURIComponent(d.name)}`;
  if (d.code && d.subject) return findingURL(d.code, d.subject);
  if (d.kind === 'old-answer') return '/answers';
  return '';
}

function leads(d: Due): string {
  if (d.kind === 'certificate') return 'Whom it serves, and whether it can be renewed';
  return d.kind === 'old-answer' ? 'What names answer' : 'The finding, and what mends it';
}
