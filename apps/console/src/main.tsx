import { Component, lazy, StrictMode, Suspense, useEffect, useState, type ReactNode } from 'react';
import { createRoot } from 'react-dom/client';
import { MantineProvider } from '@mantine/core';
import { QueryClient, QueryClientProvider } from '@tanstack/react-query';
import { Route, Switch, useLocation } from 'wouter';
import '@fontsource-variable/source-sans-3';
import '@mantine/core/styles.css';
import './tokens.css';
import { ApiError, fetchMe, onMe } from './api';
import { live } from './live';
import { theme } from './theme';
import type { Me } from './types';
import { w } from './words';
import { Empty, Refused } from './parts/status';
import { Shell } from './shell';
import { LogIn } from './pages/login';
import { Overview } from './pages/overview';

const Plant = lazy(() => import('./pages/plant'));
const NodeView = lazy(() => import('./pages/node'));
const Watch = lazy(() => import('./pages/watch'));
const TrendPage = lazy(() => import('./pages/trend'));
const Pages = lazy(() => import('./pages/operate'));
const Alarms = lazy(() => import('./pages/alarms'));
const Devices = lazy(() => import('./pages/devices'));
const LookPage = lazy(() => import('./pages/look'));
const Access = lazy(() => import('./pages/access'));
const RecordPage = lazy(() => import('./pages/record'));
const ChangesPage = lazy(() => import('./pages/changes'));
const FilesPage = lazy(() => import('./pages/files'));

const queries = new QueryClient({
  defaultOptions: {
    queries: {
      refetchOnWindowFocus: false,
      // What was refused is refused again; only a service that is away is asked again.
      retry: (count, error) => error instanceof ApiError && error.status === 0 && count < 30,
      retryDelay: (count) => Math.min(500 * 2 ** count, 5_000),
    },
  },
});

/** A page that fails leaves the others alone. */
class Fence extends Component<{ children: ReactNode }, { error: unknown }> {
  override state = { error: null as unknown };
  static getDerivedStateFromError(error: unknown) {
    return { error };
  }
  override render() {
    return this.state.error === null ? this.props.children : <Refused error={this.state.error} />;
  }
}

function App() {
  const [path] = useLocation();
  const [me, setMe] = useState<Me | null>(null);
  const [hasEnded, setEnded] = useState(false);
  const [error, setError] = useState<unknown>(null);

  useEffect(() => {
    onMe((now) => {
      if (now) {
        setMe(now);
        setError(null);
        setEnded(false);
      } else {
        setEnded(true);
      }
    });
    fetchMe().catch(setError);
  }, []);
  useEffect(() => {
    if (!hasEnded) return;
    // Where anybody may look around, one goes on doing so; somebody with a name says it again.
    fetchMe().then((now) => now.proof && live.restart(), setError);
  }, [hasEnded]);
  const isIn = me?.proof !== undefined;
  useEffect(() => {
    if (!isIn) return;
    live.start();
    return () => live.stop();
  }, [isIn]);

  if (error && !me)
    return (
      <main className="main">
        <Refused error={error} />
      </main>
    );
  if (!me) return <Empty title={w.loading} />;
  if (!isIn) return <LogIn me={me} hasEnded={hasEnded} isAlone />;
  return (
    <Shell me={me}>
      <Fence key={path}>
      <Suspense fallback={<Empty title={w.loading} />}>
        <Switch>
          <Route path="/">{() => <Overview me={me} />}</Route>
          <Route path="/plant" component={Plant} />
          <Route path="/node/:node">{({ node }) => <NodeView key={node} name={decodeURIComponent(node)} />}</Route>
          <Route path="/watch" component={Watch} />
          <Route path="/trend" component={TrendPage} />
          <Route path="/pages">{() => <Pages me={me} />}</Route>
          <Route path="/pages/:name">{({ name }) => <Pages key={name} me={me} name={decodeURIComponent(name)} />}</Route>
          <Route path="/alarms" component={Alarms} />
          <Route path="/devices">{() => <Devices />}</Route>
          <Route path="/devices-look" component={LookPage} />
          <Route path="/devices/:name">{({ name }) => <Devices name={decodeURIComponent(name)} />}</Route>
          <Route path="/access">{() => <Access me={me} />}</Route>
          <Route path="/record">{() => <RecordPage me={me} />}</Route>
          <Route path="/files" component={FilesPage} />
          <Route path="/changes" component={ChangesPage} />
          <Route path="/login">{() => <LogIn me={me} hasEnded={false} />}</Route>
          <Route path="/first">{() => <LogIn me={me} hasEnded={false} isFirst />}</Route>
          <Route>
            <Empty title={w.notFound.title}>{w.notFound.text}</Empty>
          </Route>
        </Switch>
      </Suspense>
      </Fence>
    </Shell>
  );
}

createRoot(document.getElementById('root')!).render(
  <StrictMode>
    <MantineProvider theme={theme} defaultColorScheme="auto">
      <QueryClientProvider client={queries}>
        <App />
      </QueryClientProvider>
    </MantineProvider>
  </StrictMode>,
);
