import { expect, test } from 'vitest';
import { checkLine, grown, lineAt, ran, sourceOf, startOf } from './lines';

test('a check says what the element says now', () => {
  expect(checkLine({ kind: 'text', text: "it's" }, '#title')).toBe("check.equal(phone.read('#title'), 'it\\'s')");
  expect(checkLine({ kind: 'field', text: 'Search', value: 'Tern' }, '#search')).toBe("check.equal(phone.read('#search'), 'Tern')");
  expect(checkLine({ kind: 'image', label: 'Menu' }, '#menu')).toBe("check.that(phone.sees('#menu'), 'Menu is there')");
  expect(checkLine({ kind: 'group' }, '#row')).toBe("check.that(phone.sees('#row'), '#row is there')");
});

test('recorded lines grow, and what somebody wrote stays', () => {
  expect(grown('', [], ['a'])).toBe('a\n');
  expect(grown('a\n', ['a'], ['a', 'b'])).toBe('a\nb\n');
  expect(grown('a\ntype T\n', ['a', 'type T'], ['a', 'type Te'])).toBe('a\ntype Te\n');
  expect(grown('a\nb\n', ['a', 'b'], ['a'])).toBe('a\n'); // typed and deleted
  expect(grown('a # mine\n', ['a'], ['a', 'b'])).toBe('a # mine\nb\n');
  expect(grown('a\nmine', ['a'], ['a', 'b'])).toBe('a\nmine\nb\n');
  expect(grown('mine', ['a'], ['c'])).toBe('mine'); // it was changed, and is not put back
  expect(grown('', [], [])).toBe('');
});

test('lines and places', () => {
  expect([lineAt('ab\ncd', 0), lineAt('ab\ncd', 2), lineAt('ab\ncd', 3)]).toEqual([0, 0, 1]);
  expect([startOf('ab\ncd\n', 0), startOf('ab\ncd\n', 1), startOf('ab\ncd\n', 2)]).toEqual([0, 3, 6]);
});

test('the whole script', () => {
  expect(sourceOf("phone.back()\n\nif True:\n    phone.back()\n\n")).toBe(
    'def test_recorded(phone):\n    phone.launch()\n    phone.back()\n\n    if True:\n        phone.back()\n',
  );
  expect(sourceOf('# first\nphone.launch()')).toBe('def test_recorded(phone):\n    # first\n    phone.launch()\n');
});

test('how lines came out', () => {
  expect(ran({ verdict: 'passed', seconds: 1.25 }, [])).toBe('Passed after 1.3 s.');
  expect(ran({ verdict: 'failed', seconds: 1, line: 1, message: 'no' }, ['a', ' b'])).toBe('Failed at line 2, b: no');
});
