// A long list of rows of one height, of which only those in sight are made. The arrow
// keys go through it; one row is the one at the cursor.
import { useVirtualizer } from '@tanstack/react-virtual';
import { useEffect, useRef, type KeyboardEvent, type ReactNode } from 'react';
import styled from 'styled-components';
import { c } from '../theme';

const Scroll = styled.div`
  overflow: auto; flex: 1; min-height: 0; outline: none; contain: strict; background: ${c.panel}; border: 1px solid ${c.grout};
  &:focus-visible { outline: 2px solid ${c.lapis}; outline-offset: -2px; }
`;
const Line = styled.div`
  position: absolute; left: 0; right: 0; top: 0; cursor: pointer; overflow: hidden; white-space: nowrap;
  &:hover { background: ${c.hover}; }
  &[aria-selected='true'] { background: ${c.chosen}; box-shadow: inset 3px 0 ${c.lapis}; }
`;

export interface RowsProps {
  label: string;
  id: string; // for the rows' ids
  count: number;
  height: number; // px
  at: number; // the row at the cursor; -1: none
  follow: boolean; // keep that row in sight
  row: (i: number) => ReactNode;
  onChoose: (i: number) => void;
  onSeen?: (first: number, last: number) => void;
}

export function Rows(p: RowsProps) {
  const box = useRef<HTMLDivElement>(null);
  const v = useVirtualizer({ count: p.count, getScrollElement: () => box.current, estimateSize: () => p.height, overscan: 8 });
  const items = v.getVirtualItems();
  const first = items[0]?.index ?? 0;
  const last = items.at(-1)?.index ?? 0;
  const { at, follow, count, onSeen } = p;
  useEffect(() => {
    if (!follow || at < 0 || at >= count || !box.current) return;
    const top = at * p.height;
    const { scrollTop, clientHeight } = box.current;
    if (top < scrollTop || top + p.height > scrollTop + clientHeight) v.scrollToIndex(at, { align: 'center' });
    // Only when the row changes: else it could not be scrolled away from.
    // eslint-disable-next-line react-hooks/exhaustive-deps
  }, [at, follow, count > 0]);
  useEffect(() => onSeen?.(first, last), [first, last, count, onSeen]);
  function key(e: KeyboardEvent) {
    const page = Math.max(1, Math.floor((box.current?.clientHeight ?? 0) / p.height) - 1);
    const to = { ArrowDown: at + 1, ArrowUp: at - 1, PageDown: at + page, PageUp: at - page, Home: 0, End: count - 1 }[e.key];
    if (to === undefined || count === 0) return;
    e.preventDefault();
    e.stopPropagation();
    p.onChoose(Math.min(count - 1, Math.max(0, to)));
  }
  return (
    <Scroll
      ref={box}
      tabIndex={0}
      role="listbox"
      aria-label={p.label}
      aria-activedescendant={at >= first && at <= last && count > 0 ? `${p.id}-${at}` : undefined}
      onKeyDown={key}
    >
      <div style={{ height: v.getTotalSize(), position: 'relative' }} role="presentation">
        {items.map((i) => (
          <Line
            key={i.index}
            id={`${p.id}-${i.index}`}
            role="option"
            aria-selected={i.index === at}
            aria-posinset={i.index + 1}
            aria-setsize={count}
            style={{ height: p.height, transform: `translateY(${i.start}px)` }}
            onClick={() => p.onChoose(i.index)}
          >
            {p.row(i.index)}
          </Line>
        ))}
      </div>
    </Scroll>
  );
}
