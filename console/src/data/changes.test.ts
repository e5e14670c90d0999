import { expect, test } from 'vitest';
import type { Build, Device, Leg, LegSummary, Run, Session, Timeline, TimelineEvent } from './api';
import { applied, isLive, merged, stale, withEvents, type Change } from './changes';

const run = (id: string, more: Partial<Run> = {}): Run =>
  ({
    id,
    build: 'kelpline/android@231',
    build_id: 'B1',
    package: 'shore-suite@1',
    package_id: 'P1',
    done: false,
    counts: {},
    stages: {},
    case_names: [],
    legs: [],
    findings: [],
    ...more,
  }) as unknown as Run;
const leg = (id: string, more: Partial<LegSummary> = {}): LegSummary =>
  ({ id, serial: 'orr-01', stage: 'running', attempts: 1, case_verdicts: [], ...more }) as LegSummary;
const pages = (items: unknown[][], next?: string) => ({
  pages: items.map((i, n) => ({ items: i, next: n < items.length - 1 ? 'more' : next })),
  pageParams: items.map(() => ''),
});
const ids = (data: unknown) => (data as ReturnType<typeof pages>).pages.map((p) => p.items.map((x) => (x as Run).id).join(''));
const nothing = () => undefined;
const apply = (key: unknown[], data: unknown, change: Change, look: (key: readonly unknown[]) => unknown = nothing) =>
  applied(key, data, change, look);
const ran = (r: Run, legs?: LegSummary[]): Change => ({ kind: 'run', data: { run: r, legs } });
const e = (seq: number) => ({ seq, at: seq, kind: 'command' }) as TimelineEvent;

test('changed things take the place of their older selves; the others stay the same objects', () => {
  const [a, b] = [{ id: 'a', n: 1 }, { id: 'b', n: 1 }];
  const out = merged([a, b], [{ id: 'b', n: 2 }, { id: 'c', n: 1 }], (x) => x.id);
  expect(out).toEqual([a, { id: 'b', n: 2 }, { id: 'c', n: 1 }]);
  expect(out[0]).toBe(a);
  const same = [a, b];
  expect(merged(same, [], (x) => x.id)).toBe(same);
});

test('events come once each, in the order of their numbers, however they arrive', () => {
  const seqs = (old: number[], more: number[]) => withEvents(old.map(e), more.map(e)).map((x) => x.seq);
  expect(seqs([1, 2], [3])).toEqual([1, 2, 3]);
  expect(seqs([1, 4], [2, 4, 5])).toEqual([1, 2, 4, 5]);
  expect(seqs([], [2, 1])).toEqual([1, 2]);
  expect(seqs([1, 2, 3], [2, 3, 4])).toEqual([1, 2, 3, 4]);
  const same = [e(1), e(2)];
  expect(withEvents(same, [])).toBe(same);
  expect(withEvents(same, [e(2)])).toBe(same);
});

test('a new run stands at the top of the list', () =>
  expect(ids(apply(['runs', {}, 50], pages([[run('3'), run('1')]]), ran(run('4'))))).toEqual(['431']));
test('a run that was missed stands in its place', () =>
  expect(ids(apply(['runs', {}, 50], pages([[run('3'), run('1')]]), ran(run('2'))))).toEqual(['321']));
test('a run that is older than all that were fetched is left out', () =>
  expect(ids(apply(['runs', {}, 50], pages([[run('3'), run('2')]], 'more'), ran(run('1'))))).toEqual(['32']));
test('the oldest run of all stands at the end', () =>
  expect(ids(apply(['runs', {}, 50], pages([[run('3'), run('2')]]), ran(run('1'))))).toEqual(['321']));
test('a run between two pages is there once', () =>
  expect(
    ids(
      apply(
        ['runs', {}, 50],
        pages([
          [run('9'), run('7')],
          [run('5'), run('3')],
        ]),
        ran(run('6')),
      ),
    ),
  ).toEqual(['97', '653']));
test('an empty list gets its first run', () => expect(ids(apply(['runs', {}, 50], pages([[]]), ran(run('1'))))).toEqual(['1']));

