import { QueryClientProvider } from '@tanstack/react-query';
import { Suspense, useEffect, useState, type ReactNode } from 'react';
import { ThemeProvider } from 'styled-components';
import { Route, Switch } from 'wouter';
import { queries } from './api/client';
import { Frame } from './features/frame/Frame';
import { GlobalStyle } from './ui/GlobalStyle';
import { later } from './ui/later';
import { Failed, Loading, Quiet } from './ui/Quiet';
import { Wreck } from './ui/Wreck';
import { usePrinting } from './ui/print';
import { fromPath } from './ui/route';
import { SessionProvider } from './features/change/session';
import { useMe } from './api/me';
import { useThrough } from './api/through';
import { SignIn } from './features/people/SignIn';
import { day, night } from './ui/theme';
import { Findings } from './features/findings/Findings';
import { Names } from './features/names/Names';
import { Trace } from './features/trace/Trace';

// The views that one goes to and fro between come with the page; the others, by the first word of their address, when they are asked for, or
// once the page has nothing else to do.
const views = {
  exposure: later(() => import('./features/exposure/Exposure').then((m) => m.Exposure)),
  ports: later(() => import('./features/ports/Ports').then((m) => m.Ports)),
  log: later(() => import('./features/log/Log').then((m) => m.Log)),
  filters: later(() => import('./features/filter/Filter').then((m) => m.Filter)),
  uses: later(() => import('./features/uses/Uses').then((m) => m.Uses)),
  certificates: later(() => import('./features/certificates/Certificates').then((m) => m.Certificates)),
  dates: later(() => import('./features/dates/Dates').then((m) => m.Dates)),
  drafts: later(() => import('./features/drafts/Drafts').then((m) => m.Drafts)),
  draft: later(() => import('./features/drafts/Draft').then((m) => m.Draft)),
  courses: later(() => import('./features/courses/Courses').then((m) => m.Courses)),
  compare: later(() => import('./features/trace/Compare').then((m) => m.Compare)),
  without: later(() => import('./features/without/Without').then((m) => m.Without)),
  answers: later(() => import('./features/answers/Answers').then((m) => m.Answers)),
  words: later(() => import('./features/words/Words').then((m) => m.Words)),
  guide: later(() => import('./features/guide/Guide').then((m) => m.Guide)),
  people: later(() => import('./features/people/People').then((m) => m.People)),
  records: later(async () => {
    const { Records, AsText } = await import('./features/records/Records');
    if (!window.location.search.includes('table=')) await AsText.fetch();
    return Records;
  }),
};

/** Fetches the code of the view that is opened first. */
export async function firstView() {
  const word = window.location.pathname.split('/')[1] ?? '';
  if (word in views) await views[word as keyof typeof views].fetch();
}

/** Fetches the other views while nobody waits for anything. */
function useViewsAhead() {
  useEffect(() => {
    let id = 0;
    const fetchThem = () => {
      if (queries.isFetching() > 0) id = requestIdleCallback(() => setTimeout(fetchThem, 200));
      else Object.values(views).forEach((view) => void view.fetch().catch(() => undefined));
    };
    const timer = setTimeout(fetchThem, 400);
    return () => {
      clearTimeout(timer);
      cancelIdleCallback(id);
    };
  }, []);
}

type Light = 'day' | 'night' | '';

/** Day or night: what was chosen here last, else what the system asks for. */
function useLight(): [boolean, () => void] {
  const [chosen, choose] = useState<Light>(() => (localStorage.getItem('light') as Light | null) ?? '');
  const [system, setSystem] = useState(() => matchMedia('(prefers-color-scheme: dark)').matches);
  useEffect(() => {
    const query = matchMedia('(prefers-color-scheme: dark)');
    const follow = () => setSystem(query.matches);
    query.addEventListener('change', follow);
    return () => query.removeEventListener('change', follow);
  }, []);
  const dark = chosen ? chosen === 'night' : system;
  useEffect(() => {
    document.documentElement.style.colorScheme = dark ? 'dark' : 'light';
  }, [dark]);
  const turn = () => {
    const next = dark ? 'day' : 'night';
    localStorage.setItem('light', next);
    choose(next);
  };
  return [dark, turn];
}

