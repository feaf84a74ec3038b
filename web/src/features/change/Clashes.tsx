// One line that two people changed: both sides, and a choice.
import styled from 'styled-components';
import { useLocation } from 'wouter';
import { api, ask, refresh, type Clash } from '../../api/client';
import { LinkButton } from '../../ui/Quiet';
import { exact, moment } from '../../ui/time';
import { useSession, type Turning } from './session';

const Pair = styled.dl`
  display: grid;
  grid-template-columns: auto minmax(0, 1fr) auto;
  gap: 2px 14px;
  margin: 6px 0 0;
  color: ${(p) => p.theme.ink};
  dt {
    color: ${(p) => p.theme.ink2};
  }
  dd {
    margin: 0;
    overflow-wrap: anywhere;
  }
`;

const shown = 4;

interface Props {
  clashes: Clash[];
  done: () => void;
  /** The change of the log whose lines they are: it is more than they, and is put together anew in a draft. */
  turning?: Turning;
}

/** What became of lines that somebody else has changed meanwhile, beside what was to become of them. */
export function Clashes({ clashes, done, turning }: Props) {
  const { change, say } = useSession();
  const [, go] = useLocation();
  const propose = async (body: Turning) => {
    try {
      const draft = await ask(api.POST('/api/log/proposal', { body }));
      await refresh();
      done();
      go(`/drafts/${draft.id}`);
    } catch (error) {
      say({ text: (error as Error).message, look: true });
    }
  };
  const mine = () => {
    const remove = clashes.filter((c) => c.line !== '' && c.theirs !== '').map((c) => c.theirs);
    const add = clashes.filter((c) => c.mine !== '' && c.mine !== c.theirs).map((c) => c.mine);
    done();
    void change({ remove, add }, 'Put mine in its place');
  };
  return (
    <div data-clashes>
      {clashes.slice(0, shown).map((c) => (
        <Pair key={c.line + c.mine}>
          <dt>{turning ? 'then' : 'yours'}</dt>
          <dd>
            <code>{c.mine || `(taken out) ${c.line}`}</code>
          </dd>
          <span />
          <dt>now</dt>
          <dd>
            <code>{c.theirs || `(gone) ${c.line}`}</code>
          </dd>
          <small>
            {c.who},{' '}
            <time dateTime={c.at} title={exact(c.at)}>
              {moment(c.at)}
            </time>
          </small>
        </Pair>
      ))}
      {clashes.length > shown && <p>and {clashes.length - shown} lines more</p>}
      <p>
        <LinkButton onPress={done}>Leave it as it is now</LinkButton>{' '}
        {turning ? (
          <LinkButton onPress={() => void propose(turning)}>
            Make a draft of it, with both sides of each line
          </LinkButton>
        ) : (
          <LinkButton onPress={mine}>Put mine in its place</LinkButton>
        )}
      </p>
    </div>
  );
}
