// The story of an attempt, as rows with their moments; and what belongs to a moment.
import type { Artifact, Attempt, CaseResult, TimelineEvent } from '../data/api';

export type RowKind = 'stage' | 'case' | 'step' | 'command' | 'check' | 'log' | 'crash' | 'failure' | 'marker';

/** One row of the story. */
export interface StoryRow {
  seq: number;
  kind: RowKind;
  at: number; // ms on the attempt's clock
  case: string;
  name: string;
  detail: string;
  bad: boolean;
  verdict?: string; // of a case, when it is over; of a failure
  event: TimelineEvent;
}

export type Depth = 'all' | 'steps' | 'cases';

const shown: Record<Depth, RowKind[]> = {
  all: ['stage', 'case', 'step', 'command', 'check', 'log', 'crash', 'failure', 'marker'],
  steps: ['stage', 'case', 'step', 'check', 'log', 'crash', 'failure'],
  cases: ['case', 'failure'],
};

/** What a command's arguments say, the locator first; an argument that the command's name ends with ("launch app") is not named again. */
export function argText(args: Record<string, string> | undefined, command = ''): string {
  if (!args) return '';
  const { element, ...rest } = args;
  return [element, ...Object.entries(rest).map(([k, v]) => (command.endsWith(` ${k}`) ? v : `${k} ${v}`))].filter(Boolean).join(', ');
}

/** The story's rows. A case's row has its verdict; the end of one that did not pass is a row of its own, at the moment of its fault. */
export function story(events: TimelineEvent[]): StoryRow[] {
  const rows: StoryRow[] = [];
  const begun = new Map<string, StoryRow>();
  let faults: TimelineEvent[] = [];
  for (const e of events) {
    const row = (kind: RowKind, name: string, detail = '', bad = false): StoryRow => ({
      seq: e.seq,
      kind,
      at: e.at,
      case: e.case ?? '',
      name,
      detail,
      bad,
      event: e,
    });
    switch (e.kind) {
      case 'case':
        if (!e.verdict) {
          const r = row('case', e.name ?? '', e.args?.['try'] ? `try ${e.args['try']}` : '');
          begun.set(r.name, r);
          rows.push(r);
          faults = [];
          break;
        }
        {
          const r = begun.get(e.name ?? '') ?? row('case', e.name ?? '');
          if (!begun.has(r.name)) rows.push(r);
          r.verdict = e.verdict;
          if (e.verdict === 'passed' || e.verdict === 'skipped' || e.verdict === 'flaky') break; // the try that failed has told its failure
          const f = row('failure', e.name ?? '', e.error ?? '', true);
          f.verdict = e.verdict;
          const fault = faultOf(faults);
          f.at = fault ? fault.at + (fault.kind === 'crash' ? 0 : (fault.took ?? 0)) : e.at;
          const place = fault ? rows.findIndex((x) => x.seq === fault.seq) : -1;
          if (place < 0) rows.push(f);
          else rows.splice(place + 1, 0, f); // what follows was only done to keep evidence of it
        }
        break;
      case 'stage':
        rows.push(row('stage', e.name ?? ''));
        break;
      case 'marker':
        if (e.name !== 'clock') rows.push(row('marker', e.name ?? '', e.error || e.answer || '', !!e.error));
        break;
      case 'crash':
        faults.push(e);
        rows.push(row('crash', e.name ?? 'the app crashed', '', true));
        break;
      case 'log':
        rows.push(row('log', e.answer ?? ''));
        break;
      case 'check': {
        const bad = !!e.error;
        if (bad) faults.push(e);
        const about = e.name ? `${e.name}: ` : '';
        rows.push(
          row('check', bad ? `${about}expected ${e.expected}` : `${about}${e.actual || 'held'}`, bad ? `was ${e.actual}` : '', bad),
        );
        break;
      }
      default:
        if (e.error) faults.push(e);
        rows.push(row(e.kind, e.name ?? '', e.kind === 'command' ? argText(e.args, e.name) : '', !!e.error));
    }
  }
  return rows;
}

/** Where a case's fault showed: a crash, else the last check or command that went wrong; undefined: only at its end. */
const faultOf = (faults: TimelineEvent[]) => faults.find((f) => f.kind === 'crash') ?? faults.at(-1);

