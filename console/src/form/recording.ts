// What is kept of a run, as the form has it: a line such as "video:off,screenshots:commands". Pure.

/** The kinds, how much of each can be kept, and what is usual; core/recording has the table. */
export const kinds = [
  { name: 'video', values: ['on', 'off'], usual: 'on', text: 'Video' },
  { name: 'screenshots', values: ['off', 'failures', 'steps', 'commands'], usual: 'steps', text: 'Screenshots' },
  { name: 'log', values: ['on', 'off'], usual: 'on', text: 'Device log' },
  { name: 'gauges', values: ['on', 'off'], usual: 'on', text: 'Gauges' },
  { name: 'network', values: ['off', 'on', 'contents'], usual: 'on', text: 'Network log' },
  { name: 'trees', values: ['off', 'failures', 'steps'], usual: 'failures', text: 'Trees of screens' },
] as const;

const words: Record<string, string> = {
  on: 'on', off: 'off', failures: 'where a case fails', steps: 'at steps and failures', commands: 'after each command, too',
  contents: 'on, all HTTPS opened',
};
export const amountText = (value: string) => words[value]!;

/** What differs from what is usual, by name; what makes no sense is left out. */
export function parseRecording(line: string): Record<string, string> {
  const out: Record<string, string> = {};
  for (const item of line.split(',')) {
    const [name, value] = item.split(':').map((s) => s.trim());
    const kind = kinds.find((k) => k.name === name);
    if (kind && value !== kind.usual && (kind.values as readonly string[]).includes(value!)) out[kind.name] = value!;
  }
  return out;
}

/** The line with one kind changed. */
export function withKind(line: string, name: string, value: string): string {
  const all = { ...parseRecording(line), [name]: value };
  return kinds.flatMap((k) => (all[k.name] && all[k.name] !== k.usual ? `${k.name}:${all[k.name]}` : [])).join(',');
}

/** Bounds on gauges: "memory<400, processor<150". */
export const parseBounds = (text: string) =>
  text
    .split(',')
    .map((s) => s.trim())
    .filter(Boolean);
