import { expect, test } from 'vitest';
import { codecOf, cut, Fingers, pasted, pressed, wheeled } from './fingers';

test('all fingers that touch are said, and those beside the screen are at its edge', () => {
  const f = new Fingers();
  expect(f.move(1, 0.5, 0.5)).toBeUndefined();
  expect(f.touch(1, 0.25, 0.5, false)).toEqual({ fingers: [{ id: 1, x: 0.25, y: 0.5 }] });
  expect(f.touch(2, 1.5, -1, false)).toEqual({ fingers: [{ id: 1, x: 0.25, y: 0.5 }, { id: 2, x: 1, y: 0 }] });
  expect(f.lift(1)).toEqual({ fingers: [{ id: 2, x: 1, y: 0 }] });
  expect(f.lift(1)).toBeUndefined();
  expect(f.lift(2)).toEqual({ fingers: [] });
  expect(f.move(2, 0.5, 0.5)).toBeUndefined();
});

test('two fingers pinch about the middle', () => {
  const f = new Fingers();
  f.touch(1, 0.5, 0.25, true);
  expect(f.move(1, 0.25, 0.25)).toEqual({ fingers: [{ id: 1, x: 0.25, y: 0.25 }, { id: 1_000_001, x: 0.75, y: 0.75 }] });
  expect(f.lift(1)).toEqual({ fingers: [] });
});

const key = (name: string, more = {}) => pressed({ key: name, ctrlKey: false, metaKey: false, altKey: false, ...more }, false);

test('keys are typed, pressed, or the browser’s', () => {
  expect(key('a')).toEqual({ text: 'a' });
  expect(key('ü')).toEqual({ text: 'ü' });
  expect(key('Enter')).toEqual({ keys: ['enter'] });
  expect(key('Escape')).toEqual({ keys: ['back'] });
  for (const other of ['Tab', 'Shift', 'F5', 'Dead']) expect(key(other)).toBeUndefined();
  expect(key('v', { ctrlKey: true })).toBeUndefined();
  expect(key('k', { isComposing: true })).toBeUndefined();
  expect(pressed({ key: 'a', ctrlKey: false, metaKey: false, altKey: false }, true)).toEqual({ text: 'a', secret: true });
});

test('what is pasted comes in pieces', () => {
  expect(pasted('a\r\nb', false)).toEqual([{ text: 'a\nb' }]);
  expect(pasted('潮'.repeat(900), true).map((d) => [...(d.text ?? '')].length)).toEqual([400, 400, 100]);
  expect(pasted('', false)).toEqual([]);
});

test('a wheel moves by what it says', () => {
  expect(wheeled(100, 0, 1000)).toBe(0.1);
  expect(wheeled(3, 1, 1000)).toBe(0.12);
  expect(wheeled(-1, 2, 1000)).toBe(-0.3);
  expect(wheeled(10, 0, 0)).toBe(0.3);
});

test('the screen within a picture', () => {
  expect(cut(544, 1200, undefined)).toEqual({ x: 0, y: 0, w: 544, h: 1200 });
  expect(cut(540, 1200, [1080, 2400])).toEqual({ x: 0, y: 0, w: 540, h: 1200 });
  expect(cut(540, 1200, [2400, 1080])).toEqual({ x: 0, y: 478.5, w: 540, h: 243 });
});

test('a film’s codec', () => {
  expect(codecOf(new Uint8Array([1, 0x42, 0xc0, 0x1f, 0xff]))).toBe('avc1.42c01f');
});
