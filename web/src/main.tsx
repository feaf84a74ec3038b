import './fonts.css';
import { StrictMode } from 'react';
import { createRoot } from 'react-dom/client';
import { App, firstView } from './App';

/** How long the frame waits for the view that is to be in it, in milliseconds. */
const patience = 300;

const root = document.getElementById('root');
if (root) {
  const show = () =>
    createRoot(root).render(
      <StrictMode>
        <App />
      </StrictMode>,
    );
  const waited = new Promise((resolve) => setTimeout(resolve, patience));
  void Promise.race([firstView().catch(() => undefined), waited]).then(show);
}
