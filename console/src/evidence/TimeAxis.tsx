// An attempt on one time axis, with the cursor that can be drawn along it. What is shown is lanes, one below the other.
import { memo, type ReactNode } from 'react';
import { Slider, SliderThumb, SliderTrack } from 'react-aria-components';
import styled from 'styled-components';
import { c } from '../theme';
import { clock } from '../words';
import { useCursor, type Cursor } from './cursor';

/** One lane: so many pixels high, drawn over the whole width. Widths are in units of 1000 for the whole axis. */
export interface Lane {
  name: string; // for the line below the axis
  height: number; // px; 0: it lies over all the others
  draw: (x: (ms: number) => number, height: number) => ReactNode;
}

const Axis = styled(Slider)`display: block; width: 100%;`;
const Track = styled(SliderTrack)`
  position: relative; background: ${c.panel}; border: 1px solid ${c.grout}; cursor: crosshair;
  svg { position: absolute; inset: 0; width: 100%; height: 100%; pointer-events: none; }
`;
const Thumb = styled(SliderThumb)`
  top: 50%; width: 3px; background: ${c.lapis}; border-radius: 2px;
  &[data-focus-visible] { outline: 2px solid ${c.lapis}; outline-offset: 3px; }
`;
const Key = styled.p`
  display: flex; justify-content: space-between; font-size: 12px; line-height: 16px; color: ${c.faint};
  font-variant-numeric: tabular-nums; gap: 12px;
`;

const heightOf = (lanes: Lane[]) => lanes.reduce((h, l) => h + l.height, 0);

const Drawn = memo(function Drawn({ lanes, end }: { lanes: Lane[]; end: number }) {
  const x = (ms: number) => (1000 * Math.min(Math.max(ms, 0), end)) / end;
  const all = heightOf(lanes);
  const tops = lanes.map((l, i) => (l.height ? heightOf(lanes.slice(0, i)) : 0));
  return (
    <svg viewBox={`0 0 1000 ${all}`} preserveAspectRatio="none" aria-hidden>
      {lanes.map((l, i) => <g key={l.name} transform={`translate(0 ${tops[i]})`}>{l.draw(x, l.height || all)}</g>)}
    </svg>
  );
});

export function TimeAxis({ lanes, end, cursor }: { lanes: Lane[]; end: number; cursor: Cursor }) {
  const at = useCursor(cursor, (s) => Math.min(Math.round(s.at), end));
  const height = heightOf(lanes);
  return (
    <div>
      <Axis
        aria-label="Moment of the attempt"
        minValue={0}
        maxValue={end}
        step={1}
        value={at}
        onChange={(v) => cursor.move(v as number, 'axis')}
        formatOptions={{ maximumFractionDigits: 0 }}
      >
        <Track style={{ height }}>
          <Drawn lanes={lanes} end={end} />
          <Thumb style={{ height: height + 8 }} />
        </Track>
      </Axis>
      <Key aria-hidden><span>0:00</span><span>{lanes.map((l) => l.name).join(' · ')}</span><span>{clock(end)}</span></Key>
    </div>
  );
}
