// Live events: one stream for the tab, whose changes go to where the pages look.
//
// A tab that nobody sees lets go of its stream after a while, since browsers open
// only a few connections to one address; when it is seen again it asks for all that it missed, by the
// number of the last event.
import type { InfiniteData } from '@tanstack/react-query';
import { useEffect, useSyncExternalStore } from 'react';
import { base, type Build, type Device, type LegSummary, type Package, type Run, type Session, type Timeline, type TimelineEvent } from './api';
import { client } from './queries';

type Page<T> = InfiniteData<{ items: T[]; next?: string }>;

/** Puts changed things into a list in place of their older selves, and new ones where `fresh` says. The list stays the same object where nothing changed. */
export function merged<T>(list: T[], changed: T[], key: (x: T) => string, fresh: 'first' | 'last'): T[] {
  if (changed.length === 0) return list;
  const by = new Map(changed.map((x) => [key(x), x]));
  const out = list.map((x) => {
    const k = key(x);
    const now = by.get(k);
    by.delete(k);
    return now ?? x;
  });
  return fresh === 'first' ? [...by.values(), ...out] : [...out, ...by.values()];
}

/** Adds events to those that are there, once each, in the order of their numbers. */
export function withEvents(old: TimelineEvent[], more: TimelineEvent[]): TimelineEvent[] {
  const last = old.at(-1)?.seq ?? 0;
  if (more.every((e, i) => e.seq > (i ? more[i - 1]!.seq : last))) return more.length ? [...old, ...more] : old;
  const by = new Map(old.map((e) => [e.seq, e]));
  for (const e of more) by.set(e.seq, e);
  return [...by.values()].sort((a, b) => a.seq - b.seq);
}

function onRun(c: { run: Run; legs: LegSummary[] }) {
  client.setQueryData<Run>(['run', c.run.id], (old) => old && { ...c.run, legs: merged(old.legs, c.legs, (l) => l.id, 'last') });
  for (const [key, data] of client.getQueriesData<Page<Run>>({ queryKey: ['runs'] })) {
    const first = data?.pages[0];
    if (!data || !first) continue;
    const filter = (key[1] ?? {}) as { build?: string; package?: string; verdict?: string };
    const fits = (!filter.build || filter.build === c.run.build || filter.build === c.run.build_id) &&
      (!filter.package || filter.package === c.run.package || filter.package === c.run.package_id) && (!filter.verdict || filter.verdict === c.run.verdict);
    const known = data.pages.some((p) => p.items.some((r) => r.id === c.run.id));
    if (!known && (!fits || (first.items[0] && first.items[0].id > c.run.id))) continue;
    client.setQueryData<Page<Run>>(key, {
      ...data,
      pages: data.pages.map((p, i) => (known ? { ...p, items: p.items.map((r) => (r.id === c.run.id ? c.run : r)) } : i === 0 ? { ...p, items: [c.run, ...p.items] } : p)),
    });
  }
  for (const l of c.legs) {
    const old = client.getQueryData<{ stage: string; attempts: { cases: unknown[] }[] }>(['leg', l.id]);
    const cases = old?.attempts.at(-1)?.cases.length ?? 0;
    // A leg that is shown is asked for anew when something of it has changed that its summary does not tell.
    if (old && (old.stage !== l.stage || old.attempts.length !== l.attempts || cases !== l.case_verdicts.length)) {
      void client.invalidateQueries({ queryKey: ['leg', l.id] });
      if (l.stage === 'done') void client.invalidateQueries({ queryKey: ['timeline', l.id] });
    }
    void client.invalidateQueries({ queryKey: ['devicelegs', l.serial] });
  }
}

function onSession(s: Session) {
  // How many are open and wait stands beside the list: it is asked for anew.
  void client.invalidateQueries({ queryKey: ['sessions'] });
  if (client.getQueryData(['leg', s.id])) {
    void client.invalidateQueries({ queryKey: ['leg', s.id] });
    if (s.stage === 'done') void client.invalidateQueries({ queryKey: ['timeline', s.id] });
  }
}

function onDevices(c: { items: Device[] }) {
  client.setQueryData<Device[]>(['devices'], (old) => old && merged(old, c.items, (d) => d.serial, 'last').sort((a, b) => (a.serial < b.serial ? -1 : 1)));
  for (const d of c.items) void client.invalidateQueries({ queryKey: ['device', d.serial] });
}

