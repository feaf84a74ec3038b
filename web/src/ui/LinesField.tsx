import { useId, type KeyboardEvent, type Ref } from 'react';
import styled, { css } from 'styled-components';
import { size } from './theme';

/** A label over a field for notation, and the field's look. */
export const Label = styled.label`
  display: grid;
  gap: 3px;
  color: ${(p) => p.theme.ink2};
  font-size: ${size.plain};
`;

export const written = css`
  border: 1px solid ${(p) => p.theme.rule};
  border-bottom: 2px solid ${(p) => p.theme.ink};
  background: ${(p) => p.theme.panel};
  color: ${(p) => p.theme.ink};
  padding: 6px 9px;
  font:
    12px/19px 'IBM Plex Mono',
    monospace;
  width: 100%;
  &::placeholder {
    color: ${(p) => p.theme.ink2};
  }
`;

const Lines = styled.textarea`
  ${written}
  resize: vertical;
  min-height: 63px;
`;

interface Props {
  ref?: Ref<HTMLTextAreaElement>;
  label: string;
  value: string;
  placeholder: string;
  onChange: (text: string) => void;
  onKeyDown?: (e: KeyboardEvent<HTMLTextAreaElement>) => void;
}

/** Several lines of text, as tall as what is in it. */
export function LinesField({ ref, label, value, placeholder, onChange, onKeyDown }: Props) {
  const id = useId();
  return (
    <Label htmlFor={id}>
      {label}
      <Lines
        id={id}
        ref={ref}
        value={value}
        rows={Math.min(16, Math.max(3, value.split('\n').length + 1))}
        placeholder={placeholder}
        spellCheck={false}
        autoComplete="off"
        onChange={(e) => onChange(e.target.value)}
        onKeyDown={onKeyDown}
      />
    </Label>
  );
}

/** The lines that are written, without empty ones and comments. */
export function writtenLines(text: string) {
  return text
    .split('\n')
    .map((l) => l.trim())
    .filter((l) => l !== '' && !l.startsWith('#'));
}
