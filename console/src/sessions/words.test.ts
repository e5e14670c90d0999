import { expect, test } from 'vitest';
import type { Session } from '../data/api';
import { patterns } from '../form/patterns';
import { sessionSentence, sessionState } from './words';

const session = (more: Partial<Session>): Session =>
  ({
    id: '01HZY3V7Q2M4T8K6N9R5S1W0XB',
    group: 'nightly',
    name: 'send a survey',
    stage: 'done',
    inferred: false,
    cases: {},
    created: '2026-11-20T09:30:00Z',
    ...more,
  }) as Session;
const on = { device: { serial: 'orr-01' } } as Partial<Session>;

test('a session stands in a word or two', () => {
  expect(sessionState(session({ stage: 'waiting', place: 2 }))).toBe('2nd in the queue');
  expect(sessionState(session({ stage: 'running' }))).toBe('running');
  expect(sessionState(session({ stage: 'running', stopping: true }))).toBe('stopping');
  expect(sessionState(session({ verdict: 'failed' }))).toBe('failed');
  expect(sessionState(session({ verdict: 'passed', inferred: true }))).toBe('passed (inferred)');
});

test('a session is told in a sentence', () => {
  expect(sessionSentence(session({ stage: 'waiting', place: 1 }))).toBe('send a survey is 1st in the queue for a device.');
  expect(sessionSentence(session({ ...on, stage: 'running', now_case: 'shores / opens' }))).toBe(
    'send a survey on orr-01 is running: shores / opens.',
  );
  expect(sessionSentence(session({ ...on, stage: 'preparing', name: '' }))).toBe('The session on orr-01 is preparing.');
  expect(sessionSentence(session({ ...on, verdict: 'passed', inferred: true }))).toBe(
    'send a survey on orr-01 passed, as far as can be seen.',
  );
  expect(sessionSentence(session({ ...on, verdict: 'failed' }))).toBe('send a survey on orr-01 failed.');
  expect(sessionSentence(session({ ...on, verdict: 'crashed' }))).toBe('In send a survey on orr-01 the app crashed.');
  expect(sessionSentence(session({ ...on, verdict: 'expired' }))).toBe('send a survey on orr-01 ran out of time.');
  expect(sessionSentence(session({ ...on, verdict: 'lost' }))).toBe('send a survey on orr-01 was lost.');
  expect(sessionSentence(session({ verdict: 'invalid' }))).toBe('send a survey could not begin.');
});

test('patterns over traits are taken one by one', () => {
  expect(patterns('os>=12 maker=Orrery')).toEqual(['os>=12', 'maker=Orrery']);
  expect(patterns('model="Skerry 5" os>=12')).toEqual(['model=Skerry 5', 'os>=12']);
  expect(patterns('  ')).toEqual([]);
});
