// A draft as the text of a change, edited in place.
import { useState } from 'react';
import styled from 'styled-components';
import { api, ask, Failure, type DraftSeen, type Problem } from '../../api/client';
import { Acts, FaultRow, Plain, Strong } from '../../ui/Quiet';
import { asChange } from '../../ui/lines';
import { Label, LinesField, written } from '../../ui/LinesField';
import { EffectList } from '../change/EffectList';
import { usePreview } from '../change/preview';

const Form = styled.form`
  display: grid;
  gap: 12px;
  padding: 14px 24px 30px;
  max-width: 900px;
  input {
    ${written}
  }
`;

/** The text of a change: what goes behind a minus, what comes behind a plus. */
export function changeText({ remove, add }: { remove: string[]; add: string[] }) {
  return [...remove.map((l) => `- ${l}`), ...add.map((l) => `+ ${l}`)].join('\n');
}

export function DraftText({ draft, onDone }: { draft: DraftSeen; onDone: (kept: boolean) => void }) {
  const [title, setTitle] = useState(draft.title);
  const [why, setWhy] = useState(draft.why);
  const [text, setText] = useState(() => changeText(draft));
  const [problem, setProblem] = useState<Problem | string>('');
  const { remove, add } = asChange(text);
  const { effect, wrong, faults } = usePreview(remove, add, 0);
  const save = async () => {
    try {
      const body = { edition: draft.edition, title: title.trim(), why, remove, add };
      await ask(api.POST('/api/drafts/{id}', { params: { path: { id: draft.id } }, body }));
      onDone(true);
    } catch (e) {
      setProblem((e instanceof Failure && e.problem) || String(e instanceof Error ? e.message : e));
    }
  };
  const said =
    typeof problem === 'string' ? problem : (problem.errors?.[0]?.message ?? problem.detail ?? problem.title);
  return (
    <Form
      data-draft-text
      onSubmit={(e) => {
        e.preventDefault();
        void save();
      }}
    >
      <Label>
        Title
        <input value={title} maxLength={200} onChange={(e) => setTitle(e.target.value)} />
      </Label>
      <Label>
        Reason
        <input value={why} maxLength={1000} onChange={(e) => setWhy(e.target.value)} />
      </Label>
      <LinesField
        label="Lines: + comes, - goes"
        value={text}
        placeholder="+ dns pics.fernmoor.example A 203.0.113.20"
        onChange={setText}
        onKeyDown={(e) => {
          if (e.key === 'Escape') onDone(false);
          if (e.key === 'Enter' && (e.ctrlKey || e.metaKey)) void save();
        }}
      />
      {(said || wrong) && <FaultRow role="alert">{said || wrong}</FaultRow>}
      {faults.slice(0, 6).map((f) => (
        <FaultRow key={`${f.line}:${f.column}`}>
          line {f.line} of those that come: {f.what}
          {(f.expected || f.nearest) && <small>{f.nearest ? `nearest: ${f.nearest}` : `expected ${f.expected}`}</small>}
        </FaultRow>
      ))}
      {effect && <EffectList effect={effect} verb="This would" flush />}
      <Acts>
        <Strong type="submit">Keep</Strong>
        <Plain onPress={() => onDone(false)}>Leave it as it was</Plain>
      </Acts>
    </Form>
  );
}
