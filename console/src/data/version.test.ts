import { expect, test } from 'vitest';
import { Version } from './version';

test('a page learns that the service was updated, once', () => {
  const v = new Version();
  let told = 0;
  const off = v.subscribe(() => told++);
  for (const said of ['1.0', '1.0', '1.1', '1.2', '1.0']) v.heard(said);
  expect(v.newer).toBe(true);
  expect(told).toBe(1);
  off();
  const same = new Version();
  same.heard('1.0');
  same.heard('1.0');
  expect(same.newer).toBe(false);
});
