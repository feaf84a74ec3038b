import { QueryClientProvider } from '@tanstack/react-query';
import { lazy, Suspense, useEffect, useState } from 'react';
import { ThemeProvider } from 'styled-components';
import { Route, Switch } from 'wouter';
import { queries } from './api/client';
import { Frame } from './parts/Frame';
import { GlobalStyle } from './parts/GlobalStyle';
import { Quiet } from './parts/Quiet';
import { Wreck } from './parts/Wreck';
import { usePrinting } from './parts/print';
import { fromPath } from './parts/route';
import { SessionProvider } from './parts/session';
import { day, night } from './theme';
import { Findings } from './views/Findings';
import { Names } from './views/Names';
import { Trace } from './views/Trace';

// The views that one goes to and fro between come with the page; the others when they are asked for, or once the page has nothing else to do.
const views = {
  Exposure: () => import('./views/Exposure').then((m) => ({ default: m.Exposure })),
  Ports: () => import('./views/Ports').then((m) => ({ default: m.Ports })),
  Log: () => import('./views/Log').then((m) => ({ default: m.Log })),
  Filter: () => import('./views/Filter').then((m) => ({ default: m.Filter })),
  Uses: () => import('./views/Uses').then((m) => ({ default: m.Uses })),
  Certificates: () => import('./views/Certificates').then((m) => ({ default: m.Certificates })),
  Without: () => import('./views/Without').then((m) => ({ default: m.Without })),
  Answers: () => import('./views/Answers').then((m) => ({ default: m.Answers })),
  Words: () => import('./views/Words').then((m) => ({ default: m.Words })),
  Records: () => import('./views/Records'),
};
const Exposure = lazy(views.Exposure);
const Ports = lazy(views.Ports);
const Log = lazy(views.Log);
const Filter = lazy(views.Filter);
const Uses = lazy(views.Uses);
const Certificates = lazy(views.Certificates);
const Without = lazy(views.Without);
const Answers = lazy(views.Answers);
const Words = lazy(views.Words);
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

export function App() {
  const [dark, turn] = useLight();
  const paper = usePrinting();
  useViewsAhead();
  return (
    <QueryClientProvider client={queries}>
      <ThemeProvider theme={dark && !paper ? night : day}>
        <GlobalStyle />
        <SessionProvider>
          <Wreck>
            <Frame dark={dark} onTurn={turn}>
              <Wreck>
                <Suspense fallback={<Quiet>Opening…</Quiet>}>
                  <Switch>
                    <Route path="/" component={Names} />
                    <Route path="/trace/:target">{(p) => <Trace target={fromPath(p.target)} />}</Route>
                    <Route path="/answers" component={Answers} />
                    <Route path="/filters/:name">{(p) => <Filter name={fromPath(p.name)} />}</Route>
                    <Route path="/uses/:word">{(p) => <Uses word={fromPath(p.word)} />}</Route>
                    <Route path="/without/:word">{(p) => <Without word={fromPath(p.word)} />}</Route>
                    <Route path="/ports" component={Ports} />
                    <Route path="/exposure" component={Exposure} />
                    <Route path="/certificates" component={Certificates} />
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
      </ThemeProvider>
    </QueryClientProvider>
  );
}
