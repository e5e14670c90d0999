// One hold: how it stands, its end in sight, and what it leaves.
import { useEffect, useState } from 'react';
import { Link, useParams } from 'react-router';
import { useAction } from '../data/action';
import { answer, http, type Hold } from '../data/api';
import { client, useHold, useMay, useMe } from '../data/queries';
import { useTopics } from '../data/tab';
import { Button } from '../parts/controls';
import { Loaded } from '../parts/Loaded';
import { Command, Facts, Head, Page, Ref, Refused, Row, Section, Simulated, Sub, Title, When } from '../parts/page';
import { holdSentence, left } from '../hands/words';
import HandsOn from '../hands/HandsOn';

export default function HoldPage() {
  const { id = '' } = useParams();
  useTopics({ list: ['sessions'] });
  return <Loaded of={useHold(id)} what="the hold" page>{(h) => <One h={h} />}</Loaded>;
}

function One({ h }: { h: Hold }) {
  const me = useMe().data;
  const running = h.stage === 'running' && !h.stopping;
  const over = h.stage === 'done';
  return (
    <Page>
      <Title>{h.device?.serial ? `${h.device.serial}, held` : 'A hold'}</Title>
      <Head>
        <div>
          <h1>{holdSentence(h, me?.key === h.by)}</h1>
          <Sub>
            {h.device && (
              <>
                <Link to={`/devices/${encodeURIComponent(h.device.serial)}`}>{h.device.model}</Link>, {h.device.system}{' '}
                {h.device.simulated && <Simulated>simulated</Simulated>} ·{' '}
              </>
            )}
            {h.name && <><strong>{h.name}</strong> · </>}
            {h.build && <>{h.build} · </>}
            asked for by {h.by} <When at={h.created} />
            {running && h.until && <> · <Ends at={h.until} /></>}
          </Sub>
          {h.message && <Sub>{h.message}</Sub>}
        </div>
        {!over && <Actions h={h} running={running} />}
      </Head>
      {h.started && !running && (
        <Row><Link to={`/sessions/${h.id}`}>What was done: video, commands, log, gauges, network</Link></Row>
      )}
      {running && h.device && <HandsOn id={h.id} serial={h.device.serial} />}
      {running && (
        <Section aria-labelledby="client">
          <h2 id="client">A test on the same device</h2>
          <Sub>Any W3C WebDriver client works on it with this capability, and leaves it held.</Sub>
          <Command>{`"tessellant:hold": "${h.id}"`}</Command>
        </Section>
      )}
      <Section aria-labelledby="facts">
        <h2 id="facts">Facts</h2>
        <Facts
          of={[
            ['id', <Ref key="i">{h.id}</Ref>],
            ['where', h.where.join(' ')],
            ['asked for', left(h.seconds * 1000)],
            ['from', h.started && <When key="s" at={h.started} />],
            ['until', h.ended && <When key="e" at={h.ended} />],
          ]}
        />
      </Section>
    </Page>
  );
}

/** The end in sight, second by second once it is near. */
function Ends({ at }: { at: string }) {
  const [now, setNow] = useState(() => Date.now());
  useEffect(() => {
    const t = setInterval(() => setNow(Date.now()), 1000);
    return () => clearInterval(t);
  }, []);
  return <span role="timer">{left(Date.parse(at) - now)} left</span>;
}

function Actions({ h, running }: { h: Hold; running: boolean }) {
  const may = useMay('test');
  const put = (to: Hold) => {
    client.setQueryData(['hold', h.id], to);
    void client.invalidateQueries({ queryKey: ['holds'] });
  };
  const path = { params: { path: { id: h.id } } };
  const prolong = useAction(async () => put(await answer(http.POST('/hands/{id}/prolong', { ...path, body: { seconds: 1800 } }))));
  const end = useAction(async () => put(await answer(http.POST('/hands/{id}/end', path))));
  if (!may) return null;
  return (
    <div>
      <Row $gap={8}>
        {running && <Button isDisabled={prolong.busy} onPress={() => void prolong.run()}>30 minutes more</Button>}
        <Button isDisabled={end.busy || h.stopping} onPress={() => void end.run()}>
          {running ? 'Give it back' : 'Do not wait any more'}
        </Button>
      </Row>
      {prolong.error !== undefined && <Refused error={prolong.error} />}
      {end.error !== undefined && <Refused error={end.error} />}
    </div>
  );
}
