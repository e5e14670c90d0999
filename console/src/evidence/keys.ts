// The keys of a page with evidence: from command to command, from step to step, from failure to failure; play and pause, and how quickly.
import { useCallback, useEffect } from 'react';
import type { Cursor } from './cursor';
import { nextRow, type RowKind, type StoryRow } from './moments';
import { speeds } from './Screen';
import { placeOf } from './Story';

export const keys: [string, string][] = [
  ['J / K', 'next, previous command'],
  ['S / Shift S', 'next, previous step'],
  ['F / Shift F', 'next, previous failure'],
  ['Space', 'play, pause'],
  ['1 … 5', 'speed: ¼, ½, 1, 2, 4'],
  ['+ / −', 'on the time axis: closer, farther about the cursor'],
  ['[ / ]', 'earlier, later part of the time; 0: all of it'],
  ['arrows', 'in a list: row by row; on the time axis: by time'],
];

// Where letters are typed, or choose among options. The time axis is an input too, but takes no letters.
const taken = 'input:not([type=range]), textarea, [contenteditable], [role=dialog], [role=menu], [data-trigger], [aria-haspopup]';
const pressed = 'button, a, summary, [role=tab], [role=tree]'; // what the space bar presses

export function useKeys(
  cursor: Cursor,
  rows: StoryRow[],
  video: boolean,
  onPlaying: (f: (p: boolean) => boolean) => void,
  onRate: (r: number) => void,
  onZoom: (how: 'in' | 'out' | 'earlier' | 'later' | 'all') => void,
) {
  const go = useCallback(
    (step: 1 | -1, kinds: RowKind[]) => {
      const to = rows[nextRow(rows, placeOf(rows, cursor.state.at, cursor.state.row), step, kinds)];
      if (to) cursor.move(to.at, 'key', to.seq);
    },
    [cursor, rows],
  );
  useEffect(() => {
    const key = (e: KeyboardEvent) => {
      const on = e.target as HTMLElement;
      if (e.ctrlKey || e.metaKey || e.altKey || on.closest(taken)) return;
      const back = e.shiftKey ? -1 : 1;
      switch (e.key.toLowerCase()) {
        case 'j': return go(1, ['command']);
        case 'k': return go(-1, ['command']);
        case 's': return go(back, ['step']);
        case 'f': return go(back, ['failure']);
        case ' ':
          if (!video || on.closest(pressed)) return;
          e.preventDefault();
          return onPlaying((p) => !p);
        case '1': case '2': case '3': case '4': case '5':
          return onRate(speeds[Number(e.key) - 1]!);
        case '+': case '=': return onZoom('in');
        case '-': case '−': return onZoom('out');
        case '[': return onZoom('earlier');
        case ']': return onZoom('later');
        case '0': return onZoom('all');
      }
    };
    document.addEventListener('keydown', key);
    return () => document.removeEventListener('keydown', key);
  }, [go, onPlaying, onRate, onZoom, video]);
}
