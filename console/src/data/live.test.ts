import { expect, test, vi } from 'vitest';

vi.stubGlobal('document', { addEventListener: () => {}, removeEventListener: () => {}, hidden: false });
const { merged, withEvents } = await import('./live');

test('changed things take the place of their older selves; the others stay the same objects', () => {
  const [a, b] = [{ id: 'a', n: 1 }, { id: 'b', n: 1 }];
  const out = merged([a, b], [{ id: 'b', n: 2 }, { id: 'c', n: 1 }], (x) => x.id, 'last');
  expect(out).toEqual([a, { id: 'b', n: 2 }, { id: 'c', n: 1 }]);
  expect(out[0]).toBe(a);
  expect(merged([a], [{ id: 'z', n: 1 }], (x) => x.id, 'first').map((x) => x.id)).toEqual(['z', 'a']);
  const same = [a, b];
  expect(merged(same, [], (x) => x.id, 'last')).toBe(same);
});

test('events come once each, in the order of their numbers, however they arrive', () => {
  const e = (seq: number) => ({ seq, at: seq, kind: 'command' as const });
  expect(withEvents([e(1), e(2)], [e(3)]).map((x) => x.seq)).toEqual([1, 2, 3]);
  expect(withEvents([e(1), e(4)], [e(2), e(4), e(5)]).map((x) => x.seq)).toEqual([1, 2, 4, 5]);
  const same = [e(1)];
  expect(withEvents(same, [])).toBe(same);
});
