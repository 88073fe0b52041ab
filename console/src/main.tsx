import '@fontsource-variable/source-sans-3';
import './page.css';
import { QueryCache, QueryClient, QueryClientProvider } from '@tanstack/react-query';
import { App as AntApp, ConfigProvider } from 'antd';
import { StrictMode, useState } from 'react';
import { createRoot } from 'react-dom/client';
import { BrowserRouter } from 'react-router';
import { Refusal } from './api/client';
import { App } from './app';
import { giveStylesTheNonce, nonce } from './nonce';
import { PreferencesProvider } from './preferences';
import { TimeScopeProvider } from './time/scope';
import { applyMode, firstMode, keepMode, themeOf } from './theme';
import type { Mode } from './theme';

giveStylesTheNonce();
applyMode(firstMode());

const queries = new QueryClient({
  queryCache: new QueryCache({
    onError(error) {
      // The session has ended: the sign-in form appears, and afterwards the same page.
      if (error instanceof Refusal && error.status === 401) {
        queries.setQueryData(['session'], {});
      }
    },
  }),
  defaultOptions: { queries: { retry: false, refetchOnWindowFocus: false } },
});

function Root() {
  const [mode, setMode] = useState(firstMode);
  const change = (next: Mode) => {
    keepMode(next);
    applyMode(next);
    setMode(next);
  };
  return (
    <ConfigProvider theme={themeOf(mode)} {...(nonce ? { csp: { nonce } } : {})}>
      <AntApp>
        <QueryClientProvider client={queries}>
          <PreferencesProvider>
            {/* A key acts on what the one before it selected: what an address says is shown at once. */}
            <BrowserRouter useTransitions={false}>
              <TimeScopeProvider>
                <App mode={mode} onMode={change} />
              </TimeScopeProvider>
            </BrowserRouter>
          </PreferencesProvider>
        </QueryClientProvider>
      </AntApp>
    </ConfigProvider>
  );
}

const root = document.getElementById('root');
if (root) {
  createRoot(root).render(
    <StrictMode>
      <Root />
    </StrictMode>,
  );
}
