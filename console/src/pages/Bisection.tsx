// The search for the first bad build: how far it is, and what it comes to.
import { useState } from 'react';
import { Link, useParams } from 'react-router';
import styled from 'styled-components';
import { useAction } from '../data/action';
import { answer, http, type Bisection } from '../data/api';
import { client, useBisection, useMay } from '../data/queries';
import { Button } from '../parts/controls';
import { Loaded } from '../parts/Loaded';
import { Command, Facts, Head, Page, Refused, Row, Section, Sub, Title, When } from '../parts/page';
import { Table } from '../parts/Table';
import { Tile, VerdictWord } from '../parts/Tile';
import { c } from '../theme';
import { many, took } from '../words';

const Line = styled.ol`display: flex; flex-wrap: wrap; gap: 12px 6px; list-style: none; padding: 8px 0;`;
const Spot = styled.li<{ $here: boolean }>`
  display: flex; flex-direction: column; gap: 4px; align-items: center; font-size: 13px; line-height: 18px; min-width: 44px;
  padding: 4px; border-bottom: 2px solid ${(p) => (p.$here ? c.lapis : 'transparent')};
`;

export default function BisectionPage() {
  const { id = '' } = useParams();
  return <Loaded of={useBisection(id)} what="the search" page>{(b) => <Search b={b} />}</Loaded>;
}

/** How a build stands: what was seen of it, or what must be so. */
function seen(b: Bisection, i: number): string {
  if (b.probing === i) return 'running';
  const last = b.probes.findLast((p) => p.build === i);
  if (i === 0 || last?.says === 'good') return 'passed';
  if (i === b.builds.length - 1 || last?.says === 'bad') return 'failed';
  return last ? 'invalid' : 'waiting';
}

const words: Record<string, string> = {
  passed: 'good', failed: 'bad', invalid: 'can’t be judged', waiting: 'not tried', running: 'is tried',
};

/** What the search took, and how sure its answer is. Builds that lie beside each other need no run. */
function cost(b: Bisection): string {
  if (b.probes.length === 0) return b.first_bad ? 'nothing lay between the two builds, so nothing was run' : 'nothing was run so far';
  const spent = `${many(b.probes.length, 'run')} of ${many(b.builds.length, 'build')}, ${took(b.device_seconds * 1000)} of device time`;
  return b.first_bad ? `${spent}; the chance that it is another build is ${(100 * b.unsure).toFixed(1)} %` : spent;
}

function Search({ b }: { b: Bisection }) {
  const firstBad = b.first_bad && b.builds.findIndex((x) => x.id === b.first_bad!.id);
  return (
    <Page>
      <Title>{b.sentence}</Title>
      <Head>
        <div>
          <h1>{b.sentence}</h1>
          <Sub>
            {b.case} of {b.package} on <Link to={`/devices/${b.device}`}>{b.device}</Link>
            {b.variant && ` ${b.variant}`}, started <When at={b.created} /> by {b.started_by}; {cost(b)}
          </Sub>
        </div>
        {b.state === 'going' && <Stop b={b} />}
      </Head>
      <Line aria-label="Builds in the order of their uploads">
        {b.builds.map((x, i) => {
          const said = `${x.ref}: ${words[seen(b, i)]}`;
          return (
            <Spot key={x.id} $here={i === firstBad}>
              <Tile what={seen(b, i)} size={28} />
              <Link to={`/builds/${x.id}`} aria-label={said} title={said}>{x.version}</Link>
            </Spot>
          );
        })}
      </Line>
      {b.changes.length > 0 && (
        <Section aria-labelledby="changed">
          <h2 id="changed">What changed in the builds</h2>
          <Facts of={b.changes.map((x) => [x.what, `${x.before || '–'} → ${x.now || '–'}`])} />
        </Section>
      )}
      {b.probes.length > 0 && (
        <Section aria-labelledby="tries">
          <h2 id="tries">Tries</h2>
          <Table
            label="Tries"
            items={b.probes}
            id={(p) => p.run}
            href={(p) => `/runs/${p.run}`}
            columns={[
              { name: 'run', show: (p) => String(p.number) },
              { name: 'build', show: (p) => b.builds[p.build]!.ref },
              { name: 'says', show: (p) => (p.says === 'other' ? 'nothing of it' : p.says) },
              { name: 'verdict', show: (p) => <VerdictWord what={p.verdict} /> },
              { name: 'what was said', wide: true, show: (p) => p.message ?? '' },
              { name: 'took', show: (p) => took(p.device_seconds * 1000) },
            ]}
          />
        </Section>
      )}
      <Command>{`tessellant bisection watch ${b.id}`}</Command>
    </Page>
  );
}

function Stop({ b }: { b: Bisection }) {
  const may = useMay('test');
  const [sure, setSure] = useState(false);
  const stop = useAction(async () =>
    client.setQueryData(['bisection', b.id], await answer(http.POST('/bisections/{id}/stop', { params: { path: { id: b.id } } }))),
  );
  if (!may) return null;
  return (
    <Row>
      {stop.error !== undefined && <Refused error={stop.error} />}
      {!sure && <Button onPress={() => setSure(true)}>Stop the search</Button>}
      {sure && <Button $main autoFocus isDisabled={stop.busy} onPress={() => void stop.run()}>Yes, stop it</Button>}
      {sure && <Button onPress={() => setSure(false)}>Go on</Button>}
    </Row>
  );
}
