import { useDeferredValue, useMemo, useState } from 'react';
import { Dialog, FieldError, Heading, Input, Label, TextField } from 'react-aria-components';
import styled from 'styled-components';
import { useLocation } from 'wouter';
import { api, ask, useCodes, useFindings, useInForce, type Finding, type FindingsAnswer } from '../../api/client';
import { Choice } from '../../ui/Choice';
import { DialogSheet, DialogVeil, useViewHints } from '../../ui/hints';
import { useKeys } from '../../ui/keys';
import { ListLine, LongList } from '../../ui/LongList';
import { Mark } from '../../ui/marks';
import { usePrinting } from '../../ui/print';
import { Failed, Loading, Plain, Quiet, Strong } from '../../ui/Quiet';
import { findingURL, traceURL, useChosen, useQueryWord } from '../../ui/route';
import { useSession } from '../change/session';
import { Tools } from '../../ui/Tools';
import { useLookNow } from '../look/lookNow';
import { Suspects } from '../look/Suspects';
import { Others, Tried, useDeclaring, useHolds, useMending, type MendFor } from '../change/tried';
import { alteredProps, AlteredSaid, useAltered, type Altered } from '../../ui/altered';
import { size } from '../../ui/theme';

/** A finding in the list: at the head of what it is the cause of, or below that as what follows from it. */
type Entry = Finding & { id: string; cause: string; more: Finding[]; below: boolean };

const keyOf = (code: string, subject: string) => `${code} ${subject}`;

const Two = styled.div`
  display: grid;
  grid-template-columns: minmax(0, 1fr) minmax(400px, 470px);
  min-height: 0;
`;

const Row = styled(ListLine)<{ $below: boolean }>`
  display: grid;
  grid-template-columns: 16px minmax(150px, 232px) minmax(0, 1fr);
  gap: 10px;
  padding: ${(p) => (p.$below ? '6px 20px 6px 44px' : '8px 20px 8px 24px')};
  color: ${(p) => (p.$below ? p.theme.ink2 : p.theme.ink)};
  small {
    display: block;
    font-size: ${size.plain};
    color: ${(p) => p.theme.ink2};
  }
  border-bottom: 1px solid ${(p) => p.theme.hairline};
  svg {
    margin-top: 4px;
  }
  code {
    overflow-wrap: anywhere;
  }
  &[data-selected] {
    box-shadow:
      0 -1px 0 ${(p) => p.theme.ink},
      0 1px 0 ${(p) => p.theme.ink};
    z-index: 1;
  }
`;

const Detail = styled.aside`
  background: ${(p) => p.theme.panel};
  border-left: 1px solid ${(p) => p.theme.rule};
  overflow: auto;
  padding: 16px 24px 30px 22px;
  > header {
    display: flex;
    justify-content: space-between;
    gap: 16px;
    align-items: baseline;
    margin-bottom: 8px;
    h2 {
      font:
        600 13px/20px 'IBM Plex Mono',
        monospace;
      overflow-wrap: anywhere;
    }
    code {
      color: ${(p) => p.theme.ink2};
      white-space: nowrap;
    }
  }
  > p {
    font-size: ${size.lead};
    line-height: 23px;
  }
  h3 {
    margin: 18px 0 6px;
    font-size: ${size.plain};
    color: ${(p) => p.theme.ink2};
  }
`;

const Decided = styled.div`
  border-left: 1px solid ${(p) => p.theme.rule};
  padding-left: 10px;
  font:
    12px/19px 'IBM Plex Mono',
    monospace;
  overflow-wrap: anywhere;
`;

const Help = styled.p`
  && {
    margin-top: 6px;
    font-size: ${size.plain};
    line-height: 18px;
    color: ${(p) => p.theme.ink2};
  }
`;

const Acts = styled.div`
  display: flex;
  flex-wrap: wrap;
  gap: 10px;
  margin-top: 20px;
`;

const levels = ['error, warning', 'error', 'warning', 'note', 'everything'] as const;

