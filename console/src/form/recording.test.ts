import { expect, test } from 'vitest';
import { kinds, amountText, parseBounds, parseRecording, withKind } from './recording';

test('a line says what is not usual', () => {
  const said = 'video:off, screenshots:commands,log:on,sound:on,trees:commands,';
  expect(parseRecording(said)).toEqual({ video: 'off', screenshots: 'commands' });
  expect(withKind('video:off', 'network', 'contents')).toBe('video:off,network:contents');
  expect(withKind('video:off', 'video', 'on')).toBe('');
  expect(withKind('nonsense', 'log', 'off')).toBe('log:off');
});
test('every amount has words', () => {
  for (const k of kinds)
    for (const v of k.values) expect(amountText(v), `${k.name}:${v}`).toBeTruthy();
});
test('bounds stand with commas between', () => {
  expect(parseBounds(' memory<400,, processor <150 ')).toEqual(['memory<400', 'processor <150']);
});
