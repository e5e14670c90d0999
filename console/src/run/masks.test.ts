import { expect, test } from 'vitest';
import { drawn, readRegion, writeRegion } from './masks';

test('a rectangle is drawn from whichever corner, and stays on the picture', () => {
  expect(drawn({ x: 50, y: 80 }, { x: 10.4, y: -20 }, 100, 200)).toEqual({ left: 10, top: 0, right: 50, bottom: 80 });
  expect(drawn({ x: 50, y: 80 }, { x: 900, y: 900 }, 100, 200)).toEqual({ left: 50, top: 80, right: 100, bottom: 200 });
});

test('a rectangle is read as it is written', () => {
  const r = { left: 1, top: 2, right: 30, bottom: 40 };
  expect(readRegion(writeRegion(r), 100, 100)).toEqual(r);
  for (const bad of ['', '1,2,3', '1,2,3,4,5', '5,2,3,40', '1,2,300,40', 'a,b,c,d', '1;2;3;4', '-1,2,3,4'])
    expect(readRegion(bad, 100, 100)).toBeUndefined();
});
