// Lines of a draft that others have changed meanwhile: as they were, as they are, as they are wanted; and a choice.
import styled from 'styled-components';
import type { DraftSeen } from '../../api/client';
import { Ago } from '../../ui/time';
import { LinkButton } from '../../ui/Quiet';
import { Wrapping } from '../../ui/Wrapping';
import { size } from '../../ui/theme';

type Clash = DraftSeen['clashes'][number];

const Lines = styled.dl`
  display: grid;
  grid-template-columns: 74px minmax(0, 1fr);
  gap: 3px 14px;
  margin: 0;
  padding: 12px 0 4px;
  border-top: 1px solid ${(p) => p.theme.hairline};
  dt {
    color: ${(p) => p.theme.ink2};
  }
  dd {
    margin: 0;
    font:
      12px/19px 'IBM Plex Mono',
      monospace;
    overflow-wrap: anywhere;
  }
  small {
    font:
      12px/19px 'IBM Plex Sans Variable',
      sans-serif;
    color: ${(p) => p.theme.ink2};
  }
`;

const Around = styled.section`
  padding: 14px 24px 22px;
  h3 {
    font-size: ${size.text};
    font-weight: 600;
    color: ${(p) => p.theme.magenta};
    margin-bottom: 10px;
  }
  p {
    display: flex;
    gap: 18px;
    padding: 2px 0 10px 88px;
  }
`;

interface MeanwhileProps {
  clashes: Clash[];
  onChoose: (lines: Clash['leave']) => void;
}

export function Meanwhile({ clashes, onChoose }: MeanwhileProps) {
  return (
    <Around aria-label="Changed meanwhile">
      <h3>
        {clashes.length === 1 ? 'A line of it was' : `${clashes.length} lines of it were`} changed by others meanwhile.
        Choose, and it can be made.
      </h3>
      {clashes.map((c) => (
        <div key={c.line + c.mine} data-meanwhile={c.line || c.mine}>
          <Lines>
            {c.line && (
              <>
                <dt>was</dt>
                <dd>
                  <Wrapping text={c.line} />
                </dd>
              </>
            )}
            <dt>is now</dt>
            <dd>
              {c.theirs ? <Wrapping text={c.theirs} /> : <small>gone</small>}{' '}
              {c.who && (
                <small>
                  {c.who}, <Ago at={c.at} />
                </small>
              )}
            </dd>
            <dt>wanted</dt>
            <dd>{c.mine ? <Wrapping text={c.mine} /> : <small>gone</small>}</dd>
          </Lines>
          <p>
            <LinkButton onPress={() => onChoose(c.leave)}>Leave it as it is now</LinkButton>
            {c.mine !== c.theirs && (
              <LinkButton onPress={() => onChoose(c.want)}>What is wanted in its place</LinkButton>
            )}
          </p>
        </div>
      ))}
    </Around>
  );
}
