// What a session has besides a leg: how it was judged, its end, and marks for it.
import { useState } from 'react';
import { Link } from 'react-router';
import { answer, http, type Session } from '../data/api';
import { client } from '../data/queries';
import { Button } from '../parts/controls';
import { Refused, Sub } from '../parts/page';
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

export function SessionActions({ s }: { s: Session }) {
  const [error, setError] = useState<unknown>();
  async function act(asked: Promise<Session>) {
    setError(undefined);
    try {
      await asked;
      await client.invalidateQueries({ queryKey: ['leg', s.id] });
    } catch (e) {
      setError(e);
    }
  }
  const path = { params: { path: { id: s.id } } };
  return (
    <>
      {s.stage !== 'done' && <Button isDisabled={s.stopping} onPress={() => void act(answer(http.POST('/sessions/{id}/stop', path)))}>{s.stopping ? 'Stopping' : 'Stop'}</Button>}
      {s.stage === 'done' && s.verdict !== 'passed' && <Button onPress={() => void act(answer(http.POST('/sessions/{id}/verdict', { ...path, body: { verdict: 'passed' } })))}>Mark passed</Button>}
      {s.stage === 'done' && s.verdict !== 'failed' && <Button onPress={() => void act(answer(http.POST('/sessions/{id}/verdict', { ...path, body: { verdict: 'failed', message: 'marked by hand' } })))}>Mark failed</Button>}
      {error !== undefined && <Sub><Refused error={error} /></Sub>}
    </>
  );
}
