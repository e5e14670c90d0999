// What is known of the row at the cursor: of a failure what was expected and what was
// there, the line, what led there, and the screen's tree with the element in question.
import { useQuery } from '@tanstack/react-query';
import { useMemo } from 'react';
import { Link } from 'react-router';
import styled from 'styled-components';
import {
  artifactURL, unreachable, type Artifact, type Attempt, type CaseResult, type LegSummary, type TimelineEvent,
} from '../data/api';
import { CopyButton, Facts, Faint, Mono, Refused, Sub } from '../parts/page';
import { VerdictWord } from '../parts/Tile';
import { c, mono, radius } from '../theme';
import { clock, took } from '../words';
import { argText, artifactNamed, elementOf, resultOf, type StoryRow } from './moments';
import { placeOf } from './Story';
import { Beside } from './Beside';
import { useCursor, type Cursor } from './cursor';
import { readTree, type TreeNode } from './tree';
import { TreeView } from './TreeView';

const Pane = styled.section`
  display: flex; flex-direction: column; gap: 12px; min-height: 0; min-width: 0; overflow: auto; overflow-wrap: anywhere;
  &:focus-visible { outline-offset: -2px; }
`;
const Pre = styled.pre`white-space: pre-wrap; overflow-wrap: anywhere; font-size: 12px; line-height: 18px;`;
const Values = styled.dl`
  display: grid; grid-template-columns: max-content minmax(0, 1fr); gap: 4px 12px; background: ${c.panel}; border: 1px solid ${c.grout};
  border-radius: ${radius}; padding: 8px 12px;
  dt { color: ${c.faint}; } dd { font-family: ${mono}; font-size: 13px; white-space: pre-wrap; overflow-wrap: anywhere; }
`;
/** What was kept of the screen at a row: its picture and its tree, with the element in question. */
export interface Kept {
  row: StoryRow | undefined;
  shot: Artifact | undefined;
  tree: Artifact | undefined;
  element: string;
  nodes: TreeNode[];
  error: unknown; // of the tree that could not be fetched
}

async function textOf(a: Artifact): Promise<string> {
  const got = await fetch(artifactURL(a));
  if (!got.ok) throw unreachable(`status ${got.status} for ${a.name}`);
  return got.text();
}

/** What was kept at the row where the cursor is. */
export function useKept(rows: StoryRow[], events: TimelineEvent[], attempt: Attempt | undefined, cursor: Cursor): Kept {
  const at = useCursor(cursor, (s) => placeOf(rows, s.at, s.row));
  const row = rows[at];
  const e = row?.event;
  const shot = artifactNamed(attempt, e?.file);
  const tree = artifactNamed(attempt, e?.tree);
  const element = row?.kind === 'failure' ? elementOf(events, row.name, resultOf(attempt, row.name)?.line ?? e?.line) : '';
  const xml = useQuery({ queryKey: ['tree', tree?.id], queryFn: () => textOf(tree!), enabled: !!tree, staleTime: Infinity });
  const nodes = useMemo(() => (xml.data ? readTree(xml.data, element) : []), [xml.data, element]);
  return { row, shot, tree, element, nodes, error: xml.error };
}

export function Moment(p: {
  kept: Kept;
  events: TimelineEvent[];
  attempt: Attempt | undefined;
  onPoint: (n: TreeNode | undefined) => void;
  own: string; // the leg
  twin: (name: string) => LegSummary | undefined; // a leg in which that case passed
}) {
  return (
    <Pane aria-labelledby="moment" tabIndex={0}>
      {p.kept.row ? <Known {...p} r={p.kept.row} /> : <h2 id="moment">Nothing has happened yet</h2>}
    </Pane>
  );
}

