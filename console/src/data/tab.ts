// This tab's stream of events, and what the pages ask of it.
import { useEffect, useState, useSyncExternalStore } from 'react';
import { base } from './api';
import { heard } from './clock';
import { Live } from './live';
import { client } from './queries';
import { Stream, type List } from './stream';
import { Version } from './version';

const live = new Live(client);
live.attach();

const version = new Version();

export const stream = new Stream({
  open: (query) => new EventSource(`${base}/events?${query}`),
  change: (c) => live.change(c),
  hello: (said) => {
    heard(said.at);
    version.heard(said.version);
  },
  refused: () => void client.invalidateQueries({ queryKey: ['me'] }),
  place: document.querySelector<HTMLMetaElement>('meta[name=events]')?.content ?? '',
  hidden: () => document.hidden,
});
document.addEventListener('visibilitychange', () => stream.seen());

export const useConnection = () => useSyncExternalStore(stream.subscribe, () => stream.state);

/** Whether the service has become another version than this page is of. */
export const useNewer = () => useSyncExternalStore(version.subscribe, () => version.newer);

/** Hears of changes while the page is shown. */
export function useTopics(t: { run?: string; leg?: string; list?: List[] }) {
  const said = JSON.stringify(t);
  useEffect(() => {
    const topics = JSON.parse(said) as typeof t;
    return topics.run || topics.leg || topics.list ? stream.want(topics) : undefined;
  }, [said]);
}

/** A value that follows another at most every so many ms: at once at first, and the last one always. */
export function usePaced<T>(value: T, every: number): T {
  const [shown, setShown] = useState({ value, at: 0 });
  useEffect(() => {
    const wait = shown.at + every - performance.now();
    const take = () => setShown((old) => (Object.is(old.value, value) ? old : { value, at: performance.now() }));
    if (wait <= 0) return take();
    const t = setTimeout(take, wait);
    return () => clearTimeout(t);
  }, [value, every, shown.at]);
  return shown.value;
}