test('a run appears in a list by verdict when it has got that verdict, though it is not the newest', () => {
  const list = pages([[run('5', { verdict: 'failed' }), run('2', { verdict: 'failed' })]]);
  expect(ids(apply(['runs', { verdict: 'failed' }, 50], list, ran(run('4', { verdict: 'failed' }))))).toEqual(['542']);
  expect(apply(['runs', { verdict: 'failed' }, 50], list, ran(run('4', { verdict: 'passed' })))).toBe(list);
});
test('a run that fits no longer leaves the list', () => {
  expect(
    ids(apply(['runs', { verdict: 'failed' }, 50], pages([[run('5', { verdict: 'failed' })]]), ran(run('5', { verdict: 'flaky' })))),
  ).toEqual(['']);
});
test('a list of one build takes only its runs, by reference or id', () => {
  for (const build of ['kelpline/android@231', 'B1'])
    expect(ids(apply(['runs', { build }, 50], pages([[]]), ran(run('1'))))).toEqual(['1']);
  const other = pages([[]]);
  expect(apply(['runs', { build: 'B2' }, 50], other, ran(run('1')))).toBe(other);
});
test('which build is the newest, only the service knows', () =>
  expect(apply(['runs', { build: 'kelpline/android@newest' }, 50], pages([[]]), ran(run('1')))).toBe(stale));

test('a run’s page takes its changed legs; the others stay the same objects', () => {
  const old = run('1', { legs: [leg('a'), leg('b')] });
  const out = apply(['run', '1'], old, ran(run('1', { done: true }), [leg('b', { stage: 'done' })])) as Run;
  expect(out.done).toBe(true);
  expect(out.legs[0]).toBe(old.legs[0]);
  expect(out.legs[1]!.stage).toBe('done');
  expect(apply(['run', '2'], old, ran(run('1'), []))).toBe(old);
});
test('a run told as in a list does not empty its page', () =>
  expect(apply(['run', '1'], run('1', { legs: [leg('a')] }), ran(run('1')))).toBe(stale));

const whole = (more: Partial<Leg> = {}): Leg =>
  ({
    id: 'a',
    stage: 'running',
    attempts: [{ id: 'A1', number: 1, cases: [{ name: 'x', verdict: 'passed' }, { name: 'y' }] }],
    ...more,
  }) as Leg;
test('a leg’s page is fetched anew when its summary tells of more', () => {
  const same = whole();
  expect(apply(['leg', 'a'], same, ran(run('1'), [leg('a', { case_verdicts: ['passed', 'running'] })]))).toBe(same);
  expect(apply(['leg', 'a'], whole(), ran(run('1'), [leg('a', { case_verdicts: ['passed', 'failed'] })]))).toBe(stale);
  expect(apply(['leg', 'a'], whole(), ran(run('1'), [leg('a', { case_verdicts: ['passed', 'running', 'running'] })]))).toBe(stale);
  expect(apply(['leg', 'a'], whole(), ran(run('1'), [leg('a', { stage: 'done', case_verdicts: ['passed', 'running'] })]))).toBe(stale);
  expect(apply(['leg', 'a'], whole(), ran(run('1'), [leg('a', { attempts: 2, case_verdicts: ['passed', 'running'] })]))).toBe(stale);
  expect(apply(['leg', 'a'], same, ran(run('1'), [leg('b', { stage: 'done' })]))).toBe(same);
});
test('a leg that waits moves up in the queue', () => {
  const waits = whole({ stage: 'waiting', place: 3, attempts: [] });
  expect(apply(['leg', 'a'], waits, ran(run('1'), [leg('a', { stage: 'waiting', attempts: 0, place: 2 })]))).toMatchObject({ place: 2 });
});
test('a session’s page is fetched anew when the session changes', () => {
  expect(apply(['leg', 'a'], whole(), { kind: 'session', data: { id: 'a' } as Session })).toBe(stale);
  expect(apply(['sessions', '', ''], pages([[]]), { kind: 'session', data: { id: 'a' } as Session })).toBe(stale);
});

