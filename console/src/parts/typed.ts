// What is being typed into a field whose value comes back by a detour, such as the address: it shows at once, and no letter is lost when
// the detour takes longer than the next key.
import { useState } from 'react';

export interface Typed {
  shown: string;
  said: string; // by the owner, last
  told: readonly string[]; // to the owner, since somebody types
}

export const untouched = (value: string): Typed => ({ shown: value, said: value, told: [] });

/** The owner says a value: an echo of what was typed changes nothing. */
export const heard = (t: Typed, value: string): Typed => (t.told.includes(value) ? { ...t, said: value } : untouched(value));

// Renders that are overtaken may bring back what stood there before the first key, too.
export const typing = (t: Typed, value: string): Typed => ({
  ...t, shown: value, told: [...(t.told.length ? t.told.slice(-200) : [t.said]), value],
});

/** Nobody types any more: what the owner says counts again. */
export const left = (t: Typed): Typed => ({ ...t, told: [] });

export function useTyped(value: string, onChange: (v: string) => void) {
  const [typed, set] = useState(() => untouched(value));
  if (value !== typed.said) set(heard(typed, value));
  return {
    value: typed.shown,
    onChange: (v: string) => {
      set((t) => typing(t, v));
      onChange(v);
    },
    onBlur: () => set(left),
  };
}
