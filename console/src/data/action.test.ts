import { expect, test } from 'vitest';
import { OnceKey, uncertain } from './action';
import { Refusal, unreachable } from './api';

test('a request that is pressed again has its key until it is answered', () => {
  let n = 0;
  const k = new OnceKey(() => `k${++n}`);
  expect(k.for({ build: 'a' })).toBe('k1');
  expect(k.for({ build: 'a' })).toBe('k1');
  expect(k.for({ build: 'b' })).toBe('k2');
  k.answered();
  expect(k.for({ build: 'b' })).toBe('k3');
  expect(k.for(undefined)).toBe('k4');
});

test('what the service may have taken all the same is sent again under its key', () => {
  expect(uncertain(unreachable('cut off'))).toBe(true);
  expect(uncertain(new Refusal({ type: 'about:blank', status: 503, title: 'full' }))).toBe(true);
  expect(uncertain(new Refusal({ type: 'about:blank', status: 403, title: 'no' }))).toBe(false);
  expect(uncertain(new Error('ours'))).toBe(false);
});
