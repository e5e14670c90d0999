import { expect, test } from 'vitest';
import { treeStep } from './tree';

// screen > (list > (row, row)), bar
const nodes = [0, 1, 2, 2, 1].map((depth) => ({ depth }));
const go = (at: number, ...keys: string[]) => keys.reduce((n, k) => treeStep(nodes, n, k) ?? n, at);

test('the arrows go through the tree, and in and out of it', () => {
  expect(go(0, 'ArrowDown', 'ArrowDown')).toBe(2);
  expect(go(2, 'ArrowLeft')).toBe(1);
  expect(go(3, 'ArrowLeft', 'ArrowLeft')).toBe(0);
  expect(go(0, 'ArrowRight', 'ArrowRight')).toBe(2);
  expect(go(2, 'ArrowRight')).toBe(2);
  expect(go(0, 'End', 'ArrowDown')).toBe(4);
  expect(go(4, 'Home', 'ArrowUp', 'ArrowLeft')).toBe(0);
});

test('the first key chooses the element at hand, and other keys choose nothing', () => {
  expect(treeStep(nodes, 2, 'ArrowDown', true)).toBe(2);
  expect(treeStep(nodes, 2, 'x')).toBeUndefined();
  expect(treeStep([], 0, 'ArrowDown')).toBeUndefined();
});
