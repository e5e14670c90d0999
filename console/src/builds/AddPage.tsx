// A page in place of a build: its address, what it is called, and which state of it this is.
import { useState } from 'react';
import { useNavigate } from 'react-router';
import { useAction } from '../data/action';
import { answer, http } from '../data/api';
import { client } from '../data/queries';
import { Button, TextField } from '../parts/controls';
import { Refused, Row, Section, Sub } from '../parts/page';

export function AddPage() {
  const navigate = useNavigate();
  const [open, setOpen] = useState(false);
  const [address, setAddress] = useState('');
  const [name, setName] = useState('');
  const [version, setVersion] = useState('');
  const add = useAction(async () => {
    const file = new Blob([JSON.stringify({ name: name.trim(), version: version.trim(), start_url: address.trim() })]);
    const build = await answer(
      http.POST('/builds', {
        params: { query: { filename: `${name.trim()}.webmanifest` } },
        body: file as unknown as string,
        bodySerializer: (b: unknown) => b as Blob,
        headers: { 'Content-Type': 'application/octet-stream' },
      }),
    );
    await client.invalidateQueries({ queryKey: ['builds'] });
    void navigate(`/builds/${build.id}`);
  });
  if (!open) return <Row><Button onPress={() => setOpen(true)}>Add a page …</Button></Row>;
  return (
    <Section aria-labelledby="page">
      <h2 id="page">Add a page</h2>
      <Sub>It stands in place of an app, and is tested in the browsers of devices.</Sub>
      <Row $gap={12} style={{ alignItems: 'flex-end' }}>
        <TextField label="Address" placeholder="https://tides.example/" value={address} onChange={setAddress} mono />
        <TextField label="Name" placeholder="tides" value={name} onChange={setName} />
        <TextField label="Version" placeholder="14" value={version} onChange={setVersion} />
        <Button
          $main
          isDisabled={!address.trim() || !name.trim() || !version.trim() || add.busy}
          onPress={() => void add.run(undefined)}
        >
          Add page
        </Button>
        <Button onPress={() => setOpen(false)}>Close</Button>
      </Row>
      {add.error !== undefined && <Refused error={add.error} />}
    </Section>
  );
}