const line = (seqs: number[], live = true): Timeline => ({ attempt: 1, live, events: seqs.map(e) });
const knows = (key: readonly unknown[]) => (key[0] === 'leg' ? whole() : undefined);
const events = (...seqs: number[]): Change => ({ kind: 'timeline', data: { leg: 'a', attempt: 'A1', events: seqs.map(e) } });
test('a timeline grows by what its attempt does', () => {
  expect((apply(['timeline', 'a', 1], line([1, 2]), events(3, 4), knows) as Timeline).events.map((x) => x.seq)).toEqual([1, 2, 3, 4]);
  expect(apply(['timeline', 'a', 1], line([1, 2]), events(5), knows)).toBe(stale);
  const other = line([1]);
  expect(apply(['timeline', 'a', 2], other, events(2), knows)).toBe(other);
  expect(apply(['timeline', 'b', 1], other, events(2), knows)).toBe(other);
});
test('a timeline is fetched whole when its leg or session is done, and then no more', () => {
  const done = ran(run('1'), [leg('a', { stage: 'done' })]);
  expect(apply(['timeline', 'a', 1], line([1]), done)).toBe(stale);
  const ended = line([1], false);
  expect(apply(['timeline', 'a', 1], ended, done)).toBe(ended);
  expect(apply(['timeline', 'a', 1], line([1]), { kind: 'session', data: { id: 'a', stage: 'done' } as Session })).toBe(stale);
});
test('an attempt that the page does not know makes it ask', () => {
  const known = whole();
  expect(apply(['leg', 'a'], known, events(1))).toBe(known);
  expect(apply(['leg', 'a'], known, { kind: 'timeline', data: { leg: 'a', attempt: 'A2', events: [] } })).toBe(stale);
});
test('a picture of the screen is never older than the one before', () => {
  const screen = (leg: string, at: number): Change => ({ kind: 'screen', data: { leg, at } });
  expect(apply(['screenat', 'a'], 5, screen('a', 9))).toBe(9);
  expect(apply(['screenat', 'a'], 9, screen('a', 5))).toBe(9);
  expect(apply(['screenat', 'a'], 5, screen('b', 9))).toBe(5);
});

const device = (serial: string, state = 'free') => ({ serial, state }) as Device;
test('devices change in their place, new ones in the order of their serials', () => {
  const out = apply(['devices'], [device('a'), device('c')], {
    kind: 'device',
    data: { items: [device('b'), device('c', 'held')] },
  }) as Device[];
  expect(out.map((d) => `${d.serial} ${d.state}`)).toEqual(['a free', 'b free', 'c held']);
});
test('what hangs on a device is fetched anew when it changes, and only then', () => {
  const changed: Change = { kind: 'device', data: { items: [device('a')] } };
  const same = {};
  for (const key of [
    ['device', 'a'],
    ['devicelegs', 'a'],
    ['sessions', '', 'a'],
  ])
    expect(apply(key, same, changed)).toBe(stale);
  for (const key of [
    ['device', 'b'],
    ['devicelegs', 'b'],
    ['sessions', '', 'b'],
    ['sessions', 'nightly', ''],
  ])
    expect(apply(key, same, changed)).toBe(same);
});
test('a device’s legs are fetched anew while one of them is not done and its run changes', () => {
  const legs = (stage: string) => ({ items: [leg('a', { run_id: '1', stage: stage as LegSummary['stage'] })] });
  expect(apply(['devicelegs', 'a'], legs('collecting'), ran(run('1')))).toBe(stale);
  const done = legs('done');
  expect(apply(['devicelegs', 'a'], done, ran(run('1')))).toBe(done);
  const other = legs('collecting');
  expect(apply(['devicelegs', 'a'], other, ran(run('2')))).toBe(other);
});
test('an upload stands at the top of its list, once', () => {
  const build = (id: string) => ({ id }) as Build;
  const added: Change = { kind: 'build', data: build('2') };
  const once = apply(['builds'], pages([[build('1')]]), added);
  expect(ids(once)).toEqual(['21']);
  expect(ids(apply(['builds'], once, added))).toEqual(['21']);
  const packages = pages([[]]);
  expect(apply(['packages'], packages, added)).toBe(packages);
});
test('what was missed is fetched anew, and nothing else', () => {
  const again: Change = { kind: 'again', data: {} };
  for (const key of ['run', 'runs', 'leg', 'timeline', 'sessions', 'devices', 'device', 'builds', 'packages']) {
    expect(apply([key, 'a'], {}, again)).toBe(stale);
    expect(isLive([key])).toBe(true);
  }
  const tree = {};
  expect(apply(['tree', 'a'], tree, again)).toBe(tree);
  expect(isLive(['plan'])).toBe(false);
});
