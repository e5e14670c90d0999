import { expect, test } from 'vitest';
import { Cursor } from './cursor';
import type { StoryRow } from './moments';
import { place } from './opening';

const row = (seq: number, kind: StoryRow['kind'], name = ''): StoryRow => ({
  seq,
  kind,
  at: seq * 100,
  case: '',
  name,
  detail: '',
  bad: false,
  event: {} as StoryRow['event'],
});
const rows = [row(1, 'stage'), row(2, 'case', 'a'), row(3, 'command'), row(4, 'case', 'b'), row(5, 'failure', 'b'), row(6, 'case', 'c')];
const none = { case: '', at: -1 };

test('a leg that has ended opens at its first failure, or at the case or the moment that was asked for', () => {
  for (const [wanted, at] of [
    [none, 500],
    [{ case: 'a', at: -1 }, 200],
    [{ case: 'b', at: -1 }, 500],
    [{ case: 'gone', at: -1 }, 200],
    [{ case: 'a', at: 333 }, 333],
  ] as const) {
    const c = new Cursor();
    expect(place(c, rows, false, wanted, false)).toBe(true);
    expect(c.state.at).toBe(at);
  }
});

test('a leg that goes on is followed, until a person looks at something', () => {
  const c = new Cursor();
  expect(place(c, rows.slice(0, 3), true, none, false)).toBe(false);
  expect(c.state.at).toBe(300);
  place(c, rows, true, none, false);
  expect(c.state.at).toBe(600);
  c.move(200, 'story', 2);
  place(c, [...rows, row(7, 'command')], true, none, false);
  expect(c.state.at).toBe(200);
});

test('a leg that ends while one studies it does not jump', () => {
  const c = new Cursor();
  place(c, rows, true, none, false);
  c.move(200, 'log');
  expect(place(c, rows, false, none, false)).toBe(false);
  expect(c.state.at).toBe(200);
});

test('a leg that was followed to its end shows what broke', () => {
  const c = new Cursor();
  place(c, rows, true, none, false);
  expect(place(c, rows, false, none, false)).toBe(true);
  expect(c.state.at).toBe(500);
  c.move(100, 'key');
  place(c, rows, false, none, true);
  expect(c.state.at).toBe(100);
});

test('nothing happens while there is nothing', () => {
  const c = new Cursor();
  expect(place(c, [], true, none, false)).toBe(false);
  expect(c.state.by).toBe('');
});
