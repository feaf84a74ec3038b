import { useDeferredValue, useMemo, useState } from 'react';
import { Dialog, FieldError, Heading, Input, Label, TextField } from 'react-aria-components';
import styled from 'styled-components';
import { useLocation } from 'wouter';
import { useFindings, type Finding } from '../api/client';
import { Choice } from '../parts/Choice';
import { DialogSheet, DialogVeil, useViewHints } from '../parts/hints';
import { useKeys } from '../parts/keys';
import { ListLine, LongList } from '../parts/LongList';
import { Mark } from '../parts/marks';
import { Failed, Loading, Plain, Quiet, Strong } from '../parts/Quiet';
import { findingURL, traceURL, useChosen, useQueryWord } from '../parts/route';
import { useSession } from '../parts/session';
import { Tools } from '../parts/Tools';
import { Tried, useHolds, whyNot, type MendFor } from '../parts/tried';

type Entry = Finding & { id: string };

const keyOf = (code: string, subject: string) => `${code} ${subject}`;

const Two = styled.div`
  display: grid;
  grid-template-columns: minmax(0, 1fr) minmax(400px, 470px);
  min-height: 0;
`;

const Row = styled(ListLine)`
  display: grid;
  grid-template-columns: 16px minmax(150px, 232px) minmax(0, 1fr);
  gap: 10px;
  padding: 8px 20px 8px 24px;
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
    font-size: 15.5px;
    line-height: 23px;
  }
  h3 {
    margin: 18px 0 6px;
    font-size: 12px;
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

const Acts = styled.div`
  display: flex;
  flex-wrap: wrap;
  gap: 10px;
  margin-top: 20px;
`;

const levels = ['error, warning', 'error', 'warning', 'note', 'everything'] as const;

/** What is wrong, the worst first; and for one of them, the records, the mend and what it would change. */
export function Findings({ code, subject }: { code: string; subject: string }) {
  const report = useFindings();
  const [level, setLevel] = useQueryWord('level', 'everything');
  const [family, setFamily] = useQueryWord('code', 'every code');
  const [, go] = useLocation();
  const { change, say } = useSession();
  const [accepting, setAccepting] = useState(false);

  const all = useMemo(
    () => (report.data?.findings ?? []).map((f): Entry => ({ ...f, id: keyOf(f.code, f.subject) })),
    [report.data],
  );
  const list = useMemo(
    () =>
      all.filter(
        (f) =>
          (level === 'everything' || level.includes(f.level)) &&
          (family === 'every code' || f.code.startsWith(`${family}.`)),
      ),
    [all, level, family],
  );
  const families = useMemo(() => ['every code', ...new Set(all.map((f) => f.code.split('.')[0] ?? ''))], [all]);
  const {
    chosen: key,
    choose,
    settle,
  } = useChosen(code ? keyOf(code, subject) : '', (k) => {
    const f = list.find((f) => f.id === k);
    if (f) go(findingURL(f.code, f.subject) + window.location.search, { replace: true });
  });
  const found = list.findIndex((f) => f.id === key);
  const [last, setLast] = useState(0); // where the chosen one was, for when it has ended
  if (found >= 0 && found !== last) setLast(found);
  const chosen = list[found >= 0 ? found : Math.min(last, list.length - 1)];
  const shown = useDeferredValue(chosen);

  const mend = async () => {
    if (!chosen?.mend) return;
    try {
      const against = await whyNot(chosen.mend, mendFor(chosen));
      if (against !== '') say({ text: `No mend that holds is known. ${against}`, look: true });
      else await change(chosen.mend, `Mended ${chosen.code} of ${chosen.subject}`);
    } catch (error) {
      say({ text: (error as Error).message, look: true });
    }
  };
  const trace = () => {
    if (!chosen?.trace) return;
    settle();
    go(traceURL(chosen.trace.target, chosen.trace.from));
  };
  useKeys({
    m: () => void mend(),
    a: () => chosen && setAccepting(true),
  });
  useViewHints([
    ['↑↓', 'finding'],
    ['Enter', 'trace it'],
    ['m', 'mend'],
    ['u', 'undo the last change'],
    ['a', 'accept'],
  ]);

  const tools = useMemo(
    () => (
      <Tools>
        <Choice label="level" value={level} options={levels} onChange={setLevel} />
        <Choice label="on" value={family} options={families} onChange={setFamily} />
      </Tools>
    ),
    [level, setLevel, family, families, setFamily],
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
          {all.length === 0
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
        {line}
      </LongList>
      {shown && (
        <Chosen
          key={shown.id}
          finding={shown}
          onMend={() => void mend()}
          onTrace={trace}
          onAccept={() => setAccepting(true)}
        />
      )}
      {chosen && accepting && <Accept finding={chosen} onClose={() => setAccepting(false)} />}
    </Two>
  );
}

const line = (f: Entry) => (
  <Row id={f.id} textValue="" data-code={f.code}>
    <Mark kind={f.level === 'error' ? 'stops' : f.level === 'warning' ? 'ends' : 'unknown'} />
    <code title={f.level}>{shortSubject(f.subject)}</code>
    <span>{f.why}</span>
  </Row>
);

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
}

function Chosen({ finding, onMend, onTrace, onAccept }: ChosenProps) {
  const holds = useHolds(finding.mend, mendFor(finding));
  return (
    <Detail aria-label="the finding">
      <header>
        <h2>{finding.subject}</h2>
        <code>{finding.code}</code>
      </header>
      <p>{finding.why}</p>
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
      {finding.mend && (
        <>
          <h3>Mend</h3>
          <Tried mend={finding.mend} of={mendFor(finding)} withEffect />
        </>
      )}
      <Acts>
        {holds && <Strong onPress={onMend}>Mend</Strong>}
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
