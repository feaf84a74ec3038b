import { useEffect, useRef, useState } from 'react';
import styled from 'styled-components';
import { useDepends } from '../../api/client';
import { Acts, Failed, Loading, Plain, Strong } from '../../ui/Quiet';
import { EffectList } from '../change/EffectList';
import { usePreview } from '../change/preview';
import { useSession } from '../change/session';

const List = styled.ul`
  list-style: none;
  margin: 0 0 8px;
  padding: 0;
  li {
    border-top: 1px solid ${(p) => p.theme.hairline};
    padding: 4px 0;
    font:
      12px/18px 'IBM Plex Mono',
      monospace;
    overflow-wrap: anywhere;
  }
  li[data-stays] del {
    text-decoration: none;
  }
  label {
    display: grid;
    grid-template-columns: 20px minmax(0, 1fr);
    cursor: pointer;
  }
  input {
    width: 13px;
    height: 13px;
    margin: 3px 0 0;
    accent-color: ${(p) => p.theme.ink};
  }
  del {
    color: ${(p) => p.theme.ink2};
  }
  ins {
    display: block;
    text-decoration: none;
  }
  small {
    display: block;
    color: ${(p) => p.theme.ink2};
    font:
      12px/18px 'IBM Plex Sans Variable',
      sans-serif;
  }
`;

/** How many of a list are shown. */
const most = 200;

interface Props {
  lines: string[];
  onLeave: () => void;
  onOut: () => void;
}

/** Takes records out, with what depends on them shown first: it goes with them, or stays as it is where one says so. */
export function TakeOut({ lines, onLeave, onOut }: Props) {
  const asked = useDepends(lines);
  const { change } = useSession();
  const [stays, setStays] = useState<ReadonlySet<string>>(new Set());
  const [busy, setBusy] = useState(false);
  const box = useRef<HTMLDivElement>(null);
  const depends = asked.data?.depends ?? [];
  const going = depends.filter((d) => !stays.has(d.record));
  const remove = [...lines, ...going.map((d) => d.record)];
  const add = going.flatMap((d) => d.becomes ?? []);
  const known = asked.data !== undefined;
  const preview = usePreview(known ? remove : [], add);
  useEffect(() => {
    if (known) box.current?.querySelector<HTMLElement>('[data-act] button')?.focus({ preventScroll: true });
  }, [known]);
  const out = async () => {
    setBusy(true);
    const did = await change({ remove, add }, `Took out ${remove.length - add.length} records`);
    setBusy(false);
    if (did) onOut();
  };
  if (asked.isError) return <Failed error={asked.error} again={() => void asked.refetch()} />;
  if (!asked.data) return <Loading what="Looking for what depends on it…" />;
  return (
    <div
      ref={box}
      onKeyDown={(e) => {
        if (e.key !== 'Escape') return;
        e.stopPropagation();
        onLeave();
      }}
    >
      <h2>{lines.length === 1 ? 'Take this record out' : `Take ${lines.length} records out`}</h2>
      <List>
        {lines.slice(0, 8).map((l, i) => (
          <li key={i}>
            <del>{l}</del>
          </li>
        ))}
        {lines.length > 8 && (
          <li>
            <small>and {lines.length - 8} more</small>
          </li>
        )}
      </List>
      {depends.length === 0 ? (
        <p>No other record speaks of {lines.length === 1 ? 'it' : 'them'}.</p>
      ) : (
        <>
          <h3>
            {depends.length === 1 ? 'One record depends' : `${depends.length} records depend`} on{' '}
            {lines.length === 1 ? 'it' : 'them'}
          </h3>
          <p>What is ticked goes too, or loses the name that goes. What is not stays, and speaks of what is no more.</p>
          <List>
            {depends.slice(0, most).map((d) => (
              <li key={d.record} data-stays={stays.has(d.record) || undefined} data-depends={d.record}>
                <label>
                  <input
                    type="checkbox"
                    checked={!stays.has(d.record)}
                    onChange={() =>
                      setStays((now) => {
                        const next = new Set(now);
                        if (!next.delete(d.record)) next.add(d.record);
                        return next;
                      })
                    }
                  />
                  <span>
                    <del>{d.record}</del>
                    {d.becomes && !stays.has(d.record) && <ins>{d.becomes}</ins>}
                    <small>speaks of {d.of.join(', ')}</small>
                  </span>
                </label>
              </li>
            ))}
          </List>
          {depends.length > most && <p>and {depends.length - most} more, which go too</p>}
        </>
      )}
      {preview.wrong !== '' && <p role="alert">{preview.wrong}</p>}
      {preview.effect && (
        <div style={{ margin: '0 -14px' }}>
          <EffectList effect={preview.effect} verb="Taking this out would" />
        </div>
      )}
      <Acts data-act>
        <Strong onPress={() => void out()} isDisabled={busy}>
          Take out {remove.length - add.length}
          {add.length > 0 && `, change ${add.length}`}
        </Strong>
        <Plain onPress={onLeave}>Leave</Plain>
      </Acts>
    </div>
  );
}
