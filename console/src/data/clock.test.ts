import { expect, test } from 'vitest';
import { heard, serverNow } from './clock';

const off = () => Math.round((serverNow() - Date.now()) / 1000);

test('times are by the service’s clock, as far as it differs by more than a message takes', () => {
  heard(new Date(Date.now() + 3_600_000).toISOString());
  expect(off()).toBe(3600);
  heard(new Date(Date.now() - 400).toISOString());
  expect(off()).toBe(0);
  heard('nonsense');
  expect(off()).toBe(0);
});
