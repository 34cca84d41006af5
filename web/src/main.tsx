import './nonce';
import '@fontsource-variable/source-sans-3/wght.css';
import '@fontsource/source-serif-4/600.css';
import '@fontsource-variable/jetbrains-mono/wght.css';
import './styles/colours.css';
import './styles/base.css';
import './styles/shared.css';
import { StrictMode } from 'react';
import { createRoot } from 'react-dom/client';
import { Application } from './Application';

createRoot(document.getElementById('root')!).render(
  <StrictMode>
    <Application />
  </StrictMode>,
);
