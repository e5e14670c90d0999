// Devices that people hold: asked for on a device's page, and listed.
import { useState } from 'react';
import { useNavigate } from 'react-router';
import { useAction } from '../data/action';
import { answer, http, type Hold } from '../data/api';
import { client, useBuilds, useHolds, useMay } from '../data/queries';
import { Button, Select, TextField } from '../parts/controls';
import { Table } from '../parts/Table';
import { Refused, Row, Section, Sub, When } from '../parts/page';
import { VerdictWord } from '../parts/Tile';
import { holdState } from './words';

/** How long one may be asked for. */
const times = [
  ['600', '10 minutes'],
  ['1800', '30 minutes'],
  ['3600', '1 hour'],
  ['7200', '2 hours'],
  ['28800', '8 hours'],
] as const;

/** Asks for a device, from its page. */
export function HoldIt({ serial, busy }: { serial: string; busy: boolean }) {
  const may = useMay('test');
  const navigate = useNavigate();
  const builds = useBuilds().data?.pages.flatMap((p) => p.items) ?? [];
  const [open, setOpen] = useState(false);
  const [seconds, setSeconds] = useState('1800');
  const [build, setBuild] = useState('');
  const [name, setName] = useState('');
  const [typing, setTyping] = useState('own');
  const ask = useAction(async (_: void, key) => {
    const h = await answer(http.POST('/hands', {
      params: { header: { 'Idempotency-Key': key } },
      body: {
        device: serial, build: build || undefined, name: name || undefined, seconds: Number(seconds),
        helpers: typing === 'any' ? ['keyboard'] : undefined,
      },
    }));
    void client.invalidateQueries({ queryKey: ['holds'] });
    void navigate(`/hands/${h.id}`);
  });
  if (!may) return null;
  return (
    <Section aria-label="Hold">
      {!open && <Row><Button $main onPress={() => setOpen(true)}>Hold it …</Button></Row>}
      {open && (
        <>
          <Row $gap={12} style={{ alignItems: 'flex-end' }}>
            <Select label="For" value={seconds} onChange={setSeconds} options={times.map(([id, text]) => ({ id, text }))} />
            <Select label="Install" value={build} placeholder="nothing" onChange={setBuild}
              options={[{ id: '', text: 'nothing' }, ...builds.map((b) => ({ id: b.ref, text: b.ref }))]} />
            <Select label="Type" value={typing} onChange={setTyping}
              options={[{ id: 'own', text: 'Latin letters' }, { id: 'any', text: 'any text: installs a keyboard' }]} />
            <TextField label="Called" placeholder="what for" value={name} onChange={setName} />
            <Button $main isDisabled={ask.busy} onPress={() => void ask.run()}>Hold device</Button>
            <Button onPress={() => setOpen(false)}>Cancel</Button>
          </Row>
          <Sub>
            {busy ? 'Other work has it now: the hold waits in the queue. ' : ''}The time counts from when the device is ready. What is done
            is recorded; the device is cleaned when it is given back.
          </Sub>
        </>
      )}
      {ask.error !== undefined && <Refused error={ask.error} />}
    </Section>
  );
}

/** Holds, a row each. */
export function HoldList({ items }: { items: Hold[] }) {
  return (
    <Table label="Holds" items={items} id={(h) => h.id} href={(h) => `/hands/${h.id}`}
      columns={[
        {
          name: 'state',
          show: (h) => <VerdictWord what={h.stage === 'waiting' ? 'waiting' : (h.verdict ?? 'running')}>{holdState(h)}</VerdictWord>,
        },
        { name: 'device', show: (h) => h.device?.serial ?? h.where.join(' ') },
        { name: 'called', wide: true, show: (h) => h.name },
        { name: 'by', show: (h) => h.by },
        { name: 'build', show: (h) => h.build },
        { name: 'asked for', show: (h) => <When at={h.created} /> },
      ]}
    />
  );
}

/** What people hold now, or wait for. */
export function InHands() {
  const holds = useHolds({ going: true });
  if (!holds.data?.length) return null;
  return (
    <Section aria-labelledby="hands">
      <h2 id="hands">In people’s hands</h2>
      <HoldList items={holds.data} />
    </Section>
  );
}
