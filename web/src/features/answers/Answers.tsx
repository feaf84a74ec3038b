import { useMemo, useRef } from 'react';
import styled from 'styled-components';
import { Link, useLocation } from 'wouter';
import { api, ask, useAnswers, useInForce, type Answer, type AnswerRow } from '../../api/client';
import { useLongList } from '../../ui/print';
import { duration } from '../change/EffectList';
import { useKeys } from '../../ui/keys';
import { VantagePicker } from '../../ui/Picker';
import { Failed, LinkButton, Loading, Quiet } from '../../ui/Quiet';
import { traceURL, useQueryWord } from '../../ui/route';
import { Tools } from '../../ui/Tools';
import { useViewHints } from '../../ui/hints';
import { Choice } from '../../ui/Choice';
import { alteredProps, AlteredSaid, useAltered, type Altered } from '../../ui/altered';
import { size } from '../../ui/theme';

const Grid = styled.div<{ $n: number }>`
  display: grid;
  grid-template-rows: minmax(0, 1fr);
  min-height: 0;
  .line {
    display: grid;
    grid-template-columns:
      minmax(170px, 1.1fr) 58px repeat(${(p) => p.$n}, minmax(180px, 1.5fr)) minmax(96px, 0.8fr)
      74px;
    padding-left: 24px;
  }
  .head {
    position: sticky;
    top: 0;
    z-index: 1;
    background: ${(p) => p.theme.ground};
    border-bottom: 1px solid ${(p) => p.theme.rule};
    font-size: ${size.plain};
    line-height: 30px;
    color: ${(p) => p.theme.ink2};
  }
  .head > div,
  .row > div {
    padding: 0 10px;
    min-width: 0;
  }
  .head > div:first-child,
  .row > div:first-child {
    padding-left: 0;
  }
  .head button {
    line-height: 15px;
  }
  .held span + span {
    margin-left: 8px;
  }
  .head b {
    font-weight: 600;
    color: ${(p) => p.theme.ink};
    margin-right: 8px;
  }
  .row,
  .group {
    position: absolute;
    left: 0;
    right: 0;
    border-bottom: 1px solid ${(p) => p.theme.hairline};
  }
  .group {
    padding: 0 24px;
    line-height: 30px;
    font-weight: 600;
    border-color: ${(p) => p.theme.rule};
  }
  .row {
    line-height: 30px;
    height: 31px;
    white-space: nowrap;
  }
  .row > div {
    overflow: hidden;
    text-overflow: ellipsis;
  }
  .name {
    font-weight: 600;
  }
  .again,
  .type,
  .age {
    color: ${(p) => p.theme.ink2};
    font-weight: 400;
  }
  .type,
  .value {
    font-family: 'IBM Plex Mono', monospace;
    font-size: ${size.plain};
  }
  .name button {
    max-width: 100%;
    overflow: hidden;
    text-overflow: ellipsis;
    vertical-align: bottom;
    line-height: 16px;
    margin-bottom: 6px;
  }
  .name small {
    font-weight: 400;
    color: ${(p) => p.theme.ink2};
    margin-left: 6px;
  }
  .value {
    background: ${(p) => p.theme.water};
  }
  .value small {
    color: ${(p) => p.theme.ink2};
    font-family: 'IBM Plex Sans Variable', sans-serif;
  }
  .odd {
    font-weight: 600;
    box-shadow: inset 3px 0 0 ${(p) => p.theme.ink};
  }
  .none {
    font-family: inherit;
    color: ${(p) => p.theme.ink2};
  }
  .age {
    text-align: right;
    padding-right: 24px !important;
  }
`;

const Scroll = styled.div`
  overflow: auto;
  position: relative;
`;

const Ditto = styled.i`
  display: inline-block;
  width: 2px;
  height: 7px;
  background: ${(p) => p.theme.faint};
  box-shadow: 4px 0 0 ${(p) => p.theme.faint};
`;

const Nobody = styled.span`
  border: 1px dashed ${(p) => p.theme.magenta};
  color: ${(p) => p.theme.magenta};
  padding: 0 6px;
  font-weight: 500;
`;

type Item = { group: string } | { row: AnswerRow; again: boolean };

const shows = ['everything', 'what differs'] as const;

const codes: Record<string, string> = {
  NXDOMAIN: 'no such name',
  SERVFAIL: 'goes round',
  YXDOMAIN: 'name too long',
  NOERROR: 'none',
  outside: 'not ours to say',
};

