import { useState, type FormEvent } from 'react';
import styled from 'styled-components';
import { api, ask, type Me } from '../../api/client';
import { recognise } from '../../api/me';
import { Field } from '../../ui/Field';
import { Rose } from '../../ui/marks';
import { FaultRow, LinkButton, Plain, Strong } from '../../ui/Quiet';
import { size } from '../../ui/theme';

const Page = styled.div`
  position: fixed;
  inset: 0;
  z-index: 10;
  overflow: auto;
  background: ${(p) => p.theme.ground};
  display: grid;
  align-content: start;
  justify-items: center;
  padding: 16vh 24px 40px;
`;

const Sheet = styled.form`
  width: min(380px, 100%);
  display: grid;
  gap: 18px;
  header {
    display: flex;
    gap: 12px;
    align-items: center;
  }
  h1 {
    font-size: ${size.title};
    line-height: 26px;
    font-weight: 500;
  }
  p {
    color: ${(p) => p.theme.ink2};
  }
`;

const Row = styled.div`
  display: flex;
  flex-wrap: wrap;
  gap: 10px 18px;
  align-items: center;
`;

/** Where nobody has signed in: by a password, by a one-time code, or elsewhere. What was there before stays behind it. */
export function SignIn({ me }: { me: Me }) {
  const [coded, setCoded] = useState(me.first);
  const [name, setName] = useState(() => sessionStorage.getItem('who') ?? '');
  const [password, setPassword] = useState('');
  const [code, setCode] = useState('');
  const [fault, setFault] = useState(me.said ?? '');
  const [busy, setBusy] = useState(false);
  const enter = async (e: FormEvent) => {
    e.preventDefault();
    setBusy(true);
    setFault('');
    try {
      if (coded) await ask(api.POST('/api/sign-in/code', { body: { name: name.trim(), code, password } }));
      else await ask(api.POST('/api/sign-in', { body: { name: name.trim(), password } }));
      await recognise();
    } catch (error) {
      setFault(error instanceof Error ? error.message : String(error));
    } finally {
      setBusy(false);
    }
  };
  const title = me.first ? 'Make the first account' : coded ? 'Set a password' : 'Sign in';
  return (
    <Page data-sign-in>
      <Sheet onSubmit={(e) => void enter(e)} aria-label={title}>
        <header>
          <Rose />
          <h1>{title}</h1>
        </header>
        {me.first && (
          <p>
            Nobody has an account here yet. Where the program was started it printed a one-time code; whoever has it is
            the first keeper, and says who else may read, or edit.
          </p>
        )}
        <Field label="Name" value={name} onChange={setName} autoComplete="username" isRequired autoFocus={!name} />
        {coded && (
          <Field label="One-time code" value={code} onChange={setCode} autoComplete="one-time-code" isRequired />
        )}
        <Field
          label={coded ? 'New password, of 12 characters at least' : 'Password'}
          type="password"
          value={password}
          onChange={setPassword}
          autoComplete={coded ? 'new-password' : 'current-password'}
          isRequired
          autoFocus={name !== '' && !coded}
        />
        {fault && <FaultRow role="alert">{sentence(fault)}</FaultRow>}
        <Row>
          <Strong type="submit" isDisabled={busy}>
            {busy ? 'A moment…' : title}
          </Strong>
          {me.elsewhere && (
            <Plain onPress={() => location.assign('/sign-in/elsewhere')}>Sign in at {me.elsewhere}</Plain>
          )}
        </Row>
        {!me.first && (
          <p>
            <LinkButton
              onPress={() => {
                setCoded(!coded);
                setFault('');
              }}
            >
              {coded ? 'I have a password' : 'I have a one-time code'}
            </LinkButton>
          </p>
        )}
      </Sheet>
    </Page>
  );
}

/** A reason as a sentence. */
function sentence(text: string) {
  return `${text[0]?.toUpperCase()}${text.slice(1)}${/[.!?)]$/.test(text) ? '' : '.'}`;
}
