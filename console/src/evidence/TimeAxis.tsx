// An attempt on one time axis, with the cursor that can be moved along it. What is shown is lanes, one below the other.
// A part of the time is zoomed to by drawing over it; a double press shows all of it again.
import { memo, useRef, useState, type PointerEvent, type ReactNode } from 'react';
import { Slider, SliderThumb, SliderTrack } from 'react-aria-components';
import styled from 'styled-components';
import { c } from '../theme';
import { clock } from '../words';
import { useCursor, type Cursor } from './cursor';
import { isWhole, within, type Span } from './span';

/** One lane: so many pixels high, drawn over the whole width. Widths are in units of 1000 for the whole axis. */
export interface Lane {
  name: string; // for the line below the axis
  height: number; // px; 0: it lies over all the others
  draw: (x: (ms: number) => number, height: number) => ReactNode;
}

const Axis = styled(Slider)`display: block; width: 100%;`;
const Track = styled(SliderTrack)`
  position: relative; background: ${c.panel}; border: 1px solid ${c.grout}; overflow: hidden;
  svg { position: absolute; inset: 0; width: 100%; height: 100%; pointer-events: none; }
`;
const Thumb = styled(SliderThumb)`
  top: 50%; width: 3px; background: ${c.lapis}; border-radius: 2px; z-index: 2;
  &[data-focus-visible] { outline: 2px solid ${c.lapis}; outline-offset: 3px; }
  &::before { content: ''; position: absolute; inset: 0 -5px; cursor: ew-resize; }
`;
const Over = styled.div`position: absolute; inset: 0; z-index: 1; cursor: crosshair; touch-action: pan-y;`;
const Drawing = styled.div`position: absolute; top: 0; bottom: 0; background: ${c.lapis}; opacity: 0.18; pointer-events: none;`;
const Key = styled.p`
  display: flex; justify-content: space-between; font-size: 12px; line-height: 16px; color: ${c.faint};
  font-variant-numeric: tabular-nums; gap: 12px;
  button { all: unset; cursor: pointer; color: ${c.lapis}; }
  button:focus-visible { outline: 2px solid ${c.lapis}; outline-offset: 1px; }
`;

const heightOf = (lanes: Lane[]) => lanes.reduce((h, l) => h + l.height, 0);

const Drawn = memo(function Drawn({ lanes, span }: { lanes: Lane[]; span: Span }) {
  const x = (ms: number) => (1000 * (ms - span.from)) / Math.max(span.to - span.from, 1);
  const all = heightOf(lanes);
  const tops = lanes.map((l, i) => (l.height ? heightOf(lanes.slice(0, i)) : 0));
  return (
    <svg viewBox={`0 0 1000 ${all}`} preserveAspectRatio="none" aria-hidden>
      {lanes.map((l, i) => <g key={l.name} transform={`translate(0 ${tops[i]})`}>{l.draw(x, l.height || all)}</g>)}
    </svg>
  );
});

const drags = 5; // px: less is a press

export function TimeAxis({ lanes, end, cursor, span, onSpan }: {
  lanes: Lane[]; end: number; cursor: Cursor; span: Span; onSpan: (s: Span) => void;
}) {
  const at = useCursor(cursor, (s) => Math.min(Math.round(s.at), end));
  const height = heightOf(lanes);
  const box = useRef<HTMLDivElement>(null);
  const [drawn, setDrawn] = useState<[number, number]>(); // px
  const whole = isWhole(span, end);
  const place = (e: PointerEvent) => {
    const r = box.current!.getBoundingClientRect();
    return Math.min(Math.max(e.clientX - r.left, 0), r.width);
  };
  const time = (px: number) => span.from + ((span.to - span.from) * px) / Math.max(box.current!.clientWidth, 1);
  function press(e: PointerEvent) {
    if (e.button !== 0) return;
    e.stopPropagation();
    e.currentTarget.setPointerCapture(e.pointerId);
    const px = place(e);
    setDrawn([px, px]);
  }
  function release(e: PointerEvent) {
    if (!drawn) return;
    setDrawn(undefined);
    const [from, to] = [Math.min(drawn[0], place(e)), Math.max(drawn[0], place(e))];
    if (to - from < drags) cursor.move(Math.round(time(to)), 'axis');
    else onSpan(within({ from: time(from), to: time(to) }, end));
  }
  const out = at < span.from || at > span.to;
  return (
    <div>
      <Axis
        aria-label="Moment of the attempt"
        minValue={span.from}
        maxValue={Math.max(span.to, span.from + 1)}
        step={1}
        value={Math.min(Math.max(at, span.from), span.to)}
        onChange={(v) => cursor.move(v as number, 'axis')}
        formatOptions={{ maximumFractionDigits: 0 }}
      >
        <Track style={{ height }}>
          <Drawn lanes={lanes} span={span} />
          <Over
            ref={box}
            data-axis=""
            onPointerDown={press}
            onMouseDown={(e) => e.stopPropagation()} // the track below would take it for a press on itself
            onTouchStart={(e) => e.stopPropagation()}
            onPointerMove={(e) => drawn && setDrawn([drawn[0], place(e)])}
            onPointerUp={release}
            onPointerCancel={() => setDrawn(undefined)}
            onDoubleClick={() => onSpan({ from: 0, to: end })}
          >
            {drawn && Math.abs(drawn[1] - drawn[0]) >= drags && (
              <Drawing style={{ left: Math.min(...drawn), width: Math.abs(drawn[1] - drawn[0]) }} />
            )}
          </Over>
          <Thumb style={{ height: height + 8, opacity: out ? 0.25 : 1 }} />
        </Track>
      </Axis>
      <Key>
        <span>{clock(span.from)}</span>
        <span aria-hidden>{lanes.map((l) => l.name).join(' · ')}</span>
        {!whole && <button type="button" onClick={() => onSpan({ from: 0, to: end })}>Show all of it</button>}
        <span>{clock(span.to)}</span>
      </Key>
    </div>
  );
}