/** What each name answers, from several vantages side by side: equal answers fade, the odd one stands out. */
export function Answers() {
  const [from, setFrom] = useQueryWord('from', 'auto');
  const [show, setShow] = useQueryWord('show', 'everything');
  const answers = useAnswers(from);
  const inForce = useInForce(['answers', from], (query) =>
    ask(api.GET('/api/answers', { params: { query: { from, ...query } } })),
  );
  const altered = useAltered(answers.data?.rows, inForce?.rows, answerKey);
  const [, go] = useLocation();
  const scroll = useRef<HTMLDivElement>(null);
  const vantages = useMemo(() => answers.data?.from ?? [], [answers.data]);
  useViewHints([
    ['v', 'one more vantage'],
    ['Esc', 'back to the paths'],
  ]);
  useKeys({ v: () => document.getElementById('vantage')?.focus(), Escape: () => go('/') });

  const items = useMemo(() => {
    const out: Item[] = [];
    let zone: string | null = null;
    let name = '';
    for (const row of answers.data?.rows ?? []) {
      if (show === 'what differs' && !row.differs) continue;
      if (row.zone !== zone) {
        zone = row.zone;
        out.push({ group: zone || 'in no recorded zone' });
      }
      out.push({ row, again: row.name === name });
      name = row.name;
    }
    return out;
  }, [answers.data, show]);

  const virtual = useLongList({
    count: items.length,
    getScrollElement: () => scroll.current,
    estimateSize: () => 31,
    overscan: 10,
  });
  const tools = (
    <Tools>
      <Link href="/">paths</Link>
      <AlteredSaid altered={altered} name={answerKey} />
      <Choice label="show" value={show as (typeof shows)[number]} options={shows} onChange={setShow} />
      <VantagePicker
        label="and from"
        value=""
        onChange={(v) => setFrom([...vantages.filter((x) => x !== v), v].join(','))}
      />
    </Tools>
  );
  if (answers.isError) {
    return (
      <>
        {tools}
        <Failed error={answers.error} again={() => setFrom('auto')} />
      </>
    );
  }
  return (
    <Grid $n={Math.max(1, vantages.length)}>
      {tools}
      {!answers.data ? (
        <Loading what="Asking every name…" />
      ) : items.length === 0 ? (
        <Quiet>
          {answers.data.rows.length === 0
            ? 'No name is recorded yet.'
            : 'Every name answers the same from each of these.'}
        </Quiet>
      ) : (
        <Scroll ref={scroll} role="table" aria-label="What names answer" aria-rowcount={items.length + 1} tabIndex={0}>
          <div className="line head" role="row" aria-rowindex={1}>
            <div role="columnheader">name</div>
            <div role="columnheader">type</div>
            {vantages.map((v) => (
              <div key={v} role="columnheader">
                from <b>{v}</b>
                {vantages.length > 1 && (
                  <LinkButton
                    aria-label={`leave out ${v}`}
                    onPress={() => setFrom(vantages.filter((x) => x !== v).join(','))}
                  >
                    leave out
                  </LinkButton>
                )}
              </div>
            ))}
            <div role="columnheader" title="which machines have the addresses">
              held by
            </div>
            <div role="columnheader" className="age" title="how long an old answer may be seen after a change">
              old for
            </div>
          </div>
          <div role="rowgroup" style={{ height: virtual.getTotalSize(), position: 'relative' }}>
            {virtual.getVirtualItems().map((v) => {
              const item = items[v.index];
              if (!item) return null;
              const style = { transform: `translateY(${v.start}px)` };
              return 'group' in item ? (
                <div key={v.key} className="group" style={style} role="row" aria-rowindex={v.index + 2}>
                  <span role="cell" aria-colspan={vantages.length + 4}>
                    {item.group}
                  </span>
                </div>
              ) : (
                <Line
                  key={v.key}
                  index={v.index}
                  item={item}
                  style={style}
                  altered={altered}
                  onOpen={() => go(traceURL(item.row.name))}
                />
              );
            })}
          </div>
        </Scroll>
      )}
    </Grid>
  );
}

const answerKey = (row: AnswerRow) => `${row.name} ${row.type}`;

interface LineProps {
  index: number;
  item: Extract<Item, { row: AnswerRow }>;
  style: object;
  altered: Altered<AnswerRow>;
  onOpen: () => void;
}

function Line({ index, item, style, altered, onOpen }: LineProps) {
  const { row, again } = item;
  const texts = row.answers.map(text);
  const usual = most(texts);
  const inside = row.zone && row.name.endsWith(`.${row.zone}`) ? row.name.slice(0, -row.zone.length - 1) : row.name;
  const age = Math.max(...row.answers.map((a) => a.age));
  return (
    <div
      className="line row"
      style={style}
      role="row"
      aria-rowindex={index + 2}
      data-answer={`${row.name} ${row.type}`}
      data-differs={row.differs || undefined}
      {...alteredProps(altered, answerKey(row))}
    >
      <div
        role="cell"
        className={again ? 'again' : 'name'}
        title={row.unicode ? `${row.unicode}, ${row.name}` : row.name}
      >
        {again ? (
          ''
        ) : (
          <>
            <LinkButton onPress={onOpen}>{row.name === row.zone ? '@' : inside}</LinkButton>
            <small>
              {row.name === row.zone ? 'apex' : ''}
              {row.unicode}
              {row.used ? 'used, not recorded' : ''}
            </small>
          </>
        )}
      </div>
      <div role="cell" className="type">
        {row.type}
      </div>
      {row.answers.map((a, i) => (
        <div
          key={i}
          role="cell"
          title={a.chain.length > 1 ? a.chain.join(' → ') : undefined}
          className={`value ${row.differs && texts[i] !== usual ? 'odd' : ''} ${a.values.length ? '' : 'none'}`}
        >
          {i > 0 && texts[i] === texts[i - 1] ? (
            <>
              <Ditto aria-hidden="true" />
              <span className="visually-hidden">{texts[i]}</span>
            </>
          ) : (
            texts[i]
          )}
          <small>{i > 0 && texts[i] === texts[i - 1] ? '' : by(a)}</small>
        </div>
      ))}
      <div role="cell" className="held">
        {row.held.map((h) => (h === 'nobody' ? <Nobody key={h}>nobody</Nobody> : <span key={h}>{h}</span>))}
      </div>
      <div role="cell" className="age">
        {age > 0 ? duration(age) : ''}
      </div>
    </div>
  );
}

function by(a: Answer) {
  if (a.chain.length > 1 && a.values.length > 0) return ` by ${a.chain.at(-1)}`;
  return a.wildcard ? ' by the wildcard' : '';
}

function text(a: Answer) {
  return a.values.length ? a.values.join(', ') : (codes[a.code] ?? a.code);
}

/** The text that most have; of several the first. */
function most(texts: string[]) {
  const count = (t: string) => texts.filter((x) => x === t).length;
  return texts.reduce((best, t) => (count(t) > count(best) ? t : best), texts[0] ?? '');
}
