// A table of things, each with a link to its page. It can be sorted, and however long it is, only the rows in sight are made.
import { useWindowVirtualizer } from '@tanstack/react-virtual';
import { useLayoutEffect, useMemo, useRef, useState, type KeyboardEvent, type MouseEvent, type ReactNode } from 'react';
import { Link, useNavigate } from 'react-router';
import styled from 'styled-components';
import { c, narrow, row } from '../theme';
import { compareValues } from '../words';

const Scroll = styled.div`overflow-x: auto; max-width: 100%;`;
const Whole = styled.table`width: 100%; text-align: left;`;
const Column = styled.th`
  font-weight: 400; font-size: 13px; color: ${c.faint}; padding: 4px 16px 4px 0; border-bottom: 1px solid ${c.grout}; white-space: nowrap;
  &:first-child { padding-left: 8px; }
  button { all: unset; cursor: pointer; }
  button:hover { color: ${c.ink}; }
  button:focus-visible { outline: 2px solid ${c.lapis}; outline-offset: 1px; }
`;
const Line = styled.tr`
  height: ${row}px; border-bottom: 1px solid ${c.grout};
  &[data-leads] { cursor: pointer; }
  &[data-leads]:hover { background: ${c.hover}; }
`;
const place = (wide?: boolean) =>
  `padding: 4px 16px 4px 0; font-weight: 400; ${wide ? 'min-width: 240px; width: 100%;' : 'white-space: nowrap;'}`;
const Cell = styled.td<{
  $wide?: boolean;
}>`${(p) => place(p.$wide)} &:first-child { padding-left: 8px; } ${narrow} { padding-right: 12px; }`;
const RowHead = styled.th<{ $wide?: boolean }>`
  ${(p) => place(p.$wide)} &:first-child { padding-left: 8px; } ${narrow} { padding-right: 12px; }
  a { color: inherit; }
`;

export interface TableColumn<T> {
  name: string;
  wide?: boolean; // takes the room that is left
  show: (x: T) => ReactNode;
  sort?: (x: T) => string | number; // by which the column can be sorted
}

export interface Sorted {
  by: string; // a column's name; '': as the things come
  down: boolean;
}

/** "name", "-name" for downwards. */
export const readSort = (said: string): Sorted => (said.startsWith('-') ? { by: said.slice(1), down: true } : { by: said, down: false });
const writeSort = (s: Sorted) => (s.by ? (s.down ? '-' : '') + s.by : '');

/** The things in the order of a column; those that are equal stay in their order. */
export function sorted<T>(items: T[], columns: TableColumn<T>[], s: Sorted): T[] {
  const by = columns.find((col) => col.name === s.by)?.sort;
  if (!by) return items;
  const compare = (a: T, b: T) => {
    const [x, y] = [by(a), by(b)];
    return typeof x === 'number' && typeof y === 'number' ? x - y : compareValues(String(x), String(y));
  };
  return items.toSorted((a, b) => (s.down ? compare(b, a) : compare(a, b)));
}

/** The next of a column's three orders: upwards, downwards, as the things come. */
export const nextSort = (s: Sorted, name: string): Sorted =>
  s.by !== name ? { by: name, down: false } : s.down ? { by: '', down: false } : { by: name, down: true };

const manyRows = 100; // from so many on, only those in sight are made

/** The first column names the thing, and is the link to its page. Where sort is given, the order is the caller's to keep. */
export function Table<T>(p: {
  label: string;
  items: T[];
  id: (x: T) => string;
  href?: (x: T) => string;
  columns: TableColumn<T>[];
  sort?: string;
  onSort?: (s: string) => void;
}) {
  const [own, setOwn] = useState('');
  const navigate = useNavigate();
  const body = useRef<HTMLTableSectionElement>(null);
  const order = readSort(p.sort ?? own);
  const { items, columns } = p;
  const { by, down } = order;
  const all = useMemo(() => sorted(items, columns, { by, down }), [items, columns, by, down]);
  const [top, setTop] = useState(0);
  const virtual = all.length > manyRows;
  useLayoutEffect(() => setTop((body.current?.getBoundingClientRect().top ?? 0) + window.scrollY), [virtual]);
  const rows = useWindowVirtualizer({ count: all.length, estimateSize: () => row, overscan: 20, scrollMargin: top, enabled: virtual });
  const shown = virtual ? rows.getVirtualItems().map((v) => v.index) : all.map((_, i) => i);
  const before = virtual && shown.length ? shown[0]! * row : 0;
  const after = virtual ? Math.max(0, all.length - 1 - (shown.at(-1) ?? -1)) * row : 0;

  function choose(name: string) {
    const next = writeSort(nextSort(order, name));
    if (p.onSort) p.onSort(next);
    else setOwn(next);
  }
  // A press anywhere in a row is as one on its link; what is marked or pressed in it stays that.
  function press(e: MouseEvent, x: T) {
    if (!p.href || e.defaultPrevented || (e.target as HTMLElement).closest('a, button, input') || window.getSelection()?.toString()) return;
    if (e.ctrlKey || e.metaKey) window.open(p.href(x), '_blank', 'noopener');
    else void navigate(p.href(x));
  }
  // The arrows go from link to link.
  function key(e: KeyboardEvent) {
    const step = { ArrowDown: 1, ArrowUp: -1 }[e.key];
    const links = [...(body.current?.querySelectorAll<HTMLElement>('th a') ?? [])];
    const at = links.indexOf(document.activeElement as HTMLElement);
    const to = at < 0 ? undefined : e.key === 'Home' ? links[0] : e.key === 'End' ? links.at(-1) : step && links[at + step];
    if (!to) return;
    e.preventDefault();
    to.focus();
  }
  const said = (name: string) => (order.by !== name ? 'none' : order.down ? 'descending' : 'ascending');
  return (
    <Scroll>
      <Whole aria-label={p.label} aria-rowcount={virtual ? all.length + 1 : undefined}>
        <thead>
          <tr>
            {columns.map((col) => (
              <Column key={col.name} scope="col" aria-sort={col.sort ? said(col.name) : undefined}>
                {col.sort ? (
                  <button type="button" onClick={() => choose(col.name)}>
                    {col.name}
                    {by === col.name ? <span aria-hidden>{down ? ' ↓' : ' ↑'}</span> : null}
                  </button>
                ) : (
                  col.name
                )}
              </Column>
            ))}
          </tr>
        </thead>
        <tbody ref={body}>
          {before > 0 && <tr aria-hidden style={{ height: before }} />}
          {shown.map((i) => {
            const x = all[i]!;
            return (
              <Line
                key={p.id(x)}
                data-leads={p.href ? '' : undefined}
                aria-rowindex={virtual ? i + 2 : undefined}
                onClick={(e) => press(e, x)}
              >
                {columns.map((col, n) =>
                  n === 0 ? (
                    <RowHead key={col.name} scope="row" $wide={col.wide}>
                      {p.href ? <Link to={p.href(x)} onKeyDown={key}>{col.show(x)}</Link> : col.show(x)}
                    </RowHead>
                  ) : (
                    <Cell key={col.name} $wide={col.wide}>
                      {col.show(x)}
                    </Cell>
                  ),
                )}
              </Line>
            );
          })}
          {after > 0 && <tr aria-hidden style={{ height: after }} />}
        </tbody>
      </Whole>
    </Scroll>
  );
}
