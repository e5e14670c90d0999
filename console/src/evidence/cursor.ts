// The cursor: one moment on the attempt's clock, for everything that the page shows.
import { useSyncExternalStore } from 'react';

export interface CursorState {
  at: number; // ms
  row: number | undefined; // seq of the story's row that was chosen; undefined: the one at that moment
  by: string; // who moved it; 'video' while it plays
}

export class Cursor {
  private watchers = new Set<() => void>();
  state: CursorState = { at: 0, row: undefined, by: '' };

  subscribe = (f: () => void) => {
    this.watchers.add(f);
    return () => void this.watchers.delete(f);
  };

  move(at: number, by: string, row?: number) {
    if (this.state.at === at && this.state.row === row) return;
    this.state = { at: Math.max(0, at), by, row };
    this.watchers.forEach((f) => f());
  }
}

/** What `pick` makes of the cursor; the component is drawn anew only when that changes. */
export function useCursor<T extends string | number | boolean | undefined>(cursor: Cursor, pick: (s: CursorState) => T): T {
  return useSyncExternalStore(cursor.subscribe, () => pick(cursor.state));
}
