import { useQuery } from '@tanstack/react-query';
import { useState, type FormEvent, type ReactNode } from 'react';
import styled from 'styled-components';
import { api, ask, queries, type Account, type Role, type Token } from '../../api/client';
import { recognise, useMay, useMe } from '../../api/me';
import { Ago, Day } from '../../ui/time';
import { Choice } from '../../ui/Choice';
import { Field } from '../../ui/Field';
import { Acts, Failed, FaultRow, LinkButton, Loading, Plain, Quiet, Strong } from '../../ui/Quiet';
import { Sheet, Side, Top, Two } from '../../ui/TwoPane';
import { size } from '../../ui/theme';

const roles: readonly Role[] = ['reader', 'editor', 'keeper'];
const may: Record<Role, string> = {
  reader: 'may ask everything, and change nothing',
  editor: 'may ask everything, and change records, drafts and what was seen',
  keeper: 'may do everything, and says who else may do what',
};

const Table = styled.table`
  width: 100%;
  border-collapse: collapse;
  th {
    text-align: left;
    font-weight: 400;
    color: ${(p) => p.theme.ink2};
    font-size: ${size.plain};
    padding: 8px 12px 4px;
  }
  td {
    border-top: 1px solid ${(p) => p.theme.hairline};
    padding: 6px 12px;
    vertical-align: baseline;
    overflow-wrap: anywhere;
  }
  td:first-child,
  th:first-child {
    padding-left: 24px;
  }
  tr[data-off] td {
    color: ${(p) => p.theme.ink2};
  }
  b {
    font-weight: 600;
  }
  small {
    color: ${(p) => p.theme.ink2};
    font-size: ${size.plain};
  }
`;

const Form = styled.form`
  display: flex;
  flex-wrap: wrap;
  gap: 12px 20px;
  align-items: end;
  padding: 12px 24px 18px;
  border-top: 1px solid ${(p) => p.theme.hairline};
  border-bottom: 1px solid ${(p) => p.theme.rule};
  > div {
    min-width: 150px;
  }
`;

const Head = styled.h3`
  font-size: ${size.text};
  font-weight: 600;
  padding: 20px 24px 4px;
`;

const Secret = styled.div`
  padding: 12px 24px;
  border-bottom: 1px solid ${(p) => p.theme.rule};
  background: ${(p) => p.theme.shallows};
  code {
    font-size: ${size.lead};
    user-select: all;
    overflow-wrap: anywhere;
  }
`;

/** Does something, and says what was wrong with it. */
function useAct() {
  const [fault, setFault] = useState('');
  const act = async (what: () => Promise<unknown>) => {
    setFault('');
    try {
      await what();
      return true;
    } catch (error) {
      setFault(error instanceof Error ? error.message : String(error));
      return false;
    } finally {
      for (const key of ['people', 'tokens']) void queries.invalidateQueries({ queryKey: [key] });
    }
  };
  return { fault: fault && <FaultRow role="alert">{fault}</FaultRow>, act };
}

/** Who may do what, and oneself. */
export function People() {
  const me = useMe();
  const keeper = useMay('keeper');
  if (!me.data) return <Loading what="Looking who sits here…" />;
  return (
    <Two style={{ gridTemplateColumns: 'minmax(0, 1fr) 420px' }}>
      <Sheet>
        <Top>
          <h2>People</h2>
          <p>
            {me.data.alone
              ? 'Nobody signs in here: the program was started with --alone, and whoever is on this machine may do everything. Started without it, it asks for the accounts below.'
              : 'Who may read, who may edit, and who says so. What somebody changed says so in the log.'}
          </p>
        </Top>
        {keeper ? <Accounts /> : <Quiet>Accounts are seen to by keepers. Your own is beside this.</Quiet>}
      </Sheet>
      <Side aria-label="Yourself">
        {me.data.who && (
          <>
            <h3>{me.data.who.name}</h3>
            <p>
              {me.data.who.role}: {may[me.data.who.role]}
            </p>
            {!me.data.alone && <Yourself />}
          </>
        )}
      </Side>
    </Two>
  );
}

