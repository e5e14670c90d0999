import { expect, test } from 'vitest';
import { nextSort, readSort, sorted, type TableColumn } from './Table';

interface Row {
  os: string;
  memory: number;
}
const rows: Row[] = [
  { os: '10', memory: 4 },
  { os: '9', memory: 8 },
  { os: '9', memory: 2 },
];
const columns: TableColumn<Row>[] = [
  { name: 'Android', show: (r) => r.os, sort: (r) => r.os },
  { name: 'memory', show: (r) => r.memory, sort: (r) => r.memory },
  { name: 'note', show: () => '' },
];
const order = (said: string) => sorted(rows, columns, readSort(said)).map((r) => `${r.os}/${r.memory}`);

test('a column is sorted as its values mean it, and equal rows stay in their order', () => {
  expect(order('Android')).toEqual(['9/8', '9/2', '10/4']);
  expect(order('-Android')).toEqual(['10/4', '9/8', '9/2']);
  expect(order('-memory')).toEqual(['9/8', '10/4', '9/2']);
});

test('a column that can’t be sorted, or that is none, changes nothing', () => {
  for (const said of ['', 'note', '-nothing', '-', 'constructor']) expect(sorted(rows, columns, readSort(said))).toBe(rows);
});

test('a heading goes through its orders', () => {
  let s = nextSort(readSort(''), 'Android');
  expect(s).toEqual({ by: 'Android', down: false });
  s = nextSort(s, 'Android');
  expect(s).toEqual({ by: 'Android', down: true });
  expect(nextSort(s, 'memory')).toEqual({ by: 'memory', down: false });
  expect(nextSort(s, 'Android')).toEqual({ by: '', down: false });
});
