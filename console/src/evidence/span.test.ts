import { describe, expect, test } from 'vitest';
import { isWhole, moved, readSpan, within, writeSpan, zoomed } from './span';

describe('the part of the time that the axis shows', () => {
  test('an address says it, and nonsense means all', () => {
    expect(readSpan('1000-3000', 10_000)).toEqual({ from: 1000, to: 3000 });
    for (const x of ['', '5', '3000-1000', '20000-30000', 'a-b', '-5-9']) expect(readSpan(x, 10_000), x).toEqual({ from: 0, to: 10_000 });
    expect(writeSpan({ from: 1000, to: 3000 }, 10_000)).toBe('1000-3000');
    expect(writeSpan({ from: 0, to: 10_000 }, 10_000)).toBe('');
    expect(isWhole({ from: 0, to: 10_000 }, 10_000)).toBe(true);
  });
  test('zooming keeps the moment in its place', () => {
    const s = zoomed({ from: 0, to: 10_000 }, 0.5, 8000, 10_000);
    expect(s).toEqual({ from: 4000, to: 9000 });
    expect((8000 - s.from) / (s.to - s.from)).toBeCloseTo(0.8);
    expect(zoomed(s, 4, 8000, 10_000)).toEqual({ from: 0, to: 10_000 });
  });
  test('it never leaves the attempt, and never shows nothing', () => {
    expect(within({ from: -500, to: 500 }, 10_000)).toEqual({ from: 0, to: 1000 });
    expect(within({ from: 9999, to: 10_000 }, 10_000)).toEqual({ from: 9800, to: 10_000 });
    expect(moved({ from: 8000, to: 9000 }, 5, 10_000)).toEqual({ from: 9000, to: 10_000 });
    expect(moved({ from: 500, to: 1500 }, -1, 10_000)).toEqual({ from: 0, to: 1000 });
    expect(zoomed({ from: 0, to: 50 }, 0.1, 10, 50)).toEqual({ from: 0, to: 50 });
  });
});