/** What is wrong, by cause; and for one of them, the records, the mend and what it would change. */
export function Findings({ code, subject }: { code: string; subject: string }) {
  const report = useFindings();
  const [level, setLevel] = useQueryWord('level', 'everything');
  const [family, setFamily] = useQueryWord('code', 'every code');
  const [, go] = useLocation();
  const [accepting, setAccepting] = useState(false);

  const findings = useMemo(() => report.data?.findings ?? [], [report.data]);
  const inForce = useInForce(['findings'], (query) => ask(api.GET('/api/findings', { params: { query } })));
  const altered = useAltered(report.data?.findings, inForce?.findings, findingKey, (f) => f.why);
  const all = usePrinting(); // on paper nothing can be opened
  const [opened, setOpened] = useState<ReadonlySet<string>>(new Set());
  const asked = code ? keyOf(code, subject) : '';
  const list = useMemo(() => {
    const passes = (f: Finding) =>
      (level === 'everything' || level.includes(f.level)) &&
      (family === 'every code' || f.code.startsWith(`${family}.`));
    return arranged(report.data, passes, (cause) => all || opened.has(cause));
  }, [report.data, level, family, opened, all]);
  const [shownFor, setShownFor] = useState(''); // what is asked for by its address is in sight, once
  if (report.data && shownFor !== asked) {
    setShownFor(asked);
    const among = report.data.findings.findIndex((f) => keyOf(f.code, f.subject) === asked);
    const cause = report.data.causes.find((c) => c.findings.includes(among));
    if (cause && cause.head !== among) setOpened(new Set([...opened, cause.key]));
  }
  const families = useMemo(
    () => ['every code', ...new Set(findings.map((f) => f.code.split('.')[0] ?? ''))],
    [findings],
  );
  const {
    chosen: key,
    choose,
    settle,
  } = useChosen(asked, (k) => {
    const f = list.find((f) => f.id === k);
    if (f) go(findingURL(f.code, f.subject) + window.location.search, { replace: true });
  });
  const found = list.findIndex((f) => f.id === key);
  const [last, setLast] = useState(0); // where the chosen one was, for when it has ended
  if (found >= 0 && found !== last) setLast(found);
  const chosen = list[found >= 0 ? found : Math.min(last, list.length - 1)];
  const shown = useDeferredValue(chosen);

  const drawn = useMemo(() => line(altered), [altered]);
  const lookNow = useLookNow();
  const mending = useMending();
  const mend = () => {
    if (chosen?.mend) void mending(chosen.mend, mendFor(chosen), `Mended ${chosen.code} of ${chosen.subject}`);
  };
  const trace = () => {
    if (!chosen?.trace) return;
    settle();
    go(traceURL(chosen.trace.target, chosen.trace.from));
  };
  const toggle = () => {
    if (!chosen) return;
    const next = new Set(opened);
    if (!next.delete(chosen.cause)) next.add(chosen.cause);
    setOpened(next);
    const head = list.find((f) => f.cause === chosen.cause && !f.below);
    if (chosen.below && head) choose(head.id); // it is in sight no more
  };
  useKeys({
    ArrowRight: toggle,
    ArrowLeft: toggle,
    m: mend,
    a: () => chosen && setAccepting(true),
    l: () => chosen?.trace && void lookNow([chosen.trace.target]),
  });
  useViewHints([
    ['↑↓', 'cause'],
    ['→', 'what follows from it'],
    ['Enter', 'trace it'],
    ['m', 'mend'],
    ['u', 'undo the last change'],
    ['a', 'accept'],
    ['l', 'look now'],
  ]);

  const tools = useMemo(
    () => (
      <Tools>
        <Choice label="level" value={level} options={levels} onChange={setLevel} />
        <Choice label="on" value={family} options={families} onChange={setFamily} />
        <AlteredSaid altered={altered} name={(f) => f.subject} />
      </Tools>
    ),
    [level, setLevel, family, families, setFamily, altered],
  );
  if (report.isError) {
    return (
      <>
        {tools}
        <Failed error={report.error} again={() => void report.refetch()} />
      </>
    );
  }
  if (!report.data) {
    return (
      <>
        {tools}
        <Loading what="Looking the estate over…" />
      </>
    );
  }
  if (list.length === 0) {
    return (
      <>
        {tools}
        <Quiet>
          {findings.length === 0
            ? 'Nothing is found wrong. Every name ends where it is meant to, and nothing stands open undeclared.'
            : 'No finding is of that level and code.'}
        </Quiet>
      </>
    );
  }
  return (
    <Two>
      {tools}
      <LongList
        label="Findings"
        items={list}
        chosen={chosen?.id ?? ''}
        onChoose={choose}
        onEnter={trace}
        lineHeight={53}
      >
        {drawn}
      </LongList>
      {shown && (
        <Chosen
          key={shown.id}
          finding={shown}
          onMend={mend}
          onTrace={trace}
          onAccept={() => setAccepting(true)}
          onLook={(targets) => void lookNow(targets)}
        />
      )}
      {chosen && accepting && <Accept finding={chosen} onClose={() => setAccepting(false)} />}
    </Two>
  );
}

