// The keys of a workspace: who has one, what it allows, when it was used; made and withdrawn.
import { useState } from 'react';
import { useAction } from '../data/action';
import { answer, http, type Key, type Role } from '../data/api';
import { client, useKeys, useMay, useMe, useWorkspaces } from '../data/queries';
import { text, useView } from '../parts/address';
import { Button, Select, TextField } from '../parts/controls';
import { Loaded } from '../parts/Loaded';
import { Table } from '../parts/Table';
import { Command, Head, Page, Refused, Row, Section, Sub, Title, When } from '../parts/page';
import { exactTime, many } from '../words';

const roles: [Role, string][] = [
  ['borrower', 'uses devices that the workspace lends: for another installation'],
  ['viewer', 'sees what the workspace has'],
  ['engineer', 'also uploads, starts and stops tests'],
  ['owner', 'also changes settings and keys'],
  ['operator', 'also runs the installation'],
];
const lasts = { '': 'does not run out', '30': 'runs out in 30 days', '90': 'runs out in 90 days', '365': 'runs out in a year' };
const day = 24 * 3600_000;

const parts = { workspace: text() };

export default function KeysPage() {
  const [{ workspace }, setView] = useView(parts);
  const me = useMe().data;
  const may = useMay('keys');
  const all = useWorkspaces(useMay('installation')).data ?? [];
  const of = workspace || me?.workspace || '';
  const keys = useKeys(workspace);
  return (
    <Page>
      <Title>Keys</Title>
      <Head>
        <div>
          <h1>{keys.data ? `${many(keys.data.length, 'key')} of the workspace ${of}.` : 'Keys'}</h1>
          <Sub>Each person and each program has a key of its own. It can be withdrawn at any time, and ends at once.</Sub>
        </div>
        {all.length > 1 && (
          <Select
            label="Workspace"
            value={of}
            onChange={(w) => setView({ workspace: w === me?.workspace ? '' : w })}
            options={all.map((w) => ({ id: w.name, text: w.name }))}
          />
        )}
      </Head>
      {may && <Make key={of} workspace={workspace} />}
      <Loaded of={keys} what="the keys">{(items) => <List items={items} workspace={workspace} />}</Loaded>
    </Page>
  );
}

const again = (workspace: string) => client.invalidateQueries({ queryKey: ['keys', workspace] });

/** Makes a key, and shows it this once. */
function Make({ workspace }: { workspace: string }) {
  const own = useMe().data?.role;
  const [name, setName] = useState('');
  const [role, setRole] = useState<Role>('engineer');
  const [days, setDays] = useState<keyof typeof lasts>('90');
  const [made, setMade] = useState<{ name: string; key: string }>();
  const make = useAction(async () => {
    const expires = days ? new Date(Date.now() + Number(days) * day).toISOString() : undefined;
    const done = await answer(http.POST('/keys', { body: { name: name.trim(), role, expires, workspace: workspace || undefined } }));
    setMade({ name: done.made.name, key: done.key });
    setName('');
    await again(workspace);
  });
  const may = roles.slice(0, roles.findIndex(([r]) => r === own) + 1);
  return (
    <Section aria-labelledby="make">
      <h2 id="make">Make a key</h2>
      <Row $gap={12} style={{ alignItems: 'flex-end' }}>
        <TextField label="Who or what will use it" placeholder="ci-nightly" value={name} onChange={setName} />
        <Select
          label="What it allows"
          value={role}
          onChange={(r) => setRole(r as Role)}
          options={may.map(([id, more]) => ({ id, text: id, more }))}
        />
        <Select
          label="How long"
          value={days || 'never'}
          onChange={(d) => setDays((d === 'never' ? '' : d) as keyof typeof lasts)}
          options={Object.entries(lasts).map(([id, said]) => ({ id: id || 'never', text: said }))}
        />
        <Button $main isDisabled={!name.trim() || make.busy} onPress={() => void make.run()}>
          Make key
        </Button>
      </Row>
      {make.error !== undefined && <Refused error={make.error} />}
      <div role="status">
        {made && (
          <>
            <p>
              The key <strong>{made.name}</strong> is shown only now. Give it to who will use it.
            </p>
            <Command>{made.key}</Command>
          </>
        )}
      </div>
    </Section>
  );
}

function List({ items, workspace }: { items: Key[]; workspace: string }) {
  const [sure, setSure] = useState('');
  const withdraw = useAction(async (id: string) => {
    await answer(http.DELETE('/keys/{id}', { params: { path: { id } } }));
    setSure('');
    await again(workspace);
  });
  return (
    <Section aria-labelledby="keys">
      <h2 id="keys">Keys</h2>
      {withdraw.error !== undefined && <Refused error={withdraw.error} />}
      {items.length === 0 && <Sub>It has no key yet. Nobody can enter it.</Sub>}
      {items.length > 0 && (
        <Table
          label="Keys"
          items={items}
          id={(k) => k.id}
          columns={[
            { name: 'key', wide: true, show: (k) => k.name, sort: (k) => k.name },
            { name: 'role', show: (k) => k.role, sort: (k) => roles.findIndex(([r]) => r === k.role) },
            {
              name: 'runs out',
              show: (k) => (k.expired ? 'has run out' : k.expires ? exactTime(k.expires) : 'never'),
              sort: (k) => k.expires ?? '~',
            },
            { name: 'last used', show: (k) => (k.used ? <When at={k.used} /> : 'never'), sort: (k) => k.used ?? '' },
            { name: 'made', show: (k) => <When at={k.created} />, sort: (k) => k.created },
            {
              name: 'withdraw',
              show: (k) =>
                sure === k.id ? (
                  <Row $gap={8} style={{ flexWrap: 'nowrap' }}>
                    <Button $small $main autoFocus isDisabled={withdraw.busy} onPress={() => void withdraw.run(k.id)}>
                      Withdraw {k.name}
                    </Button>
                    <Button $small onPress={() => setSure('')}>Keep</Button>
                  </Row>
                ) : (
                  <Button $small aria-label={`Withdraw ${k.name} …`} onPress={() => setSure(k.id)}>Withdraw …</Button>
                ),
            },
          ]}
        />
      )}
    </Section>
  );
}
