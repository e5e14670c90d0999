// The files on their way, in a corner: how far they are, and why one was refused.
import { ProgressBar } from 'react-aria-components';
import { Link } from 'react-router';
import styled from 'styled-components';
import { dismiss, spoken, useUploads, type Upload } from '../data/upload';
import { c, radius, unseen } from '../theme';
import { bytes } from '../words';
import { Button } from './controls';
import { Faint, Findings, Row } from './page';

const Corner = styled.section`
  position: fixed; right: 16px; bottom: 16px; width: min(440px, calc(100vw - 32px)); display: flex; flex-direction: column; gap: 8px;
  z-index: 40; max-height: 70vh; overflow: auto;
`;
const Card = styled.article<{ $refused: boolean }>`
  background: ${c.panel}; border: 1px solid ${(p) => (p.$refused ? c.failed : c.grout)}; border-radius: ${radius};
  box-shadow: 0 8px 24px ${c.veil}; padding: 12px 16px; display: flex; flex-direction: column; gap: 8px;
  overflow-wrap: anywhere;
`;
const Track = styled.div`height: 4px; background: ${c.grout}; border-radius: 2px; overflow: hidden;`;
const Heard = styled.p`${unseen}`;
const Bar = styled.div`height: 100%; background: ${c.lapis};`;

export function Uploads() {
  const uploads = useUploads();
  return (
    <>
      <Heard role="status">{uploads.map(spoken).join(' ')}</Heard>
      {uploads.length > 0 && <Corner aria-label="Uploads">{uploads.map((u) => <One key={u.id} u={u} />)}</Corner>}
    </>
  );
}

function One({ u }: { u: Upload }) {
  const share = u.size ? (100 * u.sent) / u.size : 100;
  return (
    <Card $refused={u.state === 'refused'}>
      <Row style={{ justifyContent: 'space-between' }}>
        <strong>{u.name}</strong>
        <Button
          $small
          onPress={() => dismiss(u.id)}
          aria-label={u.state === 'sending' || u.state === 'reading' ? `Stop the upload of ${u.name}` : `Close: ${u.name}`}
        >
          {u.state === 'sending' ? 'stop' : 'close'}
        </Button>
      </Row>
      {u.state === 'sending' && (
        <ProgressBar aria-label={`Upload of ${u.name}`} value={share}>
          <Track><Bar style={{ width: `${share}%` }} /></Track>
        </ProgressBar>
      )}
      {u.state === 'sending' && <Faint>{bytes(u.sent)} of {bytes(u.size)} sent</Faint>}
      {u.state === 'reading' && <Faint>The service reads it …</Faint>}
      {u.state === 'kept' && (
        <p>
          {u.known ? 'Already uploaded: ' : 'Uploaded as '}
          <Link to={`/${u.kind}s/${encodeURIComponent(u.ref ?? '')}`}>{u.ref}</Link>
        </p>
      )}
      {u.refusal && (
        <>
          <p>{u.refusal.message}</p>
          {u.refusal.problem.findings && <Findings of={u.refusal.problem.findings} />}
          {u.refusal.problem.remedy && <Faint>What to do: {u.refusal.problem.remedy}</Faint>}
        </>
      )}
    </Card>
  );
}
