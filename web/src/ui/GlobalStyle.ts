import { createGlobalStyle } from 'styled-components';
import { size } from './theme';

export const GlobalStyle = createGlobalStyle`
  * { box-sizing: border-box; }
  html, body, #root { height: 100%; }
  body {
    margin: 0;
    background: ${(p) => p.theme.ground};
    color: ${(p) => p.theme.ink};
    font: 13px/18px 'IBM Plex Sans Variable', system-ui, sans-serif;
    font-feature-settings: 'tnum', 'zero';
    -webkit-font-smoothing: antialiased;
  }
  code, kbd, .mono, input, textarea { font-family: 'IBM Plex Mono', ui-monospace, monospace; font-size: ${size.plain}; font-feature-settings: 'zero'; }
  button { font: inherit; color: inherit; }
  a { color: inherit; text-decoration: none; }
  h1, h2, h3, p { margin: 0; font-weight: inherit; font-size: inherit; }
  :focus-visible { outline: 2px solid ${(p) => p.theme.ink}; outline-offset: 1px; }
  /* Where the system chooses the colours, what is chosen is said by a line: grounds and shadows are not there. */
  @media (forced-colors: active) {
    [aria-selected='true'], [aria-pressed='true'], [aria-current='page'] { outline: 2px solid Highlight; outline-offset: -2px; }
    :focus-visible { outline-color: CanvasText; }
    svg path, svg rect, svg circle, svg line { stroke: CanvasText; }
  }
  ::selection { background: ${(p) => p.theme.shallowsHead}; }
  ::placeholder { color: ${(p) => p.theme.ink2}; opacity: 1; }
  .visually-hidden { position: absolute; width: 1px; height: 1px; overflow: hidden; clip-path: inset(50%); white-space: nowrap; }
  :where([data-altered]) { position: relative; }
  [data-altered]::before { content: ''; position: absolute; left: 0; top: 0; bottom: 0; width: 4px; background: ${(p) => p.theme.ink}; }
  @media (prefers-reduced-motion: reduce) { * { transition: none !important; animation: none !important; scroll-behavior: auto !important; } }
  .print-only { display: none; }
  @media print {
    nav, aside, footer, .no-print, [role='combobox'], #bearing, .cm-editor { display: none !important; }
    .print-only { display: block; white-space: pre-wrap; overflow-wrap: anywhere; font: 9.5pt/13pt 'IBM Plex Mono', monospace; padding: 0 24px; }
    html, body, #root, #root > div, #root > div > div { height: auto !important; min-width: 0 !important; }
    #root > div, #root > div > div, main, main > div, main > div > div { display: block !important; }
    #root * { overflow: visible !important; max-height: none !important; }
    body { background: #fff; }
  }
`;
