import type { ReactNode } from 'react';
import styled from 'styled-components';
import { useKinds } from '../../api/client';
import type { Outcome } from '../../api/client';
import { Mark, outcomeWords } from '../../ui/marks';
import { SightMark } from '../../ui/Sight';
import { Sheet, Top } from '../../ui/TwoPane';
import { size } from '../../ui/theme';

const Page = styled(Sheet)`
  padding-bottom: 40px;
  section {
    max-width: 980px;
    padding: 0 24px;
  }
  h3 {
    font-size: ${size.text};
    font-weight: 600;
    margin: 22px 0 6px;
  }
  dl {
    display: grid;
    grid-template-columns: 190px minmax(0, 1fr);
    margin: 0;
  }
  dt,
  dd {
    margin: 0;
    padding: 5px 0;
    border-top: 1px solid ${(p) => p.theme.hairline};
  }
  dt {
    font-weight: 500;
  }
  dd {
    color: ${(p) => p.theme.ink2};
  }
  code {
    font:
      12px/18px 'IBM Plex Mono',
      monospace;
    overflow-wrap: anywhere;
  }
`;

const Ground = styled.span<{ $of: 'water' | 'shallows' | 'land' }>`
  background: ${(p) => p.theme[p.$of]};
  border: 1px solid ${(p) => p.theme.hairline};
  padding: 1px 8px;
`;

const outcomes: Record<Outcome, string> = {
  arrives: 'The flow gets to a service that takes it, and the reply gets back.',
  redirect: 'The client is sent on, and where it is sent arrives.',
  partly: 'Some of the ways of the name arrive, and some do not.',
  unresolved: 'The name has no address for whoever asks.',
  outside: 'It leads out of what is recorded: nobody here answers for it.',
  unroutable: 'No way leads there, or nobody there holds the address.',
  silent: 'A filter drops it: the client waits, and hears nothing.',
  refused: 'Nobody listens, or a filter refuses: the client is told at once.',
  mismatched: 'TLS is spoken to a plain listener, or the reverse.',
  untrusted: 'The certificate does not cover the name, has ended, or is not there.',
  unanswered: 'The service has no site for the name or the path.',
  denied: 'The site lets in others than those who ask.',
  'gateway-error': 'The front answers, and cannot reach what is behind it; what came of that is said beside it.',
  'lost-reply': 'The flow arrives, and its reply does not get back.',
  loop: 'It comes back to where it was, and never ends.',
  undecided: 'It cannot be told, since something is not written down. It is never taken as safe.',
};

const acts: [word: string, means: string][] = [
  [
    'mend',
    'Take the lines out, and put those in, that end a break or a finding. It is offered once it was tried and holds: it ends what it is for, stops nothing that works, opens nothing that nobody declared, and brings no other error. One undo takes it back.',
  ],
  ['cause', 'What one change would have to change: one mistake, from which several findings may follow.'],
  ['accept', 'Let a finding stand, for a reason and until a day. It comes back after it.'],
  ['declare', 'Write the intend line that says a door is meant to be open, and for whom.'],
  ['close', 'Take out, or narrow, the lines that let something in.'],
  ['undo, redo', 'Take a change back, or make it once more. Each is a change of its own in the log.'],
  [
    'look now',
    'Resolve the name, connect, and ask for the page, from the machine that this runs on: only where a line says that the address is ours. What was seen stands beside what is recorded.',
  ],
  [
    'suspect',
    'A line, or something that nobody wrote down, that would explain what was seen if it were not as recorded.',
  ],
  ['without it', 'What would be if a line of a filter were not there.'],
];

function List({ of }: { of: [ReactNode, ReactNode][] }) {
  return (
    <dl>
      {of.map(([word, means], i) => (
        <Entry key={i} word={word} means={means} />
      ))}
    </dl>
  );
}

function Entry({ word, means }: { word: ReactNode; means: ReactNode }) {
  return (
    <>
      <dt>{word}</dt>
      <dd>{means}</dd>
    </>
  );
}

/** What the words, marks and grounds of all views mean. */
export function Words() {
  const kinds = useKinds();
  return (
    <Page>
      <Top>
        <h2>What the words mean</h2>
        <p>The same word means the same in every view, and so does the same key.</p>
      </Top>
      <section>
        <h3>Grounds: how far in something is</h3>
        <List
          of={[
            [<Ground $of="water">open water</Ground>, 'What the world sees: names, their answers, public addresses.'],
            [<Ground $of="shallows">shallows</Ground>, 'The edge: routers and filters, and what they let in.'],
            [<Ground $of="land">land</Ground>, 'Our own machines, and the services on them.'],
          ]}
        />
        <h3>Marks</h3>
        <List
          of={[
            [<Mark kind="arrives" />, 'It goes through.'],
            [
              <Mark kind="stops" />,
              'It is stopped here. What is past it is drawn in outline: as it would go on, were this mended.',
            ],
            [<Mark kind="ends" />, 'It ends here, and nothing is wrong.'],
            [<Mark kind="unknown" />, 'It goes on unseen: something is not written down.'],
            [<SightMark sight="as-recorded" />, 'It was looked at, and seen as recorded.'],
            [
              <SightMark sight="otherwise" />,
              'It was looked at, and seen otherwise: what is recorded is not so, or has changed.',
            ],
            [<SightMark sight="before" />, 'It was looked at before the last change of what it hangs on.'],
          ]}
        />
        <h3>What becomes of a flow</h3>
        <List of={(Object.keys(outcomes) as Outcome[]).map((of) => [outcomeWords[of], outcomes[of]])} />
        <h3>Findings</h3>
        <List
          of={[
            ['error', 'Something does not work, or is open to somebody it is not meant for.'],
            ['warning', 'It works, and may not for long, or is not as safe as it looks.'],
            ['note', 'Worth knowing; nothing need be done.'],
          ]}
        />
        <h3>What one does</h3>
        <List of={acts} />
        <h3>Lines</h3>
        <List of={(kinds.data ?? []).map((k) => [<code>{k.word}</code>, <code>{k.usage}</code>])} />
      </section>
    </Page>
  );
}
