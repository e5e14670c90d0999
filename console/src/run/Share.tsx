// Links to the run for people who have no key.
import { useQuery } from '@tanstack/react-query';
import { useState } from 'react';
import styled from 'styled-components';
import { useAction } from '../data/action';
import { answer, http } from '../data/api';
import { useNow } from '../data/clock';
import { client } from '../data/queries';
import { Button, Choose, Select } from '../parts/controls';
import { Command, Refused, Row, Sub, When } from '../parts/page';
import { Sheet } from '../parts/Sheet';
import { exactTime, many } from '../words';

const Form = styled.div`display: flex; flex-direction: column; gap: 12px; padding-top: 12px;`;

const lasts = [{ id: '86400', text: 'a day' }, { id: '604800', text: 'a week' }, { id: '2592000', text: '30 days' }];
const shows = [{ id: 'all', text: 'with logs' }, { id: 'less', text: 'without logs and network' }];

export function Share({ run }: { run: { id: string; number: number } }) {
  return <Sheet open="Share …" title={`Share run ${run.number}`}>{(close) => <Ask run={run} close={close} />}</Sheet>;
}

function Ask({ run, close }: { run: { id: string; number: number }; close: () => void }) {
  const [seconds, setSeconds] = useState('604800');
  const [what, setWhat] = useState('all');
  const [link, setLink] = useState('');
  const now = useNow(15_000);
  const path = { id: run.id };
  const list = useQuery({ queryKey: ['shares', run.id], queryFn: () => answer(http.GET('/runs/{id}/shares', { params: { path } })) });
  const anew = () => client.invalidateQueries({ queryKey: ['shares', run.id] });
  const make = useAction(async () => {
    const without = what === 'less' ? (['logs', 'network'] as const).slice() : undefined;
    const made = await answer(http.POST('/runs/{id}/shares', { params: { path }, body: { lasts_seconds: Number(seconds), without } }));
    setLink(location.origin + made.path);
    await anew();
  });
  const withdraw = useAction(async (id: string) => {
    await answer(http.DELETE('/shares/{id}', { params: { path: { id } } }));
    await anew();
  });
  const open = (list.data?.items ?? []).filter((x) => !x.withdrawn && Date.parse(x.expires) > now);
  return (
    <Form>
      <Sub>A link for people who have no key: it shows this run and nothing else of the workspace, no inputs and no names.</Sub>
      <Choose label="What it shows" value={what} onChange={setWhat} options={shows} />
      <Select label="How long it works" value={seconds} onChange={setSeconds} options={lasts} />
      {make.error !== undefined && <Refused error={make.error} />}
      <Row>
        <Button $main isDisabled={make.busy} onPress={() => void make.run()}>Make a link</Button>
        <Button onPress={close}>Close</Button>
      </Row>
      <div role="status">
        {link && (
          <>
            <p>The link is shown only now:</p>
            <Command>{link}</Command>
          </>
        )}
      </div>
      {withdraw.error !== undefined && <Refused error={withdraw.error} />}
      {open.map((x) => (
        <Row key={x.id}>
          <Sub as="span">
            Made <When at={x.created} /> by {x.made_by}, opened {many(x.views, 'time')}, works until {exactTime(x.expires)}
          </Sub>
          <Button $small isDisabled={withdraw.busy} onPress={() => void withdraw.run(x.id)}>Withdraw</Button>
        </Row>
      ))}
    </Form>
  );
}
