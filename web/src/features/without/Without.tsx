import styled from 'styled-components';
import { useLocation, useSearch } from 'wouter';
import { useWithout, type Affected, type Stand, type Without as Gone } from '../../api/client';
import { useKeys } from '../../ui/keys';
import { isGood, Mark, outcomeWords } from '../../ui/marks';
import { VantagePicker } from '../../ui/Picker';
import { Failed, LinkButton, Loading, Quiet } from '../../ui/Quiet';
import { traceURL, usesURL, planURL, withoutURL } from '../../ui/route';
import { beginPublishing } from '../frame/bearing';
import { Group, Lines, MarkedLine, Sheet, Side, Top, Two } from '../../ui/TwoPane';
import { useViewHints } from '../../ui/hints';
import { Wrapping } from '../../ui/Wrapping';

const Sign = styled.span`
  line-height: 18px;
`;

/** How many lines of a list are shown. */
const most = 200;

/** What becomes of the names without a part of the estate; or, of a name, what it stands on alone. */
export function Without({ word }: { word: string }) {
  const [, go] = useLocation();
  const asked = new URLSearchParams(useSearch());
  const kind = asked.get('kind') ?? '';
  const from = asked.get('from') ?? 'internet';
  const answer = useWithout(word, kind, from);
  useViewHints([
    ['Enter', 'trace it'],
    ['w', 'where it is used'],
    ['i', 'publish'],
    ['z', 'retire'],
  ]);
  useKeys({
    Enter: () => go(traceURL(word)),
    w: () => go(usesURL(hostOf(word))),
    i: () => beginPublishing(answer.data?.part ? { place: hostOf(word) } : { name: hostOf(word) }),
    z: () => go(planURL(`retire ${hostOf(word)}`)),
  });
  if (answer.isError) return <Failed error={answer.error} again={() => void answer.refetch()} />;
  if (!answer.data) return <Loading what={`Looking at it all without ${word}…`} />;
  const { part, name, kinds } = answer.data;
  const others = kinds.filter((k) => k !== part?.kind);
  return (
    <Two>
      <Sheet>
        <Top>
          {part ? <h2>Without {part.word}</h2> : <h2>What {word} stands on</h2>}
          <p>
            {part && `${part.kind}, as if it were down`}
            {name && (
              <>
                <VantagePicker
                  value={from}
                  onChange={(v) => go(withoutURL(word, { kind, from: v }), { replace: true })}
                />
              </>
            )}
            {others.map((k) => (
              <span key={k}>
                {' · '}
                <LinkButton onPress={() => go(withoutURL(word, { kind: k }))}>the {k} of that name</LinkButton>
              </span>
            ))}
          </p>
        </Top>
        {part && <Becomes part={part} />}
        {name && !isGood(name.verdict) && name.verdict !== 'partly' && (
          <Quiet>
            From {name.from} it does not arrive as it is ({outcomeWords[name.verdict]}).{' '}
            <LinkButton onPress={() => go(traceURL(word, name.from))}>Trace it</LinkButton>
          </Quiet>
        )}
        {name && (
          <>
            <Stands title="Without any of these it does not arrive" list={name.alone} />
            <Stands title="It goes by these as well, and arrives without any one of them" list={name.spared} />
          </>
        )}
      </Sheet>
      <Side aria-label="What is taken as off">
        {part ? (
          <>
            <h3>Taken as off</h3>
            <Lines>
              {part.lines.slice(0, 24).map((l) => (
                <li key={l}>
                  <Wrapping text={l} />
                </li>
              ))}
              {part.lines.length > 24 && <li>and {part.lines.length - 24} more</li>}
            </Lines>
            <p>
              Nothing is changed by looking.{' '}
              <LinkButton onPress={() => go(usesURL(part.word))}>Where it is used</LinkButton>
            </p>
          </>
        ) : (
          <p>
            Each machine, network, address, service, certificate and zone on its way is taken away in turn, and the name
            is asked for again. Choose one to see what else stops with it.
          </p>
        )}
      </Side>
    </Two>
  );
}

