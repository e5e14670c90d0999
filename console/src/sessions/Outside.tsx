// What a session has besides a leg: how it was judged and how it ended, and what a person says of it.
import { useState } from 'react';
import { FileTrigger } from 'react-aria-components';
import { Link } from 'react-router';
import styled from 'styled-components';
import { useAction } from '../data/action';
import { answer, http, type CaseResult, type Session } from '../data/api';
import { client, useMay } from '../data/queries';
import { Button, Choose, Select, TextField } from '../parts/controls';
import { Awaited, Refused, Row, Sub } from '../parts/page';
import { Sheet } from '../parts/Sheet';
import { c } from '../theme';

const endings: Record<string, string> = {
  client: 'Its client ended it',
  idle: 'Its client stopped sending commands',
  limit: 'Its time limit was reached',
  lost: 'Its device or host went away',
  stopped: 'A person stopped it',
  never: 'It never began',
};

export function SessionFacts({ s }: { s: Session }) {
  if (s.by_hand) return <>a <Link to={`/hands/${s.id}`}>hold by hand</Link>{s.by && ` of ${s.by}`}</>;
  return (
    <>
      a <Link to="/sessions">session</Link> from outside
      {s.group && (
        <>
          {' '}
          of the group <Link to={`/sessions?group=${encodeURIComponent(s.group)}`}>{s.group}</Link>
        </>
      )}
      {s.how && ` · ${endings[s.how] ?? s.how}`}
      {s.inferred && ' · Nobody set a verdict: it is inferred from how the session ended'}
    </>
  );
}

export function SessionActions({ s, cases }: { s: Session; cases: CaseResult[] }) {
  const may = useMay('test');
  const stop = useAction(() => changed(s, http.POST('/sessions/{id}/stop', { params: { path: { id: s.id } } })));
  if (!may || s.by_hand) return null;
  return (
    <>
      {s.stage !== 'done' && (
        <Button isDisabled={s.stopping || stop.busy} onPress={() => void stop.run()}>
          {s.stopping ? 'Stopping' : 'Stop session'}
        </Button>
      )}
      {s.device && (
        <Sheet open="Set verdict" title="Set verdict">
          {(close) => <Judge s={s} cases={cases} close={close} />}
        </Sheet>
      )}
      {stop.error !== undefined && <Refused error={stop.error} />}
    </>
  );
}

/** Waits for what the session's page will show anew. */
async function changed(s: Session, asked: Promise<{ data?: Session; error?: unknown; response: Response }>) {
  await answer(asked);
  await client.invalidateQueries({ queryKey: ['leg', s.id] });
}

const Form = styled.div`
  display: flex; flex-direction: column; gap: 12px; margin-top: 12px;
  hr { border: 0; border-top: 1px solid ${c.grout}; width: 100%; margin: 4px 0; }
`;
const whole = '\0'; // no case is called so

/** Marks a session, or a case of it, or hands in what the test runner says. */
function Judge({ s, cases, close }: { s: Session; cases: CaseResult[]; close: () => void }) {
  const [of, setOf] = useState(whole);
  const [verdict, setVerdict] = useState<'passed' | 'failed' | 'skipped'>('passed');
  const [message, setMessage] = useState('');
  const path = { params: { path: { id: s.id } } };
  const names = [...new Set(cases.map((k) => k.name))];
  const mark = useAction(async () => {
    await changed(
      s,
      http.POST('/sessions/{id}/verdict', {
        ...path,
        body: { verdict, message: message || undefined, case: of === whole ? undefined : of },
      }),
    );
    close();
  });
  const report = useAction(async (file: File) => {
    const how = { body: file as never, bodySerializer: (b: unknown) => b as Blob, headers: { 'Content-Type': 'application/xml' } };
    await changed(s, http.PUT('/sessions/{id}/report', { ...path, ...how }));
    close();
  });
  const busy = mark.busy || report.busy;
  const error = mark.error ?? report.error;
  return (
    <Form>
      <Select
        label="For"
        value={of}
        onChange={(v) => {
          setOf(v);
          if (v === whole && verdict === 'skipped') setVerdict('passed');
        }}
        options={[{ id: whole, text: 'the session as a whole' }, ...names.map((n) => ({ id: n, text: n }))]}
      />
      <Choose
        label="Verdict"
        value={verdict}
        onChange={(v) => setVerdict(v as typeof verdict)}
        options={['passed', 'failed', ...(of === whole ? [] : ['skipped'])].map((v) => ({ id: v, text: v }))}
      />
      <TextField label="Why" value={message} onChange={setMessage} />
      <Row $gap={8}>
        <Button $main isDisabled={busy} onPress={() => void mark.run()}>Set to {verdict}</Button>
        <Button onPress={close}>Close</Button>
      </Row>
      <hr />
      <Sub>
        Or upload the JUnit XML of the test runner. Its cases become the cases of the session. A verdict of the whole session comes first.
      </Sub>
      <Row $gap={8}>
        <FileTrigger acceptedFileTypes={['.xml']} onSelect={(files) => files?.[0] && void report.run(files[0])}>
          <Button isDisabled={busy}>Upload report</Button>
        </FileTrigger>
      </Row>
      {busy && <Awaited what={report.busy ? 'the report to be read' : 'the mark'} />}
      {error !== undefined && <Refused error={error} />}
    </Form>
  );
}
