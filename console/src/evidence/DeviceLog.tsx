// The device's log, in windows: only the lines in sight are fetched, however long it is.
import { useQueries, useQuery } from '@tanstack/react-query';
import { memo, useCallback, useEffect, useState } from 'react';
import styled from 'styled-components';
import type { LogLevel, LogLine, LogOverview } from '../data/api';
import { client, logNearQuery, logPage, logPageQuery, useLogOverview, type LogFilter } from '../data/queries';
import { Button, SearchField, Select } from '../parts/controls';
import { Refused, Row, Sub } from '../parts/page';
import { c, mono } from '../theme';
import { bytes, clock } from '../words';
import { usePaced } from '../data/tab';
import { useCursor, type Cursor } from './cursor';
import { Rows } from './rows';

const Pane = styled.section`
  display: flex; flex-direction: column; gap: 8px; min-height: 0; height: 100%; @media (max-width: 1000px) { height: 420px; }
`;
const grave = `box-shadow: inset -3px 0 ${c.failed}; font-weight: 560;`;
const edges: Record<string, string> = { E: grave, F: grave, W: `box-shadow: inset -3px 0 ${c.flaky};` };
const Line = styled.div<{ $level: string }>`
  display: grid; grid-template-columns: 76px 14px 150px minmax(0, 1fr); gap: 8px; padding: 0 8px; font-family: ${mono}; font-size: 12px;
  line-height: 20px;
  span { overflow: hidden; text-overflow: ellipsis; }
  ${(p) => edges[p.$level] ?? ''}
  @media (max-width: 720px) { grid-template-columns: 70px 12px 80px max-content; }
`;
const Dim = styled.span`color: ${c.faint};`;
const maxRows = 1_000_000; // browsers can't draw taller boxes than so many rows

const One = memo(function One({ l }: { l: LogLine }) {
  return (
    <Line $level={l.level}>
      <Dim>{clock(l.at)}</Dim>
      <span>{l.level}</span>
      <Dim title={l.tag}>{l.tag}</Dim>
      <span title={l.text}>{l.text}</span>
    </Line>
  );
});

export const levels = ['V', 'D', 'I', 'W', 'E'] as const satisfies LogLevel[];
const levelNames: Record<LogLevel, string> = {
  V: 'all levels', D: 'debug and above', I: 'info and above', W: 'warnings and above', E: 'errors and fatal', F: 'fatal',
};

/** What of the log is shown; it stands in the page's address. */
export interface LogView {
  level: LogLevel;
  tag: string;
  find: string;
}

/** "12 of 340 lines, 41.2 kB". */
function amount(rows: number, all: LogOverview, live: boolean): string {
  const lines = `${rows.toLocaleString('en-GB')} of ${all.lines.toLocaleString('en-GB')} lines, ${bytes(all.size)}`;
  const notes = [live && 'more to come', !all.aligned && 'the device’s clock could not be read, so the times may be off'];
  return [lines, ...notes.filter(Boolean)].join('; ');
}

