// A run as a command line, to copy.
import type { RunRequest } from '../data/api';
import { Command, Faint } from '../parts/page';
import { commandLine } from './RunForm';

/** Build and package stand by their references: a person reads them. */
export function CommandText({ of, build, pkg, secrets }: { of: RunRequest; build: string; pkg: string; secrets: string[] }) {
  const q = { ...of, build, package: pkg, secrets: Object.fromEntries(secrets.map((s) => [s, ''])) };
  return <div><Faint>The same from a terminal</Faint><Command>{commandLine(q)}</Command></div>;
}
