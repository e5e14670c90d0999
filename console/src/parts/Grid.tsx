// Cases × devices: a row a case, a column a leg, a tile where they meet. It is one stop of Tab; the arrows go over it.
//
// A run may have a hundred thousand tiles. Only those in sight are made, some at a time, each in a place of its own: what comes into
// sight moves nothing that is there.
import { useVirtualizer } from '@tanstack/react-virtual';
import { memo, useMemo, useRef, useState, type KeyboardEvent } from 'react';
import { useNavigate } from 'react-router';
import styled from 'styled-components';
import type { LegSummary } from '../data/api';
import { c, narrow } from '../theme';
import { stepOn, type Cell as Spot } from './roving';
import { tileCSS } from './Tile';
import { broken, unit } from '../words';

const wide = 36; // px: a column
const high = 26; // px: a row
const top = 84; // px: the devices' names

const Scroll = styled.div`
  --head: 320px; ${narrow} { --head: 170px; }
  overflow: auto; contain: strict; max-height: 60vh; border: 1px solid ${c.grout}; background: ${c.panel};
  font-size: 13px; line-height: 18px;
`;
// What is in it are plain elements: a page may make a thousand of them in a frame.
const Plane = styled.div`
  position: relative;
  > [role=row] { position: absolute; left: 0; right: 0; height: ${high}px; contain: layout style; border-top: 1px solid ${c.grout}; }
  > [role=row]:first-child { position: sticky; top: 0; z-index: 2; height: ${top}px; background: ${c.panel}; border: 0; }
  [role=rowheader], [data-corner] {
    position: sticky; left: 0; z-index: 1; width: var(--head); height: 100%; background: ${c.panel}; padding: 3px 12px;
    white-space: nowrap; overflow: hidden; text-overflow: ellipsis;
  }
  [data-corner] { z-index: 3; display: flex; align-items: flex-end; color: ${c.faint}; }
  [role=columnheader]:not([data-corner]) {
    position: absolute; top: 0; width: ${wide}px; height: ${top}px; padding: 8px 0 4px; contain: strict;
  }
  [role=columnheader] a {
    writing-mode: vertical-rl; transform: rotate(180deg); color: ${c.ink}; height: 100%; margin: 0 auto; display: block;
  }
  [role=cell] { position: absolute; top: 0; width: ${wide}px; height: ${high - 1}px; contain: strict; }
  [role=cell] a { display: block; padding: 5px 11px; }
  i { --size: 14px; --share: 25%; ${tileCSS} }
`;

const spotName = (s: Spot) => `${s.row}-${s.col}`;

/** How a case came out on a leg. A leg of a program has names of its own; else the cases are those of the run, in its order. */
export function verdictOf(l: Pick<LegSummary, 'case_names' | 'case_verdicts'>, name: string, row: number): string {
  return l.case_verdicts[l.case_names ? l.case_names.indexOf(name) : row] ?? '';
}

/** What a cell holds; '': nothing. */
const heldAt = (l: LegSummary, name: string, row: number) => verdictOf(l, name, row) || (l.stage === 'done' ? '' : 'waiting');

const leftOf = (col: number) => ({ left: `calc(var(--head) + ${col * wide}px)` });

const One = memo(function One({ leg, serial, name, what, row, col, stop }: {
  leg: string;
  serial: string;
  name: string;
  what: string;
  row: number;
  col: number;
  stop: boolean;
}) {
  const says = `${name} on ${serial}: ${what}`;
  return (
    <div role="cell" style={leftOf(col)}>
      <a
        href={`/legs/${leg}?case=${encodeURIComponent(name)}`}
        aria-label={says}
        title={says}
        data-spot={spotName({ row, col })}
        tabIndex={stop ? 0 : -1}
      >
        <i aria-hidden data-verdict={what} />
      </a>
    </div>
  );
});

const Heading = memo(function Heading({ leg, serial, col, stop }: { leg: string; serial: string; col: number; stop: boolean }) {
  return (
    <div role="columnheader" style={leftOf(col)}>
      <a href={`/legs/${leg}`} data-spot={spotName({ row: 0, col })} tabIndex={stop ? 0 : -1}>{serial}</a>
    </div>
  );
});

/** A case: those of its tiles that are in sight. */
const Line = memo(function Line({ name, place, n, legs, from, to, stopAt }: {
  name: string;
  place: number; // among all cases
  n: number; // among those that are shown
  legs: LegSummary[];
  from: number;
  to: number;
  stopAt: number; // the column of Tab's stop; -1: it is elsewhere
}) {
  const cells = [];
  for (let col = from; col < to; col++) {
    const l = legs[col]!;
    const what = heldAt(l, name, place);
    if (!what) continue;
    const stop = stopAt === col;
    cells.push(<One key={l.id} leg={l.id} serial={unit(l)} name={name} what={what} row={n + 1} col={col} stop={stop} />);
  }
  return (
    <div role="row" style={{ top: top + n * high }} aria-rowindex={n + 2}>
      <div role="rowheader" title={name}>{name}</div>
      {cells}
    </div>
  );
});

