// What a person says of a family: known, not the app's fault, a wrong test.
import { useState } from 'react';
import styled from 'styled-components';
import { useAction } from '../data/action';
import { answer, http, type Answer, type Family } from '../data/api';
import { client } from '../data/queries';
import { Button, Choose, TextField } from '../parts/controls';
import { Refused, Row, Sub } from '../parts/page';
import { Sheet } from '../parts/Sheet';

const Form = styled.div`display: flex; flex-direction: column; gap: 12px; padding-top: 12px;`;

type Kind = NonNullable<Family['mark']>['kind'];
const kinds: { id: Kind; text: string }[] = [
  { id: 'known', text: 'known' },
  { id: 'not_app', text: 'not the app’s fault' },
  { id: 'wrong_test', text: 'a wrong test' },
];

const keep = (run: string, a: Answer) => client.setQueriesData({ queryKey: ['answer', run] }, a);

export function MarkFamily({ run, family }: { run: string; family: Family }) {
  const path = { id: run, family: family.id };
  const [kind, setKind] = useState<Kind>(family.mark?.kind ?? 'known');
  const [reference, setReference] = useState(family.mark?.reference ?? '');
  const [note, setNote] = useState(family.mark?.note ?? '');
  const [until, setUntil] = useState('');
  const mark = useAction(async () => {
    const day = until ? new Date(`${until}T23:59:59`) : undefined;
    keep(run, await answer(http.PUT('/runs/{id}/families/{family}/mark', {
      params: { path },
      body: { kind, reference: reference || undefined, note: note || undefined, until: day?.toISOString() },
    })));
  });
  const unmark = useAction(async () => keep(run, await answer(http.DELETE('/runs/{id}/families/{family}/mark', { params: { path } }))));
  return (
    <Sheet open={family.mark ? 'Change the mark' : 'It is known …'} small title={`Say of this family for the whole app`}>
      {(close) => (
        <Form>
          <Sub>{family.title}</Sub>
          <Choose label="It is" value={kind} onChange={(k) => setKind(k as Kind)} options={kinds} />
          <TextField label="Where it is in hand" placeholder="KELP-12" value={reference} onChange={setReference} />
          <TextField label="What others should know" value={note} onChange={setNote} />
          <TextField label="Until which day; empty: for good" type="date" value={until} onChange={setUntil} />
          <Sub>In runs that end from now on it is shown, counted apart, and turns no run red.</Sub>
          {mark.error !== undefined && <Refused error={mark.error} />}
          {unmark.error !== undefined && <Refused error={unmark.error} />}
          <Row>
            <Button $main isDisabled={mark.busy} onPress={() => void mark.run().then((ok) => ok && close())}>Say so</Button>
            {family.mark && (
              <Button isDisabled={unmark.busy} onPress={() => void unmark.run().then((ok) => ok && close())}>Take the mark away</Button>
            )}
            <Button onPress={close}>Cancel</Button>
          </Row>
        </Form>
      )}
    </Sheet>
  );
}
