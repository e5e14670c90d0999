// A gauge as a line: in each pixel from the least to the greatest value of its time, so that no spike is lost. Pure.
import type { Gauges } from '../data/api';

export type Series = Gauges['series'][number];

/** Up to where a series is drawn: percents that can't go above 100 to 100, all else to a little above the greatest value. */
export function top(s: Series): number {
  if (s.unit === '%' && s.max <= 100 && s.name !== 'processor') return 100;
  return s.max > 0 ? s.max * 1.08 : 1;
}

/** The path of a series: x gives the place of a moment, wide is up to where is drawn, and height is that of the greatest value. */
export function path(
  at: number[],
  values: (number | null)[],
  x: (ms: number) => number,
  wide: number,
  height: number,
  most: number,
): string {
  const y = (v: number) => (height - (height * Math.min(v, most)) / most).toFixed(1);
  let d = '';
  let column = NaN;
  let [low, high, last] = [0, 0, 0];
  const flush = () => {
    if (!Number.isNaN(column) && low !== high) d += `M${column} ${y(low)}V${y(high)}M${column} ${y(last)}`;
  };
  for (let i = 0; i < at.length; i++) {
    const v = values[i];
    if (v === null || v === undefined) continue;
    const px = x(at[i]!);
    if (px < -wide || px > 2 * wide) continue; // what is far outside leads nowhere
    const here = Math.round(px);
    if (here === column) {
      [low, high, last] = [Math.min(low, v), Math.max(high, v), v];
      continue;
    }
    flush();
    d += `${Number.isNaN(column) ? 'M' : 'L'}${here} ${y(v)}`;
    [column, low, high, last] = [here, v, v, v];
  }
  flush();
  return d;
}

/** The value at a moment: the newest that was read by then. */
export function valueAt(at: number[], values: (number | null)[], moment: number): number | undefined {
  let [low, high] = [0, at.length];
  while (low < high) {
    const mid = (low + high) >> 1;
    if (at[mid]! <= moment) low = mid + 1;
    else high = mid;
  }
  for (let i = low - 1; i >= 0; i--) {
    const v = values[i];
    if (v !== null && v !== undefined) return v;
  }
  return undefined;
}

/** "412 MB", as the command line writes it. */
export function withUnit(v: number, unit: string): string {
  const n = Math.abs(v) >= 100 ? v.toFixed(0) : String(Math.round(v * 10) / 10);
  return unit ? `${n} ${unit}` : n;
}