/** The causes, each by the finding nearest to it of those that pass; below those that are opened, what follows from them. */
function arranged(
  report: FindingsAnswer | undefined,
  passes: (f: Finding) => boolean,
  opened: (cause: string) => boolean,
) {
  const out: Entry[] = [];
  const ids = new Set<string>();
  const put = (f: Finding, cause: string, more: Finding[], below: boolean) => {
    const key = keyOf(f.code, f.subject);
    const id = ids.has(key) ? `${key} of ${cause}` : key; // one with several causes stands under each
    ids.add(id);
    out.push({ ...f, id, cause, more, below });
  };
  for (const cause of report?.causes ?? []) {
    const [head, ...more] = [cause.head, ...cause.findings.filter((i) => i !== cause.head)]
      .map((i) => report?.findings[i])
      .filter((f): f is Finding => f !== undefined && passes(f));
    if (!head) continue;
    put(head, cause.key, more, false);
    if (opened(cause.key)) {
      for (const f of more) put(f, cause.key, [], true);
    }
  }
  return out;
}

const line = (altered: Altered<Finding>) => (f: Entry) => (
  <Row id={f.id} textValue="" data-code={f.code} $below={f.below} {...alteredProps(altered, findingKey(f))}>
    <Mark kind={f.level === 'error' ? 'stops' : f.level === 'warning' ? 'ends' : 'unknown'} />
    <code title={f.level}>{shortSubject(f.subject)}</code>
    <span>
      {f.why}
      {f.more.length > 0 && <small>{following(f)}</small>}
    </span>
  </Row>
);

const findingKey = (f: Finding) => keyOf(f.code, f.subject);

/** What follows from a cause, in a line. */
function following(head: Entry) {
  const subjects = [...new Set(head.more.map((f) => f.subject))];
  const elsewhere = subjects.filter((s) => s !== head.subject);
  const named = (elsewhere.length > 0 ? elsewhere : subjects).slice(0, 3).map(shortSubject);
  const rest = (elsewhere.length > 0 ? elsewhere : subjects).length - named.length;
  const where = elsewhere.length > 0 ? `on ${named.join(', ')}${rest > 0 ? ` and ${rest} more` : ''}` : 'on the same';
  return `and ${head.more.length} more ${where}`;
}

/** A subject that is a whole line is shown to where one knows it. */
function shortSubject(subject: string) {
  return subject.length > 64 ? `${subject.slice(0, 61)}…` : subject;
}

const mendFor = (f: Finding): MendFor => ({
  code: f.code,
  subject: f.subject,
  target: f.trace?.target,
  from: f.trace?.from,
});

interface ChosenProps {
  finding: Finding;
  onMend: () => void;
  onTrace: () => void;
  onAccept: () => void;
  onLook: (targets: string[]) => void;
}

