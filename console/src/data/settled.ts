// A value that is being typed, once it has come to rest: nothing is sent per keystroke.
import { useEffect, useState } from 'react';

const rest = 250; // ms

/** The value as it was when nothing had changed for a moment; at first as it is. */
export function useSettled<T>(value: T): T {
  const [settled, set] = useState(value);
  const text = JSON.stringify(value);
  useEffect(() => {
    const t = setTimeout(() => set(value), rest);
    return () => clearTimeout(t);
    // eslint-disable-next-line react-hooks/exhaustive-deps -- the same value in another object is no change
  }, [text]);
  return settled;
}
