import { expect, test } from 'vitest';
import { stepIn, stepOn } from './roving';

test('the arrows go through a row, and not beyond it', () => {
  expect(['ArrowRight', 'ArrowDown', 'ArrowLeft', 'Home', 'End', 'x'].map((k) => stepIn(1, 3, k))).toEqual([2, 2, 0, 0, 2, undefined]);
  expect(stepIn(2, 3, 'ArrowRight')).toBeUndefined();
  expect(stepIn(0, 3, 'ArrowLeft')).toBeUndefined();
});

test('the arrows go over a grid, past what is empty', () => {
  const empty = new Set(['1,1', '2,0']);
  const go = (row: number, col: number, key: string) => {
    const to = stepOn({ row, col }, 3, 3, key, (c) => !empty.has(`${c.row},${c.col}`));
    return to && `${to.row},${to.col}`;
  };
  expect(go(1, 0, 'ArrowRight')).toBe('1,2');
  expect(go(0, 1, 'ArrowDown')).toBe('2,1');
  expect(go(1, 0, 'ArrowDown')).toBeUndefined();
  expect(go(2, 2, 'Home')).toBe('2,1');
  expect(go(0, 0, 'End')).toBe('0,2');
  expect(go(0, 0, 'ArrowUp')).toBeUndefined();
  expect(go(0, 0, 'Enter')).toBeUndefined();
});
