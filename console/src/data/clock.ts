// The time at the service, and one ticker for all that shows how long ago something was.
import { useCallback, useSyncExternalStore } from 'react';

let ahead = 0; // ms by which the service's clock is ahead of this machine's
const slack = 1_500; // ms that an answer may have been on its way

/** Takes the service's time from what it has just said. */
export function heard(at: string) {
  const off = Date.parse(at) - Date.now();
  ahead = Number.isFinite(off) && Math.abs(off) > slack ? off : 0;
}

/** The time at the service, in ms since 1970. */
export const serverNow = () => Date.now() + ahead;

const watchers = new Set<() => void>();
let ticker: ReturnType<typeof setInterval> | undefined;

function subscribe(f: () => void) {
  watchers.add(f);
  ticker ??= setInterval(() => watchers.forEach((w) => w()), 1000);
  return () => {
    watchers.delete(f);
    if (watchers.size > 0) return;
    clearInterval(ticker);
    ticker = undefined;
  };
}

/** The time at the service, which changes every so many ms. */
export function useNow(every: number): number {
  return useSyncExternalStore(subscribe, useCallback(() => Math.floor(serverNow() / every) * every, [every]));
}