function Becomes({ part }: { part: Gone }) {
  const quiet =
    part.stops.length + part.fewer.length + part.goOn.length + part.unmet.length + part.shut.length === 0 &&
    'Nothing that is recorded changes without it.';
  return (
    <>
      {quiet && <Quiet>{quiet}</Quiet>}
      <NamesOf title="Stop" list={part.stops} />
      <NamesOf title="Arrive by fewer ways" list={part.fewer} />
      <NamesOf title="Go on by another way" list={part.goOn} />
      {part.unmet.length > 0 && (
        <section aria-label="Meant besides, and not so any more">
          <Group>
            Meant besides, and not so any more <b>{part.unmet.length}</b>
          </Group>
          {part.unmet.slice(0, most).map((u) => (
            <MarkedLine key={u.subject}>
              <Sign>
                <Mark kind="stops" />
              </Sign>
              <span>
                <Wrapping text={u.subject} />
              </span>
              <small>{u.why}</small>
            </MarkedLine>
          ))}
          {part.unmet.length > most && <Quiet>and {part.unmet.length - most} more</Quiet>}
        </section>
      )}
      {part.shut.length > 0 && (
        <section aria-label="Fail shut">
          <Group>
            Fail shut <b>{part.shut.length}</b>
          </Group>
          {part.shut.map((f) => (
            <MarkedLine key={f.filter}>
              <Sign>
                <Mark kind="ends" />
              </Sign>
              <span>
                {f.lines.map((l) => (
                  <div key={l}>
                    <Wrapping text={l} />
                  </div>
                ))}
              </span>
              <small>{f.why}</small>
            </MarkedLine>
          ))}
        </section>
      )}
    </>
  );
}

function NamesOf({ title, list }: { title: string; list: Affected[] }) {
  const [, go] = useLocation();
  if (list.length === 0) return null;
  return (
    <section aria-label={title}>
      <Group>
        {title} <b>{list.length}</b>
      </Group>
      {list.slice(0, most).map((n) => {
        const target = `${n.name}:${n.port}${n.transport === 'udp' ? '/udp' : ''}`;
        const good = isGood(n.after) || n.after === 'partly';
        return (
          <MarkedLine key={`${target} ${n.from}`} data-stops={good ? undefined : target}>
            <Sign>
              <Mark kind={good ? 'arrives' : 'stops'} />
            </Sign>
            <span>
              <LinkButton onPress={() => go(traceURL(target, n.from))}>{target}</LinkButton>
              {n.from !== 'internet' && ` from ${n.from}`}
            </span>
            <small>{good ? n.through.join('; ') : outcomeWords[n.after]}</small>
          </MarkedLine>
        );
      })}
      {list.length > most && <Quiet>and {list.length - most} more</Quiet>}
    </section>
  );
}

function Stands({ title, list }: { title: string; list: Stand[] }) {
  const [, go] = useLocation();
  if (list.length === 0) return null;
  return (
    <section aria-label={title}>
      <Group>
        {title} <b>{list.length}</b>
      </Group>
      {list.map((s) => (
        <MarkedLine key={`${s.kind} ${s.word}`} data-stand={s.kind}>
          <Sign>
            <Mark kind={isGood(s.after) || s.after === 'partly' ? 'arrives' : 'stops'} />
          </Sign>
          <span>
            <LinkButton onPress={() => go(withoutURL(s.word, { kind: s.kind }))}>{s.word}</LinkButton>
          </span>
          <small>
            {s.kind} · without it: {outcomeWords[s.after]}
          </small>
        </MarkedLine>
      ))}
    </section>
  );
}

/** A name or place without its port. */
function hostOf(word: string) {
  return word.replace(/:\d+(\/udp)?$/, '');
}
