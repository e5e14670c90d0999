// Begins the search for the build since which a family shows.
import { useState } from 'react';
import { useNavigate } from 'react-router';
import styled from 'styled-components';
import { useAction } from '../data/action';
import { answer, http, type Family } from '../data/api';
import { Button, TextField } from '../parts/controls';
import { Refused, Row, Sub } from '../parts/page';
import { Sheet } from '../parts/Sheet';
import { filledIn, SecretFields } from './SecretFields';

const Form = styled.div`display: flex; flex-direction: column; gap: 12px; padding-top: 12px;`;

export function FirstBad({ run, family }: { run: { id: string; build: string; secrets?: string[] }; family: Family }) {
  return (
    <Sheet open="Find the first bad build …" small title="Find the first bad build">
      {(close) => <Ask run={run} family={family} close={close} />}
    </Sheet>
  );
}

function Ask({ run, family, close }: { run: { id: string; build: string; secrets?: string[] }; family: Family; close: () => void }) {
  const navigate = useNavigate();
  const [good, setGood] = useState(family.last_good?.ref ?? '');
  const [device, setDevice] = useState('');
  const [secrets, setSecrets] = useState<Record<string, string>>({});
  const start = useAction(async () => {
    const b = await answer(http.POST('/bisections', {
      body: {
        run: run.id,
        family: family.id,
        good: good.trim() || undefined,
        device: device.trim() || undefined,
        secrets: filledIn(secrets),
      },
    }));
    close();
    void navigate(`/bisections/${b.id}`);
  });
  return (
    <Form>
      <Sub>
        The builds up to {run.build} are tried with {family.example.case} alone, on one device on which it failed, halving what is
        left. It goes on without this page.
      </Sub>
      <TextField label="A build on which it passes" placeholder="kelpline/android@231" value={good} onChange={setGood} mono />
      <TextField label="Device; empty: one on which it failed" placeholder="orr-01" value={device} onChange={setDevice} mono />
      <SecretFields names={run.secrets} values={secrets} onChange={setSecrets} />
      {start.error !== undefined && <Refused error={start.error} />}
      <Row>
        <Button $main isDisabled={start.busy} onPress={() => void start.run()}>Begin</Button>
        <Button onPress={close}>Cancel</Button>
      </Row>
    </Form>
  );
}
