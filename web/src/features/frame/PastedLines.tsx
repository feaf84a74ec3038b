// What hangs under the bearing line: several lines that were pasted, and lines that came back.
import styled from 'styled-components';
import { Clashes } from '../change/Clashes';
import { EffectList } from '../change/EffectList';
import { asChange, linesOf } from '../../ui/lines';
import { usePreview } from '../change/preview';
import { FaultRow, LinkButton, Plain, Strong } from '../../ui/Quiet';
import type { Returned } from '../change/session';
import { size } from '../../ui/theme';

const Sheet = styled.div`
  position: absolute;
  z-index: 31;
  left: 0;
  right: 0;
  top: 35px;
  background: ${(p) => p.theme.panel};
  border: 1px solid ${(p) => p.theme.ink};
  max-height: 78vh;
  overflow: auto;
  padding: 12px 14px;
  h3 {
    font-size: ${size.text};
    font-weight: 600;
    margin-bottom: 8px;
  }
  textarea {
    width: 100%;
    box-sizing: border-box;
    border: 1px solid ${(p) => p.theme.rule};
    background: ${(p) => p.theme.ground};
    color: ${(p) => p.theme.ink};
    font:
      12px/18px 'IBM Plex Mono',
      monospace;
    padding: 6px 8px;
    white-space: pre;
    resize: vertical;
  }
`;

const Acts = styled.div`
  display: flex;
  gap: 10px;
  align-items: baseline;
  position: sticky;
  bottom: -12px;
  margin: 4px 0 -12px;
  padding: 8px 0 12px;
  background: ${(p) => p.theme.panel};
  small {
    color: ${(p) => p.theme.ink2};
  }
`;

const shown = 6;

/** Several lines, previewed as the one change that they would be. */
export function PastedLines({
  text,
  onChange,
  keep,
  leave,
}: {
  text: string;
  onChange: (text: string) => void;
  keep: () => void;
  leave: () => void;
}) {
  const lines = linesOf(text);
  const mend = asChange(text);
  const { effect, wrong, faults } = usePreview(mend.remove, mend.add);
  const n = lines.length === 1 ? '1 line' : `${lines.length} lines`;
  return (
    <Sheet role="dialog" aria-label="Lines that were pasted" data-pasted>
      <h3>{n}, recorded as one change</h3>
      <textarea
        aria-label="The lines"
        value={text}
        spellCheck={false}
        rows={Math.min(12, Math.max(3, lines.length))}
        onChange={(e) => onChange(e.target.value)}
        onKeyDown={(e) => {
          if (e.key === 'Escape') leave();
          else if (e.key === 'Enter' && (e.ctrlKey || e.metaKey)) keep();
        }}
      />
      {faults.slice(0, shown).map((f) => (
        <FaultRow key={`${f.line}:${f.column}`} role="alert">
          Line {f.line}: {f.what}
          {f.nearest && ` (nearest: ${f.nearest})`}
          {f.expected && <small>expected {f.expected}</small>}
        </FaultRow>
      ))}
      {faults.length > shown && <FaultRow>and {faults.length - shown} more</FaultRow>}
      {wrong && faults.length === 0 && <FaultRow role="alert">{wrong}</FaultRow>}
      {effect && <EffectList effect={effect} verb="Recording these would" flush />}
      <Acts>
        <Strong onPress={keep} isDisabled={faults.length > 0 || lines.length === 0}>
          Record {n}
        </Strong>
        <Plain onPress={leave}>Leave them</Plain>
        <small>Enter records, Escape leaves</small>
      </Acts>
    </Sheet>
  );
}

const Row = styled.div`
  padding: 8px 14px;
  border-bottom: 1px solid ${(p) => p.theme.hairline};
  code {
    overflow-wrap: anywhere;
  }
  p {
    color: ${(p) => p.theme.magenta};
    overflow-wrap: anywhere;
  }
  span {
    display: flex;
    gap: 16px;
  }
`;

/** A line, or several, that was to be recorded and was refused. */
export function CameBack({ returned, edit, forget }: { returned: Returned; edit: () => void; forget: () => void }) {
  const lines = linesOf(returned.text);
  return (
    <Row data-returned>
      <code>{lines[0]}</code>
      {lines.length > 1 && ` and ${lines.length - 1} lines more`}
      <p role="alert">{returned.message}</p>
      {returned.clashes.length > 0 ? (
        <Clashes clashes={returned.clashes} done={forget} />
      ) : (
        <span>
          <LinkButton onPress={edit}>Edit it</LinkButton>
          <LinkButton onPress={forget}>Leave it</LinkButton>
        </span>
      )}
    </Row>
  );
}
