import { expect, test } from 'vitest';
import { list, oneOf, readView, text, whole, writeView } from './address';

const parts = { tab: oneOf(['cases', 'legs'] as const, 'cases'), by: text(), at: whole(-1), devices: list() };
const read = (q: string) => readView(parts, new URLSearchParams(q));
const write = (q: string, change: Parameters<typeof writeView<typeof parts>>[2]) =>
  writeView(parts, new URLSearchParams(q), change).toString();

test('an address says the view', () => {
  expect(read('tab=legs&by=os&at=1200&devices=a,b')).toEqual({ tab: 'legs', by: 'os', at: 1200, devices: ['a', 'b'] });
  expect(read('')).toEqual({ tab: 'cases', by: '', at: -1, devices: [] });
});

test('what an address says wrongly is as normal', () => {
  expect(read('tab=constructor&at=-5').tab).toBe('cases');
  for (const at of ['-5', '1e9', 'NaN', '٣', '99999999999999999999', '1.5', ' 1']) expect(read(`at=${encodeURIComponent(at)}`).at).toBe(-1);
});

test('what is normal is not written, and what is not of the view stays', () => {
  expect(write('tab=legs&other=1', { tab: 'cases', at: 30 })).toBe('other=1&at=30');
  expect(write('at=3', { at: undefined })).toBe('');
  expect(write('', { devices: ['a b', 'c'] })).toBe('devices=a+b%2Cc');
  expect(read(write('', { by: 'a&b=c' })).by).toBe('a&b=c');
});
