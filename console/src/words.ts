// Numbers, times and verdicts in words.
import type { Build, LegSummary, Verdict } from './data/api';

/** A duration: "8.2 s", "4:05 min", "1 h 12 min". */
export function took(ms: number): string {
  if (ms < 950) return `${Math.max(0, Math.round(ms))} ms`;
  if (ms < 9950) return `${(ms / 1000).toFixed(1)} s`;
  if (ms < 59_500) return `${Math.round(ms / 1000)} s`;
  const s = Math.round(ms / 1000);
  if (s < 3600 && s % 60 === 0) return `${s / 60} min`;
  if (s < 3600) return `${Math.floor(s / 60)}:${String(s % 60).padStart(2, '0')} min`;
  return `${Math.floor(s / 3600)} h ${Math.floor((s % 3600) / 60)} min`;
}

/** A moment on an attempt's clock: "0:07.250". */
export function clock(ms: number): string {
  const sign = ms < 0 ? '−' : '';
  const t = Math.abs(Math.round(ms));
  const digits = (n: number, so: number) => String(n).padStart(so, '0');
  return `${sign}${Math.floor(t / 60_000)}:${digits(Math.floor((t % 60_000) / 1000), 2)}.${digits(t % 1000, 3)}`;
}

/** How long ago a time is, roughly; an older one as a date, in the reader's manner. */
export function ago(time: string | Date, now: number, locale?: string): string {
  const t = new Date(time);
  const s = (now - t.getTime()) / 1000;
  if (s < 45) return 'just now';
  if (s < 3600) return `${Math.max(1, Math.round(s / 60))} min ago`;
  if (s < 48 * 3600) return `${Math.round(s / 3600)} h ago`;
  return t.toLocaleDateString(locale, { day: 'numeric', month: 'short', year: 'numeric' });
}

/** A time to the second, in the reader's manner and zone, which it names. */
export const exactTime = (time: string | Date, locale?: string, timeZone?: string) =>
  new Date(time).toLocaleString(locale, { dateStyle: 'medium', timeStyle: 'long', timeZone });

/** The reader's zone: "Europe/Berlin". */
export const zone = () => Intl.DateTimeFormat().resolvedOptions().timeZone;

export function bytes(n: number): string {
  if (n < 10_000) return `${n} B`;
  if (n < 1e6) return `${(n / 1e3).toFixed(1)} kB`;
  if (n < 1e9) return `${(n / 1e6).toFixed(1)} MB`;
  return `${(n / 1e9).toFixed(2)} GB`;
}

export function many(n: number, one: string, more = one + 's'): string {
  return `${n.toLocaleString('en-GB')} ${n === 1 ? one : more}`;
}

/** A sentence's beginning. */
export const capital = (s: string) => s.slice(0, 1).toUpperCase() + s.slice(1);

/** Verdicts, the one that decides first: as core/verdict has them. */
export const order: Verdict[] = ['crashed', 'failed', 'expired', 'invalid', 'lost', 'stopped', 'flaky', 'passed', 'skipped'];

/** Those that say something is wrong with the app. */
export const broken = (v: string | undefined) => v === 'crashed' || v === 'failed' || v === 'expired';

/** What a tile shows: the verdict, or how far the leg is. */
export function standing(l: Pick<LegSummary, 'stage' | 'verdict'>): string {
  if (l.stage === 'done') return l.verdict ?? 'passed';
  return l.stage === 'waiting' ? 'waiting' : 'running';
}

const ends: Record<string, string> = { one: 'st', two: 'nd', few: 'rd', other: 'th' };
const ordinals = new Intl.PluralRules('en', { type: 'ordinal' });
/** "1st", "2nd", "11th". */
export const ordinal = (n: number) => `${n}${ends[ordinals.select(n)]}`;

/** What a leg is at: its verdict, its stage, its place in the queue; and that it is being stopped. */
export function stageText(l: Pick<LegSummary, 'stage' | 'verdict' | 'place' | 'stopping' | 'attempts'>): string {
  if (l.stage === 'done') return l.attempts > 1 ? `${l.verdict} (attempt ${l.attempts})` : (l.verdict ?? '');
  if (l.stopping) return `${l.stage}, stopping`;
  return l.stage === 'waiting' && l.place ? `waiting, ${ordinal(l.place)} in the queue` : l.stage;
}

/** The device that was asked for, and the one that the leg ran on where that is another; and the name of its conditions. */
export const unit = (l: Pick<LegSummary, 'serial' | 'ran_on' | 'variant'>) =>
  [l.ran_on ? `${l.serial} → ${l.ran_on}` : l.serial, l.variant].filter(Boolean).join(' ');

/** How far a leg is, 0 to 1: the part of its cases that are over. */
export const share = (l: Pick<LegSummary, 'case_verdicts' | 'cases_total'>) =>
  l.cases_total ? l.case_verdicts.filter((v) => v && v !== 'running').length / l.cases_total : 0;

