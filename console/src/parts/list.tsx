// Lists of things: React Aria's table, whose rows lead to their page.
import type { ReactNode } from 'react';
import { Cell as AriaCell, Column as AriaColumn, Row as AriaRow, Table as AriaTable, TableBody, TableHeader } from 'react-aria-components';
import styled from 'styled-components';
import { c, narrow, row } from '../theme';

const Scroll = styled.div`overflow-x: auto; max-width: 100%;`;
const Table = styled(AriaTable)`
  width: 100%; outline: none; text-align: left;
  &[data-focus-visible] { outline: 2px solid ${c.lapis}; }
`;
const Column = styled(AriaColumn)<{ $wide?: boolean }>`
  font-weight: 400; font-size: 13px; color: ${c.faint}; padding: 4px 16px 4px 0; border-bottom: 1px solid ${c.grout}; white-space: nowrap; outline: none;
  &[data-focus-visible] { outline: 2px solid ${c.lapis}; outline-offset: -2px; }
  &:first-child { padding-left: 8px; }
`;
const Line = styled(AriaRow)`
  height: ${row}px; border-bottom: 1px solid ${c.grout}; outline: none;
  &[data-href] { cursor: pointer; }
  &[data-hovered] { background: ${c.hover}; }
  &[data-focus-visible] { outline: 2px solid ${c.lapis}; outline-offset: -2px; }
`;
const Cell = styled(AriaCell)<{ $wide?: boolean }>`
  padding: 4px 16px 4px 0; white-space: nowrap; outline: none; ${(p) => p.$wide && 'white-space: normal; min-width: 240px; width: 100%;'}
  &:first-child { padding-left: 8px; }
  &[data-focus-visible] { outline: 2px solid ${c.lapis}; outline-offset: -2px; }
  ${narrow} { padding-right: 12px; }
`;

export interface ListColumn<T> {
  name: string;
  wide?: boolean; // takes the room that is left
  show: (x: T) => ReactNode;
}

/** A table of things. The first column names the thing. */
export function List<T>(p: { label: string; items: T[]; id: (x: T) => string; text: (x: T) => string; href?: (x: T) => string; columns: ListColumn<T>[] }) {
  return (
    <Scroll>
      <Table aria-label={p.label}>
        <TableHeader>
          {p.columns.map((col, i) => (
            <Column key={col.name} id={col.name} isRowHeader={i === 0}>
              {col.name}
            </Column>
          ))}
        </TableHeader>
        <TableBody>
          {p.items.map((x) => (
            <Line key={p.id(x)} id={p.id(x)} href={p.href?.(x)} textValue={p.text(x)}>
              {p.columns.map((col) => (
                <Cell key={col.name} $wide={col.wide}>
                  {col.show(x)}
                </Cell>
              ))}
            </Line>
          ))}
        </TableBody>
      </Table>
    </Scroll>
  );
}
