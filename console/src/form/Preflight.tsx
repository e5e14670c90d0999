// What a run would be, before it starts: its legs, how long it takes, what to mind; and the same as a command line and as a file.
import { useState } from 'react';
import styled from 'styled-components';
import type { Cover, Finding, Plan, RunRequest } from '../data/api';
import { Choose } from '../parts/controls';
import { Command, Findings, Row, Sub } from '../parts/page';
import { c } from '../theme';
import { forecastText, many, took } from '../words';
import { commandLine } from './RunForm';

export function Forecast({ plan, limit }: { plan: Plan; limit: number }) {
  const f = plan.forecast;
  return (
    <div>
      {f && (
        <p>
          <strong>{f.guess ? 'Perhaps ' : ''}{forecastText(f)}</strong>
          {f.wait_seconds !== undefined && f.wait_seconds >= 5 && `, the first device being free in about ${took(f.wait_seconds * 1000)}`}
        </p>
      )}
      <Sub>{f ? `${f.basis}; ` : ''}at most {took(limit * 1000)} on a device.</Sub>
    </div>
  );
}

/** What the devices that differ most cover. */
export function Covered({ of }: { of: Cover }) {
  const missing = of.traits.filter((t) => t.missing.length > 0).map((t) => `${t.trait} ${t.missing.join(', ')}`);
  const pairs = of.next?.pairs ? [many(of.next.pairs, 'pair of values', 'pairs of values')] : [];
  const adds = of.next && [...of.next.adds, ...pairs].join(', ');
  return (
    <div>
      <p>They cover <strong>{Math.round(of.share * 100)} %</strong> of what differs.</p>
      {missing.length > 0 && <Sub>Not covered: {missing.join('; ')}.</Sub>}
      {of.next && <Sub>The next device, {of.next.serial}, would add {adds} ({(of.next.share * 100).toFixed(1)} %).</Sub>}
    </div>
  );
}

const Few = styled.div`max-height: 300px; overflow: auto; border-top: 1px solid ${c.grout}; padding-top: 8px;`;

/** What to mind. Many devices may have the same to say: they are told together. */
export function ToMind({ of }: { of: Finding[] }) {
  if (of.length === 0) return null;
  return <Few tabIndex={0} role="region" aria-label="What to mind"><Findings of={together(of)} /></Few>;
}

export function together(all: Finding[]): Finding[] {
  const by = new Map<string, Finding[]>();
  for (const f of all) {
    const key = [f.level, f.variant, f.remedy, f.device ? f.what.replace(/\d+(\.\d+)*/g, '#') : f.what].join('\n');
    by.set(key, [...(by.get(key) ?? []), f]);
  }
  return [...by.values()].flatMap((same) => {
    if (same.length < 3) return same;
    const some = same.slice(0, 4).map((f) => f.device).join(', ');
    return [{ ...same[0]!, device: `${same.length} devices: ${some}${same.length > 4 ? ' …' : ''}` }];
  });
}

/** Build and package stand by their references: a person reads them. */
export function AsText({ of, file, build, pkg, secrets }: {
  of: RunRequest; file?: string; build: string; pkg: string; secrets: string[];
}) {
  const [how, setHow] = useState('command');
  const q = { ...of, build, package: pkg, secrets: Object.fromEntries(secrets.map((s) => [s, ''])) };
  const byName = (s: string) => s.replace(/^build: .*$/m, `build: ${build}`).replace(/^package: .*$/m, `package: ${pkg}`).trimEnd();
  const text = how === 'file' && file ? byName(file) : commandLine(q);
  return (
    <div>
      <Row style={{ justifyContent: 'space-between', marginBottom: 4 }}>
        <Sub as="span">The same</Sub>
        <Choose label="The same as" value={how} onChange={setHow}
          options={[{ id: 'command', text: 'in a terminal' }, { id: 'file', text: 'as a run file' }]} />
      </Row>
      <Command>{text}</Command>
    </div>
  );
}
