// The tokens of the look: a sea chart by day, the night bridge by dark. How far in something is, is
// read from the ground it stands on; magenta means "look here", and nothing else.
import 'styled-components';

export interface Tokens {
  ground: string;
  panel: string;
  ink: string;
  ink2: string;
  faint: string;
  hairline: string;
  rule: string;
  magenta: string;
  magentaWash: string;
  water: string;
  shallows: string;
  shallowsHead: string;
  land: string;
  landHead: string;
  hover: string;
  onInk: string;
}

export const day: Tokens = {
  ground: '#F8F9F7',
  panel: '#FFFFFF',
  ink: '#0E2640',
  ink2: '#475A6E',
  faint: '#8794A1',
  hairline: '#DDE2E4',
  rule: '#B9C3CA',
  magenta: '#B0126B',
  magentaWash: '#FFFFFF',
  water: '#FFFFFF',
  shallows: '#EBF3F9',
  shallowsHead: '#DCE9F2',
  land: '#FAF4E4',
  landHead: '#F5EBCF',
  hover: '#EEF1F1',
  onInk: '#FFFFFF',
};

export const night: Tokens = {
  ground: '#0B141E',
  panel: '#101C29',
  ink: '#D3DCE4',
  ink2: '#9AABBB',
  faint: '#64778A',
  hairline: '#1E2D3C',
  rule: '#33475A',
  magenta: '#F07DB8',
  magentaWash: '#1B1422',
  water: '#101C29',
  shallows: '#10263A',
  shallowsHead: '#163149',
  land: '#211F17',
  landHead: '#2D2A1D',
  hover: '#182635',
  onInk: '#0B141E',
};

/** The type sizes. */
export const size = {
  small: '11.5px',
  plain: '12px',
  text: '13px',
  lead: '15px',
  head: '17px',
  title: '21px',
} as const;

declare module 'styled-components' {
  // eslint-disable-next-line @typescript-eslint/no-empty-object-type
  export interface DefaultTheme extends Tokens {}
}