function Accounts() {
  const list = useQuery({ queryKey: ['people'], queryFn: () => ask(api.GET('/api/people')) });
  const [code, setCode] = useState<{ name: string; code: string } | null>(null);
  const [name, setName] = useState('');
  const [email, setEmail] = useState('');
  const [role, setRole] = useState<Role>('reader');
  const { fault, act } = useAct();
  const me = useMe();
  if (list.isError) return <Failed error={list.error} again={() => void list.refetch()} />;
  if (!list.data) return <Loading what="Reading the accounts…" />;
  const add = async (e: FormEvent) => {
    e.preventDefault();
    const done = await act(async () => {
      const made = await ask(
        api.POST('/api/people', { body: { name: name.trim(), role, email: email.trim() || undefined } }),
      );
      setCode({ name: made.account.name, code: made.code });
    });
    if (done) {
      setName('');
      setEmail('');
    }
  };
  const set = (a: Account, change: { role?: Role; off?: boolean }) =>
    act(() =>
      ask(
        api.POST('/api/people/{id}', { params: { path: { id: a.id } }, body: { role: a.role, off: a.off, ...change } }),
      ),
    );
  const invite = (a: Account) =>
    act(async () => {
      const made = await ask(api.POST('/api/people/{id}/code', { params: { path: { id: a.id } } }));
      setCode({ name: a.name, code: made.code });
    });
  return (
    <>
      {list.data.people.length === 0 ? (
        <Quiet>Nobody has an account yet.</Quiet>
      ) : (
        <Table>
          <thead>
            <tr>
              <th>name</th>
              <th>role</th>
              <th>signs in</th>
              <th>last here</th>
              <th aria-label="what can be done" />
            </tr>
          </thead>
          <tbody>
            {list.data.people.map((a) => (
              <tr key={a.id} data-person={a.name} data-off={a.off || undefined}>
                <td>
                  <b>{a.name}</b> {a.email && <small>{a.email}</small>}
                </td>
                <td>
                  <Choice
                    label=""
                    aria-label={`role of ${a.name}`}
                    value={a.role}
                    options={roles}
                    onChange={(r) => void set(a, { role: r })}
                  />
                </td>
                <td>{a.off ? 'is off' : ways(a)}</td>
                <td>{a.seen ? <Ago at={a.seen} /> : 'never'}</td>
                <td>
                  {a.name !== me.data?.who?.name && (
                    <>
                      <LinkButton onPress={() => void invite(a)}>new code</LinkButton>
                      {' · '}
                      <LinkButton onPress={() => void set(a, { off: !a.off })}>
                        {a.off ? 'switch on' : 'switch off'}
                      </LinkButton>
                    </>
                  )}
                </td>
              </tr>
            ))}
          </tbody>
        </Table>
      )}
      <div style={{ padding: '0 24px' }}>{fault}</div>
      {code && (
        <Secret role="status" data-code={code.name}>
          <p>
            Hand this to {code.name}: <code>{code.code}</code>
          </p>
          <p>
            With it a password is set, once, within three days. It is not shown again.{' '}
            <LinkButton onPress={() => setCode(null)}>close</LinkButton>
          </p>
        </Secret>
      )}
      <Form onSubmit={(e) => void add(e)} aria-label="Another account">
        <Field label="Name of another" value={name} onChange={setName} isRequired />
        <Choice label="role" value={role} options={roles} onChange={setRole} />
        {me.data?.elsewhere && (
          <Field label={`E-mail at ${me.data.elsewhere}`} value={email} onChange={setEmail} type="email" />
        )}
        <Strong type="submit">Make the account</Strong>
      </Form>
      <Head>What happened</Head>
      <Table>
        <tbody>
          {list.data.events.map((e, i) => (
            <tr key={i}>
              <td title={e.at} style={{ width: 150 }}>
                <small>
                  <Ago at={e.at} />
                </small>
              </td>
              <td>
                <b>{e.who}</b> {e.what}
              </td>
              <td>
                <small>{e.from}</small>
              </td>
            </tr>
          ))}
        </tbody>
      </Table>
    </>
  );
}

/** By what somebody gets in. */
function ways(a: Account) {
  const known = [a.secured && 'with a password', a.linked && 'elsewhere'].filter(Boolean);
  if (a.invited) known.push(`has a code until ${a.invited.slice(0, 10)}`);
  if (a.email && !a.linked) known.push('is waited for elsewhere');
  return known.join(', ') || 'cannot yet';
}

