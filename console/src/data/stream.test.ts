import { afterEach, beforeEach, expect, test, vi } from 'vitest';
import type { Change } from './changes';
import { letGoAfter, lostAfter, Stream, tryAgainAfter, type Source } from './stream';

beforeEach(() => void vi.useFakeTimers());
afterEach(() => void vi.useRealTimers());

class Fake implements Source {
  readyState = 0;
  onerror: ((e: Event) => void) | null = null;
  heard = new Map<string, (e: MessageEvent) => void>();
  constructor(readonly query: string) {}
  addEventListener(kind: string, f: (e: MessageEvent) => void) {
    this.heard.set(kind, f);
  }
  close() {
    this.readyState = 2;
  }
  say(kind: string, lastEventId: string, data: unknown = {}) {
    this.heard.get(kind)?.({ lastEventId, data: JSON.stringify(data) } as MessageEvent);
  }
  fail(readyState: number) {
    this.readyState = readyState;
    this.onerror?.({} as Event);
  }
}

function tab(place = 'e-1') {
  const sources: Fake[] = [];
  const changes: Change[] = [];
  const said: string[] = [];
  let refused = 0;
  let hidden = false;
  const s = new Stream({
    open: (q) => (sources.push(new Fake(q)), sources.at(-1)!),
    change: (c) => void changes.push(c),
    hello: (h) => void said.push(h.version),
    refused: () => void refused++,
    place,
    hidden: () => hidden,
  });
  s.start();
  return {
    s,
    sources,
    changes,
    said,
    refused: () => refused,
    hide: (h: boolean) => {
      hidden = h;
      s.seen();
    },
    now: () => sources.at(-1)!,
    settle: (ms = 0) => vi.advanceTimersByTimeAsync(ms),
  };
}

test('it begins where the page was loaded, once a page wants something', async () => {
  const t = tab();
  await t.settle();
  expect(t.sources).toHaveLength(0);
  t.s.want({ list: ['runs'] });
  t.s.want({ list: ['builds', 'runs'] });
  await t.settle();
  expect(t.sources.map((x) => x.query)).toEqual(['list=builds%2Cruns&since=e-1']);
  t.now().say('hello', 'e-5', { version: '1', at: '' });
  expect(t.s.state).toBe('open');
});

test('another page goes on where the one before has left', async () => {
  const t = tab();
  const leave = t.s.want({ list: ['runs'] });
  await t.settle();
  t.now().say('run', 'e-7', { run: { id: '1' } });
  leave();
  t.s.want({ run: '1' });
  await t.settle();
  expect(t.sources.map((x) => x.query)).toEqual(['list=runs&since=e-1', 'run=1&since=e-7']);
  expect(t.sources[0]!.readyState).toBe(2);
  expect(t.changes).toHaveLength(1);
});

test('a page that wants the same keeps the stream', async () => {
  const t = tab();
  const leave = t.s.want({ list: ['runs'] });
  await t.settle();
  leave();
  t.s.want({ list: ['runs'] });
  await t.settle();
  expect(t.sources).toHaveLength(1);
});

test('a place without a change is kept too', async () => {
  const t = tab();
  t.s.want({ list: ['builds'] });
  await t.settle();
  t.now().say('here', 'e-90');
  t.s.want({ leg: 'a' });
  await t.settle();
  expect(t.now().query).toBe('leg=a&list=builds&since=e-90');
});

test('a stream that the service ends is not a lost connection', async () => {
  const t = tab();
  const states: string[] = [];
  t.s.subscribe(() => states.push(t.s.state));
  t.s.want({ list: ['runs'] });
  await t.settle();
  t.now().say('hello', 'e-1', {});
  for (let i = 0; i < 5; i++) {
    await t.settle(600_000);
    t.now().fail(0); // the browser opens it anew
    await t.settle(1000);
    t.now().say('hello', '', {});
  }
  await t.settle(lostAfter * 2);
  expect(states).toEqual(['open']);
});

test('one that stays away is said to be lost, and is open again when it is back', async () => {
  const t = tab();
  t.s.want({ list: ['runs'] });
  await t.settle();
  t.now().say('hello', 'e-1', {});
  t.now().fail(0);
  await t.settle(lostAfter - 1);
  expect(t.s.state).toBe('open');
  await t.settle(1);
  expect(t.s.state).toBe('lost');
  t.now().say('hello', '', {});
  expect(t.s.state).toBe('open');
});

test('one that is refused is tried again, and asks whether the sign-in is over', async () => {
  const t = tab();
  t.s.want({ list: ['runs'] });
  await t.settle();
  t.now().fail(2);
  expect(t.refused()).toBe(1);
  await t.settle(tryAgainAfter);
  expect(t.sources).toHaveLength(2);
  t.s.stop();
  t.now().fail(2);
  await t.settle(10 * tryAgainAfter);
  expect(t.sources).toHaveLength(2);
});

test('a tab that nobody sees lets go, and asks for what it missed', async () => {
  const t = tab();
  t.s.want({ list: ['runs'] });
  await t.settle();
  t.now().say('device', 'e-30', { items: [] });
  t.hide(true);
  await t.settle(letGoAfter);
  expect(t.now().readyState).toBe(2);
  t.hide(false);
  await t.settle();
  expect(t.now().query).toBe('list=runs&since=e-30');
  t.hide(true);
  await t.settle(letGoAfter - 1);
  t.hide(false);
  await t.settle(letGoAfter);
  expect(t.sources).toHaveLength(2);
});
