// Addresses: how each view of each page is written into its address, and read from one that anybody may have typed.
import { useCallback, useMemo } from 'react';
import { useSearchParams } from 'react-router';

/** One value of a view. Undefined: what the address says is none of its values. */
export interface Part<T> {
  read: (said: string) => T | undefined;
  write: (v: T) => string;
  normal: T; // what an address without it means; it is not written
}

export const text = (normal = ''): Part<string> => ({ read: (s) => s, write: (v) => v, normal });

export const oneOf = <T extends string>(all: readonly T[], normal: T): Part<T> => ({
  read: (s) => all.find((x) => x === s),
  write: (v) => v,
  normal,
});

/** A whole number from least on. */
export const whole = (normal: number, least = 0): Part<number> => ({
  read: (s) => (/^\d{1,15}$/.test(s) && Number(s) >= least ? Number(s) : undefined),
  write: String,
  normal,
});

export const list = (): Part<string[]> => ({ read: (s) => s.split(',').filter(Boolean), write: (v) => v.join(','), normal: [] });

export type Parts = Record<string, { read: (said: string) => unknown; write: (v: never) => string; normal: unknown }>;
export type View<P extends Parts> = { [K in keyof P]: P[K] extends Part<infer T> ? T : never };

/** The view that an address names; what it does not say, or says wrongly, is as normal. */
export function readView<P extends Parts>(parts: P, params: URLSearchParams): View<P> {
  const out: Record<string, unknown> = {};
  for (const [name, part] of Object.entries(parts)) {
    const said = params.get(name);
    out[name] = (said === null ? undefined : part.read(said)) ?? part.normal;
  }
  return out as View<P>;
}

/** The address of a changed view. What the view has no part for stays as it is. */
export function writeView<P extends Parts>(parts: P, params: URLSearchParams, change: Partial<View<P>>): URLSearchParams {
  const out = new URLSearchParams(params);
  for (const [name, v] of Object.entries(change)) {
    const part = parts[name] as Part<unknown> | undefined;
    if (!part) continue;
    const said = v === undefined ? '' : part.write(v);
    if (v === undefined || said === part.write(part.normal)) out.delete(name);
    else out.set(name, said);
  }
  return out;
}

/** A change of a view; as a function, of the view that there is when it is made, which may be newer than the one that is drawn. */
export type Change<V> = Partial<V> | ((now: V) => Partial<V>);

/** The page's view, and how it changes: in place, or as a step that the browser's back takes back. */
export function useView<P extends Parts>(parts: P): [View<P>, (change: Change<View<P>>, how?: 'step') => void] {
  const [params, setParams] = useSearchParams();
  const view = useMemo(() => readView(parts, params), [parts, params]);
  const set = useCallback(
    (change: Change<View<P>>, how?: 'step') => {
      const now = new URLSearchParams(location.search); // what the page was drawn with may be older
      setParams(writeView(parts, now, typeof change === 'function' ? change(readView(parts, now)) : change), { replace: how !== 'step' });
    },
    [parts, setParams],
  );
  return [view, set];
}
