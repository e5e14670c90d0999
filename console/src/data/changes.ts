// What a change of the service does to what a tab has fetched. Pure: a query's data and a change give the query's next data.
import type { InfiniteData, QueryKey } from '@tanstack/react-query';
import type { Build, Device, Leg, LegSummary, Package, Run, Session, Timeline, TimelineEvent } from './api';

export type Change =
  | { kind: 'run'; data: { run: Run; legs?: LegSummary[] } }
  | { kind: 'session'; data: Session }
  | { kind: 'device'; data: { items: Device[] } }
  | { kind: 'build'; data: Build }
  | { kind: 'package'; data: Package }
  | { kind: 'timeline'; data: { leg: string; attempt: string; events: TimelineEvent[] } }
  | { kind: 'screen'; data: { leg: string; at: number } }
  | { kind: 'again'; data: object };

/** Only the service can tell what the data is now: it must be fetched anew. */
export const stale = Symbol('stale');

/** Other data that the tab has, by its key. */
export type Look = (key: QueryKey) => unknown;

type Pages<T> = InfiniteData<{ items: T[]; next?: string }>;

/**
 * What becomes of the data under a key when something changes: the same object where nothing does, another, or `stale`.
 * A change may be older than the data, but never newer than all that follow: each tells the whole state of its thing.
 */
export function applied(key: QueryKey, data: unknown, change: Change, look: Look): unknown {
  if (change.kind === 'again') return live.has(String(key[0])) ? stale : data;
  const rule = rules[String(key[0])]?.[change.kind];
  return rule ? rule(data as never, change.data as never, key as never, look) : data;
}

type Rule = (data: never, change: never, key: never, look: Look) => unknown;

const rules: Record<string, Partial<Record<Change['kind'], Rule>>> = {
  runs: { run: runInList },
  run: { run: runOnItsPage },
  answer: { run: (a: unknown, c: { run: Run }, [, id]: [string, string]) => (c.run.id === id && c.run.done ? stale : a) },
  leg: { run: legOfRun, session: (leg: Leg, s: Session) => (leg.id === s.id ? stale : leg), timeline: legOfTimeline },
  timeline: { run: timelineOfRun, session: timelineOfSession, timeline: timelineGrows },
  screenat: {
    screen: (at: number, c: { leg: string; at: number }, [, leg]: [string, string]) => (c.leg === leg ? Math.max(at, c.at) : at),
  },
  // How many are open and wait stands beside the list of sessions.
  sessions: { session: (l: unknown, s: Session) => (s.by_hand ? l : stale), device: ofDevice(2) },
  hold: { session: (h: { id: string }, s: Session) => (h.id === s.id ? stale : h) },
  holds: { session: (l: unknown, s: Session) => (s.by_hand ? stale : l) },
  devices: { device: devicesInList },
  device: { device: ofDevice(1) },
  devicelegs: { device: ofDevice(1), run: legsOfRun },
  builds: { build: contentInList },
  packages: { package: contentInList },
};
const live = new Set(Object.keys(rules));

/** Whether changes are told of what is under this key. */
export const isLive = (key: QueryKey) => live.has(String(key[0]));

/** Puts changed things into a list in place of their older selves, new ones at its end. Where nothing changes it stays the same object. */
export function merged<T>(list: T[], changed: T[], key: (x: T) => string): T[] {
  if (changed.length === 0) return list;
  const by = new Map(changed.map((x) => [key(x), x]));
  const out = list.map((x) => {
    const k = key(x);
    const now = by.get(k);
    by.delete(k);
    return now ?? x;
  });
  return [...out, ...by.values()];
}

/** Puts a thing into a list of pages, the newest first: in its place by its id, which grows with time. */
function placed<T extends { id: string }>(data: Pages<T>, item: T): Pages<T> {
  const pages = data.pages.map((p) => ({ ...p, items: p.items.filter((x) => x.id !== item.id) }));
  const at = pages.findIndex((p, i) => p.items.some((x) => x.id < item.id) || (i === pages.length - 1 && p.next === undefined));
  const page = pages[at];
  if (!page) return data; // older than all that were fetched
  const before = page.items.findIndex((x) => x.id < item.id);
  page.items.splice(before < 0 ? page.items.length : before, 0, item);
  return { ...data, pages };
}

function replaced<T extends { id: string }>(data: Pages<T>, item: T): Pages<T> | undefined {
  if (!data.pages.some((p) => p.items.some((x) => x.id === item.id))) return undefined;
  return { ...data, pages: data.pages.map((p) => ({ ...p, items: p.items.map((x) => (x.id === item.id ? item : x)) })) };
}

function without<T extends { id: string }>(data: Pages<T>, id: string): Pages<T> {
  if (!data.pages.some((p) => p.items.some((x) => x.id === id))) return data;
  return { ...data, pages: data.pages.map((p) => ({ ...p, items: p.items.filter((x) => x.id !== id) })) };
}

