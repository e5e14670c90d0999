// Cases × devices: a row a case, a column a leg, a tile where they meet. It is one stop of Tab; the arrows go over it.
import { useVirtualizer } from '@tanstack/react-virtual';
import { memo, useMemo, useRef, useState, type KeyboardEvent } from 'react';
import { useNavigate } from 'react-router';
import styled from 'styled-components';
import type { LegSummary } from '../data/api';
import { c, narrow } from '../theme';
import { stepOn, type Cell as Spot } from './roving';
import { tileCSS } from './Tile';
import { broken, unit } from '../words';

const Scroll = styled.div`
  overflow: auto; contain: layout paint style; max-height: 60vh; border: 1px solid ${c.grout}; background: ${c.panel};
`;
// Fixed: a cell that changes moves no other. Its cells are plain elements: a page may make a thousand of them in a frame.
const Whole = styled.table`
  font-size: 13px; line-height: 18px; table-layout: fixed; width: 0;
  tbody td { border-top: 1px solid ${c.grout}; padding: 3px 10px; height: 25px; contain: strict; }
  tbody td a { display: block; }
  tbody i { --size: 14px; --share: 25%; ${tileCSS} }
`;
const Corner = styled.th`
  position: sticky; left: 0; top: 0; z-index: 3; background: ${c.panel}; text-align: left; vertical-align: bottom; padding: 4px 12px;
  font-weight: 400; color: ${c.faint};
  width: 320px; ${narrow} { width: 170px; }
`;
const DeviceName = styled.th`
  position: sticky; top: 0; z-index: 2; background: ${c.panel}; font-weight: 400; padding: 8px 0 4px; width: 36px; height: 84px;
  a { writing-mode: vertical-rl; transform: rotate(180deg); color: ${c.ink}; }
`;
const CaseName = styled.th`
  position: sticky; left: 0; z-index: 1; background: ${c.panel}; text-align: left; font-weight: 400; padding: 3px 12px; height: 25px;
  white-space: nowrap;
  border-top: 1px solid ${c.grout}; overflow: hidden; text-overflow: ellipsis;
`;
const spotName = (s: Spot) => `${s.row}-${s.col}`;

/** How a case came out on a leg. A leg of a program has names of its own; else the cases are those of the run, in its order. */
export function verdictOf(l: Pick<LegSummary, 'case_names' | 'case_verdicts'>, name: string, row: number): string {
  return l.case_verdicts[l.case_names ? l.case_names.indexOf(name) : row] ?? '';
}

/** What a cell holds; '': nothing. */
const heldAt = (l: LegSummary, name: string, row: number) => verdictOf(l, name, row) || (l.stage === 'done' ? '' : 'waiting');

const One = memo(function One({
  leg,
  serial,
  name,
  what,
  spot,
  stop,
}: {
  leg: string;
  serial: string;
  name: string;
  what: string;
  spot: string;
  stop: boolean;
}) {
  if (!what) return <td />;
  const says = `${name} on ${serial}: ${what}`;
  return (
    <td>
      <a href={`/legs/${leg}?case=${encodeURIComponent(name)}`} aria-label={says} title={says} data-spot={spot} tabIndex={stop ? 0 : -1}>
        <i aria-hidden data-verdict={what} />
      </a>
    </td>
  );
});

const Heading = memo(function Heading({ leg, serial, spot, stop }: { leg: string; serial: string; spot: string; stop: boolean }) {
  return <DeviceName scope="col"><a href={`/legs/${leg}`} data-spot={spot} tabIndex={stop ? 0 : -1}>{serial}</a></DeviceName>;
});

/** Whether a case did not pass somewhere. */
const troubled = (legs: LegSummary[], name: string, row: number) =>
  legs.some((l) => { const v = verdictOf(l, name, row); return broken(v) || v === 'flaky'; });

const rowHeight = 26;

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
  // Only the columns in sight are made: a run may have a thousand.
  const many = legs.length > 60;
  const columns = useVirtualizer({
    horizontal: true,
    count: legs.length,
    getScrollElement: () => box.current,
    estimateSize: () => 36,
    overscan: 3,
    enabled: many,
  });
  const tall = names.length > 60;
  const rows = useVirtualizer({
    count: names.length,
    getScrollElement: () => box.current,
    estimateSize: () => rowHeight,
    overscan: 3,
    enabled: tall,
  });
  const lines = tall
    ? rows.getVirtualItems()
    : names.map((_, index) => ({ index, start: index * rowHeight, end: (index + 1) * rowHeight }));
  const above = lines[0]?.start ?? 0;
  const below = names.length * rowHeight - (lines.at(-1)?.end ?? 0);
  const items = many ? columns.getVirtualItems() : legs.map((_, index) => ({ index, start: index * 36, end: index * 36 + 36 }));
  const before = items[0]?.start ?? 0;
  const after = legs.length * 36 - (items.at(-1)?.end ?? 0);
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
  const isStop = (row: number, col: number) => stop.row === row && stop.col === col;
  return (
    <Scroll ref={box} role="region" aria-label="Cases on devices" onKeyDown={key} onFocus={focus} onClick={click}>
      <Whole>
        <thead>
          <tr>
            <Corner scope="col">case</Corner>
            {before > 0 && <td style={{ width: before }} />}
            {items.map(({ index: col }) => (
              <Heading
                key={legs[col]!.id}
                leg={legs[col]!.id}
                serial={unit(legs[col]!)}
                spot={spotName({ row: 0, col })}
                stop={isStop(0, col)}
              />
            ))}
            {after > 0 && <td style={{ width: after }} />}
          </tr>
        </thead>
        <tbody>
          {above > 0 && <tr style={{ height: above }} />}
          {lines.map(({ index: n }) => {
            const name = names[n]!;
            return (
            <tr key={name}>
              <CaseName scope="row" title={name}>{name}</CaseName>
              {before > 0 && <td />}
              {items.map(({ index: col }) => {
                const l = legs[col]!;
                return (
                  <One
                    key={l.id}
                    leg={l.id}
                    serial={unit(l)}
                    name={name}
                    what={heldAt(l, name, shown[n]!)}
                    spot={spotName({ row: n + 1, col })}
                    stop={isStop(n + 1, col)}
                  />
                );
              })}
              {after > 0 && <td />}
            </tr>
            );
          })}
          {below > 0 && <tr style={{ height: below }} />}
        </tbody>
      </Whole>
    </Scroll>
  );
});
