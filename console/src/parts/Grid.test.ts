import { expect, test } from 'vitest';
import { verdictOf } from './Grid';

test('the cases of a script stand in the order of the run; those of a program by their names', () => {
  expect(verdictOf({ case_verdicts: ['passed', 'failed'] }, 'b', 1)).toBe('failed');
  const other = { case_names: ['opens', 'counts'], case_verdicts: ['passed', 'failed'] };
  // Another leg has found a case between them.
  expect(['opens', 'asks', 'counts'].map((n, row) => verdictOf(other, n, row))).toEqual(['passed', '', 'failed']);
  expect(verdictOf({ case_verdicts: [] }, 'a', 0)).toBe('');
});