interface Filter {
  build?: string;
  package?: string;
  verdict?: string;
  label?: string[];
  search?: string;
}

function runInList(data: Pages<Run>, { run }: { run: Run }, [, filter]: [string, Filter?]): Pages<Run> | typeof stale {
  const f = filter ?? {};
  if (f.search || f.label || [f.build, f.package].some((ref) => ref?.endsWith('@newest'))) return stale; // the service finds them
  const fits = (!f.build || f.build === run.build || f.build === run.build_id) &&
    (!f.package || f.package === run.package || f.package === run.package_id) && (!f.verdict || f.verdict === run.verdict);
  if (!fits) return without(data, run.id);
  return replaced(data, run) ?? placed(data, run);
}

function runOnItsPage(old: Run, c: { run: Run; legs?: LegSummary[] }, [, id]: [string, string]): Run | typeof stale {
  if (c.run.id !== id) return old;
  if (!c.legs) return stale; // told as it stands in a list
  return { ...c.run, legs: merged(old.legs, c.legs, (l) => l.id) };
}

/** A leg's own page needs more than a summary has: only its place in the queue is taken from there. */
function legOfRun(leg: Leg, c: { legs?: LegSummary[] }): Leg | typeof stale {
  const l = c.legs?.find((x) => x.id === leg.id);
  if (!l) return leg;
  const cases = leg.attempts.at(-1)?.cases;
  const told = cases?.filter((k) => k.verdict).length ?? 0;
  const known = l.case_verdicts.filter((v) => v && v !== 'running').length;
  if (
    leg.stage !== l.stage ||
    leg.attempts.length !== l.attempts ||
    told !== known ||
    (cases?.length ?? 0) !== l.case_verdicts.filter(Boolean).length
  )
    return stale;
  return leg.place === l.place ? leg : { ...leg, place: l.place };
}

/** Events of an attempt that the leg's page does not know yet. */
function legOfTimeline(leg: Leg, c: { leg: string; attempt: string }): Leg | typeof stale {
  return c.leg === leg.id && !leg.attempts.some((a) => a.id === c.attempt) ? stale : leg;
}

/** What is written of an attempt at its end is more than what was told while it ran. */
function timelineOfRun(t: Timeline, c: { legs?: LegSummary[] }, [, leg]: [string, string]): Timeline | typeof stale {
  return t.live && c.legs?.some((l) => l.id === leg && l.stage === 'done') ? stale : t;
}

function timelineOfSession(t: Timeline, s: Session, [, leg]: [string, string]): Timeline | typeof stale {
  return t.live && s.id === leg && s.stage === 'done' ? stale : t;
}

function timelineGrows(
  t: Timeline,
  c: { leg: string; attempt: string; events: TimelineEvent[] },
  [, leg, number]: [string, string, number],
  look: Look,
): Timeline | typeof stale {
  if (c.leg !== leg) return t;
  const of = (look(['leg', leg]) as Leg | undefined)?.attempts.find((a) => a.id === c.attempt)?.number;
  if (of !== number) return t;
  // What came between the fetch and the first of these is missing.
  if ((c.events[0]?.seq ?? 0) > (t.events.at(-1)?.seq ?? 0) + 1) return stale;
  const events = withEvents(t.events, c.events);
  return events === t.events ? t : { ...t, events };
}

/** Adds events to those that are there, once each, in the order of their numbers. */
export function withEvents(old: TimelineEvent[], more: TimelineEvent[]): TimelineEvent[] {
  const last = old.at(-1)?.seq ?? 0;
  const fresh = more.filter((e) => e.seq > last);
  if (fresh.length === 0 && more.every((e) => old.some((o) => o.seq === e.seq))) return old;
  if (fresh.length === more.length && fresh.every((e, i) => i === 0 || e.seq > fresh[i - 1]!.seq)) return [...old, ...fresh];
  const by = new Map(old.map((e) => [e.seq, e]));
  for (const e of more) by.set(e.seq, e);
  return [...by.values()].sort((a, b) => a.seq - b.seq);
}

function devicesInList(old: Device[], c: { items: Device[] }): Device[] {
  return merged(old, c.items, (d) => d.serial).toSorted((a, b) => (a.serial < b.serial ? -1 : 1));
}

/** A device is free before its leg is done: what it leaves is still being written. */
function legsOfRun(data: { items: LegSummary[] }, c: { run: Run }) {
  return data.items.some((l) => l.run_id === c.run.id && l.stage !== 'done') ? stale : data;
}

/** Of a device, whose serial stands at this place of the key. */
function ofDevice(place: number) {
  return (data: unknown, c: { items: Device[] }, key: QueryKey) => (c.items.some((d) => d.serial === key[place]) ? stale : data);
}

function contentInList<T extends { id: string }>(data: Pages<T>, item: T): Pages<T> {
  return replaced(data, item) ?? placed(data, item);
}
