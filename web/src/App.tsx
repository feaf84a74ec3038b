import { QueryClientProvider } from '@tanstack/react-query';
import { lazy, Suspense, useEffect, useState, type ReactNode } from 'react';
import { ThemeProvider } from 'styled-components';
import { Route, Switch } from 'wouter';
import { queries } from './api/client';
import { Frame } from './features/frame/Frame';
import { GlobalStyle } from './ui/GlobalStyle';
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

// The views that one goes to and fro between come with the page; the others when they are asked for, or once the page has nothing else to do.
const views = {
  Exposure: () => import('./features/exposure/Exposure').then((m) => ({ default: m.Exposure })),
  Ports: () => import('./features/ports/Ports').then((m) => ({ default: m.Ports })),
  Log: () => import('./features/log/Log').then((m) => ({ default: m.Log })),
  Filter: () => import('./features/filter/Filter').then((m) => ({ default: m.Filter })),
  Uses: () => import('./features/uses/Uses').then((m) => ({ default: m.Uses })),
  Certificates: () => import('./features/certificates/Certificates').then((m) => ({ default: m.Certificates })),
  Dates: () => import('./features/dates/Dates').then((m) => ({ default: m.Dates })),
  Drafts: () => import('./features/drafts/Drafts').then((m) => ({ default: m.Drafts })),
  Draft: () => import('./features/drafts/Draft').then((m) => ({ default: m.Draft })),
  Courses: () => import('./features/courses/Courses').then((m) => ({ default: m.Courses })),
  Compare: () => import('./features/trace/Compare').then((m) => ({ default: m.Compare })),
  Without: () => import('./features/without/Without').then((m) => ({ default: m.Without })),
  Answers: () => import('./features/answers/Answers').then((m) => ({ default: m.Answers })),
  Words: () => import('./features/words/Words').then((m) => ({ default: m.Words })),
  Guide: () => import('./features/guide/Guide').then((m) => ({ default: m.Guide })),
  People: () => import('./features/people/People').then((m) => ({ default: m.People })),
  Records: () => import('./features/records/Records'),
};
const Exposure = lazy(views.Exposure);
const Ports = lazy(views.Ports);
const Log = lazy(views.Log);
const Filter = lazy(views.Filter);
const Uses = lazy(views.Uses);
const Certificates = lazy(views.Certificates);
const Dates = lazy(views.Dates);
const Drafts = lazy(views.Drafts);
const Draft = lazy(views.Draft);
const Courses = lazy(views.Courses);
const Compare = lazy(views.Compare);
const Without = lazy(views.Without);
const Answers = lazy(views.Answers);
const Words = lazy(views.Words);
const Guide = lazy(views.Guide);
const People = lazy(views.People);
const Records = lazy(views.Records);

/** Fetches the other views while nobody waits for anything. */
function useViewsAhead() {
  useEffect(() => {
    const id = requestIdleCallback(() => Object.values(views).forEach((view) => void view().catch(() => undefined)));
    return () => cancelIdleCallback(id);
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
                      <Route path="/courses" component={Courses} />
                      <Route path="/compare/:target">{(p) => <Compare target={fromPath(p.target)} />}</Route>
                      <Route path="/answers" component={Answers} />
                      <Route path="/filters/:name">{(p) => <Filter name={fromPath(p.name)} />}</Route>
                      <Route path="/uses/:word">{(p) => <Uses word={fromPath(p.word)} />}</Route>
                      <Route path="/without/:word">{(p) => <Without word={fromPath(p.word)} />}</Route>
                      <Route path="/ports" component={Ports} />
                      <Route path="/exposure" component={Exposure} />
                      <Route path="/certificates" component={Certificates} />
                      <Route path="/drafts" component={Drafts} />
                      <Route path="/drafts/:id">{(p) => <Draft id={Number(p.id)} />}</Route>
                      <Route path="/dates" component={Dates} />
                      <Route path="/findings/:code?/:subject?">
                        {(p) => (
                          <Findings
                            code={p.code ? fromPath(p.code) : ''}
                            subject={p.subject ? fromPath(p.subject) : ''}
                          />
                        )}
                      </Route>
                      <Route path="/records" component={Records} />
                      <Route path="/log" component={Log} />
                      <Route path="/people" component={People} />
                      <Route path="/guide/:id?">{(p) => <Guide id={p.id ? fromPath(p.id) : ''} />}</Route>
                      <Route path="/words" component={Words} />
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
