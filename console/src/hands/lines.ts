// Lines of a script that are recorded and edited: pure.
import type { HeldElement } from '../data/api';
import { quoted } from './held';

/** A check that an element is as it is now. */
export function checkLine(e: Pick<HeldElement, 'kind' | 'text' | 'value' | 'label'>, css: string): string {
  const says = e.kind === 'field' ? e.value : e.text;
  if (says) return `check.equal(phone.read(${quoted(css)}), ${quoted(says)})`;
  return `check.that(phone.sees(${quoted(css)}), ${quoted(`${e.label ?? css} is there`)})`;
}

/**
 * The text of an editor when there is more to record. Before are the lines that were put there last, fresh is what they have become: a
 * text that goes on is one line still. Where somebody has changed their end, what is new is put behind it.
 */
export function grown(text: string, before: string[], fresh: string[]): string {
  let same = 0;
  while (same < before.length && same < fresh.length && before[same] === fresh[same]) same++;
  const old = before.slice(same).map((l) => l + '\n').join('');
  const ends = text === '' || text.endsWith('\n') ? text : text + '\n';
  const add = (from: number) => fresh.slice(from).map((l) => l + '\n').join('');
  if (ends.endsWith(old)) return ends.slice(0, ends.length - old.length) + add(same);
  return fresh.length > before.length ? ends + add(before.length) : text;
}

/** The line, from 0, in which a place of a text lies. */
export const lineAt = (text: string, place: number) => text.slice(0, place).split('\n').length - 1;

/** The place at which a line begins. */
export const startOf = (text: string, line: number) =>
  text.split('\n').slice(0, line).reduce((n, l) => n + l.length + 1, 0);

/** A file of the script language with the lines as its one case. */
export function sourceOf(text: string): string {
  const lines = text.replace(/\s+$/, '').split('\n');
  const first = lines.find((l) => l.trim() && !l.trim().startsWith('#'));
  const head = first?.trim().startsWith('phone.launch(') ? [] : ['phone.launch()'];
  return 'def test_recorded(phone):\n' + [...head, ...lines].map((l) => (l.trim() ? '    ' + l : '')).join('\n') + '\n';
}

/** How lines came out, in a sentence. */
export function ran(r: { verdict: string; seconds: number; line?: number; message?: string }, lines: string[]): string {
  if (r.verdict === 'passed') return `Passed after ${r.seconds.toFixed(1)} s.`;
  const where = r.line === undefined ? '' : ` at line ${r.line + 1}, ${lines[r.line]?.trim() ?? ''}`;
  return `${r.verdict[0]?.toUpperCase()}${r.verdict.slice(1)}${where}${r.message ? `: ${r.message}` : ''}`;
}