function Chosen({ finding, onMend, onTrace, onAccept, onLook }: ChosenProps) {
  const holds = useHolds(finding.mend, mendFor(finding));
  const declaring = useDeclaring(finding.mend, mendFor(finding));
  const { change } = useSession();
  const help = useCodes().data?.find((c) => c.code === finding.code);
  return (
    <Detail aria-label="the finding">
      <header>
        <h2>{finding.subject}</h2>
        <code>{finding.code}</code>
      </header>
      <p>{finding.why}</p>
      {help && (
        <Help>
          {help.title}. {help.help}
        </Help>
      )}
      {finding.records.length > 0 && (
        <>
          <h3>What decided</h3>
          <Decided>
            {finding.records.map((r) => (
              <div key={r}>{r}</div>
            ))}
          </Decided>
        </>
      )}
      {finding.mend ? (
        <>
          <h3>Mend</h3>
          <Tried mend={finding.mend} of={mendFor(finding)} withEffect />
        </>
      ) : (
        !finding.seen && <Others mend={undefined} of={mendFor(finding)} first={false} />
      )}
      {finding.seen && finding.trace && <Suspects narrow target={finding.trace.target} onLook={onLook} />}
      <Acts>
        {holds && <Strong onPress={onMend}>Mend</Strong>}
        {declaring && (
          <Strong
            onPress={() => void change(declaring, `Mended ${finding.code} of ${finding.subject}, and declared it`)}
          >
            Mend and declare
          </Strong>
        )}
        {finding.trace && <Plain onPress={onTrace}>Trace it</Plain>}
        <Plain onPress={onAccept}>Accept until…</Plain>
      </Acts>
    </Detail>
  );
}

const Form = styled.form`
  display: grid;
  gap: 12px;
  input {
    display: block;
    width: 100%;
    margin-top: 3px;
    border: 1px solid ${(p) => p.theme.rule};
    background: ${(p) => p.theme.ground};
    color: ${(p) => p.theme.ink};
    padding: 5px 8px;
  }
  .react-aria-FieldError {
    color: ${(p) => p.theme.magenta};
  }
`;

/** A finding known and accepted, for a reason and until a day; it comes back after it. */
function Accept({ finding, onClose }: { finding: Finding; onClose: () => void }) {
  const [until, setUntil] = useState('');
  const [why, setWhy] = useState('');
  const [tried, setTried] = useState(false);
  const { change } = useSession();
  const quote = (s: string) => `"${s.replaceAll('\\', '\\\\').replaceAll('"', '\\"')}"`;
  const accept = async () => {
    setTried(true);
    if (!why.trim() || !until) return;
    const line = `accept ${finding.code} ${quote(finding.subject)} until ${until} note ${quote(why)}`;
    if (await change({ remove: [], add: [line] }, `Accepted ${finding.code} of ${finding.subject}`)) onClose();
  };
  return (
    <DialogVeil isOpen isDismissable onOpenChange={(open) => !open && onClose()}>
      <DialogSheet>
        <Dialog>
          <Heading slot="title" level={2}>
            Accept {finding.code} of {shortSubject(finding.subject)}
          </Heading>
          <Form
            noValidate
            onSubmit={(e) => {
              e.preventDefault();
              void accept();
            }}
          >
            <TextField
              value={why}
              onChange={setWhy}
              isRequired
              isInvalid={tried && !why.trim()}
              validationBehavior="aria"
              autoFocus
            >
              <Label>Why it may stay</Label>
              <Input />
              <FieldError>Say why: whoever reads it next year was not here today.</FieldError>
            </TextField>
            <TextField
              value={until}
              onChange={setUntil}
              isRequired
              isInvalid={tried && !until}
              validationBehavior="aria"
            >
              <Label>Until which day; it comes back after it</Label>
              <Input type="date" />
              <FieldError>Say until which day: nothing is accepted for ever.</FieldError>
            </TextField>
            <Acts>
              <Strong type="submit">Accept</Strong>
              <Plain onPress={onClose}>Leave it</Plain>
            </Acts>
          </Form>
        </Dialog>
      </DialogSheet>
    </DialogVeil>
  );
}
