// The form of a run, apart from how it is drawn: what its fields mean as a request, and as a command line.
import type { Input, Plan, RunRequest } from '../data/api';
import { list, oneOf, text, type Part, type View } from '../parts/address';
import { conditionsText, shellWord } from '../words';
import { parseConditions, parseLabels, variantsOf } from './conditions';
import { patterns } from './patterns';
import { parseBounds, parseRecording } from './recording';

/** Texts with commas in them. */
const texts = (): Part<string[]> => ({ read: (s) => s.split('|').filter(Boolean), write: (v) => v.join('|'), normal: [] });

/** What of the form stands in the address. Secrets never do. */
export const formParts = {
  build: text(), others: list(), package: text(),
  by: oneOf(['filter', 'name'] as const, 'filter'), where: text('platform=android'), devices: list(),
  pool: text(), take: oneOf(['', 'any', 'differ'] as const, ''), n: text('8'), units: oneOf(['each', 'any'] as const, 'each'),
  variants: texts(), conditions: text(), spread: oneOf(['', 'yes'] as const, ''), name: text(), labels: text(),
  cases: text(), tags: text(), confirm: oneOf(['0', '1', '2', '3'] as const, '0'), limit: text('30'),
  record: text(), bounds: text(), remarks: oneOf(['tell', 'fail'] as const, 'tell'), typing: oneOf(['own', 'any'] as const, 'own'),
};
export type RunForm = View<typeof formParts>;

/** What a choice of devices changes, whatever was chosen since the devices were drawn. */
export const choosing = (drawn: string[], chosen: string[]) => ({ devices }: RunForm): Partial<RunForm> => ({
  devices: [
    ...devices.filter((s) => chosen.includes(s) || !drawn.includes(s)),
    ...chosen.filter((s) => !devices.includes(s) && !drawn.includes(s)),
  ],
});

/** What is chosen: the build and the package as they were when they were chosen, and what the package asks for. */
export interface Chosen {
  build: string; // id
  package: string; // id
  given: Record<string, string>;
  secrets: Record<string, string>;
}

export const usualLimit = 30 * 60; // s

/** The time limit in seconds; undefined: it is none. */
export function limitOf(minutes: string): number | undefined {
  const s = Math.round(Number(minutes) * 60);
  return minutes.trim() !== '' && Number.isFinite(s) && s >= 1 && s <= 86_400 ? s : undefined;
}

/** How many devices; undefined: it is no such number. */
export const countOf = (n: string) => (/^\d+$/.test(n.trim()) && Number(n) >= 1 && Number(n) <= 1000 ? Number(n) : undefined);

const filled = (of: Record<string, string>) => Object.fromEntries(Object.entries(of).filter(([, v]) => v !== ''));
const some = <K extends string, V extends object>(name: K, v: V) => (Object.keys(v).length > 0 ? ({ [name]: v } as Record<K, V>) : {});

/** The request that the form makes; undefined while something is missing that every run needs. */
export function requestOf(f: RunForm, chosen: Chosen): RunRequest | undefined {
  const limit = limitOf(f.limit);
  if (!chosen.build || !chosen.package || limit === undefined || (f.by === 'name' && f.devices.length === 0)) return undefined;
  return {
    build: chosen.build,
    package: chosen.package,
    limit_seconds: limit,
    confirm: Number(f.confirm),
    attempts: 2,
    ...some('cases', patterns(f.cases)),
    ...some('tags', patterns(f.tags)),
    ...some('inputs', filled(chosen.given)),
    ...some('secrets', filled(chosen.secrets)),
    ...some('other_builds', f.others),
    ...(f.by === 'name' ? { devices: f.devices } : some('where', patterns(f.where))),
    ...(f.by === 'filter' && f.pool ? { pool: f.pool } : {}),
    ...(f.by === 'filter' && f.take && countOf(f.n) ? { take: f.take, n: countOf(f.n)! } : {}),
    ...(f.units === 'any' ? { models: true } : {}),
    ...some('conditions', parseConditions(f.conditions)),
    ...some('variants', variantsOf(f.variants)),
    ...(f.spread ? { spread: true } : {}),
    ...(f.typing === 'any' ? { helpers: ['keyboard'] } : {}),
    ...(f.name.trim() ? { name: f.name.trim() } : {}),
    ...some('labels', parseLabels(f.labels)),
    ...some('recording', parseRecording(f.record)),
    ...some('bounds', parseBounds(f.bounds)),
    ...(f.remarks === 'fail' ? { remarks: f.remarks } : {}),
  };
}

/** What is asked while the form is filled in: the same, but no secret leaves the browser before the run starts. */
export function planned(q: RunRequest | undefined): RunRequest | undefined {
  return q?.secrets ? { ...q, secrets: Object.fromEntries(Object.keys(q.secrets).map((k) => [k, 'given'])) } : q;
}