/** "7 passed, 1 failed" of a leg's cases. */
export function cases(l: Pick<LegSummary, 'cases' | 'cases_total' | 'stage'>): string {
  const parts = order.filter((v) => l.cases[v]).map((v) => `${l.cases[v]} ${v}`);
  const done = order.reduce((n, v) => n + (l.cases[v] ?? 0), 0);
  if (l.stage !== 'done' && !l.cases_total) parts.unshift(`${done} so far`);
  else if (l.stage !== 'done' || done < l.cases_total) parts.unshift(`${done} of ${l.cases_total}`);
  return parts.join(', ');
}

/** A device's system, with Android's API level. */
export const systemOf = (d: { system: string; api: number }) => (d.api ? `${d.system} (API ${d.api})` : d.system);

/** How wide a screen is, in the unit of its platform. */
export const widthOf = (d: { width_dp: number; platform: string }) => `${d.width_dp} ${{ ios: 'pt', web: 'px' }[d.platform] ?? 'dp'}`;

/** A device's screen and language, as far as they are known. */
export const screenOf = (d: { width_dp: number; platform: string; language: string }) =>
  [widthOf(d), d.language].filter(Boolean).join(', ');

/** What the platforms of devices are called. */
export const platformNames: Record<string, string> = { android: 'Android', ios: 'iOS', web: 'Chromium' };

/** The lowest system that a build runs on. */
export const runsOn = (b: Pick<Build, 'ios' | 'page' | 'min_code' | 'min_api'>) =>
  b.page ? 'the browsers of devices'
  : b.ios ? `iOS ${b.ios.min_os} and later` : b.min_code ? `Android ${b.min_code}` : `Android API ${b.min_api} and later`;

/** What the traits that devices differ in are called, and what stands before and after their values. */
export const traits: Record<string, { name: string; before?: string; unit?: string }> = {
  variant: { name: 'variant' },
  platform: { name: 'platform' },
  os: { name: 'OS version' },
  maker: { name: 'maker' },
  model: { name: 'model' },
  width: { name: 'screen width', unit: 'dp' },
  language: { name: 'language' },
  memory: { name: 'memory', unit: 'GB' },
  form: { name: 'form' },
  density: { name: 'density', unit: 'dpi' },
  processor: { name: 'processor' },
  origin: { name: 'origin' },
  orientation: { name: 'orientation' },
  dark: { name: 'dark mode', before: 'dark mode' },
  'font-scale': { name: 'text size', before: 'text size' },
  'display-size': { name: 'display size', before: 'display size' },
  location: { name: 'location' },
  'time-zone': { name: 'time zone' },
  animations: { name: 'animations', before: 'animations' },
  wifi: { name: 'Wi-Fi', before: 'Wi-Fi' },
  'mobile-data': { name: 'mobile data', before: 'mobile data' },
  bluetooth: { name: 'Bluetooth', before: 'Bluetooth' },
  gps: { name: 'GPS', before: 'GPS' },
  'airplane-mode': { name: 'airplane mode', before: 'airplane mode' },
  'battery-saver': { name: 'battery saver', before: 'battery saver' },
  network: { name: 'network' },
};

const conditions = Object.keys(traits).slice(Object.keys(traits).indexOf('orientation'));

/** Whether a trait is how a device is set: where nothing is said, it is as it is. */
export const isCondition = (trait: string) => trait === 'variant' || trait.startsWith('label:') || conditions.includes(trait);

/** The names of conditions, as the service has them. */
export const conditionNames = ['language', ...conditions];

/** What a trait is called; a label that people gave is one, too. */
export const traitName = (trait: string) => traits[trait]?.name ?? trait.replace(/^label:/, '');

/** Conditions in a line, as the command line has them: "language:de,dark". */
export const conditionsText = (set: Record<string, string> | undefined) =>
  Object.entries(set ?? {}).map(([k, v]) => (v === 'on' ? k : `${k}:${v}`)).join(',');

/** How long a run is likely to take: "2:24 min to 3:17 min". */
export const forecastText = (f: { low_seconds: number; high_seconds: number }) =>
  `${took(roughly(f.low_seconds))} to ${took(roughly(f.high_seconds))}`;
const roughly = (s: number) => 1000 * (s < 100 ? Math.round(s / 5) * 5 || 5 : Math.round(s / 10) * 10);

/** In numbers where they are numbers ("9" before "10", "8.1" before "9"), else by letters. */
export function compareValues(a: string, b: string): number {
  return a.localeCompare(b, 'en', { numeric: true });
}

/** A word for the command line, in quotes where the shell needs them. */
export function shellWord(s: string): string {
  return /^[\w@%+=:,./-]+$/.test(s) ? s : `'${s.replaceAll("'", `'\\''`)}'`;
}
