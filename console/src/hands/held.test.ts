import { expect, test } from 'vitest';
import { inside, lines, request, scriptLine, sizeOf } from './held';

const at = (left: number, top: number, right: number, bottom: number) => ({ bounds: { left, top, right, bottom } });

test('the smallest element at a point is meant, and of two alike the one on top', () => {
  const all = [at(0, 0, 100, 200), at(10, 10, 60, 60), at(20, 20, 30, 30), at(20, 20, 30, 30), at(40, 40, 40, 90)];
  expect(sizeOf(all)).toEqual({ w: 100, h: 200 });
  expect(inside(all, 25, 25)).toBe(3);
  expect(inside(all, 15, 15)).toBe(1);
  expect(inside(all, 40, 80)).toBe(0);
  expect(inside(all, 100, 10)).toBeUndefined();
  expect(sizeOf([])).toEqual({ w: 0, h: 0 });
});

test('the lines of the tree', () => {
  const one = { kind: 'field', depth: 2, enabled: false, value: 'Ada', locators: [], ...at(0, 0, 9, 9) };
  const two = { ...one, id: 'send', text: 'Send', value: undefined, enabled: true, focused: true };
  expect(lines([one, two], [1])).toEqual([
    { kind: 'field', depth: 2, says: '= Ada disabled', found: false, ...at(0, 0, 9, 9) },
    { kind: 'field', depth: 2, says: '#send “Send” focused', found: true, ...at(0, 0, 9, 9) },
  ]);
  expect(lines([])).toEqual([]);
});

test('a locator as it is pasted elsewhere', () => {
  expect(scriptLine({ kind: 'button' }, '#send')).toBe("phone.tap('#send')");
  expect(scriptLine({ kind: 'field' }, '#search')).toBe("phone.type('#search', '')");
  expect(scriptLine({ kind: 'text' }, `text[text="it's \\a"]`)).toBe(`phone.find('text[text="it\\'s \\\\a"]')`);
  expect(scriptLine({ kind: 'group', clickable: true }, '#row')).toBe("phone.tap('#row')");
  expect(request('button[text="Send"]')).toBe('{"using":"css selector","value":"button[text=\\"Send\\"]"}');
});
