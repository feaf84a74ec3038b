import { useEffect, useRef, useState } from 'react';
import styled from 'styled-components';
import { api, ask, useFree, usePlan, useSwitch, type PlanAnswer, type PlannedLine } from '../../api/client';
import { EffectList } from '../change/EffectList';
import { LinesField } from '../../ui/LinesField';
import { usePreview } from '../change/preview';
import { Acts, Failed, FaultRow, LinkButton, Loading, Strong } from '../../ui/Quiet';
import { useSession } from '../change/session';
import { size } from '../../ui/theme';

const Side = styled.aside`
  border-left: 1px solid ${(p) => p.theme.rule};
  overflow: auto;
  padding: 10px 20px 24px;
  min-width: 0;
  header {
    display: flex;
    align-items: baseline;
    justify-content: space-between;
    margin-bottom: 6px;
  }
  h2 {
    font-size: ${size.lead};
    line-height: 22px;
    font-weight: 600;
  }
  h3 {
    font-size: ${size.plain};
    font-weight: 400;
    color: ${(p) => p.theme.ink2};
    padding: 14px 0 3px;
    border-bottom: 1px solid ${(p) => p.theme.hairline};
  }
  p {
    color: ${(p) => p.theme.ink2};
    margin: 6px 0;
  }
  p code {
    color: ${(p) => p.theme.ink};
  }
`;

const Row = styled.label`
  display: grid;
  grid-template-columns: 22px minmax(0, 1fr);
  padding: 5px 0;
  border-bottom: 1px solid ${(p) => p.theme.hairline};
  cursor: pointer;
  input {
    align-self: start;
    justify-self: start;
    margin: 3px 0 0;
    accent-color: ${(p) => p.theme.ink};
  }
  code {
    font:
      12px/19px 'IBM Plex Mono',
      monospace;
    overflow-wrap: anywhere;
  }
  span {
    grid-column: 2;
    color: ${(p) => p.theme.magenta};
    font-weight: 500;
    font-size: ${size.plain};
  }
`;

function Line({ line, chosen, onChoose }: { line: PlannedLine; chosen?: boolean; onChoose?: () => void }) {
  return (
    <Row as={onChoose ? 'label' : 'div'} data-planned={line.collides.length > 0 ? 'collides' : 'free'}>
      {onChoose ? <input type="checkbox" checked={chosen} onChange={onChoose} /> : <i />}
      <code>{line.record.replace(/ off\b/, '')}</code>
      {line.collides.map((why) => (
        <span key={why}>{why}</span>
      ))}
    </Row>
  );
}

/** Ports that are still to be taken: written down, held against what is there and each other, and switched on together. */
export function PlanPanel({ machine, router, onClose }: { machine: string; router: boolean; onClose: () => void }) {
  const plan = usePlan();
  const [rows, setRows] = useState('');
  const field = useRef<HTMLTextAreaElement>(null);
  useEffect(() => field.current?.focus({ preventScroll: true }), []);
  const lines = plan.data ?? [];
  return (
    <Side aria-label="Port plan" onKeyDown={(e) => e.key === 'Escape' && onClose()}>
      <header>
        <h2>Port plan</h2>
        <LinkButton onPress={onClose}>close</LinkButton>
      </header>
      <LinesField
        ref={field}
        label={`A service a row: the port at ${machine}, where it leads, and what it is`}
        value={rows}
        placeholder={
          router ? '8443 azimuth:443 second front\n53/udp 10.40.8.20' : `8443 ${machine}/front:443 second front`
        }
        onChange={setRows}
      />
      <Written machine={machine} rows={rows} onKept={() => setRows('')} />
      {plan.isError ? (
        <Failed error={plan.error} again={() => void plan.refetch()} />
      ) : !plan.data ? (
        <Loading what="Reading the plan…" />
      ) : lines.length === 0 ? (
        <p>Nothing is planned: no listener, map or forward is recorded and off.</p>
      ) : (
        <Planned lines={lines} />
      )}
    </Side>
  );
}

