// One pool: what it takes now, what that covers, and how to change it.
import { useState } from 'react';
import { Link, useNavigate, useParams } from 'react-router';
import styled from 'styled-components';
import { useAction } from '../data/action';
import { answer, http, type Pool, type PoolDefinition } from '../data/api';
import { client, useDevices, useMay, usePool } from '../data/queries';
import { useTopics } from '../data/tab';
import { definitionOf, filterText, PoolFields, Trial, typedOf } from '../form/PoolForm';
import { Covered } from '../form/Preflight';
import { Button } from '../parts/controls';
import { DeviceTiles } from '../parts/DeviceTiles';
import { Loaded } from '../parts/Loaded';
import { Head, Page, Refused, Row, Section, Sub, Title } from '../parts/page';
import { Table } from '../parts/Table';
import { c } from '../theme';
import { capital, many } from '../words';

const Bar = styled.span<{ $share: number }>`
  display: inline-block; width: 120px; height: 8px; vertical-align: middle; margin-right: 8px; border: 1px solid ${c.grout};
  background: linear-gradient(to right, ${c.lapis} ${(p) => p.$share * 100}%, transparent 0);
`;

export default function PoolPage() {
  const { name = '' } = useParams();
  useTopics({ list: ['devices'] });
  return <Loaded of={usePool(name)} what="the pool" page>{(p) => <One key={p.changed} p={p} />}</Loaded>;
}

function One({ p }: { p: Pool }) {
  const devices = useDevices();
  const taken = new Set(p.serials);
  const may = useMay('test');
  return (
    <Page>
      <Title>{`Pool ${p.name}`}</Title>
      <Head>
        <div>
          <h1>{p.name} takes {many(p.serials.length, 'device')} of {p.matches}.</h1>
          <Sub>{capital(p.says)} of: {filterText(p.definition)}. <Link to="/pools">All pools</Link></Sub>
        </div>
        {may && <Link to={`/start?pool=${p.name}&where=%20`}>Start a run on it</Link>}
      </Head>
      {p.cover && p.matches > 0 && <Covered of={p.cover} />}
      <DeviceTiles devices={(devices.data ?? []).filter((d) => taken.has(d.serial))} />
      {p.cover && p.matches > 0 && (
        <Section aria-labelledby="covers">
          <h2 id="covers">What they cover</h2>
          <Table
            label="What the pool covers"
            items={p.cover.traits}
            id={(t) => t.trait}
            columns={[
              { name: 'trait', show: (t) => t.trait },
              {
                name: p.definition.shares?.length ? 'of users' : 'of values',
                show: (t) => <><Bar $share={t.share} aria-hidden />{Math.round(t.share * 100)} %</>,
              },
              { name: 'covered', wide: true, show: (t) => t.covered.join(', ') },
              { name: 'not covered', wide: true, show: (t) => t.missing.join(', ') },
            ]}
          />
        </Section>
      )}
      {may && <Change p={p} />}
    </Page>
  );
}

function Change({ p }: { p: Pool }) {
  const [typed, set] = useState(typedOf(p.definition));
  const [shares, setShares] = useState<PoolDefinition['shares']>(p.definition.shares);
  const [sure, setSure] = useState(false);
  const navigate = useNavigate();
  const definition = definitionOf(typed, shares);
  const changed = JSON.stringify(definition) !== JSON.stringify(definitionOf(typedOf(p.definition), p.definition.shares));
  const path = { params: { path: { name: p.name } } };
  const save = useAction(async (d: PoolDefinition) => {
    await answer(http.PUT('/pools/{name}', { ...path, body: { ...d, ...(p.definition.devices && { devices: p.definition.devices }) } }));
    await client.invalidateQueries({ queryKey: ['pools'] });
  });
  const remove = useAction(async () => {
    await answer(http.DELETE('/pools/{name}', path));
    await client.invalidateQueries({ queryKey: ['pools'], exact: true });
    void navigate('/pools');
  });
  return (
    <Section aria-labelledby="change">
      <h2 id="change">Change it</h2>
      <PoolFields typed={typed} set={set} shares={shares} onShares={setShares} />
      {changed && <Trial of={definition} />}
      <Row $gap={12}>
        <Button $main isDisabled={!changed || !definition || save.busy} onPress={() => definition && void save.run(definition)}>
          Save
        </Button>
        {!sure && <Button onPress={() => setSure(true)}>Remove …</Button>}
        {sure && <Button autoFocus isDisabled={remove.busy} onPress={() => void remove.run()}>Yes, remove {p.name}</Button>}
        {sure && <Button onPress={() => setSure(false)}>Keep it</Button>}
      </Row>
      {[save.error, remove.error].map((e, i) => (e !== undefined ? <Refused key={i} error={e} /> : null))}
    </Section>
  );
}
