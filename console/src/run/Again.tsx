// A run again, or the part of it that matters; with what that saves.
import { useQuery } from '@tanstack/react-query';
import { useState } from 'react';
import { useNavigate } from 'react-router';
import styled from 'styled-components';
import { useAction } from '../data/action';
import { answer, http, type AgainRequest, type Family } from '../data/api';
import { Button, Choose, TextField } from '../parts/controls';
import { Awaited, Findings, Refused, Row, Sub } from '../parts/page';
import { Sheet } from '../parts/Sheet';
import { filledIn, SecretFields } from './SecretFields';
import { forecastText, many, took } from '../words';

const Form = styled.div`display: flex; flex-direction: column; gap: 12px; padding-top: 12px;`;

interface Of {
  id: string;
  number: number;
  secrets?: string[];
}

export function Again({ run, family }: { run: Of; family?: Family }) {
  return (
    <Sheet open={family ? 'Run it again …' : 'Run again …'} small={family !== undefined} title={`Run ${run.number} again`}>
      {(close) => <Choice run={run} family={family} close={close} />}
    </Sheet>
  );
}

function Choice({ run, family, close }: { run: Of; family?: Family; close: () => void }) {
  const navigate = useNavigate();
  const [what, setWhat] = useState(family ? 'family' : 'failed');
  const [build, setBuild] = useState('');
  const [secrets, setSecrets] = useState<Record<string, string>>({});
  const body: AgainRequest = {
    failed: what === 'failed',
    families: what === 'family' && family ? [family.id] : undefined,
    build: build.trim() || undefined,
  };
  const plan = useQuery({
    queryKey: ['again', run.id, body],
    queryFn: () =>
      answer(http.POST('/runs/{id}/again/check', { params: { path: { id: run.id } }, body: { ...body, secrets: stand(run.secrets) } })),
    retry: false,
    staleTime: 5_000,
  });
  const start = useAction(async (_: void, key) => {
    const params = { path: { id: run.id }, header: { 'Idempotency-Key': key } };
    const r = await answer(http.POST('/runs/{id}/again', { params, body: { ...body, secrets: filledIn(secrets) } }));
    close();
    void navigate(`/runs/${r.id}`);
  });
  const options = [
    ...(family ? [{ id: 'family', text: 'where this family showed' }] : []),
    { id: 'failed', text: 'what did not pass' },
    { id: 'all', text: 'all' },
  ];
  const p = plan.data;
  return (
    <Form>
      <Choose label="What" value={what} onChange={setWhat} options={options} />
      <TextField label="Another build; empty: the same" placeholder="kelpline/android@newest" value={build} onChange={setBuild} mono />
      <SecretFields names={run.secrets} values={secrets} onChange={setSecrets} />
      <div role="status">
        {plan.isLoading && <Awaited what="what that would be" />}
        {plan.error && <Refused error={plan.error} />}
        {p && (
          <>
            <p>
              {p.legs} of {many(p.of_legs, 'leg')}, {p.cases} of {many(p.of_cases, 'case')}:{' '}
              about {took(p.device_seconds * 1000)} of device time
              {p.saves_seconds >= 1 && `; that saves ${took(p.saves_seconds * 1000)}`}.
            </p>
            {p.forecast && <Sub>Likely to take {forecastText(p.forecast)}.</Sub>}
            <Findings of={p.findings} />
          </>
        )}
      </div>
      {start.error !== undefined && <Refused error={start.error} />}
      <Row>
        <Button $main isDisabled={!p || start.busy} onPress={() => void start.run()}>Run again</Button>
        <Button onPress={close}>Cancel</Button>
      </Row>
    </Form>
  );
}

/** What stands for secrets where nothing is started: the plan asks only whether they are there. */
const stand = (names: string[] | undefined) => (names?.length ? Object.fromEntries(names.map((n) => [n, 'to come'])) : undefined);
