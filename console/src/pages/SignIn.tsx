// Signing in: with a key, or by a link that works once.
import { useEffect, useRef, useState } from 'react';
import { Form } from 'react-aria-components';
import { useLocation, useNavigate } from 'react-router';
import styled from 'styled-components';
import { answer, http } from '../data/api';
import { client } from '../data/queries';
import { Button, TextField } from '../parts/controls';
import { Awaited, Mono, Refused, Sub, Title } from '../parts/page';
import { Tile } from '../parts/Tile';
import { c, radius } from '../theme';

const Middle = styled.main`min-height: 100vh; display: grid; place-items: center; padding: 16px;`;
const Card = styled.div`
  width: min(440px, 100%); background: ${c.panel}; border: 1px solid ${c.grout}; border-radius: ${radius}; padding: 32px; display: flex;
  flex-direction: column; gap: 16px;
`;
const Fields = styled(Form)`display: flex; flex-direction: column; gap: 16px;`;
const Pattern = styled.div`display: grid; grid-template-columns: repeat(8, 16px); gap: 4px;`;
const pattern = [
  'passed',
  'passed',
  'failed',
  'passed',
  'flaky',
  'passed',
  'passed',
  'crashed',
  'passed',
  'running',
  'passed',
  'passed',
  'passed',
  'lost',
  'passed',
  'passed',
];

/** Known says whether it has been asked who is signed in already; then workspace is where. */
export function SignIn({ denied, known, workspace }: { denied: boolean; known: boolean; workspace?: string }) {
  const { hash, pathname } = useLocation();
  const navigate = useNavigate();
  const [key, setKey] = useState('');
  const [error, setError] = useState<unknown>();
  const [busy, setBusy] = useState(false);
  const ticket = pathname === '/signin' ? hash.slice(1) : '';
  const used = useRef('');
  const asks = ticket !== '' && workspace !== undefined && !busy && error === undefined; // a link never replaces a sign-in by itself

  async function signIn(body: { key?: string; ticket?: string }) {
    setBusy(true);
    setError(undefined);
    try {
      const me = await answer(http.POST('/signin', { body }));
      if (pathname === '/signin') void navigate('/', { replace: true });
      client.setQueryData(['me'], me);
      await client.invalidateQueries();
    } catch (e) {
      setError(e);
      if (body.ticket) void navigate('/signin', { replace: true });
    } finally {
      setBusy(false);
    }
  }

  useEffect(() => {
    if (!ticket || used.current === ticket || !known || workspace !== undefined) return;
    byLink();
  });

  function byLink() {
    used.current = ticket; // it works once
    void signIn({ ticket });
  }
  useEffect(() => {
    if (pathname === '/signin' && !ticket && !denied && !error) void navigate('/', { replace: true }); // signed in already
  });

  return (
    <Middle>
      <Title>Sign in</Title>
      <Card>
        <Pattern aria-hidden>{pattern.map((p, i) => <Tile key={i} what={p} />)}</Pattern>
        <h1>Sign in to Tessellant</h1>
        {asks ? (
          <>
            <Sub>
              This browser is signed in to the workspace {workspace}. The link that you opened signs it in anew, maybe to another workspace.
              Use it only if you asked for it.
            </Sub>
            <Button $main onPress={() => void navigate('/', { replace: true })}>
              Stay in {workspace}
            </Button>
            <Button onPress={byLink}>Sign in by the link</Button>
          </>
        ) : ticket && busy ? (
          <Awaited what="the link to sign you in" />
        ) : (
          <Fields
            onSubmit={(e) => {
              e.preventDefault();
              void signIn({ key: key.trim() });
            }}
          >
            <TextField
              label="Key of your workspace"
              value={key}
              onChange={setKey}
              type="password"
              mono
              autoFocus
              placeholder="tsl_…"
              name="key"
              autoComplete="current-password"
            />
            <Button $main type="submit" isDisabled={busy || key.trim() === ''}>
              Sign in
            </Button>
          </Fields>
        )}
        {error !== undefined && <Refused error={error} />}
        {!asks && (
          <Sub>
            The first key was printed when the service started for the first time. Signed in on the command line already?{' '}
            <Mono>tessellant console</Mono> prints a link that signs this browser in.
          </Sub>
        )}
      </Card>
    </Middle>
  );
}
