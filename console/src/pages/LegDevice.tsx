// The device of a leg or a session that runs: watched, and worked on while its test is paused.
import { Link, useParams } from 'react-router';
import type { Leg } from '../data/api';
import { useLeg } from '../data/queries';
import { useTopics } from '../data/tab';
import HandsOn from '../hands/HandsOn';
import { TestBar } from '../hands/TestBar';
import { Loaded } from '../parts/Loaded';
import { Page, Simulated, Sub, Title } from '../parts/page';

export default function LegDevicePage() {
  const { id = '' } = useParams();
  useTopics({ leg: id });
  return <Loaded of={useLeg(id)} what="the leg" page>{(l) => <One l={l} />}</Loaded>;
}

function One({ l }: { l: Leg }) {
  const serial = l.attempts.at(-1)?.serial ?? l.device.serial;
  return (
    <Page>
      <Title>{`${serial}, while it is tested`}</Title>
      {l.stage === 'running'
        ? <HandsOn id={l.id} serial={serial} head={(live) => <TestBar id={l.id} serial={serial} live={live} />} />
        : <h1>{l.stage === 'done' ? `The test on ${serial} has ended.` : `${serial} is not ready, or is being given back.`}</h1>}
      <Sub>
        {l.device.maker} {l.device.model}, {l.device.system} {l.device.simulated && <Simulated>simulated</Simulated>}
        {l.stage !== 'running' && <>{' · '}<Link to={`/legs/${l.id}`}>All that was gathered</Link></>}
      </Sub>
    </Page>
  );
}
