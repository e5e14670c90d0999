// The console's start.
import '@fontsource-variable/inter/wght.css';
import '@fontsource-variable/jetbrains-mono/wght.css';
import { QueryClientProvider } from '@tanstack/react-query';
import { StrictMode } from 'react';
import { createRoot } from 'react-dom/client';
import { BrowserRouter } from 'react-router';
import { StyleSheetManager } from 'styled-components';
import { App, loadEarly } from './app';
import { client } from './data/queries';
import { Look, wearLook } from './theme';

wearLook();
loadEarly(location.pathname);
// The service's policy lets in only styles that know this page's nonce.
const nonce = document.querySelector<HTMLMetaElement>('meta[property="csp-nonce"]')?.nonce;

createRoot(document.getElementById('root')!).render(
  <StrictMode>
    <StyleSheetManager nonce={nonce}>
      <Look />
      <QueryClientProvider client={client}>
        <BrowserRouter>
          <App />
        </BrowserRouter>
      </QueryClientProvider>
    </StyleSheetManager>
  </StrictMode>,
);