function Known({
  r,
  kept,
  events,
  attempt,
  onPoint,
  own,
  twin,
}: {
  r: StoryRow;
  kept: Kept;
  events: TimelineEvent[];
  attempt: Attempt | undefined;
  onPoint: (n: TreeNode | undefined) => void;
  own: string;
  twin: (name: string) => LegSummary | undefined;
}) {
  const e = r.event;
  if (r.kind === 'failure') {
    const result = resultOf(attempt, r.name);
    const passed = twin(r.name);
    const led = events.findLast(
      (x) => x.seq < e.seq && x.case === r.name && x.kind === 'command' && x.at <= r.at && !['screenshot', 'tree'].includes(x.name ?? ''),
    );
    return (
      <>
        <h2 id="moment">
          <VerdictWord what={r.verdict ?? 'failed'}>
            {r.name} {r.verdict}
          </VerdictWord>
        </h2>
        {result?.expected || result?.actual ? (
          <Values>
            <dt>checked</dt>
            <dd>{about(e.error)}</dd>
            <dt>expected</dt>
            <dd>{result.expected}</dd>
            <dt>was</dt>
            <dd>{result.actual}</dd>
          </Values>
        ) : (
          <p style={{ overflowWrap: 'anywhere' }}>{e.error}</p>
        )}
        <Facts
          of={[
            ['script', (result?.line ?? e.line) && <Mono key="l">{result?.line ?? e.line}</Mono>],
            [
              'led there',
              led && (
                <Mono key="c">
                  {led.name} {argText(led.args, led.name)} <Faint>at {clock(led.at)}</Faint>{' '}
                  <CopyButton text={`${led.name} ${argText(led.args, led.name)}`} what="the command" />
                </Mono>
              ),
            ],
          ]}
        />
        <Tries of={result} own={own} attempt={attempt} />
        {passed && <Beside key={`${passed.id} ${r.seq}`} own={own} twin={passed} name={r.name} at={r.at} events={events} />}
        <TreeOf kept={kept} onPoint={onPoint} />
        {result?.trace && (
          <details open={r.verdict === 'crashed'}>
            <summary>Stack trace</summary>
            <CopyButton text={result.trace} what="the stack trace" />
            <Pre>{result.trace}</Pre>
          </details>
        )}
      </>
    );
  }
  return (
    <>
      <h2 id="moment">
        {r.kind === 'case'
          ? r.name
          : r.kind === 'log'
            ? r.event.name === 'output'
              ? 'The program wrote'
              : 'The script says'
            : `${titles[r.kind]}${r.name ? `: ${r.name}` : ''}`}
      </h2>
      {r.kind === 'case' && (
        <p>
          <VerdictWord what={r.verdict ?? 'running'} />
        </p>
      )}
      {r.kind === 'case' && <Tries of={resultOf(attempt, r.name)} own={own} attempt={attempt} />}
      {r.kind === 'log' && <Pre>{r.name}</Pre>}
      {r.kind === 'check' && (e.expected || e.actual) && (
        <Values>
          <dt>expected</dt>
          <dd>{e.expected}</dd>
          <dt>was</dt>
          <dd>{e.actual}</dd>
        </Values>
      )}
      <Facts
        of={[
          ['at', `${clock(r.at)}${e.took ? `, took ${took(e.took)}` : ''}`],
          ['case', r.kind === 'case' ? undefined : r.case],
          ['script', e.line && <Mono key="l">{e.line}</Mono>],
          ...Object.entries(e.args ?? {}).map(([k, v]): [string, React.ReactNode] => [
            k,
            <Mono key={k}>
              {v} {k === 'element' && <CopyButton text={v} what="the locator" />}
            </Mono>,
          ]),
          ['error', e.error && r.kind !== 'check' ? <Mono key="e">{e.error}</Mono> : undefined],
        ]}
      />
      {e.answer && r.kind !== 'log' && (
        <div>
          <Faint>{r.kind === 'crash' ? 'The device log says' : 'answer'}</Faint>
          <Pre>{e.answer}</Pre>
        </div>
      )}
      {kept.tree && <TreeOf kept={kept} onPoint={onPoint} />}
    </>
  );
}

/** The tries of a case that was tried more than once. */
function Tries({ of, own, attempt }: { of: CaseResult | undefined; own: string; attempt: Attempt | undefined }) {
  if (!of?.tries || !attempt) return null;
  const beside = new URLSearchParams({
    attempt: String(attempt.number), with_attempt: String(attempt.number), try: '1', with_try: String(of.tries.length), case: of.name,
  });
  return (
    <>
    <Values aria-label="Tries">
      {of.tries.map((t, i) => (
        <Try key={i} n={i + 1} t={t} same={i > 0 && t.message === of.tries![0]!.message} />
      ))}
    </Values>
    {of.tries.length > 1 && <Sub><Link to={`/legs/${own}/compare?${beside}`}>The tries, step by step</Link></Sub>}
    </>
  );
}
const Try = ({ n, t, same }: { n: number; t: NonNullable<CaseResult['tries']>[number]; same: boolean }) => (
  <>
    <dt>try {n}</dt>
    <dd>
      {clock(t.start_ms)} {t.verdict}
      {same ? ', the same' : t.message ? `: ${t.message}` : ''}
    </dd>
  </>
);

const titles: Record<string, string> = {
  stage: 'Stage',
  step: 'Step',
  command: 'Command',
  check: 'Check',
  crash: 'The app crashed',
  marker: 'Note',
};
/** What a check was about: its message up to what was expected. */
const about = (message: string | undefined) => (message ?? '').split(/:? ?expected /)[0] || 'a value';

function TreeOf({ kept, onPoint }: { kept: Kept; onPoint: (n: TreeNode | undefined) => void }) {
  const { nodes, element } = kept;
  if (!kept.tree) return null;
  if (kept.error) return <Refused error={kept.error} />;
  const there = nodes.some((n) => n.found);
  return (
    <>
      {nodes.length > 0 && element && (
        <Sub>
          {there ? (
            <>
              <Mono>{element}</Mono> is outlined on the screen, and marked in its tree:
            </>
          ) : (
            <>
              No element of the screen matches <Mono>{element}</Mono>. This is the screen’s tree:
            </>
          )}
        </Sub>
      )}
      <TreeView nodes={nodes} onPoint={onPoint} />
    </>
  );
}
