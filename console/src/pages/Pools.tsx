// Pools: sets of devices under a name. A new one is tried as it is typed.
import { useState } from 'react';
import { FileTrigger } from 'react-aria-components';
import { useNavigate } from 'react-router';
import { useAction } from '../data/action';
import { answer, http, type PoolDefinition } from '../data/api';
import { client, useMay, usePools, useTrial } from '../data/queries';
import { useSettled } from '../data/settled';
import { patterns } from '../form/patterns';
import { Covered } from '../form/Preflight';
import { countOf } from '../form/RunForm';
import { Button, Select, TextField } from '../parts/controls';
import { Loaded } from '../parts/Loaded';
import { Table } from '../parts/Table';
import { Empty, Head, Page, Refused, Row, Section, Sub, Title } from '../parts/page';
import { many } from '../words';

export default function PoolsPage() {
  const pools = usePools();
  const may = useMay('test');
  return (
    <Page>
      <Title>Pools</Title>
      <Head>
        <div>
          <h1>{pools.data?.length ? `${many(pools.data.length, 'pool')} of devices.` : 'Pools'}</h1>
          <Sub>A pool is a set of devices under a name. Runs, sessions and filters can name it: <code>pool=NAME</code>.</Sub>
        </div>
      </Head>
      <Loaded of={pools} what="the pools">
        {(items) =>
          items.length === 0 ? (
            <Empty title="No pools yet" command="tessellant pool add everyday --where 'os>=10' --differ 8">
              Make one below, or from a terminal:
            </Empty>
          ) : (
            <Table
              label="Pools"
              items={items}
              id={(p) => p.name}
              href={(p) => `/pools/${p.name}`}
              columns={[
                { name: 'pool', show: (p) => p.name, sort: (p) => p.name },
                { name: 'takes', show: (p) => p.says },
                { name: 'of', wide: true, show: (p) => filterText(p.definition) },
                { name: 'now', show: (p) => `${p.serials.length} of ${p.matches}` },
                { name: 'covers', show: (p) => (p.cover && p.matches ? `${Math.round(p.cover.share * 100)} %` : '') },
              ]}
            />
          )
        }
      </Loaded>
      {may && <Make />}
    </Page>
  );
}

export const filterText = (d: PoolDefinition) => [...(d.where ?? []), ...(d.devices ?? [])].join(' ') || 'all devices';

interface Typed { where: string; take: PoolDefinition['take']; n: string; units: 'each' | 'any' }

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
        <Select label="Units" value={typed.units} onChange={(v) => set({ ...typed, units: v as Typed['units'] })}
          options={[{ id: 'each', text: 'exactly these units' }, { id: 'any', text: 'any unit of each model' }]} />
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

function Make() {
  const [typed, set] = useState(typedOf());
  const [name, setName] = useState('');
  const [shares, setShares] = useState<PoolDefinition['shares']>();
  const definition = definitionOf(typed, shares);
  const navigate = useNavigate();
  const add = useAction(async (d: PoolDefinition) => {
    const p = await answer(http.POST('/pools', { body: { name: name.trim(), definition: d } }));
    await client.invalidateQueries({ queryKey: ['pools'] });
    void navigate(`/pools/${p.name}`);
  });
  return (
    <Section aria-labelledby="make">
      <h2 id="make">Make a pool</h2>
      <PoolFields typed={typed} set={set} shares={shares} onShares={setShares} />
      <Trial of={definition} />
      <Row $gap={12} style={{ alignItems: 'flex-end' }}>
        <TextField label="Name" value={name} onChange={setName} placeholder="everyday" />
        <Button $main isDisabled={!name.trim() || !definition || add.busy} onPress={() => definition && void add.run(definition)}>
          Save pool
        </Button>
      </Row>
      {add.error !== undefined && <Refused error={add.error} />}
    </Section>
  );
}