/** What a plan says of the form: who takes part, who can't and why, and what stands in the way of all. */
export function readPlan(plan: Plan | undefined) {
  return {
    taking: new Set(plan?.devices ?? []),
    unfit: new Map((plan?.findings ?? []).filter((x) => x.device && x.level === 'blocks').map((x) => [x.device!, x])),
    blocked: (plan?.findings ?? []).filter((x) => !x.device && x.level === 'blocks'),
    said: (plan?.findings ?? []).filter((x) => x.level !== 'blocks' || (x.device && x.variant)),
  };
}

/** The platform of a reference, such as kelpline/ios@newest. */
export const platformOf = (ref: string) => /\/([a-z]+)@/.exec(ref)?.[1] ?? '';

/** What a choice of a build for another platform changes. The filter of the form as it opens would leave its devices out. */
export const withOther = (platform: string, ref: string) => ({ others, where }: RunForm): Partial<RunForm> => ({
  others: [...others.filter((o) => platformOf(o) !== platform), ...(ref ? [ref] : [])],
  ...(ref && where === formParts.where.normal ? { where: '' } : {}),
});

/** The inputs that a package asks for, apart from its secrets. */
export const openInputs = (inputs: Input[] | undefined) => (inputs ?? []).filter((i) => !i.secret);
export const secretInputs = (inputs: Input[] | undefined) => (inputs ?? []).filter((i) => i.secret);

/** The run as a command line. */
export function commandLine(q: RunRequest): string {
  const limit = q.limit_seconds ?? usualLimit;
  const parts = ['tessellant run start', `--build ${shellWord(q.build)}`, `--package ${shellWord(q.package)}`];
  for (const b of q.other_builds ?? []) parts.push(`--other-build ${shellWord(b)}`);
  if (q.pool) parts.push(`--pool ${shellWord(q.pool)}`);
  if (q.take && q.take !== 'all') parts.push(`--${q.take} ${q.n}`);
  if (q.models) parts.push('--any-unit');
  for (const w of q.where ?? []) parts.push(`--where ${shellWord(w)}`);
  for (const d of q.devices ?? []) parts.push(`--device ${shellWord(d)}`);
  for (const k of q.cases ?? []) parts.push(`--case ${shellWord(k)}`);
  for (const t of q.tags ?? []) parts.push(`--tag ${shellWord(t)}`);
  if (q.conditions) parts.push(`--conditions ${shellWord(conditionsText(q.conditions))}`);
  for (const v of q.variants ?? []) {
    const set = conditionsText(v.conditions);
    parts.push(`--variant ${shellWord(set ? `${v.name}=${set}` : v.name)}`);
  }
  if (q.spread) parts.push('--spread');
  for (const h of q.helpers ?? []) parts.push(`--helper ${shellWord(h)}`);
  if (q.name) parts.push(`--name ${shellWord(q.name)}`);
  for (const [k, v] of Object.entries(q.labels ?? {})) parts.push(`--label ${shellWord(`${k}=${v}`)}`);
  const kept = conditionsText(q.recording);
  if (kept) parts.push(`--record ${shellWord(kept)}`);
  for (const b of q.bounds ?? []) parts.push(`--bound ${shellWord(b)}`);
  if (q.remarks) parts.push(`--remarks ${q.remarks}`);
  if (q.confirm) parts.push(`--confirm ${q.confirm}`);
  for (const [k, v] of Object.entries(q.inputs ?? {})) parts.push(`--set ${shellWord(`${k}=${v}`)}`);
  for (const k of Object.keys(q.secrets ?? {}))
    parts.push(`--secret-from-env ${shellWord(`${k}=${k.toUpperCase().replaceAll('-', '_')}`)}`);
  if (limit !== usualLimit) parts.push(`--limit ${limit % 60 === 0 ? `${limit / 60}m` : `${limit}s`}`);
  return [...parts, '--watch'].join(' \\\n  ');
}

/** What a reference means, held: a newer thing under the same reference does not take its place. */
export interface Pin<T> {
  ref: string; // as it was asked for; '': the newest
  item: T;
}

/** The pin for a reference, given what there is now; the same one as before where it still holds. */
export function pinned<T extends { id: string; ref: string }>(
  old: Pin<T> | undefined,
  ref: string,
  items: T[] | undefined,
): Pin<T> | undefined {
  if (old?.ref === ref) return old;
  const item = ref ? items?.find((x) => x.ref === ref || x.id === ref) : items?.[0];
  return item && { ref, item };
}

/** The one that has come since and that the form would have taken: undefined where there is none. */
export function newer<T extends { id: string; ref: string }>(pin: Pin<T> | undefined, items: T[] | undefined): T | undefined {
  if (!pin || !items) return undefined;
  const now = pin.ref ? items.find((x) => x.ref === pin.ref) : items[0];
  return now && now.id > pin.item.id ? now : undefined;
}
