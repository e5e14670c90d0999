// Events and fetches in every order: what a tab shows in the end is what the service has.
import { QueryClient, QueryObserver, notifyManager } from '@tanstack/react-query';
import { afterEach, beforeEach, describe, expect, test, vi } from 'vitest';
import type { Device, LegSummary, Run } from './api';
import { Journal } from './journal';
import { Live, pace } from './live';

notifyManager.setScheduler(queueMicrotask);
beforeEach(() => void vi.useFakeTimers());
afterEach(() => void vi.useRealTimers());
const settle = async (ms = 0) => void (await vi.advanceTimersByTimeAsync(ms));

/** A service whose answers come when the test lets them: each with what it had when it was asked, or when it answers. */
class Service {
  run = { id: '1', n: 0, legs: [] as LegSummary[], case_names: [] as string[] };
  asked = 0;
  waiting: { early: unknown; done: (v: unknown) => void; fail: (e: Error) => void }[] = [];
  ask = () => new Promise<unknown>((done, fail) => {
    this.asked++;
    this.waiting.push({ early: structuredClone(this.run), done, fail });
  });
  async answer(when: 'as asked' | 'as now' = 'as asked') {
    const w = this.waiting.shift()!;
    w.done(when === 'as asked' ? w.early : structuredClone(this.run));
    await settle();
  }
  async fail() {
    this.waiting.shift()!.fail(new Error('no'));
    await settle();
  }
}

function tab(key: unknown[] = ['run', '1']) {
  const client = new QueryClient({ defaultOptions: { queries: { staleTime: 60_000, retry: false } } });
  const live = new Live(client);
  const off = live.attach();
  const service = new Service();
  const observer = new QueryObserver(client, { queryKey: key, queryFn: service.ask });
  let stop = observer.subscribe(() => {});
  const tell = (n: number) => {
    service.run.n = n;
    live.change({ kind: 'run', data: { run: { ...structuredClone(service.run) } as unknown as Run, legs: [] } });
  };
  return {
    client, live, service, tell, off,
    shows: () => client.getQueryData<{ n: number }>(key)?.n,
    leave: () => stop(),
    come: () => void (stop = observer.subscribe(() => {})),
  };
}

describe('an answer and a change', () => {
  test('the change after the answer', async () => {
    const t = tab();
    await t.service.answer();
    t.tell(1);
    expect(t.shows()).toBe(1);
  });
  test('the change overtakes an answer that is older', async () => {
    const t = tab();
    t.tell(1);
    await t.service.answer('as asked');
    expect(t.shows()).toBe(1);
  });
  test('the change overtakes an answer that has it already', async () => {
    const t = tab();
    t.tell(1);
    await t.service.answer('as now');
    expect(t.shows()).toBe(1);
  });
  for (let before = 0; before <= 3; before++) {
    for (let after = 0; after <= 2; after++) {
      for (const when of ['as asked', 'as now'] as const) {
        test(`${before} changes before the answer (${when}), ${after} after it`, async () => {
          const t = tab();
          for (let n = 1; n <= before; n++) t.tell(n);
          await t.service.answer(when);
          expect(t.shows()).toBe(before);
          for (let n = before + 1; n <= before + after; n++) t.tell(n);
          expect(t.shows()).toBe(before + after);
          await settle(10 * pace);
          expect(t.service.asked).toBe(1);
        });
      }
    }
  }
  test('a change while the second answer is on its way', async () => {
    const t = tab();
    await t.service.answer();
    void t.client.refetchQueries({ queryKey: ['run', '1'] });
    t.tell(1);
    expect(t.shows()).toBe(1);
    await t.service.answer('as asked');
    expect(t.shows()).toBe(1);
  });
  test('a fetch that fails leaves what the change said', async () => {
    const t = tab();
    await t.service.answer();
    void t.client.refetchQueries({ queryKey: ['run', '1'] });
    t.tell(1);
    await t.service.fail();
    expect(t.shows()).toBe(1);
  });
  test('two fetches, of which the first began earlier, each get what they missed', async () => {
    const t = tab();
    const other = new QueryObserver(t.client, {
      queryKey: ['runs', {}, 50],
      queryFn: () => new Promise((done) => setTimeout(() => done({ pages: [{ items: [] }], pageParams: [''] }), 500)),
    });
    other.subscribe(() => {});
    t.tell(1);
    await t.service.answer('as asked');
    t.tell(2);
    await settle(500);
    expect(t.shows()).toBe(2);
    const list = t.client.getQueryData<{ pages: { items: { n: number }[] }[] }>(['runs', {}, 50]);
    expect(list?.pages[0]?.items.map((r) => r.n)).toEqual([2]);
  });
});

