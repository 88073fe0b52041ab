import '@fontsource-variable/source-sans-3';
import './page.css';
import { QueryClient, QueryClientProvider } from '@tanstack/react-query';
import { ConfigProvider } from 'antd';
import { StrictMode } from 'react';
import { createRoot } from 'react-dom/client';
import { BrowserRouter } from 'react-router';
import { App } from './app';
import { giveStylesTheNonce, nonce } from './nonce';
import { theme } from './theme';

giveStylesTheNonce();
const queries = new QueryClient({
  defaultOptions: { queries: { retry: 1, refetchInterval: 2000 } },
});

const root = document.getElementById('root');
if (root) {
  createRoot(root).render(
    <StrictMode>
      <ConfigProvider theme={theme} {...(nonce ? { csp: { nonce } } : {})}>
        <QueryClientProvider client={queries}>
          <BrowserRouter>
            <App />
          </BrowserRouter>
        </QueryClientProvider>
      </ConfigProvider>
    </StrictMode>,
  );
}