/** How long nothing is to have been typed before a page asks for a sign-in, in milliseconds: it is not to come between two keys. */
const pause = 1200;

/** Whether something is so and a pause has come in what is typed. */
function useAtAPause(so: boolean) {
  const [paused, setPaused] = useState(false);
  useEffect(() => {
    if (!so) return;
    let timer = setTimeout(() => setPaused(true), pause);
    const wait = () => {
      clearTimeout(timer);
      timer = setTimeout(() => setPaused(true), pause);
    };
    window.addEventListener('keydown', wait, true);
    return () => {
      clearTimeout(timer);
      window.removeEventListener('keydown', wait, true);
      setPaused(false);
    };
  }, [so]);
  return so && paused;
}

/** Lets in who has signed in. Who no longer is signs in before what was there, which stays. */
function Door({ children }: { children: ReactNode }) {
  const me = useMe();
  const [entered, setEntered] = useState(false);
  if (me.data?.who && !entered) setEntered(true);
  const out = useAtAPause(entered && !!me.data && !me.data.who);
  if (me.isError && !entered) return <Failed error={me.error} again={() => void me.refetch()} />;
  if (!me.data) return <Loading what="Opening…" />;
  return (
    <>
      {entered && (
        <div inert={out} style={{ height: '100%', isolation: 'isolate' }}>
          {children}
        </div>
      )}
      {(out || !entered) && <SignIn me={me.data} />}
    </>
  );
}

export function App() {
  const [dark, turn] = useLight();
  const paper = usePrinting();
  useViewsAhead();
  const looking = useThrough(); // another draft is another page
  return (
    <QueryClientProvider client={queries}>
      <ThemeProvider theme={dark && !paper ? night : day}>
        <GlobalStyle />
        <Door>
          <SessionProvider>
            <Wreck>
              <Frame dark={dark} onTurn={turn}>
                <Wreck>
                  <Suspense key={looking} fallback={<Quiet>Opening…</Quiet>}>
                    <Switch>
                      <Route path="/" component={Names} />
                      <Route path="/trace/:target">{(p) => <Trace target={fromPath(p.target)} />}</Route>
                      <Route path="/courses" component={views.courses} />
                      <Route path="/compare/:target">{(p) => <views.compare target={fromPath(p.target)} />}</Route>
                      <Route path="/answers" component={views.answers} />
                      <Route path="/filters/:name">{(p) => <views.filters name={fromPath(p.name)} />}</Route>
                      <Route path="/uses/:word">{(p) => <views.uses word={fromPath(p.word)} />}</Route>
                      <Route path="/without/:word">{(p) => <views.without word={fromPath(p.word)} />}</Route>
                      <Route path="/ports" component={views.ports} />
                      <Route path="/exposure" component={views.exposure} />
                      <Route path="/certificates" component={views.certificates} />
                      <Route path="/drafts" component={views.drafts} />
                      <Route path="/drafts/:id">{(p) => <views.draft id={Number(p.id)} />}</Route>
                      <Route path="/dates" component={views.dates} />
                      <Route path="/findings/:code?/:subject?">
                        {(p) => (
                          <Findings
                            code={p.code ? fromPath(p.code) : ''}
                            subject={p.subject ? fromPath(p.subject) : ''}
                          />
                        )}
                      </Route>
                      <Route path="/records" component={views.records} />
                      <Route path="/log" component={views.log} />
                      <Route path="/people" component={views.people} />
                      <Route path="/guide/:id?">{(p) => <views.guide id={p.id ? fromPath(p.id) : ''} />}</Route>
                      <Route path="/words" component={views.words} />
                      <Route>
                        <Quiet>There is no such page. The views are named above.</Quiet>
                      </Route>
                    </Switch>
                  </Suspense>
                </Wreck>
              </Frame>
            </Wreck>
          </SessionProvider>
        </Door>
      </ThemeProvider>
    </QueryClientProvider>
  );
}
