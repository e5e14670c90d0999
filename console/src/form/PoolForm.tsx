// The form of a pool: what its fields mean as a definition, and what it would take now.
import { FileTrigger } from 'react-aria-components';
import { useAction } from '../data/action';
import { answer, http, type PoolDefinition } from '../data/api';
import { useTrial } from '../data/queries';
import { useSettled } from '../data/settled';
import { Button, Select, TextField } from '../parts/controls';
import { Refused, Row, Sub } from '../parts/page';
import { many } from '../words';
import { patterns } from './patterns';
import { Covered } from './Preflight';
import { countOf, type RunForm } from './RunForm';

export const filterText = (d: PoolDefinition) => [...(d.where ?? []), ...(d.devices ?? [])].join(' ') || 'all devices';

interface Typed { where: string; take: PoolDefinition['take']; n: string; units: RunForm['units'] }

/** What is typed as a definition; undefined while the number is missing. */
export function definitionOf(t: Typed, shares?: PoolDefinition['shares']): PoolDefinition | undefined {
  const n = countOf(t.n);
  if (t.take !== 'all' && !n) return undefined;
  return {
    take: t.take,
    ...(t.where.trim() && { where: patterns(t.where) }),
    ...(t.take !== 'all' && { n }),
    ...(t.units === 'any' && { models: true }),
    ...(t.take === 'differ' && shares?.length && { shares }),
  };
}

export function typedOf(d?: PoolDefinition): Typed {
  return {
    where: (d?.where ?? []).map((w) => (/\s/.test(w) ? `'${w}'` : w)).join(' '),
    take: d?.take ?? 'differ',
    n: String(d?.n ?? 8),
    units: d?.models ? 'any' : 'each',
  };
}

/** Whether a device stands for itself, or for any unit like it. */
export function Units({ value, onChange }: { value: RunForm['units']; onChange: (v: RunForm['units']) => void }) {
  return (
    <Select label="Units" value={value} onChange={(v) => onChange(v as RunForm['units'])}
      options={[{ id: 'each', text: 'exactly these units' }, { id: 'any', text: 'any unit of each model' }]} />
  );
}

export function PoolFields({ typed, set, shares, onShares }: {
  typed: Typed; set: (t: Typed) => void; shares?: PoolDefinition['shares']; onShares: (s: PoolDefinition['shares']) => void;
}) {
  const read = useAction(async (file: File) => {
    const raw = { body: file as never, bodySerializer: (b: unknown) => b, headers: { 'Content-Type': 'text/csv' } };
    onShares(await answer(http.POST('/pools/shares', raw)));
  });
  return (
    <>
      <Row $gap={12} style={{ alignItems: 'flex-start' }}>
        <div style={{ flex: '1 1 320px' }}>
          <TextField label="Filter: patterns over traits" mono value={typed.where} placeholder="os>=10"
            onChange={(where) => set({ ...typed, where })} />
        </div>
        <Select label="Take" value={typed.take} onChange={(v) => set({ ...typed, take: v as Typed['take'] })}
          options={[
            { id: 'all', text: 'all that fit' }, { id: 'any', text: 'any of them, free ones first' },
            { id: 'differ', text: 'those that differ most' },
          ]} />
        {typed.take !== 'all' && (
          <div style={{ width: 96 }}>
            <TextField label="How many" value={typed.n} onChange={(n) => set({ ...typed, n })}
              hint={countOf(typed.n) ? undefined : '1 to 1000'} />
          </div>
        )}
        <Units value={typed.units} onChange={(units) => set({ ...typed, units })} />
      </Row>
      {typed.take === 'differ' && (
        <div>
          <Row $gap={12}>
            <FileTrigger acceptedFileTypes={['.csv', 'text/csv']} onSelect={(f) => f?.[0] && void read.run(f[0])}>
              <Button isDisabled={read.busy}>Shares of your users …</Button>
            </FileTrigger>
            <Sub>
              {shares?.length
                ? `${many(shares.length, 'value')} with shares.`
                : 'A CSV file with the columns trait, value, share. Without one, each value of a trait counts the same.'}
            </Sub>
          </Row>
          {read.error !== undefined && <Refused error={read.error} />}
        </div>
      )}
    </>
  );
}

/** What a pool would take. */
export function Trial({ of }: { of?: PoolDefinition }) {
  const trial = useTrial(useSettled(of));
  if (trial.error) return <Refused error={trial.error} />;
  const p = of && trial.data;
  if (!p) return null;
  return (
    <div aria-live="polite">
      <p>It would take {many(p.serials.length, 'device')} of {p.matches}: {p.serials.join(', ') || 'none'}.</p>
      {p.cover && p.matches > 0 && <Covered of={p.cover} />}
    </div>
  );
}
