import { expect, test } from 'vitest';
import { heard, left, typing, untouched } from './typed';

test('letters that come quicker than their echo stay', () => {
  let t = untouched('');
  for (const v of ['t', 'ti', 'tid']) t = typing(t, v);
  for (const echo of ['t', '', 'ti', 'tid']) {
    t = heard(t, echo);
    expect(t.shown).toBe('tid');
  }
});

test('what the owner says by itself is shown', () => {
  let t = heard(typing(untouched('a'), 'ab'), 'ab');
  expect(heard(t, 'else').shown).toBe('else');
  t = heard(typing(heard(typing(t, ''), ''), 'x'), 'x');
  expect(heard(t, '').shown).toBe('x'); // a late echo
  expect(heard(left(t), '').shown).toBe(''); // it was saved
});
