import { useState } from 'react';
import { Button, Dialog, DialogTrigger, Popover } from 'react-aria-components';
import styled from 'styled-components';
import { Link, useLocation, useSearch } from 'wouter';
import { api, ask, queries, useQuestions } from '../../api/client';
import { useMay } from '../../api/me';
import { Field } from '../../ui/Field';
import { useKeys } from '../../ui/keys';
import { Failed, LinkButton, Plain } from '../../ui/Quiet';
import { moment } from '../../ui/time';
import { size } from '../../ui/theme';

const Opener = styled(Button)`
  border: 0;
  background: none;
  margin-left: auto;
  padding: 0;
  cursor: pointer;
  font-size: ${size.plain};
  color: ${(p) => p.theme.ink2};
  &[data-hovered] {
    color: ${(p) => p.theme.ink};
  }
`;

const Sheet = styled(Popover)`
  width: 380px;
  background: ${(p) => p.theme.panel};
  border: 1px solid ${(p) => p.theme.ink};
  color: ${(p) => p.theme.ink};
  section {
    outline: none;
    padding: 12px 18px 14px;
    max-height: 70vh;
    overflow: auto;
  }
  h2 {
    font-size: ${size.text};
    font-weight: 600;
  }
  ul {
    list-style: none;
    margin: 6px 0 10px;
    padding: 0;
  }
  li {
    display: grid;
    grid-template-columns: minmax(0, 1fr) auto;
    gap: 12px;
    padding: 5px 0;
    border-top: 1px solid ${(p) => p.theme.hairline};
    overflow-wrap: anywhere;
  }
  a:hover {
    text-decoration: underline;
  }
  a[aria-current] {
    font-weight: 600;
  }
  p {
    color: ${(p) => p.theme.ink2};
    padding: 4px 0 8px;
  }
  p[role='alert'] {
    color: ${(p) => p.theme.magenta};
  }
  form {
    display: grid;
    grid-template-columns: minmax(0, 1fr) auto;
    gap: 12px;
    align-items: end;
    padding-top: 8px;
    border-top: 1px solid ${(p) => p.theme.rule};
  }
`;

/** What is looked at by now, as an address: the view, and all that it is set to. */
function useAddress() {
  const [path] = useLocation();
  const words = new URLSearchParams(useSearch());
  words.delete('draft'); // what is looked through is the page's, not the question's
  return path + (words.size > 0 ? `?${words}` : '');
}

/** The questions that are kept under a name: to be asked again, taken away, and the one that is looked at kept. */
export function Kept() {
  const [open, setOpen] = useState(false);
  useKeys({ S: () => setOpen(true) });
  return (
    <DialogTrigger isOpen={open} onOpenChange={setOpen}>
      <Opener>kept questions</Opener>
      <Sheet placement="bottom end">
        <Dialog aria-label="Kept questions">{open && <Questions onDone={() => setOpen(false)} />}</Dialog>
      </Sheet>
    </DialogTrigger>
  );
}

function Questions({ onDone }: { onDone: () => void }) {
  const questions = useQuestions();
  const may = useMay('editor');
  const address = useAddress();
  const [name, setName] = useState('');
  const [wrong, setWrong] = useState('');
  const list = questions.data ?? [];
  const act = async (request: () => Promise<unknown>) => {
    setWrong('');
    try {
      await request();
      await queries.invalidateQueries({ queryKey: ['questions'] });
      return true;
    } catch (error) {
      setWrong((error as Error).message);
      return false;
    }
  };
  const keep = async () => {
    if (name.trim() === '') {
      setWrong('It needs a name.');
      return;
    }
    const body = { name: name.trim(), address };
    if (await act(() => ask(api.POST('/api/questions', { body })))) setName('');
  };
  const same = list.find((q) => q.name.toLowerCase() === name.trim().toLowerCase());
  return (
    <>
      <h2>Kept questions</h2>
      {questions.isError ? (
        <Failed error={questions.error} again={() => void questions.refetch()} />
      ) : list.length === 0 ? (
        <p>
          {questions.data
            ? 'None yet. Set a view to what you ask often (a filter, a vantage, an order), and keep it under a name: everybody here finds it.'
            : 'Reading…'}
        </p>
      ) : (
        <ul>
          {list.map((q) => (
            <li key={q.name} title={`${q.address}, kept by ${q.who}, ${moment(q.at)}`}>
              <Link href={q.address} aria-current={q.address === address ? 'page' : undefined} onClick={onDone}>
                {q.name}
              </Link>
              {may && (
                <LinkButton
                  aria-label={`take away ${q.name}`}
                  onPress={() => void act(() => ask(api.POST('/api/questions/drop', { body: { name: q.name } })))}
                >
                  take away
                </LinkButton>
              )}
            </li>
          ))}
        </ul>
      )}
      {wrong !== '' && <p role="alert">{wrong}</p>}
      {may && (
        <form
          onSubmit={(e) => {
            e.preventDefault();
            void keep();
          }}
        >
          <Field label="Keep what is looked at, as" value={name} onChange={setName} />
          <Plain type="submit">{same ? 'Keep in its place' : 'Keep'}</Plain>
        </form>
      )}
    </>
  );
}
