// The look: every colour, size and typeface of the console. Components name a
// token; which value it has is decided here, for light and for dark.
import { createGlobalStyle, css } from 'styled-components';

const light = {
  plaster: '#F6F3EC', panel: '#FFFDF8', grout: '#DAD3C5', ink: '#1E2530', faint: '#5C6470', lapis: '#2457A6', onLapis: '#FFFDF8',
  passed: '#1F7A6D', failed: '#B8402A', crashed: '#7E1F3F', flaky: '#A67C14', expired: '#8A5A1C', lost: '#5E568F', hollow: '#7C776B',
  hover: '#EFEADF', chosen: '#E3EBF6', veil: 'rgba(30, 37, 48, 0.45)',
};
const dark: typeof light = {
  plaster: '#15181E', panel: '#1D2129', grout: '#343A45', ink: '#ECE8DF', faint: '#9BA3AF', lapis: '#8FB4F2', onLapis: '#15181E',
  passed: '#5CC4B3', failed: '#F08A70', crashed: '#E07B9D', flaky: '#E3BE62', expired: '#D9A566', lost: '#A9A1DC', hollow: '#8D8A82',
  hover: '#252A33', chosen: '#24344F', veil: 'rgba(0, 0, 0, 0.6)',
};

type Token = keyof typeof light;
const names = Object.keys(light) as Token[];

/** The tokens, as CSS variables. */
export const c = Object.fromEntries(names.map((n) => [n, `var(--${n})`])) as Record<Token, string>;
export const mono = "'JetBrains Mono Variable', ui-monospace, monospace";
export const radius = '3px';
export const row = 32; // px: the height of a row in lists
export const narrow = '@media (max-width: 720px)';

const values = (t: typeof light) => names.map((n) => `--${n}: ${t[n]};`).join('');

export const Look = createGlobalStyle`
  :root { ${values(light)} color-scheme: light; }
  @media (prefers-color-scheme: dark) { :root { ${values(dark)} color-scheme: dark; } }
  :root[data-look='light'] { ${values(light)} color-scheme: light; }
  :root[data-look='dark'] { ${values(dark)} color-scheme: dark; }
  * { box-sizing: border-box; }
  body { margin: 0; background: ${c.plaster}; color: ${c.ink}; font: 15px/22px 'Inter Variable', system-ui, sans-serif; }
  h1, h2, h3, p, dl, dd, ul, ol, pre, figure { margin: 0; padding: 0; }
  h1 { font-size: 22px; line-height: 30px; font-weight: 620; letter-spacing: -0.01em; overflow-wrap: anywhere; }
  h2 { font-size: 15px; line-height: 22px; font-weight: 620; }
  ul, ol { list-style: none; }
  table { border-collapse: collapse; font-variant-numeric: tabular-nums; }
  code, pre, kbd { font-family: ${mono}; font-size: 13px; line-height: 20px; }
  body { font-variant-ligatures: none; } /* in a command >= must not look like another sign */
  a { color: ${c.lapis}; text-decoration: none; }
  a:hover { text-decoration: underline; }
  :focus-visible { outline: 2px solid ${c.lapis}; outline-offset: 1px; }
  @media (prefers-reduced-motion: reduce) { *, ::before, ::after { animation: none !important; transition: none !important; } }
`;

/** For screen readers alone. */
export const unseen = css`
  position: absolute; width: 1px; height: 1px; overflow: hidden; clip-path: inset(50%); white-space: nowrap;
`;

export type LookChoice = 'system' | 'light' | 'dark';

export function lookChosen(): LookChoice {
  const v = localStorage.getItem('look');
  return v === 'light' || v === 'dark' ? v : 'system';
}

/** Takes a look, now and at the next visit; 'system' follows the system. */
export function takeLook(look: LookChoice) {
  if (look === 'system') localStorage.removeItem('look');
  else localStorage.setItem('look', look);
  wearLook();
}

export function wearLook() {
  const look = lookChosen();
  if (look === 'system') delete document.documentElement.dataset['look'];
  else document.documentElement.dataset['look'] = look;
}
