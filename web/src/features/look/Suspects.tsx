// What would explain what was seen: a short list, with what speaks for and against each, and what to look at next.
import styled from 'styled-components';
import { useSuspects, type Suspect } from '../../api/client';
import { LinkButton } from '../../ui/Quiet';
import { Wrapping } from '../../ui/Wrapping';
import { size } from '../../ui/theme';

const Box = styled.section<{ $narrow?: boolean }>`
  padding: ${(p) => (p.$narrow ? '14px 0 0' : '14px 26px 18px')};
  border-top: ${(p) => (p.$narrow ? '0' : `1px solid ${p.theme.rule}`)};
  h3 {
    font-size: ${size.text};
    font-weight: 600;
    margin: 0 0 2px;
  }
  > p {
    color: ${(p) => p.theme.ink2};
    margin: 0 0 8px;
  }
  ol {
    margin: 0;
    padding: 0;
    list-style: none;
  }
  li {
    display: grid;
    grid-template-columns: ${(p) => (p.$narrow ? '16px minmax(0, 1fr)' : '26px minmax(0, 1.3fr) minmax(0, 1fr)')};
    gap: 0 14px;
    padding: 7px 0;
    border-top: 1px solid ${(p) => p.theme.hairline};
  }
  li > :nth-child(3) {
    grid-column: ${(p) => (p.$narrow ? '2' : 'auto')};
  }
  li > b {
    color: ${(p) => p.theme.ink2};
    font-weight: 600;
    text-align: right;
  }
  li:first-child > b {
    color: ${(p) => p.theme.magenta};
  }
  strong {
    font-weight: 600;
  }
  small {
    display: block;
    font-size: ${size.plain};
    line-height: 17px;
    color: ${(p) => p.theme.ink2};
    overflow-wrap: anywhere;
  }
`;

/** How many suspects are shown. */
const most = 6;

interface Props {
  target: string;
  onLook: (targets: string[]) => void;
  /** Beside a list, in place of across the view. */
  narrow?: boolean;
}

export function Suspects({ target, onLook, narrow }: Props) {
  const { data } = useSuspects(target);
  if (!data || (data.suspects.length === 0 && !data.none)) return null;
  return (
    <Box $narrow={narrow} aria-label="What would explain what was seen" data-suspects>
      <h3>What would explain what was seen</h3>
      {data.none ? (
        <p>No suspect: {data.none}.</p>
      ) : (
        <p>
          It is seen otherwise than recorded. Each of these, if it were so, would explain it; the likeliest first.
          {data.next && (
            <>
              {' '}
              Look next at <LinkButton onPress={() => onLook([data.next?.target ?? ''])}>
                {data.next.target}
              </LinkButton>{' '}
              from {data.next.from}: that parts them best.
            </>
          )}
          {data.elsewhere && ` From ${data.elsewhere.from} one would tell more, at ${data.elsewhere.target}.`}
          {!data.next && data.suspects.length > 1 && ' No look at hand parts them further.'}
        </p>
      )}
      <ol>
        {data.suspects.slice(0, most).map((s, i) => (
          <li key={s.why + s.records.join()} data-suspect={s.why}>
            <b>{i + 1}</b>
            <div>
              <strong>{sentence(s.why)}</strong>
              {s.records.map((r) => (
                <small key={r}>
                  <code>
                    <Wrapping text={r} />
                  </code>
                </small>
              ))}
              {s.same.length > 0 && (
                <small>
                  No look at hand parts it from: {s.same.slice(0, 3).join('; ')}
                  {s.same.length > 3 && ` and ${s.same.length - 3} more`}.
                </small>
              )}
            </div>
            <div>
              <small>{speaks(s)}</small>
              <small>{s.check}</small>
            </div>
          </li>
        ))}
      </ol>
    </Box>
  );
}

const sentence = (text: string) => text.charAt(0).toUpperCase() + text.slice(1);

/** What speaks for a suspect, and against it. */
function speaks(s: Suspect): string {
  const of = `${s.explains} of ${s.of} looks are as they would be then`;
  if (s.against.length === 0) return `${of}; none is against it.`;
  return `${of}. Against it: ${s.against.slice(0, 2).join('; ')}${s.against.length > 2 ? ` and ${s.against.length - 2} more` : ''}.`;
}
