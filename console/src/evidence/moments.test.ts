import { describe, expect, test } from 'vitest';
import type { TimelineEvent } from '../data/api';
import { argText, atDepth, elementOf, nextRow, pausedOf, rowAt, sentence, story } from './moments';

const events: TimelineEvent[] = [
  { seq: 1, at: 0, kind: 'stage', name: 'preparing' },
  { seq: 2, at: 5, kind: 'command', name: 'install', args: { app: 'org.kelpline.app' }, took: 20 },
  { seq: 3, at: 30, kind: 'case', name: 'a.test_list' },
  { seq: 4, at: 31, kind: 'command', name: 'tap', case: 'a.test_list', args: { x: '3', element: '#list' }, took: 4 },
  { seq: 5, at: 40, kind: 'case', name: 'a.test_list', verdict: 'passed' },
  { seq: 6, at: 50, kind: 'case', name: 'a.test_total' },
  { seq: 7, at: 51, kind: 'command', name: 'tree', case: 'a.test_total', args: { element: '#total' }, line: 'a.star:9', took: 4 },
  {
    seq: 8,
    at: 60,
    kind: 'check',
    case: 'a.test_total',
    name: 'the total',
    error: 'the check failed',
    expected: '6.5',
    actual: '29',
    line: 'a.star:9',
  },
  { seq: 9, at: 70, kind: 'command', name: 'screenshot', case: 'a.test_total', took: 30 },
  { seq: 10, at: 110, kind: 'case', name: 'a.test_total', verdict: 'failed', error: 'the total: expected 6.5', file: 'screenshots/1.png' },
  { seq: 11, at: 111, kind: 'marker', name: 'clock' },
];

describe('the story', () => {
  const rows = story(events);
  test('a case has its verdict at its beginning, and a failure stands where the fault showed', () => {
    expect(rows.map((r) => `${r.at} ${r.kind} ${r.verdict ?? ''}`.trim())).toEqual([
      '0 stage', '5 command', '30 case passed', '31 command', '50 case failed', '51 command', '60 check', '60 failure failed', '70 command',
    ]);
  });
  test('a crash is the fault, whatever was noticed after it', () => {
    const crashed = story([
      { seq: 1, at: 0, kind: 'case', name: 'c' },
      { seq: 2, at: 90, kind: 'command', name: 'tree', error: 'no answer', took: 10 },
      { seq: 3, at: 80, kind: 'crash', name: 'NoSuchMethodError' },
      { seq: 4, at: 120, kind: 'case', name: 'c', verdict: 'crashed', error: 'NoSuchMethodError' },
    ]);
    expect(crashed.find((r) => r.kind === 'failure')?.at).toBe(80);
  });
  test('a note says what it is about', () => {
    const rows = story([
      { seq: 1, at: 0, kind: 'marker', name: 'the program ended', answer: 'with exit code 1' },
      { seq: 2, at: 1, kind: 'marker', name: 'a file was not kept', error: 'there is no room for it' },
    ]);
    expect(rows.map((r) => [r.name, r.detail, r.bad])).toEqual([
      ['the program ended', 'with exit code 1', false],
      ['a file was not kept', 'there is no room for it', true],
    ]);
  });
  test('it can be told shorter', () => {
    expect(atDepth(rows, 'cases').map((r) => r.kind)).toEqual(['case', 'case', 'failure']);
    expect(atDepth(rows, 'steps').some((r) => r.kind === 'command')).toBe(false);
  });
  test('the row at a moment is the last that had begun', () => {
    expect(rows[rowAt(rows, 35)]?.seq).toBe(4);
    expect(rows[rowAt(rows, -5)]?.seq).toBe(1);
    expect(rows[rowAt(rows, 1000)]?.seq).toBe(9);
  });
  test('keys go to the next of a kind, and stay at the end', () => {
    expect(rows[nextRow(rows, 0, 1, ['failure'])]?.seq).toBe(10);
    expect(nextRow(rows, 0, -1, ['command'])).toBe(-1);
    expect(nextRow(rows, rows.length - 1, 1, ['command'])).toBe(-1);
  });
});

test('the element in question is that of the line that failed', () => {
  expect(elementOf(events, 'a.test_total', 'a.star:9')).toBe('#total');
  expect(elementOf(events, 'a.test_list', 'a.star:4')).toBe('#list');
  expect(elementOf(events, 'nobody', undefined)).toBe('');
});

test('arguments begin with the locator', () => {
  expect(argText({ x: '3', element: '#list' })).toBe('#list, x 3');
  expect(argText({ app: 'org.kelpline.app' }, 'launch app')).toBe('org.kelpline.app');
  expect(argText(undefined)).toBe('');
});

test('who has paused a test is found among what happened', () => {
  const marker = (seq: number, name: string) => ({ seq, at: seq, kind: 'marker', name }) as TimelineEvent;
  const paused = marker(2, 'paused by Ada: the total is odd');
  expect(pausedOf([marker(1, 'prepare')])).toBeUndefined();
  expect(pausedOf([marker(1, 'prepare'), paused, marker(3, 'route opened: route.test:80')])).toBe('paused by Ada: the total is odd');
  expect(pausedOf([paused, marker(3, 'resumed after 5s')])).toBeUndefined();
});

test('how a leg stands is a sentence', () => {
  const a = { cases: [{ verdict: 'failed' }, { verdict: 'passed' }] } as never;
  expect(sentence('orr-05', 'done', 'failed', '', a, 2)).toBe('orr-05 failed 1 of 2 cases.');
  expect(sentence('orr-05', 'done', 'passed', '', a, 1)).toBe('orr-05 passed its case.');
  expect(sentence('orr-05', 'running', undefined, '', a, 9)).toBe('orr-05 is running: 2 of 9 cases done.');
  expect(sentence('orr-05', 'running', undefined, '', a, 0)).toBe('orr-05 is running: 2 cases done so far.');
  expect(sentence('orr-05', 'done', 'lost', 'its cable came out', undefined, 9)).toBe('orr-05 was lost: its cable came out.');
});

test('a case that is tried again has a row for each try, and the failure of the one that failed', () => {
  const e = (seq: number, x: object) => ({ seq, at: seq * 10, ...x }) as TimelineEvent;
  const rows = story([
    e(1, { kind: 'case', name: 'a.test_x' }),
    e(2, { kind: 'check', case: 'a.test_x', name: 'sums', error: 'the check failed', expected: '2', actual: '1' }),
    e(3, { kind: 'case', name: 'a.test_x', verdict: 'failed', error: 'sums', args: { try: '1' } }),
    e(4, { kind: 'case', name: 'a.test_x', args: { try: '2' } }),
    e(5, { kind: 'case', name: 'a.test_x', verdict: 'flaky', error: 'failed, then passed', args: { try: '2' } }),
  ]);
  expect(rows.map((r) => [r.kind, r.detail, r.verdict])).toEqual([
    ['case', '', 'failed'],
    ['check', 'was 1', undefined],
    ['failure', 'sums', 'failed'],
    ['case', 'try 2', 'flaky'],
  ]);
});
