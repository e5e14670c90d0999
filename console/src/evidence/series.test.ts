import { expect, test } from 'vitest';
import { path, top, valueAt, withUnit, type Series } from './series';

const of = (more: Partial<Series>): Series => ({
  name: 'memory', unit: 'MB', about: '', device: false, values: [], count: 0, min: 0, median: 0, max: 200, ...more,
});

test('a spike is drawn however many readings share its pixel', () => {
  const at = Array.from({ length: 10_000 }, (_, i) => i);
  const values = at.map((i) => (i === 5_003 ? 90 : 10));
  const d = path(at, values, (ms) => ms / 100, 100, 100, 100);
  expect(d).toContain('M50 90.0V10.0'); // from 10 up to 90, in the 50th pixel
  expect(d.length).toBeLessThan(2_000);
});
test('what was not read leaves no hole, and what is far outside is not drawn', () => {
  expect(path([0, 10, 20], [1, null, 3], (ms) => ms, 100, 10, 10)).toBe('M0 9.0L20 7.0');
  expect(path([-5000, 10], [1, 2], (ms) => ms, 100, 10, 10)).toBe('M10 8.0');
  expect(path([], [], (ms) => ms, 100, 10, 10)).toBe('');
});
test('the value at a moment is the newest by then', () => {
  const [at, values] = [[10, 20, 30], [1, null, 3]];
  expect([5, 10, 25, 30, 99].map((t) => valueAt(at, values, t))).toEqual([undefined, 1, 1, 3, 3]);
});
test('up to where it is drawn', () => {
  expect(top(of({}))).toBeCloseTo(216);
  expect(top(of({ name: 'battery', unit: '%', max: 87 }))).toBe(100);
  expect(top(of({ name: 'processor', unit: '%', max: 87 }))).toBeCloseTo(93.96);
  expect(top(of({ max: 0 }))).toBe(1);
  expect([withUnit(412.4, 'MB'), withUnit(3.14159, '%'), withUnit(14, '')]).toEqual(['412 MB', '3.1 %', '14']);
});