/** What the rows are as lines, before they are kept. */
function Written({ machine, rows, onKept }: { machine: string; rows: string; onKept: () => void }) {
  const { change } = useSession();
  const [got, setGot] = useState<{ rows: string; answer: PlanAnswer | null; wrong: string }>({
    rows: '',
    answer: null,
    wrong: '',
  });
  const free = useFree(machine, 8000);
  useEffect(() => {
    if (rows.trim() === '') return;
    const stop = new AbortController();
    const timer = setTimeout(async () => {
      try {
        const body = { gateway: machine, rows };
        setGot({ rows, answer: await ask(api.POST('/api/plan', { body, signal: stop.signal })), wrong: '' });
      } catch (error) {
        if (!stop.signal.aborted) setGot({ rows, answer: null, wrong: (error as Error).message });
      }
    }, 150);
    return () => {
      clearTimeout(timer);
      stop.abort();
    };
  }, [machine, rows]);
  if (rows.trim() === '')
    return (
      <p>
        Rows become lines that are recorded and off. The next free port above 8000 here is{' '}
        <code>{free.data?.port ?? '…'}</code>.
      </p>
    );
  const answer = got.answer;
  if (got.wrong) return <FaultRow role="alert">{got.wrong}</FaultRow>;
  if (!answer) return null;
  const keep = async () => {
    const add = answer.lines.map((l) => l.record);
    if (await change({ remove: [], add }, `Planned ${add.length} ${add.length === 1 ? 'port' : 'ports'}`)) onKept();
  };
  return (
    <div data-written aria-live="polite">
      {answer.faults.map((f) => (
        <FaultRow key={f.row}>
          Row {f.row}: {f.what}
          <small>expected {f.expected}</small>
        </FaultRow>
      ))}
      {answer.lines.map((l) => (
        <Line key={l.record} line={l} />
      ))}
      <Acts>
        <Strong isDisabled={answer.lines.length === 0 || answer.faults.length > 0} onPress={() => void keep()}>
          Write {answer.lines.length === 1 ? 'it' : `the ${answer.lines.length}`} down, off
        </Strong>
      </Acts>
    </div>
  );
}

/** The lines that are planned, to be switched on together. */
function Planned({ lines }: { lines: PlannedLine[] }) {
  const { change } = useSession();
  const [left, setLeft] = useState<ReadonlySet<string>>(new Set());
  const chosen = lines.filter((l) => !left.has(l.record)).map((l) => l.record);
  const on = useSwitch(chosen);
  const { effect, wrong } = usePreview(on.data?.remove ?? [], on.data?.add ?? []);
  const collides = new Map((on.data?.lines ?? []).map((l) => [l.record, l]));
  const toggle = (record: string) => {
    const next = new Set(left);
    if (!next.delete(record)) next.add(record);
    setLeft(next);
  };
  const machines = [...new Set(lines.map((l) => l.machine))];
  const n = on.data?.add.length ?? 0;
  return (
    <>
      {machines.map((m) => (
        <section key={m} aria-label={`Planned on ${m}`}>
          <h3>planned on {m}</h3>
          {lines
            .filter((l) => l.machine === m)
            .map((l) => (
              <Line
                key={l.record}
                line={collides.get(l.record) ?? l}
                chosen={!left.has(l.record)}
                onChoose={() => toggle(l.record)}
              />
            ))}
        </section>
      ))}
      {wrong && <FaultRow role="alert">{wrong}</FaultRow>}
      {n > 0 && effect && (
        <div style={{ margin: '12px -14px 0' }}>
          <EffectList effect={effect} verb="Switched on, this would" />
        </div>
      )}
      <Acts>
        <Strong
          isDisabled={n === 0}
          onPress={() => on.data && void change(on.data, `Switched on ${n} planned ${n === 1 ? 'line' : 'lines'}`)}
        >
          Switch on {n}
        </Strong>
      </Acts>
    </>
  );
}
