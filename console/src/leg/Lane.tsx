// The attempt on one time axis: cases, steps, faults, how dense the log is; and the cursor, which can be drawn along.
import { memo } from 'react';
import { Slider, SliderThumb, SliderTrack } from 'react-aria-components';
import styled from 'styled-components';
import type { LogOverview } from '../data/api';
import { c } from '../theme';
import { clock } from '../words';
import { useCursor, type Cursor } from './cursor';
import type { StoryRow } from './moments';

const Axis = styled(Slider)`display: block; width: 100%;`;
const Track = styled(SliderTrack)`position: relative; height: 52px; background: ${c.panel}; border: 1px solid ${c.grout}; cursor: crosshair; svg { position: absolute; inset: 0; width: 100%; height: 100%; pointer-events: none; }`;
const Thumb = styled(SliderThumb)`
  top: 50%; width: 3px; height: 60px; background: ${c.lapis}; border-radius: 2px;
  &[data-focus-visible] { outline: 2px solid ${c.lapis}; outline-offset: 3px; }
`;
const Key = styled.p`display: flex; justify-content: space-between; font-size: 12px; line-height: 16px; color: ${c.faint}; font-variant-numeric: tabular-nums; gap: 12px;`;

const colour: Record<string, string> = { passed: c.passed, failed: c.failed, crashed: c.crashed, expired: c.expired, flaky: c.flaky, lost: c.lost, running: c.lapis };

const Drawn = memo(function Drawn({ rows, end, log }: { rows: StoryRow[]; end: number; log: LogOverview | undefined }) {
  const x = (t: number) => (1000 * Math.min(Math.max(t, 0), end)) / end;
  const cases = rows.filter((r) => r.kind === 'case');
  const peak = Math.max(1, ...(log?.density ?? []));
  // One path each: thousands of elements would take their time.
  const bars = (counts: number[]) => counts.map((n, i) => {
    if (n === 0 || !log) return '';
    const [from, to] = [x(i * log.slice_ms), x((i + 1) * log.slice_ms)];
    return `M${from.toFixed(1)} 50v${(-18 * Math.sqrt(n / peak)).toFixed(1)}h${Math.max(to - from - 0.4, 0.6).toFixed(1)}V50z`;
  }).join('');
  const ticks = (which: (r: StoryRow) => boolean) => rows.map((r) => (which(r) ? `M${x(r.at).toFixed(1)} 18v6` : '')).join('');
  return (
    <svg viewBox="0 0 1000 52" preserveAspectRatio="none" aria-hidden>
      {log && <path d={bars(log.density)} fill={c.grout} />}
      {log && <path d={bars(log.warnings)} fill={c.flaky} />}
      {cases.map((r, i) => {
        const to = cases[i + 1]?.at ?? end;
        return <rect key={r.seq} x={x(r.at)} width={Math.max(x(to) - x(r.at) - 1.2, 1)} y={4} height={10} fill={colour[r.verdict ?? 'running'] ?? c.hollow} />;
      })}
      <path d={ticks((r) => r.kind === 'command' && !r.bad)} stroke={c.hollow} strokeWidth={0.9} />
      <path d={ticks((r) => r.kind === 'command' && r.bad)} stroke={c.failed} strokeWidth={1.4} />
      <path d={rows.map((r) => (r.kind === 'step' ? `M${x(r.at)} 17l3 4-3 4-3-4z` : '')).join('')} fill={c.lapis} />
      {rows.map((r) => (r.kind === 'failure' || r.kind === 'crash') && <rect key={r.seq} x={x(r.at) - 0.9} y={0} width={1.8} height={52} fill={c.failed} />)}
    </svg>
  );
});

export function Lane({ rows, end, log, cursor }: { rows: StoryRow[]; end: number; log: LogOverview | undefined; cursor: Cursor }) {
  const at = useCursor(cursor, (s) => Math.min(Math.round(s.at), end));
  return (
    <div>
      <Axis aria-label="Moment of the attempt" minValue={0} maxValue={end} step={1} value={at} onChange={(v) => cursor.move(v as number, 'lane')} formatOptions={{ maximumFractionDigits: 0 }}>
        <Track>
          <Drawn rows={rows} end={end} log={log} />
          <Thumb />
        </Track>
      </Axis>
      <Key aria-hidden><span>0:00</span><span>cases · commands, steps as lozenges · log lines, warnings in ochre · faults in red</span><span>{clock(end)}</span></Key>
    </div>
  );
}
