import { useEffect, useState } from 'react';
import styled from 'styled-components';
import { api, ask, useAppState, useVantages, type ImportAnswer } from '../../api/client';
import { Choice } from '../../ui/Choice';
import { EffectList } from '../change/EffectList';
import { Acts, FaultRow, LinkButton, Plain, Strong } from '../../ui/Quiet';
import { usePreview } from '../change/preview';
import { Running } from '../../ui/Running';
import { useSession } from '../change/session';
import { size } from '../../ui/theme';

export interface Incoming {
  files: { name: string; text: string; archive?: string }[];
  /** How many there were besides, which is more than is read at a time. */
  left?: number;
}

const Panel = styled.section`
  > h2 {
    font-size: ${size.lead};
    line-height: 21px;
    margin-bottom: 4px;
  }
  > p {
    color: ${(p) => p.theme.ink2};
    margin: 4px 0;
  }
`;

const Asked = styled.div`
  display: grid;
  gap: 6px;
  margin: 10px 0 12px;
  label {
    display: grid;
    grid-template-columns: 76px minmax(0, 1fr);
    align-items: baseline;
    color: ${(p) => p.theme.ink2};
  }
  input {
    border: 0;
    border-bottom: 1px dashed ${(p) => p.theme.ink2};
    background: none;
    padding: 2px 0;
    color: ${(p) => p.theme.ink};
    font:
      12px/18px 'IBM Plex Mono',
      monospace;
  }
  input:focus {
    outline: none;
    border-bottom: 2px solid ${(p) => p.theme.ink};
    padding-bottom: 1px;
  }
`;

const Lines = styled.ul`
  margin: 4px 0 12px;
  padding: 0 0 0 10px;
  border-left: 1px solid ${(p) => p.theme.rule};
  list-style: none;
  font:
    12px/19px 'IBM Plex Mono',
    monospace;
  overflow-wrap: anywhere;
  del {
    color: ${(p) => p.theme.ink2};
  }
  ins {
    text-decoration: none;
  }
`;

const Tick = styled.label`
  display: flex;
  gap: 8px;
  align-items: baseline;
`;

const formats = [
  'zone',
  'hosts',
  'estate',
  'machine',
  'sockets',
  'ip',
  'compose',
  'inspect',
  'nft',
  'save',
  'csv',
  'pem',
  'nginx',
  'apache',
  'haproxy',
  'account',
] as const;

/** What the formats of a machine ask for. */
const placed: Record<string, string> = {
  hosts: 'a host or container',
  sockets: 'a host or container',
  ip: 'a host',
  compose: 'a host',
  inspect: 'a host',
  nft: 'a host',
  save: 'a host',
  pem: 'a host or container',
  nginx: 'a host or container',
  apache: 'a host or container',
  haproxy: 'a host or container',
  account: 'a host',
};

/** NAME=VALUE words as pairs. */
const pairs = (text: string) =>
  Object.fromEntries(
    text.split(/\s+/).flatMap((v) => {
      const [key, ...rest] = v.split('=');
      return key && rest.length > 0 ? [[key, rest.join('=')]] : [];
    }),
  );
const shown = 30;