function onContent<T extends { id: string }>(list: string, item: T) {
  client.setQueryData<Page<T>>([list], (old) => old && { ...old, pages: old.pages.map((p, i) => (i === 0 ? { ...p, items: merged(p.items, [item], (x) => x.id, 'first') } : p)) });
}

function onTimeline(c: { leg: string; attempt: string; events: TimelineEvent[] }) {
  const leg = client.getQueryData<{ attempts: { id: string; number: number }[] }>(['leg', c.leg]);
  const n = leg?.attempts.find((a) => a.id === c.attempt)?.number;
  if (n === undefined) return void client.invalidateQueries({ queryKey: ['leg', c.leg] });
  const key = ['timeline', c.leg, n];
  const old = client.getQueryData<Timeline>(key);
  // What came while the timeline was being fetched may be missing: then it is fetched again.
  if (old && (c.events[0]?.seq ?? 0) > (old.events.at(-1)?.seq ?? 0) + 1) void client.invalidateQueries({ queryKey: key });
  else if (old) client.setQueryData<Timeline>(key, { ...old, events: withEvents(old.events, c.events) });
}

const handlers: Record<string, (data: never) => void> = {
  run: onRun,
  session: onSession,
  device: onDevices,
  build: (b: Build) => onContent('builds', b),
  package: (p: Package) => onContent('packages', p),
  timeline: onTimeline,
  screen: (c: { leg: string; at: number }) => client.setQueryData(['screenat', c.leg], c.at),
  again: () => void client.invalidateQueries(),
};

export type Connection = 'connecting' | 'open' | 'lost';

const letGoAfter = 30_000; // ms that the tab is not seen
const tryAgainAfter = 2_000;

class Stream {
  private source?: EventSource;
  private last = '';
  private leg = '';
  private timer?: ReturnType<typeof setTimeout>;
  private watchers = new Set<() => void>();
  private wanted = false;
  state: Connection = 'connecting';

  start() {
    this.wanted = true;
    document.addEventListener('visibilitychange', this.seen);
    this.open();
  }

  stop() {
    this.wanted = false;
    document.removeEventListener('visibilitychange', this.seen);
    this.close();
    this.last = '';
  }

  /** Also watch a leg's commands and screens; '' for none. */
  watchLeg(leg: string) {
    if (this.leg === leg) return;
    this.leg = leg;
    if (this.source) this.open();
  }

  subscribe = (f: () => void) => {
    this.watchers.add(f);
    return () => void this.watchers.delete(f);
  };

  private say(s: Connection) {
    if (this.state === s) return;
    this.state = s;
    this.watchers.forEach((f) => f());
  }

  private seen = () => {
    clearTimeout(this.timer);
    if (document.hidden) this.timer = setTimeout(() => this.close(), letGoAfter);
    else if (!this.source) this.open();
  };

  private close() {
    clearTimeout(this.timer);
    this.source?.close();
    this.source = undefined;
  }

  private open() {
    this.close();
    if (!this.wanted) return;
    const q = new URLSearchParams();
    if (this.leg) q.set('leg', this.leg);
    if (this.last) q.set('since', this.last);
    const s = new EventSource(`${base}/events?${q}`);
    this.source = s;
    s.addEventListener('hello', (e) => {
      this.last = e.lastEventId || this.last;
      this.say('open');
    });
    for (const [kind, handle] of Object.entries(handlers)) {
      s.addEventListener(kind, (e) => {
        this.last = e.lastEventId;
        handle(JSON.parse(e.data as string) as never);
      });
    }
    s.onerror = () => {
      if (this.source !== s) return;
      this.say('lost');
      if (s.readyState !== EventSource.CLOSED) return; // the browser tries again by itself
      this.close();
      void client.invalidateQueries({ queryKey: ['me'] }); // perhaps the sign-in is over
      this.timer = setTimeout(() => this.open(), tryAgainAfter);
    };
  }
}

export const stream = new Stream();

export const useConnection = () => useSyncExternalStore(stream.subscribe, () => stream.state);

/** Watches a leg's commands and screens while it is shown and goes on. */
export function useWatchedLeg(leg: string, goesOn: boolean) {
  useEffect(() => {
    stream.watchLeg(goesOn ? leg : '');
    return () => stream.watchLeg('');
  }, [leg, goesOn]);
}
