// Where the cursor goes by itself: on arrival, and while a leg goes on. Once a person has moved it, it stays where it is.
import { useEffect, useRef } from 'react';
import type { Cursor } from './cursor';
import type { StoryRow } from './moments';

export interface Wanted {
  case: string; // '': none was asked for
  at: number; // ms; -1: no moment was asked for
}

/** The row to open with: the case that was asked for, at its failure; else the first failure; else the first case. */
export function openingRow(rows: StoryRow[], wanted: string): StoryRow | undefined {
  const of = wanted ? rows.filter((r) => r.name === wanted && (r.kind === 'case' || r.kind === 'failure')) : rows;
  return of.find((r) => r.kind === 'failure') ?? (wanted ? of[0] : undefined) ?? rows.find((r) => r.kind === 'case') ?? rows[0];
}

/** Moves the cursor as far as nobody else has. Opened says that it has been placed; the answer is whether it is now. */
export function place(cursor: Cursor, rows: StoryRow[], live: boolean, wanted: Wanted, opened: boolean): boolean {
  const { by } = cursor.state;
  const led = by === '' || by === 'live'; // nobody has moved it
  if (rows.length === 0 || opened || !led) return opened;
  if (wanted.at >= 0) {
    cursor.move(wanted.at, 'opening');
    return true;
  }
  if (live && !wanted.case) {
    cursor.move(rows.at(-1)!.at, 'live', rows.at(-1)!.seq);
    return false;
  }
  const to = openingRow(rows, wanted.case)!;
  cursor.move(to.at, 'opening', to.seq);
  return true;
}

export function useOpening(cursor: Cursor, rows: StoryRow[], live: boolean, wanted: Wanted) {
  const opened = useRef<Cursor>(undefined);
  const { case: name, at } = wanted;
  useEffect(() => {
    if (place(cursor, rows, live, { case: name, at }, opened.current === cursor)) opened.current = cursor;
  }, [cursor, rows, live, name, at]);
}
