// Cases × devices: a row a case, a column a leg, a tile where they meet.
import { useVirtualizer } from '@tanstack/react-virtual';
import { memo, useRef } from 'react';
import { Link } from 'react-router';
import styled from 'styled-components';
import type { LegSummary } from '../data/api';
import { c, narrow } from '../theme';
import { Tile } from './Tile';

const Scroll = styled.div`overflow: auto; contain: layout paint style; max-height: 60vh; border: 1px solid ${c.grout}; background: ${c.panel};`;
const Table = styled.table`font-size: 13px; line-height: 18px; table-layout: fixed; width: 0;`; // fixed: a cell that changes moves no other
const Corner = styled.th`position: sticky; left: 0; top: 0; z-index: 3; background: ${c.panel}; text-align: left; vertical-align: bottom; padding: 4px 12px; font-weight: 400; color: ${c.faint}; width: 320px; ${narrow} { width: 170px; }`;
const DeviceName = styled.th`
  position: sticky; top: 0; z-index: 2; background: ${c.panel}; font-weight: 400; padding: 8px 0 4px; width: 36px; height: 84px;
  a { writing-mode: vertical-rl; transform: rotate(180deg); color: ${c.ink}; }
`;
const CaseName = styled.th`position: sticky; left: 0; z-index: 1; background: ${c.panel}; text-align: left; font-weight: 400; padding: 3px 12px; white-space: nowrap; border-top: 1px solid ${c.grout}; overflow: hidden; text-overflow: ellipsis;`;
const Cell = styled.td`border-top: 1px solid ${c.grout}; padding: 3px 10px; height: 25px; a { display: block; }`;

const One = memo(function One({ leg, serial, name, what }: { leg: string; serial: string; name: string; what: string }) {
  if (!what) return <Cell />;
  return (
    <Cell>
      <Link to={`/legs/${leg}?case=${encodeURIComponent(name)}`} aria-label={`${name} on ${serial}: ${what}`} title={`${name} on ${serial}: ${what}`}>
        <Tile what={what} size={14} />
      </Link>
    </Cell>
  );
});

const Heading = memo(function Heading({ leg, serial }: { leg: string; serial: string }) {
  return <DeviceName scope="col"><Link to={`/legs/${leg}`}>{serial}</Link></DeviceName>;
});

/** How a case came out on a leg. A leg of a program has names of its own; else the cases are those of the run, in its order. */
export function verdictOf(l: Pick<LegSummary, 'case_names' | 'case_verdicts'>, name: string, row: number): string {
  return l.case_verdicts[l.case_names ? l.case_names.indexOf(name) : row] ?? '';
}

export const Grid = memo(function Grid({ names, legs }: { names: string[]; legs: LegSummary[] }) {
  const box = useRef<HTMLDivElement>(null);
  // Only the columns in sight are made: a run may have a thousand.
  const columns = useVirtualizer({ horizontal: true, count: legs.length, getScrollElement: () => box.current, estimateSize: () => 36, overscan: 12, enabled: legs.length > 60 });
  const items = legs.length > 60 ? columns.getVirtualItems() : legs.map((_, index) => ({ index, start: index * 36, end: index * 36 + 36 }));
  const before = items[0]?.start ?? 0;
  const after = legs.length * 36 - (items.at(-1)?.end ?? 0);
  return (
    <Scroll ref={box} tabIndex={0} role="region" aria-label="Cases on devices">
      <Table>
        <thead>
          <tr>
            <Corner scope="col">case</Corner>
            {before > 0 && <td style={{ width: before }} />}
            {items.map((i) => <Heading key={legs[i.index]!.id} leg={legs[i.index]!.id} serial={legs[i.index]!.serial} />)}
            {after > 0 && <td style={{ width: after }} />}
          </tr>
        </thead>
        <tbody>
          {names.map((name, row) => (
            <tr key={name}>
              <CaseName scope="row" title={name}>{name}</CaseName>
              {before > 0 && <td />}
              {items.map((i) => {
                const l = legs[i.index]!;
                return <One key={l.id} leg={l.id} serial={l.serial} name={name} what={verdictOf(l, name, row) || (l.stage === 'done' ? '' : 'waiting')} />;
              })}
              {after > 0 && <td />}
            </tr>
          ))}
        </tbody>
      </Table>
    </Scroll>
  );
});