/** Whether a case did not pass somewhere. */
const troubled = (legs: LegSummary[], name: string, row: number) =>
  legs.some((l) => { const v = verdictOf(l, name, row); return broken(v) || v === 'flaky'; });

/** From which to which are made: so many more at a time, that not every movement makes some. */
function steps(items: { index: number }[], step: number, count: number): [number, number] {
  const first = items[0]?.index ?? 0;
  const last = items.at(-1)?.index ?? -1;
  return [Math.floor(first / step) * step, Math.min(count, Math.ceil((last + 1) / step) * step)];
}

/** With `trouble`, only cases that did not pass somewhere. The key t asks for that, and for all again. */
export const Grid = memo(function Grid({ names: all, legs, trouble, onTrouble }: {
  names: string[];
  legs: LegSummary[];
  trouble: boolean;
  onTrouble: (only: boolean) => void;
}) {
  const navigate = useNavigate();
  const box = useRef<HTMLDivElement>(null);
  // The rows that are shown, by their places among all cases.
  const shown = useMemo(() => all.map((_, n) => n).filter((n) => !trouble || troubled(legs, all[n]!, n)), [all, legs, trouble]);
  const names = useMemo(() => shown.map((n) => all[n]!), [all, shown]);
  const [at, setAt] = useState<Spot>({ row: 0, col: 0 }); // row 0: the devices' names
  const many = legs.length > 60;
  const columns = useVirtualizer({
    horizontal: true,
    count: legs.length,
    getScrollElement: () => box.current,
    estimateSize: () => wide,
    overscan: 2,
    enabled: many,
  });
  const tall = names.length > 60;
  const rows = useVirtualizer({
    count: names.length,
    getScrollElement: () => box.current,
    estimateSize: () => high,
    overscan: 2,
    enabled: tall,
  });
  const across = many ? columns.getVirtualItems() : [];
  const [from, to] = many ? steps(across, 8, legs.length) : [0, legs.length];
  const down = tall ? rows.getVirtualItems() : [];
  const [first, end] = tall ? steps(down, 4, names.length) : [0, names.length];
  const holds = (s: Spot) => s.row === 0 || heldAt(legs[s.col]!, names[s.row - 1]!, shown[s.row - 1]!) !== '';
  const stop = at.col < legs.length && at.row <= names.length && holds(at) ? at : { row: 0, col: 0 };
  const link = (s: Spot) => box.current?.querySelector<HTMLElement>(`[data-spot="${spotName(s)}"]`);
  function key(e: KeyboardEvent) {
    if (e.key === 't' && !e.ctrlKey && !e.metaKey && !e.altKey) {
      e.preventDefault();
      onTrouble(!trouble);
      return;
    }
    const to = stepOn(stop, names.length + 1, legs.length, e.key, holds);
    if (!to) return;
    e.preventDefault();
    setAt(to);
    if (many) columns.scrollToIndex(to.col);
    if (tall && to.row > 0) rows.scrollToIndex(to.row - 1);
    const now = link(to);
    if (now) now.focus();
    else requestAnimationFrame(() => requestAnimationFrame(() => link(to)?.focus())); // its column and row are made first
  }
  const focus = (e: React.FocusEvent) => {
    const [row, col] = ((e.target as HTMLElement).dataset['spot'] ?? '').split('-').map(Number);
    if (row !== undefined && col !== undefined) setAt({ row, col });
  };
  // Its links are plain ones: a click stays in this document, unless another tab or window is wanted.
  const click = (e: React.MouseEvent) => {
    const to = (e.target as HTMLElement).closest('a')?.getAttribute('href');
    if (!to || e.button !== 0 || e.ctrlKey || e.metaKey || e.shiftKey || e.altKey) return;
    e.preventDefault();
    void navigate(to);
  };
  const headings = [];
  for (let col = from; col < to; col++) {
    const l = legs[col]!;
    headings.push(<Heading key={l.id} leg={l.id} serial={unit(l)} col={col} stop={stop.row === 0 && stop.col === col} />);
  }
  const lines = [];
  for (let n = first; n < end; n++) {
    const stopAt = stop.row === n + 1 ? stop.col : -1;
    lines.push(<Line key={shown[n]} name={names[n]!} place={shown[n]!} n={n} legs={legs} from={from} to={to} stopAt={stopAt} />);
  }
  const height = top + names.length * high;
  return (
    <Scroll
      ref={box}
      role="region"
      aria-label="Cases on devices"
      style={{ height: height + 2 }}
      onKeyDown={key}
      onFocus={focus}
      onClick={click}
    >
      <Plane
        role="table"
        aria-label="Cases on devices"
        aria-rowcount={names.length + 1}
        aria-colcount={legs.length + 1}
        style={{ width: `calc(var(--head) + ${legs.length * wide}px)`, height }}
      >
        <div role="row" aria-rowindex={1}>
          <div role="columnheader" data-corner>case</div>
          {headings}
        </div>
        {lines}
      </Plane>
    </Scroll>
  );
});