/** What taking files over would add, change and leave; nothing is kept before one says so. */
export function ImportPanel({ incoming, onClose }: { incoming: Incoming; onClose: () => void }) {
  const { change } = useSession();
  const vantages = useVantages();
  const [format, setFormat] = useState('');
  const [zone, setZone] = useState('');
  const [audience, setAudience] = useState('');
  const [place, setPlace] = useState('');
  const [profiles, setProfiles] = useState('');
  const [variables, setVariables] = useState('');
  const [interfaces, setInterfaces] = useState('');
  const [takeOut, setTakeOut] = useState(false);
  const [answer, setAnswer] = useState<ImportAnswer | null>(null);
  const [failure, setFailure] = useState('');
  const [keeping, setKeeping] = useState<AbortController | null>(null);
  const revision = useAppState().data?.revision; // what it would still add is another matter after each change
  const name = incoming.files[0]?.name ?? '';

  useEffect(() => {
    const stop = new AbortController();
    const timer = setTimeout(async () => {
      try {
        const body = {
          files: incoming.files,
          format: (format || undefined) as (typeof formats)[number] | undefined,
          zone: zone || undefined,
          for: audience || undefined,
          place: place || undefined,
          profiles: profiles.split(/[\s,]+/).filter((p) => p !== ''),
          variables: pairs(variables),
          interfaces: pairs(interfaces),
        };
        setAnswer(await ask(api.POST('/api/import', { body, signal: stop.signal })));
        setFailure('');
      } catch (error) {
        if (!stop.signal.aborted) setFailure((error as Error).message);
      }
    }, 150);
    return () => {
      clearTimeout(timer);
      stop.abort();
    };
  }, [incoming, revision, format, zone, audience, place, profiles, variables, interfaces]);

  const remove = answer ? [...answer.remove, ...(takeOut ? answer.gone : [])] : [];
  const add = answer?.add ?? [];
  const { effect } = usePreview(remove, add);

  const keep = async () => {
    const stop = new AbortController();
    setKeeping(stop);
    if (await change({ remove, add }, `Took over ${name}`, { stop: stop.signal })) onClose();
    setKeeping(null);
  };
  const n = remove.length + add.length;
  return (
    <Panel aria-label={`Taking over ${name}`} data-import>
      <h2>{name}</h2>
      {incoming.files.length > 1 && (
        <p>
          with {incoming.files.length - 1} more:{' '}
          {incoming.files
            .slice(1, 13)
            .map((f) => f.name)
            .join(', ')}
          {incoming.files.length > 13 && ' and others'}
        </p>
      )}
      {!!incoming.left && (
        <p role="alert">
          {incoming.left} more are not read: at most {incoming.files.length} are at a time. An archive of the folder may
          have 5,000.
        </p>
      )}
      <Asked>
        <Choice
          label="read as"
          value={(format || answer?.format || 'zone') as (typeof formats)[number]}
          options={formats}
          onChange={setFormat}
        />
        {answer?.format === 'zone' && (
          <>
            <label>
              zone
              <input value={zone} placeholder="as the file says" onChange={(e) => setZone(e.target.value)} />
            </label>
            <label>
              for
              <input value={audience} placeholder="everybody" onChange={(e) => setAudience(e.target.value)} />
            </label>
          </>
        )}
        {answer && placed[answer.format] && (
          <label>
            on
            <input
              value={place}
              list="machines"
              placeholder={placed[answer.format]}
              onChange={(e) => setPlace(e.target.value)}
            />
            <datalist id="machines">
              {(vantages.data ?? [])
                .filter((v) => v.kind === 'host' || (v.kind === 'container' && placed[answer.format] !== 'a host'))
                .map((v) => (
                  <option key={v.name} value={v.name} />
                ))}
            </datalist>
          </label>
        )}
        {(answer?.format === 'nft' || answer?.format === 'save') && (
          <label>
            interfaces
            <input
              value={interfaces}
              placeholder="eth0=internet eth1=yard"
              onChange={(e) => setInterfaces(e.target.value)}
            />
          </label>
        )}
        {answer?.format === 'compose' && (
          <>
            <label>
              profiles
              <input value={profiles} placeholder="none" onChange={(e) => setProfiles(e.target.value)} />
            </label>
            <label>
              variables
              <input value={variables} placeholder="NAME=VALUE …" onChange={(e) => setVariables(e.target.value)} />
            </label>
          </>
        )}
      </Asked>
      {(failure || answer?.wrong) && <FaultRow role="alert">{failure || answer?.wrong}</FaultRow>}
      {answer?.faults.slice(0, shown).map((f, i) => (
        <FaultRow key={i}>
          {f.file}, line {f.line}
          {f.column > 0 && `, column ${f.column}`}: {f.what}
          <small>expected {f.expected}</small>
        </FaultRow>
      ))}
      {answer && !answer.wrong && (
        <>
          <p>
            {Math.max(0, add.length - answer.remove.length)} to add, {answer.remove.length} to change, {answer.leave}{' '}
            left as they are.
          </p>
          {answer.left.map((l) => (
            <p key={l}>{l}</p>
          ))}
          {n > 0 && (
            <Lines>
              {remove.slice(0, shown).map((l) => (
                <li key={`-${l}`}>
                  <del>− {l}</del>
                </li>
              ))}
              {add.slice(0, shown).map((l) => (
                <li key={`+${l}`}>
                  <ins>+ {l}</ins>
                </li>
              ))}
              {n > 2 * shown && <li>and {n - 2 * shown} lines more</li>}
            </Lines>
          )}
          {answer.gone.length > 0 && (
            <Tick>
              <input type="checkbox" checked={takeOut} onChange={(e) => setTakeOut(e.target.checked)} />
              <span>
                Take out {answer.gone.length} recorded {answer.gone.length === 1 ? 'line' : 'lines'} that the file does
                not have
              </span>
            </Tick>
          )}
          {effect && (
            <div style={{ margin: '8px -14px 0' }}>
              <EffectList effect={effect} verb="Keeping this would" />
            </div>
          )}
          <Acts>
            <Strong isDisabled={keeping !== null || n === 0} onPress={() => void keep()}>
              {n === 0 ? 'Nothing to keep' : answer.faults.length > 0 ? 'Keep what can be read' : 'Keep'}
            </Strong>
            {keeping ? (
              <Running what="Keeping it" stop={() => keeping.abort()} />
            ) : (
              <Plain onPress={onClose}>Leave it</Plain>
            )}
          </Acts>
        </>
      )}
      {(!answer || answer.wrong) && <LinkButton onPress={onClose}>Leave it</LinkButton>}
    </Panel>
  );
}
