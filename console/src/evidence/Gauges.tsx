// All gauges of an attempt, one below the other, on the time that the axis shows; with the value at the cursor.
import { memo, useMemo, useRef, useState, useLayoutEffect } from 'react';
import styled from 'styled-components';
import type { Gauges as Read } from '../data/api';
import { Refused, Sub } from '../parts/page';
import { c, mono, narrow } from '../theme';
import { clock } from '../words';
import { useCursor, type Cursor } from './cursor';
import { path, top, valueAt, withUnit, type Series } from './series';
import type { Span } from './span';

const List = styled.div`
  height: 100%; overflow: auto; border: 1px solid ${c.grout}; background: ${c.panel}; @media (max-width: 1000px) { height: 420px; }
`;
const Chart = styled.div`
  position: relative; height: 52px; border-bottom: 1px solid ${c.grout}; cursor: crosshair; overflow: hidden; contain: strict;
  &:last-child { border-bottom: 0; }
  svg { position: absolute; inset: 8px 0 2px; width: 100%; height: 42px; }
`;
const Said = styled.p<{ $right?: boolean }>`
  position: absolute; top: 2px; ${(p) => (p.$right ? 'right: 8px;' : 'left: 8px;')}
  font-size: 12px; line-height: 16px; color: ${c.faint}; white-space: nowrap;
  background: color-mix(in srgb, ${c.panel} 80%, transparent); padding: 0 4px; pointer-events: none; font-variant-numeric: tabular-nums;
  strong { color: ${c.ink}; font-weight: 560; }
`;
const Roomy = styled.span`${narrow} { display: none; }`;
const Value = styled.b`font-family: ${mono}; font-size: 12px; font-weight: 560; color: ${c.ink};`;
const Line = styled.i`position: absolute; top: 0; bottom: 0; width: 1px; background: ${c.lapis}; pointer-events: none;`;

const Drawn = memo(function Drawn({ at, s, span, wide }: { at: number[]; s: Series; span: Span; wide: number }) {
  const x = (ms: number) => (wide * (ms - span.from)) / Math.max(span.to - span.from, 1);
  const d = path(at, s.values, x, wide, 40, top(s));
  return (
    <svg viewBox={`0 0 ${wide} 42`} preserveAspectRatio="none" aria-hidden>
      <path
        d={d}
        transform="translate(0 1)"
        fill="none"
        stroke={s.device ? c.hollow : c.lapis}
        strokeWidth={1.2}
        strokeLinejoin="round"
        vectorEffect="non-scaling-stroke"
      />
    </svg>
  );
});

function Now({ at, s, cursor }: { at: number[]; s: Series; cursor: Cursor }) {
  const v = useCursor(cursor, (x) => valueAt(at, s.values, x.at));
  return <Value>{v === undefined ? '–' : withUnit(v, s.unit)}</Value>;
}

function CursorLine({ cursor, span }: { cursor: Cursor; span: Span }) {
  const part = useCursor(cursor, (s) => (s.at - span.from) / Math.max(span.to - span.from, 1));
  return part >= 0 && part <= 1 ? <Line style={{ left: `${(100 * part).toFixed(3)}%` }} /> : null;
}

export function Gauges({ gauges, error, kept, live, cursor, span }: {
  gauges: Read | undefined; error: unknown; kept: boolean; live: boolean; cursor: Cursor; span: Span;
}) {
  const box = useRef<HTMLDivElement>(null);
  const [wide, setWide] = useState(800);
  const series = useMemo(() => gauges && [...gauges.series.filter((s) => !s.device), ...gauges.series.filter((s) => s.device)], [gauges]);
  const there = (series?.length ?? 0) > 0;
  useLayoutEffect(() => {
    const chart = box.current?.querySelector('[data-chart]');
    if (!chart) return;
    const seen = new ResizeObserver(([e]) => setWide(Math.max(Math.round(e!.contentRect.width), 50)));
    seen.observe(chart);
    return () => seen.disconnect();
  }, [there]);
  if (error) return <Refused error={error} />;
  if (!series) return <Sub role="status">Reading the gauges …</Sub>;
  if (!there) {
    if (!kept) return <Sub>The gauges were switched off for this run.</Sub>;
    return <Sub>{live ? 'The first readings come in a few seconds.' : 'No gauges were read in this attempt.'}</Sub>;
  }
  const at = gauges!.at;
  return (
    <List ref={box} role="group" aria-label="Gauges" tabIndex={0}>
      {series.map((s) => (
        <Row key={s.name} at={at} s={s} wide={wide} cursor={cursor} span={span} />
      ))}
    </List>
  );
}

function Row({ at, s, wide, cursor, span }: { at: number[]; s: Series; wide: number; cursor: Cursor; span: Span }) {
  const ends = `from ${withUnit(s.min, s.unit)} to ${withUnit(s.max, s.unit)}`;
  const median = `, median ${withUnit(s.median, s.unit)}`;
  return (
    <Chart
      data-chart=""
      role="img"
      aria-label={`${s.name}: ${ends}${median}`}
      title={`${s.about}; ${clock(span.from)} to ${clock(span.to)}`}
      onClick={(e) => {
        const r = e.currentTarget.getBoundingClientRect();
        cursor.move(Math.round(span.from + ((span.to - span.from) * (e.clientX - r.left)) / r.width), 'gauges');
      }}
    >
      <Drawn at={at} s={s} span={span} wide={wide} />
      <CursorLine cursor={cursor} span={span} />
      <Said>
        <strong>{s.name}</strong> <Now at={at} s={s} cursor={cursor} /> {s.device && <Roomy>whole device</Roomy>}
      </Said>
      <Said $right>
        {ends}
        <Roomy>{median}</Roomy>
      </Said>
    </Chart>
  );
}