describe('what only the service can tell', () => {
  const again = { kind: 'again', data: {} } as const;
  test('is fetched anew', async () => {
    const t = tab();
    await t.service.answer();
    t.service.run.n = 7;
    t.live.change(again);
    await settle(pace);
    await t.service.answer();
    expect(t.shows()).toBe(7);
  });
  test('is fetched once more when it became stale while it was being fetched', async () => {
    const t = tab();
    t.service.run.n = 7;
    t.live.change(again); // no data yet: the fetch that is under way may have begun before what was missed
    await t.service.answer('as asked');
    await settle(pace);
    expect(t.service.asked).toBe(2);
    await t.service.answer();
    expect(t.shows()).toBe(7);
  });
  test('twenty reasons make two fetches, and none is broken off', async () => {
    const t = tab();
    await t.service.answer();
    for (let n = 1; n <= 20; n++) {
      t.service.run.n = n;
      t.live.change(again);
      await settle(20);
    }
    await settle(pace);
    expect(t.service.asked).toBe(2);
    await t.service.answer();
    expect(t.shows()).toBe(20);
  });
  test('under a steady load the page is fetched at its pace, and shows what it gets', async () => {
    const t = tab();
    await t.service.answer();
    const seen = new Set<number>();
    for (let n = 1; n <= 100; n++) {
      t.service.run.n = n;
      t.live.change(again);
      await settle(100);
      if (t.service.waiting.length > 0 && n % 3 === 0) await t.service.answer(); // slow: three changes a fetch
      seen.add(t.shows()!);
    }
    expect(t.service.asked).toBeGreaterThan(6);
    expect(t.service.asked).toBeLessThan(12);
    expect(seen.size).toBeGreaterThan(5);
    while (t.service.waiting.length > 0) await t.service.answer('as now');
    await settle(2 * pace);
    while (t.service.waiting.length > 0) await t.service.answer('as now');
    expect(t.shows()).toBe(100);
  });
  test('a fetch that failed is tried again when there is reason', async () => {
    const t = tab();
    await t.service.answer();
    t.live.change(again);
    await settle(pace);
    t.live.change(again);
    await t.service.fail();
    await settle(pace);
    expect(t.service.asked).toBe(3);
  });
  test('is not fetched while nobody looks, and is when somebody does', async () => {
    const t = tab();
    await t.service.answer();
    t.leave();
    t.service.run.n = 3;
    t.live.change(again);
    await settle(10 * pace);
    expect(t.service.asked).toBe(1);
    t.come();
    await settle();
    expect(t.service.asked).toBe(2);
    await t.service.answer();
    expect(t.shows()).toBe(3);
  });
  test('a page that was left is fetched anew on return: nobody told of it meanwhile', async () => {
    const t = tab();
    await t.service.answer();
    t.leave();
    t.service.run.n = 4;
    t.come();
    await settle();
    await t.service.answer();
    expect(t.shows()).toBe(4);
  });
  test('a list is fetched anew only for what concerns it', async () => {
    const t = tab(['device', 'orr-01']);
    await t.service.answer();
    t.live.change({ kind: 'device', data: { items: [{ serial: 'orr-02' } as Device] } });
    await settle(pace);
    expect(t.service.asked).toBe(1);
    t.live.change({ kind: 'device', data: { items: [{ serial: 'orr-01' } as Device] } });
    await settle(pace);
    expect(t.service.asked).toBe(2);
  });
  test('nothing is left to do when the tab lets go', async () => {
    const t = tab();
    await t.service.answer();
    t.live.change(again);
    t.off();
    await settle(10 * pace);
    expect(t.service.asked).toBe(1);
  });
});

describe('the journal', () => {
  test('keeps nothing while nothing is fetched', () => {
    const j = new Journal<number>();
    for (let i = 0; i < 100; i++) j.add(i);
    expect(j.size).toBe(0);
    expect(j.end('never begun')).toEqual([]);
  });
  test('gives each fetch what came since it began', () => {
    const j = new Journal<number>();
    j.begin('a');
    j.add(1);
    j.begin('b');
    j.add(2);
    expect(j.end('a')).toEqual([1, 2]);
    j.add(3);
    expect(j.end('b')).toEqual([2, 3]);
    expect(j.size).toBe(0);
  });
  test('does not grow without end: what a slow fetch missed is said to be unknown', () => {
    const j = new Journal<number>();
    j.begin('slow');
    for (let i = 0; i < 20_000; i++) j.add(i);
    expect(j.size).toBe(500);
    j.begin('quick');
    j.add(1);
    expect(j.end('quick')).toEqual([1]);
    expect(j.end('slow')).toBeUndefined();
  });
});
