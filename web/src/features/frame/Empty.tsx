import { useRef, useState } from 'react';
import styled from 'styled-components';
import { useLocation } from 'wouter';
import { api, ask, refresh } from '../../api/client';
import { offerFiles, readFiles } from '../records/incoming';
import { LinkButton } from '../../ui/Quiet';
import { useSession } from '../change/session';
import { size } from '../../ui/theme';

const Page = styled.div`
  padding: 44px 24px;
  max-width: 760px;
  h2 {
    font-size: ${size.title};
    line-height: 28px;
    font-weight: 500;
    margin-bottom: 18px;
  }
  dl {
    display: grid;
    grid-template-columns: 190px 1fr;
    margin: 0;
  }
  dt,
  dd {
    margin: 0;
    padding: 12px 0;
    border-top: 1px solid ${(p) => p.theme.hairline};
  }
  dd {
    color: ${(p) => p.theme.ink2};
  }
  dt {
    font-weight: 600;
  }
`;

/** An estate with nothing in it yet: the ways in. */
export function Empty() {
  const { say } = useSession();
  const [, go] = useLocation();
  const [busy, setBusy] = useState(false);
  const picker = useRef<HTMLInputElement>(null);
  const machine = async () => {
    setBusy(true);
    try {
      const { text } = await ask(api.GET('/api/machine'));
      offerFiles({ files: [{ name: 'this machine', text }] });
      go('/records');
    } catch (error) {
      say({ text: error instanceof Error ? error.message : String(error), look: true });
    } finally {
      setBusy(false);
    }
  };
  const example = async () => {
    setBusy(true);
    try {
      await ask(api.POST('/api/example'));
      await refresh();
    } catch (error) {
      say({ text: error instanceof Error ? error.message : String(error), look: true });
    } finally {
      setBusy(false);
    }
  };
  return (
    <Page>
      <h2>Nothing is written down yet. Where does a stranger end up who types one of your names?</h2>
      <dl>
        <dt>
          <LinkButton onPress={() => document.getElementById('bearing')?.focus()}>Type the first line</LinkButton>
        </dt>
        <dd>
          Into the field above, for instance <code>dns www.example.org A 203.0.113.20</code>. Each line says what it
          means before you keep it.
        </dd>
        <dt>
          <LinkButton onPress={() => go('/records')}>Paste a whole estate</LinkButton>
        </dt>
        <dd>
          Into the editor of Records. It shows what is wrong and what it would change; nothing is kept before you save.
        </dd>
        <dt>
          <LinkButton isDisabled={busy} onPress={() => void machine()}>
            Read this machine
          </LinkButton>
        </dt>
        <dd>
          Its networks, routes, sockets and containers, as they are now. What would be written down is shown first. For
          another machine: <code>steady-compass collect &gt; its.txt</code> there, and the file here.
        </dd>
        <dt>
          <LinkButton onPress={() => picker.current?.click()}>Take over files</LinkButton>
          <input
            ref={picker}
            type="file"
            multiple
            hidden
            onChange={(e) =>
              void readFiles(e.target.files).then((files) => {
                if (!files) return;
                offerFiles(files);
                go('/records');
              })
            }
          />
        </dt>
        <dd>
          Zone files, hosts files, rulesets, socket and address listings, Compose files, sheets; or drop them anywhere.
          What they would add is shown first.
        </dd>
        <dt>
          <LinkButton isDisabled={busy} onPress={() => void example()}>
            Load the example
          </LinkButton>
        </dt>
        <dd>
          Fernmoor Observatory: fifteen names, nine machines, and the faults that happen. One undo takes it away again.
        </dd>
        <dt>
          <LinkButton onPress={() => go('/guide')}>Read the guide</LinkButton>
        </dt>
        <dd>From the first line to a traced name in ten minutes, and on from there.</dd>
      </dl>
    </Page>
  );
}