export const atDepth = (rows: StoryRow[], depth: Depth) => rows.filter((r) => shown[depth].includes(r.kind));

/** The place of the last row at or before a moment; 0 before the first. Rows need not be in the order of their moments. */
export function rowAt(rows: StoryRow[], at: number): number {
  let best = 0;
  for (let i = 0; i < rows.length; i++) if (rows[i]!.at <= at && (rows[i]!.at >= rows[best]!.at || rows[best]!.at > at)) best = i;
  return best;
}

/** The next row of some kinds after a place (or before it, with step -1); -1: none. */
export function nextRow(rows: StoryRow[], from: number, step: 1 | -1, kinds: RowKind[]): number {
  for (let i = from + step; i >= 0 && i < rows.length; i += step) if (kinds.includes(rows[i]!.kind)) return i;
  return -1;
}

/** The locator that a failed case was busy with: that of the last command in the line that failed, else of its last command with one. */
export function elementOf(events: TimelineEvent[], name: string, line: string | undefined): string {
  let any = '';
  let here = '';
  for (const e of events) {
    if (e.case !== name || e.kind !== 'command' || !e.args?.['element']) continue;
    any = e.args['element'];
    if (line && e.line === line) here = e.args['element'];
  }
  return here || any;
}

export const resultOf = (a: Attempt | undefined, name: string): CaseResult | undefined => a?.cases.find((x) => x.name === name);
export const artifactNamed = (a: Attempt | undefined, name: string | undefined): Artifact | undefined =>
  name ? a?.artifacts.find((x) => x.name === name) : undefined;
export const artifactOf = (a: Attempt | undefined, kind: Artifact['kind']): Artifact | undefined =>
  a?.artifacts.find((x) => x.kind === kind);

/** The last moment of an attempt that is known. */
export function endOf(events: TimelineEvent[]): number {
  return events.reduce((t, e) => Math.max(t, e.kind === 'case' && e.verdict ? e.at : e.at + (e.took ?? 0)), 1);
}

/** Who has paused the test, and why, as "paused by Ada: the total is odd"; undefined: it is not paused. */
export function pausedOf(events: TimelineEvent[]): string | undefined {
  const last = events.findLast((e) => e.kind === 'marker' && /^(paused by|resumed after) /.test(e.name ?? ''));
  return last?.name?.startsWith('paused') ? last.name : undefined;
}

/** A sentence for how a leg stands. */
export function sentence(
  serial: string,
  stage: string,
  verdict: string | undefined,
  message: string | undefined,
  a: Attempt | undefined,
  total: number,
): string {
  const all = `${total} ${total === 1 ? 'case' : 'cases'}`;
  const n = (v: string) => a?.cases.filter((x) => x.verdict === v).length ?? 0;
  const done = a?.cases.filter((x) => x.verdict).length ?? 0;
  if (stage === 'waiting') return a?.verdict === 'lost' ? `${serial} was lost, and is waited for.` : `${serial} is waited for.`;
  if (stage !== 'done') {
    const far = total ? `${done} of ${all} done` : `${done} ${done === 1 ? 'case' : 'cases'} done so far`;
    return stage === 'running' ? `${serial} is running: ${far}.` : `${serial} is ${stage}.`;
  }
  switch (verdict) {
    case 'passed':
      return `${serial} passed ${total === 1 ? 'its case' : `all ${all}`}.`;
    case 'crashed':
      return `On ${serial} the app crashed in ${n('crashed')} of ${all}${n('failed') ? `, and ${n('failed')} failed` : ''}.`;
    case 'failed':
      return `${serial} failed ${n('failed')} of ${all}.`;
    case 'expired':
      return `${serial} ran out of time after ${done} of ${all}.`;
    case 'lost':
      return `${serial} was lost: ${message ?? 'it went away'}.`;
    case 'flaky':
      return `${serial} passed, but ${n('flaky')} of ${all} only when tried again.`;
    case 'stopped':
      return `${serial} was stopped after ${done} of ${all}.`;
    case 'invalid':
      return `On ${serial} the package could not be started.`;
    default:
      return `${serial}: ${verdict}.`;
  }
}
