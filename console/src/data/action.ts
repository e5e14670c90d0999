// Something that a person sets off: once, however often the button is pressed; what is refused is kept to be shown.
import { useCallback, useEffect, useRef, useState } from 'react';
import { Refusal } from './api';
import { client } from './queries';

/** A key by which the service knows a request again. It stays the same until the request is answered, or is another. */
export class OnceKey {
  private of = '';
  private key = '';

  constructor(private make = () => crypto.getRandomValues(new Uint32Array(4)).join('-')) {}

  for(request: unknown): string {
    const said = JSON.stringify(request) ?? '';
    if (this.key === '' || said !== this.of) {
      this.key = this.make();
      this.of = said;
    }
    return this.key;
  }

  answered() {
    this.key = '';
  }
}

export interface Action<A> {
  run: (arg: A) => Promise<boolean>; // true: it was done
  busy: boolean;
  error: unknown;
  clear: () => void;
}

/** What the service's answer means: a request that it may have taken all the same is sent again under its key. */
export const uncertain = (e: unknown) => e instanceof Refusal && (e.status === 0 || e.status >= 500);

/**
 * An action. While it goes on, further presses do nothing. Where the sign-in is over, the page asks for it and comes back here.
 * The key is for requests that create something: pressed anew after a lost answer, they create nothing twice.
 */
export function useAction<A = void>(act: (arg: A, key: string) => Promise<unknown>): Action<A> {
  const [busy, setBusy] = useState(false);
  const [error, setError] = useState<unknown>();
  const under = useRef(false);
  const key = useRef(new OnceKey());
  const latest = useRef(act);
  useEffect(() => void (latest.current = act));
  const run = useCallback(async (arg: A) => {
    if (under.current) return false;
    under.current = true;
    setBusy(true);
    setError(undefined);
    try {
      await latest.current(arg, key.current.for(arg));
      key.current.answered();
      return true;
    } catch (e) {
      if (!uncertain(e)) key.current.answered();
      if (e instanceof Refusal && e.status === 401) void client.invalidateQueries({ queryKey: ['me'] });
      setError(e);
      return false;
    } finally {
      under.current = false;
      setBusy(false);
    }
  }, []);
  return { run, busy, error, clear: useCallback(() => setError(undefined), []) };
}
