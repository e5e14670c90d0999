// A tile: the sign of a verdict. Each has a colour and a cut of its own, so that it
// is known without its colour too. A tile is one box with a drawn background: a page may
// show thousands, and the browser repaints boxes far quicker than pictures.
import { memo, type ReactNode } from 'react';
import styled, { keyframes } from 'styled-components';
import { c, unseen } from '../theme';

const turn = keyframes`to { transform: rotate(1turn); }`;
const framed = (colour: string) => `box-shadow: inset 0 0 0 max(1px, calc(var(--size) / 12)) ${colour};`;
const sides = (colour: string) => ['to right', 'to left', 'to bottom', 'to top'].map((to) => `linear-gradient(${to}, ${colour} max(1px, 8%), transparent 0)`);

const Box = styled.i`
  display: block; flex: none; width: var(--size); height: var(--size); print-color-adjust: exact; forced-color-adjust: none;
  &[data-verdict='passed'] { background: ${c.passed}; }
  &[data-verdict='failed'] { background: linear-gradient(135deg, ${c.failed} 43%, transparent 43% 57%, ${c.failed} 57%); }
  &[data-verdict='crashed'] { background: conic-gradient(from 24deg at 40% 46%, ${c.crashed} 78deg, transparent 0 92deg, ${c.crashed} 0 232deg, transparent 0 246deg, ${c.crashed} 0 346deg, transparent 0); }
  &[data-verdict='flaky'] { background: conic-gradient(transparent 25%, ${c.flaky} 0 50%, transparent 0 75%, ${c.flaky} 0); ${framed(c.flaky)} }
  &[data-verdict='expired'] { background: linear-gradient(transparent 50%, ${c.expired} 0); ${framed(c.expired)} }
  &[data-verdict='lost'] { background: linear-gradient(${c.lost}, ${c.lost}) right top / 8% 30% no-repeat, linear-gradient(${c.lost}, ${c.lost}) right bottom / 8% 30% no-repeat, ${sides(c.lost).filter((_, i) => i !== 1).join(', ')}; }
  &[data-verdict='skipped'] { ${framed(c.hollow)} }
  &[data-verdict='stopped'] { background: linear-gradient(${c.hollow}, ${c.hollow}) center / 50% 16% no-repeat; ${framed(c.hollow)} }
  &[data-verdict='invalid'] { background: linear-gradient(45deg, transparent 46%, ${c.hollow} 46% 54%, transparent 54%), linear-gradient(135deg, transparent 46%, ${c.hollow} 46% 54%, transparent 54%); ${framed(c.hollow)} }
  &[data-verdict='waiting'] { border: max(1px, calc(var(--size) / 12)) dotted ${c.hollow}; }
  &[data-verdict='running'] { background: conic-gradient(${c.lapis} 25%, transparent 0) center / 64% 64% no-repeat; ${framed(c.lapis)} }
  &[data-verdict='running'][data-turns='true'] { background: none; position: relative; }
  &[data-verdict='running'][data-turns='true']::after { content: ''; position: absolute; inset: 18%; background: conic-gradient(${c.lapis} 25%, transparent 0); animation: ${turn} 2.4s linear infinite; border-radius: 50%; }
`;

const Said = styled.span`${unseen}`;

/** A tile of so many pixels. With `said`, screen readers hear it; else a text beside it must say the same. One that runs turns only with `turns`: each that does is a layer of its own for the browser, too many where there are hundreds. */
export const Tile = memo(function Tile({ what, size = 16, said = false, turns = false }: { what: string; size?: number; said?: boolean; turns?: boolean }) {
  return (
    <>
      <Box aria-hidden data-verdict={what} data-turns={turns} style={{ '--size': `${size}px` } as React.CSSProperties} />
      {said && <Said>{what}</Said>}
    </>
  );
});

const Line = styled.span`display: inline-flex; align-items: center; gap: 8px; white-space: nowrap;`;

/** A tile and its word. */
export function VerdictWord({ what, size = 12, turns, children }: { what: string; size?: number; turns?: boolean; children?: ReactNode }) {
  return (
    <Line>
      <Tile what={what} size={size} turns={turns} />
      {children ?? what}
    </Line>
  );
}
