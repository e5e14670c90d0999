// What a session has besides a leg: how it was judged and how it ended, and what a person says of it.
import { useState } from 'react';
import { FileTrigger } from 'react-aria-components';
import { Link } from 'react-router';
import styled from 'styled-components';
import { answer, http, type CaseResult, type Session } from '../data/api';
import { client } from '../data/queries';
import { Button, Choose, Select, TextField } from '../parts/controls';
import { Awaited, Refused, Row, Sub } from '../parts/page';
import { Sheet } from '../parts/Sheet';
import { c } from '../theme';
import { ordinal } from '../words';

const endings: Record<string, string> = { client: 'Its client ended it', idle: 'Its client sent nothing any more', limit: 'Its time limit was reached', lost: 'Its device or host went away', stopped: 'A person stopped it', never: 'It did not begin' };

/** The session in a sentence. */
export function sessionSentence(s: Session): string {
  const called = s.name || 'The session';
  const on = s.device ? ` on ${s.device.serial}` : '';
  if (s.stage === 'waiting') return `${called} is ${ordinal(s.place ?? 1)} in the queue for a device.`;
  if (s.stage !== 'done') return `${called}${on} is ${s.stage}${s.now_case ? `: ${s.now_case}` : ''}.`;
  switch (s.verdict) {
    case 'passed':
      return `${called}${on} passed${s.inferred ? ', as far as can be seen' : ''}.`;
    case 'failed':
      return `${called}${on} failed${s.inferred ? ', as far as can be seen' : ''}.`;
    case 'crashed':
      return `In ${called}${on} the app crashed.`;
    case 'expired':
      return `${called}${on} ran out of time.`;
    default:
      return `${called}${on} ${s.verdict === 'invalid' ? 'could not begin' : `was ${s.verdict}`}.`;
  }
}

export function SessionFacts({ s }: { s: Session }) {
  return (
    <>
      a <Link to="/sessions">session</Link> from outside{s.group && <> of the group <Link to={`/sessions?group=${encodeURIComponent(s.group)}`}>{s.group}</Link></>}
      {s.how && ` · ${endings[s.how] ?? s.how}`}
      {s.inferred && ' · Nobody said how it came out: the verdict is inferred from how it ended'}
    </>
  );
}

export function SessionActions({ s, cases }: { s: Session; cases: CaseResult[] }) {
  const [error, setError] = useState<unknown>();
  const stop = () => changed(s, http.POST('/sessions/{id}/stop', { params: { path: { id: s.id } } }), setError);
  return (
    <>
      {s.stage !== 'done' && <Button isDisabled={s.stopping} onPress={() => void stop()}>{s.stopping ? 'Stopping' : 'Stop'}</Button>}
      {s.device && <Sheet open="Say how it came out" title="How it came out">{(close) => <Judge s={s} cases={cases} close={close} />}</Sheet>}
      {error !== undefined && <Sub><Refused error={error} /></Sub>}
    </>
  );
}

/** Waits for what a session's page will show anew; true: it was not refused. */
async function changed(s: Session, asked: Promise<{ data?: Session; error?: unknown; response: Response }>, refused: (e: unknown) => void): Promise<boolean> {
  refused(undefined);
  try {
    await answer(asked);
    await client.invalidateQueries({ queryKey: ['leg', s.id] });
    return true;
  } catch (e) {
    refused(e);
    return false;
  }
}

const Form = styled.div`display: flex; flex-direction: column; gap: 12px; margin-top: 12px; hr { border: 0; border-top: 1px solid ${c.grout}; width: 100%; margin: 4px 0; }`;
const whole = '\0'; // no case is called so

/** Marks a session, or a case of it, or hands in what the test runner says. */
function Judge({ s, cases, close }: { s: Session; cases: CaseResult[]; close: () => void }) {
  const [of, setOf] = useState(whole);
  const [verdict, setVerdict] = useState<'passed' | 'failed' | 'skipped'>('passed');
  const [message, setMessage] = useState('');
  const [error, setError] = useState<unknown>();
  const [sent, setSent] = useState('');
  const path = { params: { path: { id: s.id } } };
  const names = [...new Set(cases.map((k) => k.name))];
  async function send(what: string, asked: Parameters<typeof changed>[1]) {
    setSent(what);
    if (await changed(s, asked, setError)) close();
    setSent('');
  }
  const mark = () => send('the mark', http.POST('/sessions/{id}/verdict', { ...path, body: { verdict, message: message || undefined, case: of === whole ? undefined : of } }));
  const report = (file: File) => send(`${file.name} to be read`, http.PUT('/sessions/{id}/report', { ...path, body: file as never, bodySerializer: (b: unknown) => b as Blob, headers: { 'Content-Type': 'application/xml' } }));
  return (
    <Form>
      <Select label="Of what" value={of} onChange={(v) => { setOf(v); if (v === whole && verdict === 'skipped') setVerdict('passed'); }} options={[{ id: whole, text: 'the session as a whole' }, ...names.map((n) => ({ id: n, text: n }))]} />
      <Choose label="Verdict" value={verdict} onChange={(v) => setVerdict(v as typeof verdict)} options={['passed', 'failed', ...(of === whole ? [] : ['skipped'])].map((v) => ({ id: v, text: v }))} />
      <TextField label="Why" value={message} onChange={setMessage} />
      <Row $gap={8}>
        <Button $main isDisabled={!!sent} onPress={() => void mark()}>Mark it {verdict}</Button>
        <Button onPress={close}>Close</Button>
      </Row>
      <hr />
      <Sub>Or hand in the JUnit XML that the test runner wrote: its cases become the session’s, each at its own time. What is said of the whole counts before them.</Sub>
      <Row $gap={8}>
        <FileTrigger acceptedFileTypes={['.xml']} onSelect={(files) => files?.[0] && void report(files[0])}>
          <Button isDisabled={!!sent}>Choose the report</Button>
        </FileTrigger>
      </Row>
      {sent && <Awaited what={sent} />}
      {error !== undefined && <Refused error={error} />}
    </Form>
  );
}
