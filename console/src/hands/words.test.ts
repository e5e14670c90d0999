import { expect, test } from 'vitest';
import type { Hold } from '../data/api';
import { holdSentence, holdState, left, routeSentence, testSentence } from './words';

const hold = (more: Partial<Hold>): Hold => ({
  id: '1', name: '', by: 'ada', stage: 'running', build: '', where: ['serial=orr-01'], created: '', seconds: 600, ...more,
});
const device = { serial: 'orr-01', model: 'M', os: '14', system: 'Android 14', simulated: true };

test('seconds matter when few are left', () => {
  expect([left(-5), left(90_000), left(600_000), left(4_200_000)]).toEqual(['0 s', '90 s', '10 min', '1 h 10 min']);
});

test('a hold in words', () => {
  expect(holdSentence(hold({ device }), true)).toBe('orr-01 is yours.');
  expect(holdSentence(hold({ device }), false)).toBe('orr-01 is held by ada.');
  expect(holdSentence(hold({ stage: 'waiting', place: 2 }), true)).toBe('The hold is 2nd in the queue for serial=orr-01.');
  expect(holdSentence(hold({ stage: 'done', device, how: 'limit' }), true)).toBe('orr-01 was given back: the time was over.');
  expect(holdState(hold({ stage: 'done', how: 'client' }))).toBe('given back');
  expect(holdState(hold({ stopping: true }))).toBe('being given back');
});

test('a route in words', () => {
  expect(routeSentence({ at: 'route.test:3000', by: 'Ada', seconds: 3 }))
    .toBe('Apps that ask for route.test:3000 reach the machine of Ada.');
});

test('a test on whose device people look, in words', () => {
  expect(testSentence(undefined, 'orr-01', 'opening')).toContain('is being opened');
  expect(testSentence({ paused: false }, 'orr-01', 'open')).toBe('The test on orr-01 is running.');
  expect(testSentence({ paused: true, by: 'Ada' }, 'orr-01', 'open')).toBe('Ada paused the test on orr-01.');
  expect(testSentence({ paused: true, why: 'is the total right?', line: 'a.star:3' }, 'orr-01', 'open'))
    .toBe('The test on orr-01 paused itself at a.star:3: is the total right?');
  expect(testSentence({ paused: true }, 'orr-01', 'over')).toBe('The test on orr-01 has ended.');
});
