// Cases, steps and commands, one below the other; the one at the cursor is marked.
import { memo } from 'react';
import styled, { css } from 'styled-components';
import { c, mono } from '../theme';
import { clock, took } from '../words';
import { Tile } from '../parts/Tile';
import { Choose } from '../parts/controls';
import { rowAt, type Depth, type StoryRow } from './moments';
import { Rows } from './rows';
import { useCursor, type Cursor } from './cursor';

const Pane = styled.section`
  display: flex; flex-direction: column; gap: 8px; min-height: 0; min-width: 0; @media (max-width: 1000px) { height: 420px; }
`;
const Top = styled.div`display: flex; justify-content: space-between; align-items: center; gap: 8px; flex-wrap: wrap;`;
const Cells = styled.div<{ $kind: string; $bad: boolean }>`
  display: grid; grid-template-columns: 72px 18px minmax(0, 1fr) max-content; gap: 6px; align-items: center; height: 100%; padding: 0 8px;
  font-size: 13px; line-height: 18px;
  ${(p) => (p.$kind === 'case' || p.$kind === 'stage') && css`border-top: 1px solid ${c.grout}; font-weight: 580;`}
  ${(p) => p.$kind === 'stage' && css`color: ${c.faint}; font-weight: 400;`}
  ${(p) => p.$bad && css`box-shadow: inset -3px 0 ${c.failed};`}
`;
const Time = styled.span`color: ${c.faint}; font-family: ${mono}; font-size: 12px;`;
const Text = styled.span`overflow: hidden; text-overflow: ellipsis; code { font-size: 12px; }`;
const Took = styled.span`color: ${c.faint}; font-variant-numeric: tabular-nums; font-size: 12px;`;

const signs: Record<string, string> = { step: '▸', command: '·', check: '=', log: '“', crash: '✕', marker: '!', stage: '' };

const One = memo(function One({ r }: { r: StoryRow }) {
  return (
    <Cells $kind={r.kind} $bad={r.bad}>
      <Time>{clock(r.at)}</Time>
      {r.kind === 'case' ? (
        <Tile what={r.verdict ?? 'running'} size={12} said />
      ) : r.kind === 'failure' ? (
        <Tile what={r.verdict ?? 'failed'} size={12} />
      ) : (
        <Time aria-hidden>{r.kind === 'check' && r.bad ? '≠' : signs[r.kind]}</Time>
      )}
      <Text title={[r.name, r.detail, r.event.error].filter(Boolean).join('\n')}>
        {r.kind === 'failure' ? (
          <>
            {r.verdict}: {r.detail.split('\n')[0]}
          </>
        ) : r.kind === 'command' ? (
          <code>
            {r.name} {r.detail}
          </code>
        ) : (
          <>
            {r.name} {r.detail && <span>{r.detail}</span>}
          </>
        )}
      </Text>
      <Took>{r.kind === 'command' && r.event.took ? took(r.event.took) : ''}</Took>
    </Cells>
  );
});

export function Story(p: { rows: StoryRow[]; cursor: Cursor; depth: Depth; onDepth: (d: Depth) => void }) {
  const at = useCursor(p.cursor, (s) => placeOf(p.rows, s.at, s.row));
  return (
    <Pane aria-labelledby="story">
      <Top>
        <h2 id="story">What happened</h2>
        <Choose
          label="How much is shown"
          value={p.depth}
          onChange={(d) => p.onDepth(d as Depth)}
          options={[
            { id: 'all', text: 'commands' },
            { id: 'steps', text: 'steps' },
            { id: 'cases', text: 'cases' },
          ]}
        />
      </Top>
      <Rows
        label="What happened"
        id="story"
        count={p.rows.length}
        height={24}
        at={at}
        follow
        row={(i) => (p.rows[i] ? <One r={p.rows[i]} /> : null)}
        onChoose={(i) => p.rows[i] && p.cursor.move(p.rows[i].at, 'story', p.rows[i].seq)}
      />
    </Pane>
  );
}

/** The row that was chosen, else the one at the moment. */
export function placeOf(rows: StoryRow[], at: number, seq: number | undefined): number {
  if (rows.length === 0) return -1;
  if (seq !== undefined) {
    const i = rows.findIndex((r) => r.seq === seq);
    if (i >= 0) return i;
  }
  return rowAt(rows, at);
}
