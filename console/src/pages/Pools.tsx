// Pools: sets of devices under a name. A new one is tried as it is typed.
import { useState } from 'react';
import { useNavigate } from 'react-router';
import { useAction } from '../data/action';
import { answer, http, type PoolDefinition } from '../data/api';
import { client, useMay, usePools } from '../data/queries';
import { definitionOf, filterText, PoolFields, Trial, typedOf } from '../form/PoolForm';
import { Button, TextField } from '../parts/controls';
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
