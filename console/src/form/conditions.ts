// Conditions as a person types them, and as the service takes them: "language:de,dark". The service says what is wrong with them.
import type { RunRequest } from '../data/api';

export type Set = Record<string, string>;

/** Conditions in a line. A switch without a value is on; a number behind a comma belongs to what was before it. */
export function parseConditions(text: string): Set {
  const items: string[] = [];
  for (const item of text.split(',').map((s) => s.trim())) {
    if (items.length > 0 && /^[+\-.\d]/.test(item)) items[items.length - 1] += `,${item}`;
    else if (item !== '') items.push(item);
  }
  return Object.fromEntries(items.map((item) => {
    const at = item.indexOf(':');
    return at < 0 ? [item, 'on'] : [item.slice(0, at).trim(), item.slice(at + 1).trim()];
  }));
}

/** A variant as it stands in the address: "de=language:de"; without conditions, the device as it is. */
export function parseVariant(text: string): { name: string; conditions: Set } {
  const at = text.indexOf('=');
  if (at < 0) return { name: text.trim(), conditions: {} };
  return { name: text.slice(0, at).trim(), conditions: parseConditions(text.slice(at + 1)) };
}

/** Labels as they are typed: "branch=main commit=4f2a". */
export const parseLabels = (text: string): Record<string, string> =>
  Object.fromEntries(
    text.split(/\s+/).filter((s) => s.includes('=')).map((s) => [s.slice(0, s.indexOf('=')), s.slice(s.indexOf('=') + 1)]),
  );

/** The variants of a form as a request has them; those without a name are still being typed. */
export const variantsOf = (all: string[]): NonNullable<RunRequest['variants']> => all.map(parseVariant).filter((v) => v.name !== '');
