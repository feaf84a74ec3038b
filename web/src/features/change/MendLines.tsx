import styled from 'styled-components';
import type { Mend } from '../../api/client';
import { size } from '../../ui/theme';

const Pre = styled.div`
  border-left: 1px solid ${(p) => p.theme.rule};
  padding-left: 10px;
  font-family: 'IBM Plex Mono', monospace;
  font-size: ${size.plain};
  line-height: 20px;
  overflow-wrap: anywhere;
  del {
    color: ${(p) => p.theme.ink2};
  }
  ins {
    text-decoration: none;
  }
  ins b,
  del b {
    font-weight: 600;
  }
  ins b {
    border-bottom: 1px solid ${(p) => p.theme.ink};
  }
`;

/** Lines that go struck through, lines that come with what is new in them marked. */
export function MendLines({ mend }: { mend: Mend }) {
  const partner = (line: string) => mend.remove.find((r) => r.split(' ')[0] === line.split(' ')[0]);
  return (
    <Pre>
      {mend.remove.map((line) => (
        <div key={`-${line}`}>
          <span className="visually-hidden">goes: </span>
          <del>{line}</del>
        </div>
      ))}
      {mend.add.map((line) => {
        const old = new Set(partner(line)?.split(' ') ?? []);
        return (
          <div key={`+${line}`}>
            <span className="visually-hidden">comes: </span>
            <ins>
              {line.split(' ').map((w, i) => (
                <span key={i}>
                  {i > 0 && ' '}
                  {old.has(w) ? w : <b>{w}</b>}
                </span>
              ))}
            </ins>
          </div>
        );
      })}
    </Pre>
  );
}
