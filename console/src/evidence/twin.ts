// The same moment on another device: of a case that failed here, where it passed. Pure.
import type { LegSummary, Run, TimelineEvent } from '../data/api';

/** The leg of the run in which a case passed that is most like this one. */
export function twinOf(run: Run | undefined, own: string, name: string): LegSummary | undefined {
  const me = run?.legs.find((l) => l.id === own);
  if (!run || !me) return undefined;
  const like = (l: LegSummary) => {
    const same = Object.entries(l.traits).filter(([k, v]) => me.traits[k] === v).length;
    return (l.variant === me.variant ? 100 : 0) + same;
  };
  return run.legs
    .filter((l) => l.id !== own && l.case_verdicts[(l.case_names ?? run.case_names).indexOf(name)] === 'passed')
    .reduce<LegSummary | undefined>((best, l) => (best && like(best) >= like(l) ? best : l), undefined);
}

/** The last try of a case by a moment, and the last step in it before. */
function anchor(events: TimelineEvent[], name: string, at: number) {
  let [begun, step, end]: [TimelineEvent | undefined, TimelineEvent | undefined, number] = [undefined, undefined, Infinity];
  for (const e of events) {
    if (e.kind === 'case' && e.name === name && !e.verdict && e.at <= at) [begun, step, end] = [e, undefined, Infinity];
    if (e.kind === 'case' && e.name === name && e.verdict && begun && end === Infinity) end = e.at;
    if (e.kind === 'step' && e.case === name && begun && e.at >= begun.at && e.at <= Math.min(at, end)) step = e;
  }
  return begun && { from: step ?? begun, step: step?.name, end };
}

/**
 * Where in another attempt that moment of a case lies: as far behind the same step, or the case's beginning; never behind its end there.
 */
export function sameMoment(own: TimelineEvent[], at: number, other: TimelineEvent[], name: string): number | undefined {
  const here = anchor(own, name, at);
  const whole = anchor(other, name, Infinity);
  if (!here || !whole) return undefined;
  const cases = other.filter((e) => e.case === name || e.name === name);
  const step = here.step === undefined ? undefined : cases.findLast((e) => e.kind === 'step' && e.name === here.step);
  const begin = cases.findLast((e) => e.kind === 'case' && !e.verdict)!;
  const end = cases.findLast((e) => e.kind === 'case' && e.verdict)?.at ?? Infinity;
  return Math.min((step ?? begin).at + Math.max(at - here.from.at, 0), end);
}
