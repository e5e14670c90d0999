import { expect, test } from 'vitest';
import { kindOf, spoken, type Upload } from './data/upload';
import { commandLine } from './form/RunForm';
import { patterns } from './form/patterns';
import { differing, laid } from './parts/Mosaic';
import type { LegSummary } from './data/api';
import { ago, bytes, cases, clock, compareValues, exactTime, shellWord, standing, took } from './words';

test('durations', () => {
  expect([0, 949, 950, 8_240, 30_000, 60_000, 245_000, 1_800_000, 4_320_000].map(took)).toEqual([
    '0 ms',
    '949 ms',
    '0.9 s',
    '8.2 s',
    '30 s',
    '1 min',
    '4:05 min',
    '30 min',
    '1 h 12 min',
  ]);
});

test('moments on the clock', () => {
  expect([0, 7250, 61_001, -40].map(clock)).toEqual(['0:00.000', '0:07.250', '1:01.001', '−0:00.040']);
});

test('how long ago', () => {
  const now = Date.parse('2031-05-06T12:00:00Z');
  expect(ago('2031-05-06T11:59:40Z', now)).toBe('just now');
  expect(ago('2031-05-06T11:48:00Z', now)).toBe('12 min ago');
  expect(ago('2031-05-05T12:00:00Z', now)).toBe('24 h ago');
  expect(ago('2031-04-01T12:00:00Z', now, 'en-GB')).toBe('1 Apr 2031');
  expect(ago('2031-04-01T12:00:00Z', now, 'de')).toBe('1. Apr. 2031');
});

test('an exact time is in the reader’s manner, and names the zone', () => {
  expect(exactTime('2031-04-01T12:00:00Z', 'en-GB', 'Europe/Berlin')).toBe('1 Apr 2031, 14:00:00 CEST');
  expect(exactTime('2031-04-01T12:00:00Z', 'de', 'Europe/Berlin')).toBe('01.04.2031, 14:00:00 MESZ');
});

test('sizes', () => {
  expect([812, 25_300, 52_428_800, 3.2e9].map(bytes)).toEqual(['812 B', '25.3 kB', '52.4 MB', '3.20 GB']);
});

const leg = (serial: string, os: string, more: Partial<LegSummary> = {}) =>
  ({
    id: serial,
    serial,
    os,
    traits: { os, maker: 'Orrery' },
    stage: 'done',
    verdict: 'passed',
    cases: { passed: 2 },
    cases_total: 2,
    ...more,
  }) as LegSummary;

test('tiles are laid by a trait, its values in their order; only traits that differ are offered', () => {
  const legs = [leg('a', '10'), leg('b', '9', { verdict: 'crashed' }), leg('c', '8.1'), leg('d', '10')];
  expect(laid(legs, 'os').map((g) => `${g.value}: ${g.legs.map((l) => l.serial).join(' ')}`)).toEqual(['8.1: c', '9: b', '10: a d']);
  expect(laid(legs, 'verdict').map((g) => g.value)).toEqual(['crashed', 'passed']);
  expect(differing(legs)).toEqual(['os']);
  expect(['10', '9', '8.1'].sort(compareValues)).toEqual(['8.1', '9', '10']);
});

test('a leg stands by its verdict, or by how far it is', () => {
  expect(standing(leg('a', '9'))).toBe('passed');
  expect(standing(leg('a', '9', { stage: 'collecting', verdict: undefined }))).toBe('running');
  expect(standing(leg('a', '9', { stage: 'waiting', verdict: undefined }))).toBe('waiting');
  expect(cases(leg('a', '9', { cases: { passed: 1, failed: 1 }, cases_total: 3 }))).toBe('2 of 3, 1 failed, 1 passed');
});

test('a run as a command line can be pasted', () => {
  expect(patterns(' maker=Orrery   os>=10 "model=Skerry 5" ')).toEqual(['maker=Orrery', 'os>=10', 'model=Skerry 5']);
  expect(
    commandLine({
      build: 'kelpline/android@231',
      package: 'shore-suite@1',
      where: ['os>=10', "model=Fisher's"],
      confirm: 0,
      attempts: 2,
      limit_seconds: 300,
    }).split(' \\\n  '),
  ).toEqual([
    'tessellant run start',
    '--build kelpline/android@231',
    '--package shore-suite@1',
    "--where 'os>=10'",
    `--where 'model=Fisher'\\''s'`,
    '--limit 5m',
    '--watch',
  ]);
  expect(shellWord('orr-01')).toBe('orr-01');
});

test('a zip is a package, all else a build', () => {
  expect(['a.zip', 'A.ZIP', 'a.apk', 'a'].map(kindOf)).toEqual(['package', 'package', 'build', 'build']);
});

test('an upload is heard when it begins and when it ends, not all the while', () => {
  const upload = (more: Partial<Upload>) =>
    ({ id: 1, name: 'kelpline.apk', size: 100, sent: 0, kind: 'build', state: 'sending', ...more }) as Upload;
  const underWay = [upload({}), upload({ sent: 40 }), upload({ sent: 100, state: 'reading' })].map(spoken);
  expect(new Set(underWay).size).toBe(1);
  expect(spoken(upload({ state: 'kept', ref: 'kelpline/android@231' }))).toBe('kelpline.apk: uploaded as kelpline/android@231.');
});