export function DeviceLog({ leg, attempt, there, live, cursor, view, onView }: {
  leg: string; attempt: number; there: boolean; live: boolean; cursor: Cursor; view: LogView; onView: (change: Partial<LogView>) => void;
}) {
  const { level, tag, find: text } = view;
  const [typed, setTyped] = useState(text);
  const [seen, setSeen] = useState<[number, number]>([0, 0]);
  const [base, setBase] = useState(0); // the first row that can be scrolled to
  const [followed, setFollowed] = useState(-1);
  useEffect(() => {
    const t = setTimeout(() => typed !== text && onView({ find: typed }), 250);
    return () => clearTimeout(t);
  }, [typed, text, onView]);
  const overview = useLogOverview(leg, attempt, there, live);
  const upTo = live ? (overview.data?.lines ?? 0) : 0; // a log that grows is read anew where it has grown
  const filter: LogFilter = {};
  if (level !== 'V') filter.level = level;
  if (tag) filter.tag = tag;
  if (text) filter.text = text;
  // While the video plays or the cursor is drawn along the axis, the log is asked a few times a second where it is.
  const moving = usePaced(useCursor(cursor, (s) => s.at), 250);
  const near = useQuery({ ...logNearQuery(leg, attempt, filter, moving, upTo), enabled: there, placeholderData: (old) => old });
  const rows = near.data?.rows ?? 0;
  const at = near.data?.near ?? -1;
  if (at !== followed) {
    setFollowed(at);
    if (at >= 0 && (at < base || at >= base + maxRows)) setBase(Math.max(0, at - maxRows / 2));
  }
  const first = Math.floor((base + seen[0]) / logPage);
  const last = Math.floor((base + seen[1]) / logPage);
  // What the cursor brought along need not be asked for again.
  const has = (page: number) =>
    !!near.data && page * logPage >= near.data.from && Math.min((page + 1) * logPage, rows) <= near.data.from + near.data.items.length;
  const wanted = Array.from({ length: Math.min(last - first + 1, 8) }, (_, i) => first + i).filter((p) => p * logPage < rows && !has(p));
  const pages = useQueries({
    queries: wanted.map((p) => ({ ...logPageQuery(leg, attempt, filter, p, upTo), enabled: there && rows > 0 })),
  });
  const lines = new Map<number, LogLine>();
  for (const p of [near, ...pages]) for (const l of p.data?.items ?? []) lines.set(l.row, l);
  const onSeen = useCallback((a: number, b: number) => setSeen([a, b]), []);

  async function choose(row: number) {
    const of = logPageQuery(leg, attempt, filter, Math.floor(row / logPage), upTo);
    const page = () => client.fetchQuery(of).catch(() => undefined); // the page says it when it is drawn
    const known = lines.get(row) ?? (await page())?.items[row % logPage];
    if (known) cursor.move(known.at, 'log');
  }
  const crashes = overview.data?.crashes ?? [];
  function nextCrash() {
    const to = crashes.find((t) => t > cursor.state.at + 1) ?? crashes[0];
    if (to !== undefined) cursor.move(to, 'log');
  }
  if (!there) return <Sub>There is no device log of this attempt.</Sub>;
  if (live && overview.error) return <Sub role="status">The first lines of the device's log come in a few seconds.</Sub>;
  const error = near.error ?? overview.error ?? pages.find((p) => p.error)?.error;
  if (error) return <Refused error={error} />;
  const count = Math.min(maxRows, Math.max(0, rows - base));
  return (
    <Pane aria-label="Device log">
      <Row $gap={8}>
        <Select
          label="Level"
          hideLabel
          value={level}
          onChange={(v) => onView({ level: v as LogLevel })}
          options={levels.map((l) => ({ id: l, text: levelNames[l] }))}
        />
        <Select
          label="Tag"
          hideLabel
          value={tag}
          placeholder="any tag"
          onChange={(t) => onView({ tag: t })}
          options={[
            { id: '', text: 'any tag' },
            ...(overview.data?.tags ?? []).map((t) => ({ id: t.name, text: t.name, more: String(t.lines) })),
          ]}
        />
        <SearchField label="Find in the log" value={typed} onChange={setTyped} placeholder="text in the line" />
        <Button onPress={nextCrash} isDisabled={crashes.length === 0}>
          {crashes.length === 0 ? 'No crash' : `Next crash (${crashes.length})`}
        </Button>
        <Sub role={live ? undefined : 'status'}>{near.data && overview.data ? amount(rows, overview.data, live) : 'Reading the log …'}</Sub>
      </Row>
      {base > 0 && (
        <div>
          <Button $small onPress={() => setBase(Math.max(0, base - maxRows / 2))}>
            Earlier lines
          </Button>
        </div>
      )}
      <Rows
        label="Lines of the device log"
        id="log"
        count={count}
        height={20}
        at={at - base}
        follow
        row={(i) => {
          const l = lines.get(base + i);
          return l ? <One l={l} /> : null;
        }}
        onChoose={(i) => void choose(base + i)}
        onSeen={onSeen}
      />
      {base + maxRows < rows && (
        <div>
          <Button $small onPress={() => setBase(base + maxRows / 2)}>
            Later lines
          </Button>
        </div>
      )}
    </Pane>
  );
}
