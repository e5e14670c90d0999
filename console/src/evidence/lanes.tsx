// The lanes of a leg's time axis: its cases, its commands and steps, the network, two gauges, how dense the log is,
// and over all of them its faults.
import type { Gauges, LogOverview, NetworkOverview } from '../data/api';
import { c } from '../theme';
import type { StoryRow } from './moments';
import { path, top } from './series';
import type { Lane } from './TimeAxis';

const colour: Record<string, string> = {
  passed: c.passed, failed: c.failed, crashed: c.crashed, expired: c.expired, flaky: c.flaky, lost: c.lost, running: c.lapis,
};

function cases(rows: StoryRow[], end: number): Lane {
  const all = rows.filter((r) => r.kind === 'case');
  return {
    name: 'cases',
    height: 16,
    draw: (x) =>
      all.map((r, i) => (
        <rect
          key={r.seq}
          x={x(r.at)}
          y={4}
          width={Math.max(x(all[i + 1]?.at ?? end) - x(r.at) - 1.2, 1)}
          height={10}
          fill={colour[r.verdict ?? 'running'] ?? c.hollow}
        />
      )),
  };
}

// One path for each kind: thousands of elements would take their time.
function commands(rows: StoryRow[]): Lane {
  return {
    name: 'commands, steps as lozenges',
    height: 14,
    draw: (x) => {
      const ticks = (bad: boolean) => rows.map((r) => (r.kind === 'command' && r.bad === bad ? `M${x(r.at).toFixed(1)} 2v6` : '')).join('');
      return (
        <>
          <path d={ticks(false)} stroke={c.hollow} strokeWidth={0.9} />
          <path d={ticks(true)} stroke={c.failed} strokeWidth={1.4} />
          <path d={rows.map((r) => (r.kind === 'step' ? `M${x(r.at)} 1l3 4-3 4-3-4z` : '')).join('')} fill={c.lapis} />
        </>
      );
    },
  };
}

// Bars of how much there was in each slice of time, by its root: a little is seen beside a lot.
function bars(counts: number[], slice: number, peak: number, x: (ms: number) => number, height: number, least = 0): string {
  return counts.map((n, i) => {
    const [from, to] = [x(i * slice), x((i + 1) * slice)];
    if (n === 0 || to < 0 || from > 1000) return '';
    const up = Math.max((height - 4) * Math.sqrt(n / peak), least);
    return `M${from.toFixed(1)} ${height - 2}v${(-up).toFixed(1)}h${Math.max(to - from - 0.4, 0.8).toFixed(1)}V${height - 2}z`;
  }).join('');
}

function density(log: LogOverview | undefined): Lane {
  const peak = Math.max(1, ...(log?.density ?? []));
  return {
    name: 'log lines, warnings in ochre',
    height: 22,
    draw: (x, height) => log && (
      <>
        <path d={bars(log.density, log.slice_ms, peak, x, height)} fill={c.grout} />
        <path d={bars(log.warnings, log.slice_ms, peak, x, height)} fill={c.flaky} />
      </>
    ),
  };
}

// The network: how many exchanges went on at a time, and those that failed.
function network(o: NetworkOverview): Lane {
  const peak = Math.max(1, ...o.density);
  return {
    name: 'network',
    height: 16,
    draw: (x, height) => (
      <>
        <path d={bars(o.density, o.slice_ms, peak, x, height, 3)} fill={c.lost} />
        <path d={bars(o.failures, o.slice_ms, peak, x, height, height - 4)} fill={c.failed} />
      </>
    ),
  };
}

// The two gauges that people look at first; all of them stand in the tab of their name.
function gauge(g: Gauges, name: string): Lane | undefined {
  const s = g.series.find((x) => x.name === name);
  if (!s) return undefined;
  return {
    name,
    height: 20,
    draw: (x, height) => (
      <path
        d={path(g.at, s.values, x, 1000, height - 3, top(s))}
        transform="translate(0 2)"
        fill="none"
        stroke={name === 'memory' ? c.expired : c.lapis}
        strokeWidth={1}
        vectorEffect="non-scaling-stroke"
      />
    ),
  };
}

function faults(rows: StoryRow[]): Lane {
  return {
    name: 'faults in red',
    height: 0,
    draw: (x, height) =>
      rows.map(
        (r) =>
          (r.kind === 'failure' || r.kind === 'crash') && (
            <rect key={r.seq} x={x(r.at) - 0.9} y={0} width={1.8} height={height} fill={c.failed} />
          ),
      ),
  };
}

/** The lanes of a leg or of a session. */
export const lanesOf = (
  rows: StoryRow[],
  end: number,
  log: LogOverview | undefined,
  net: NetworkOverview | undefined,
  gauges: Gauges | undefined,
): Lane[] => [
  cases(rows, end),
  commands(rows),
  ...(net?.count ? [network(net)] : []),
  ...['processor', 'memory'].flatMap((n) => (gauges && gauge(gauges, n)) ?? []),
  density(log),
  faults(rows),
];
