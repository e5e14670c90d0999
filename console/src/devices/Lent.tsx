// What the workspace lends to other installations: all see it, operators say it.
import { useState } from 'react';
import { useAction } from '../data/action';
import { answer, http, type Lending } from '../data/api';
import { client, useLending, useMay, usePools } from '../data/queries';
import { Button, Select, TextField } from '../parts/controls';
import { Refused, Row, Section, Sub } from '../parts/page';
import { many } from '../words';

export default function Lent() {
  const lending = useLending();
  const may = useMay('installation');
  const [open, setOpen] = useState(false);
  if (!lending.data || (!lending.data.pool && !may)) return null;
  return (
    <Section aria-labelledby="lent">
      <h2 id="lent">Lent to other installations</h2>
      <Row $gap={12}>
        <span>{says(lending.data)}</span>
        {may && !open && <Button onPress={() => setOpen(true)}>Change …</Button>}
      </Row>
      {may && open && <Change now={lending.data} close={() => setOpen(false)} />}
    </Section>
  );
}

function says(l: Lending): string {
  if (!l.pool) return 'Nothing.';
  return `The pool ${l.pool}: ${many(l.devices, 'device')}, ${many(l.at_once, 'session')} at a time for each borrower.`;
}

function Change({ now, close }: { now: Lending; close: () => void }) {
  const pools = usePools().data ?? [];
  const [pool, setPool] = useState(now.pool ?? '');
  const [atOnce, setAtOnce] = useState('');
  const set = useAction(async () => {
    const at_once = Number(atOnce);
    await answer(http.PUT('/lending', { body: { pool: pool || undefined, at_once: at_once > 0 ? at_once : undefined } }));
    await client.invalidateQueries({ queryKey: ['lending'] });
    close();
  });
  return (
    <>
      <Row $gap={12} style={{ alignItems: 'flex-end' }}>
        <Select
          label="The devices of"
          value={pool || 'nothing'}
          onChange={(id) => setPool(id === 'nothing' ? '' : id)}
          options={[
            { id: 'nothing', text: 'nothing' },
            ...pools.map((p) => ({ id: p.name, text: p.name, more: many(p.matches, 'device') })),
          ]}
        />
        <TextField label="Sessions at a time" placeholder="one for each device" value={atOnce} onChange={setAtOnce} />
        <Button $main isDisabled={set.busy || !/^\d*$/.test(atOnce)} onPress={() => void set.run(undefined)}>
          Lend
        </Button>
        <Button onPress={close}>Close</Button>
      </Row>
      <Sub>Other installations use them with a key of the role borrower. They see these devices and their own sessions, nothing else.</Sub>
      {set.error !== undefined && <Refused error={set.error} />}
    </>
  );
}
