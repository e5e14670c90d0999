// A tile: the sign of a verdict. Each has a colour and a cut of its own, so that it
// is known without its colour too.
import { memo, type ReactElement } from 'react';
import styled, { css, keyframes } from 'styled-components';
import { c, unseen } from '../theme';

const fill = keyframes`to { transform: rotate(1turn); }`;

const Box = styled.svg<{ $going: boolean }>`
  display: block; flex: none; overflow: visible;
  .turns { transform-origin: 8px 8px; ${(p) => p.$going && css`animation: ${fill} 2.4s linear infinite;`} }
`;

const hollow = (colour: string, more?: ReactElement) => (
  <>
    <rect x="0.75" y="0.75" width="14.5" height="14.5" fill="none" stroke={colour} strokeWidth="1.5" />
    {more}
  </>
);

// All are drawn in a square of 16.
const cuts: Record<string, ReactElement> = {
  passed: <rect width="16" height="16" fill={c.passed} />,
  failed: <path d="M0 0h13.6L0 13.6zM16 2.4V16H2.4z" fill={c.failed} />,
  crashed: <path d="M0 0h9.2L6 7.4 0 5.6zM11 0h5v9.4L7.6 8zM0 7.4l6.4 2 8.8 1.8L16 16H0z" fill={c.crashed} />,
  flaky: <path d="M0 0h8v8H0zM8 8h8v8H8z" fill={c.flaky} stroke={c.flaky} />,
  expired: hollow(c.expired, <path d="M0 8h16v8H0z" fill={c.expired} />),
  lost: <path d="M16 5V.75H.75v14.5H15.25V11" fill="none" stroke={c.lost} strokeWidth="1.5" />,
  skipped: hollow(c.hollow),
  stopped: hollow(c.hollow, <path d="M4 8h8" stroke={c.hollow} strokeWidth="2.5" />),
  invalid: hollow(c.hollow, <path d="M3 3l10 10M13 3L3 13" stroke={c.hollow} strokeWidth="1.5" />),
  waiting: <rect x="0.75" y="0.75" width="14.5" height="14.5" fill="none" stroke={c.hollow} strokeWidth="1.5" strokeDasharray="2 2.1" />,
  running: hollow(c.lapis, <path className="turns" d="M8 8V3A5 5 0 0 1 13 8z" fill={c.lapis} />),
};

const Said = styled.span`${unseen}`;

/** A tile of so many pixels. With `said`, screen readers hear it; else a text beside it must say the same. */
export const Tile = memo(function Tile({ what, size = 16, said = false }: { what: string; size?: number; said?: boolean }) {
  return (
    <>
      <Box width={size} height={size} viewBox="0 0 16 16" aria-hidden $going={what === 'running'} data-verdict={what}>
        {cuts[what] ?? cuts['skipped']}
      </Box>
      {said && <Said>{what}</Said>}
    </>
  );
});

const Line = styled.span`display: inline-flex; align-items: center; gap: 8px; white-space: nowrap;`;

/** A tile and its word. */
export function VerdictWord({ what, size = 12, children }: { what: string; size?: number; children?: React.ReactNode }) {
  return (
    <Line>
      <Tile what={what} size={size} />
      {children ?? what}
    </Line>
  );
}
