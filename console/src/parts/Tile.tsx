// A tile: the sign of a verdict. Each has a colour and a cut of its own, so that it
// is known without its colour too. A tile is one box with a drawn background: a page may
// show thousands, and the browser repaints boxes far quicker than pictures.
import { memo, type ReactNode } from 'react';
import styled, { css } from 'styled-components';
import { c, unseen } from '../theme';

const framed = (colour: string) => `box-shadow: inset 0 0 0 max(1px, calc(var(--size) / 12)) ${colour};`;
const sides = (colour: string) =>
  ['to right', 'to left', 'to bottom', 'to top'].map((to) => `linear-gradient(${to}, ${colour} max(1px, 8%), transparent 0)`);

const cross = (angle: string) => `linear-gradient(${angle}, transparent 46%, ${c.hollow} 46% 54%, transparent 54%)`;
const corner = (at: string) => `linear-gradient(${c.lost}, ${c.lost}) right ${at} / 8% 30% no-repeat`;
const shards = `${c.crashed} 76deg, transparent 0 94deg, ${c.crashed} 0 230deg, transparent 0 248deg, ${c.crashed} 0 342deg, transparent 0`;

/** How each verdict's tile is cut. */
const cuts: Record<string, string> = {
  passed: `background: ${c.passed};`,
  failed: `background: linear-gradient(135deg, ${c.failed} 43%, transparent 43% 57%, ${c.failed} 57%);`,
  crashed: `background: conic-gradient(from 24deg at 40% 46%, ${shards});`,
  flaky: `background: conic-gradient(transparent 25%, ${c.flaky} 0 50%, transparent 0 75%, ${c.flaky} 0); ${framed(c.flaky)}`,
  expired: `background: linear-gradient(transparent 50%, ${c.expired} 0); ${framed(c.expired)}`,
  lost: `background: ${corner('top')}, ${corner('bottom')}, ${sides(c.lost).filter((_, i) => i !== 1).join(', ')};`,
  skipped: framed(c.hollow),
  stopped: `background: linear-gradient(${c.hollow}, ${c.hollow}) center / 50% 16% no-repeat; ${framed(c.hollow)}`,
  invalid: `background: ${cross('45deg')}, ${cross('135deg')}; ${framed(c.hollow)}`,
  waiting: `border: max(1px, calc(var(--size) / 12)) dotted ${c.hollow};`,
  running: `background: conic-gradient(${c.lapis} var(--share), transparent 0) center / 64% 64% no-repeat; ${framed(c.lapis)}`,
};

/** What makes an element with data-verdict a tile: for one of its own, or for a thousand in a table. */
export const tileCSS = css`
  display: block; flex: none; width: var(--size); height: var(--size); print-color-adjust: exact; forced-color-adjust: none;
  ${() => Object.entries(cuts).map(([verdict, rules]) => `&[data-verdict='${verdict}'] { ${rules} }`).join('\n')}
`;
const Box = styled.i`${tileCSS}`;

const Said = styled.span`${unseen}`;

/**
 * A tile of so many pixels; one that runs is filled as far as `share`, 0 to 1.
 * With `said`, screen readers hear it; else a text beside it must say the same.
 */
export const Tile = memo(function Tile({
  what,
  size = 16,
  said = false,
  share = 0.25,
}: {
  what: string;
  size?: number;
  said?: boolean;
  share?: number;
}) {
  return (
    <>
      <Box
        aria-hidden
        data-verdict={what}
        style={{ '--size': `${size}px`, '--share': `${Math.max(4, 100 * share)}%` }}
      />
      {said && <Said>{what}</Said>}
    </>
  );
});

const Line = styled.span`display: inline-flex; align-items: center; gap: 8px; white-space: nowrap;`;

/** A tile and its word. */
export function VerdictWord({ what, size = 12, children }: { what: string; size?: number; children?: ReactNode }) {
  return (
    <Line>
      <Tile what={what} size={size} />
      {children ?? what}
    </Line>
  );
}
