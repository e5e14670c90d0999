import { expect, test } from 'vitest';
import type { LegSummary, Run, TimelineEvent } from '../data/api';
import { sameMoment, twinOf } from './twin';

const leg = (id: string, verdicts: string[], traits: Record<string, string>, variant?: string) =>
  ({ id, case_verdicts: verdicts, traits, variant }) as LegSummary;

test('the device that passed and is most like this one is chosen', () => {
  const run = {
    case_names: ['a', 'b'],
    legs: [
      leg('me', ['passed', 'failed'], { os: '9', maker: 'Fennel' }),
      leg('far', ['passed', 'passed'], { os: '14', maker: 'Orrery' }),
      leg('near', ['passed', 'passed'], { os: '14', maker: 'Fennel' }),
      leg('other', ['passed', 'passed'], { os: '9', maker: 'Fennel' }, 'de'),
      leg('bad', ['passed', 'crashed'], { os: '9', maker: 'Fennel' }),
    ],
  } as Run;
  expect(twinOf(run, 'me', 'b')?.id).toBe('near');
  expect(twinOf(run, 'me', 'c')).toBeUndefined();
  expect(twinOf(undefined, 'me', 'b')).toBeUndefined();
});

const e = (at: number, kind: TimelineEvent['kind'], name: string, more: Partial<TimelineEvent> = {}): TimelineEvent => ({
  seq: at, at, kind, name, case: 'a', ...more,
});

test('the moment lies as far behind the same step', () => {
  const own = [e(1000, 'case', 'a'), e(2000, 'step', 'review'), e(3000, 'case', 'a', { verdict: 'failed' })];
  const other = [e(5000, 'case', 'a'), e(5500, 'step', 'review'), e(6200, 'case', 'a', { verdict: 'passed' })];
  expect(sameMoment(own, 2400, other, 'a')).toBe(5900);
  expect(sameMoment(own, 2900, other, 'a')).toBe(6200); // it is over there by then
  expect(sameMoment(own, 1100, other, 'a')).toBe(5100); // before any step
  expect(sameMoment(own, 2400, [e(5000, 'case', 'a'), e(6000, 'case', 'a', { verdict: 'passed' })], 'a')).toBe(5400);
  expect(sameMoment(own, 2400, [], 'a')).toBeUndefined();
  expect(sameMoment([], 2400, other, 'a')).toBeUndefined();
});