function Yourself() {
  const [old, setOld] = useState('');
  const [password, setPassword] = useState('');
  const [said, setSaid] = useState('');
  const { fault, act } = useAct();
  const change = async (e: FormEvent) => {
    e.preventDefault();
    if (await act(() => ask(api.POST('/api/me/password', { body: { old, password } })))) {
      setOld('');
      setPassword('');
      setSaid('It is changed; wherever else you were signed in, you no longer are.');
    }
  };
  const leave = (path: '/api/sign-out' | '/api/me/out') => async () => {
    await act(() => ask(api.POST(path)));
    await recognise();
  };
  return (
    <>
      <Acts>
        <Plain onPress={() => void leave('/api/sign-out')()}>Sign out</Plain>
        <Plain onPress={() => void leave('/api/me/out')()}>Sign out everywhere</Plain>
      </Acts>
      <Part title="Another password" onSubmit={(e) => void change(e)}>
        <Field
          label="The one that holds now"
          type="password"
          value={old}
          onChange={setOld}
          autoComplete="current-password"
        />
        <Field
          label="The new one, of 12 characters at least"
          type="password"
          value={password}
          onChange={setPassword}
          autoComplete="new-password"
          isRequired
        />
        {fault}
        {said && <p role="status">{said}</p>}
        <div>
          <Plain type="submit">Change it</Plain>
        </div>
      </Part>
      <Tokens />
    </>
  );
}

const PartForm = styled.form`
  display: grid;
  gap: 12px;
  border-top: 1px solid ${(p) => p.theme.rule};
  padding: 14px 0 18px;
`;

function Part({ title, children, onSubmit }: { title: string; children: ReactNode; onSubmit: (e: FormEvent) => void }) {
  return (
    <PartForm onSubmit={onSubmit} aria-label={title}>
      <h3>{title}</h3>
      {children}
    </PartForm>
  );
}

/** How long a token is good, in days. */
const lives: Record<string, number> = { 'a week': 7, 'a month': 30, 'three months': 90, 'a year': 365 };

function Tokens() {
  const list = useQuery({ queryKey: ['tokens'], queryFn: () => ask(api.GET('/api/tokens')) });
  const editor = useMay('editor');
  const me = useMe();
  const [name, setName] = useState('');
  const [role, setRole] = useState<Role>('reader');
  const [life, setLife] = useState('three months');
  const [secret, setSecret] = useState('');
  const { fault, act } = useAct();
  const add = async (e: FormEvent) => {
    e.preventDefault();
    const done = await act(async () => {
      const body = { name: name.trim(), role, days: lives[life] ?? 7 };
      setSecret((await ask(api.POST('/api/tokens', { body }))).secret);
    });
    if (done) setName('');
  };
  const drop = (t: Token) => act(() => ask(api.POST('/api/tokens/{id}/drop', { params: { path: { id: t.id } } })));
  return (
    <Part title="Tokens for scripts" onSubmit={(e) => void add(e)}>
      <p>
        A script asks with <code>Authorization: Bearer</code> and a token. It may read, or edit, in your name, and
        nothing more.
      </p>
      {list.data?.map((t) => (
        <p key={t.id} data-token={t.name}>
          <b>{t.name}</b> {t.account !== me.data?.who?.name && `of ${t.account}, `}
          {t.role}, until <Day day={t.until.slice(0, 10)} />,{' '}
          {t.seen ? (
            <>
              used <Ago at={t.seen} />
            </>
          ) : (
            'not used yet'
          )}{' '}
          <LinkButton onPress={() => void drop(t)}>take away</LinkButton>
        </p>
      ))}
      {secret && (
        <p role="status">
          This is it, and it is not shown again:{' '}
          <code data-secret style={{ userSelect: 'all', overflowWrap: 'anywhere' }}>
            {secret}
          </code>
        </p>
      )}
      <Field label="What it is for" value={name} onChange={setName} isRequired />
      <div style={{ display: 'flex', gap: 20 }}>
        <Choice label="may" value={role} options={editor ? ['reader', 'editor'] : ['reader']} onChange={setRole} />
        <Choice label="for" value={life} options={Object.keys(lives)} onChange={setLife} />
      </div>
      {fault}
      <div>
        <Plain type="submit">Make a token</Plain>
      </div>
    </Part>
  );
}
