// One run: its sentence, the mosaic, cases on devices, the legs.
import { Link, useParams, useSearchParams } from 'react-router';
import styled from 'styled-components';
import type { LegSummary } from '../data/api';
import { useRun } from '../data/queries';
import { Select, Tab, TabList, TabPanel, Tabs } from '../parts/controls';
import { Grid } from '../parts/Grid';
import { List } from '../parts/list';
import { differing, laid, Mosaic } from '../parts/Mosaic';
import { Awaited, Facts, Findings, Head, Page, Ref, Refused, Row, Section, Simulated, Sub, Title, When } from '../parts/page';
import { VerdictWord } from '../parts/Tile';
import { c } from '../theme';
import { broken, cases, many, order, standing, took, traits } from '../words';

const Legend = styled.ul`display: flex; flex-wrap: wrap; gap: 4px 16px; font-size: 13px; color: ${c.faint};`;
const Trouble = styled.ul`
  display: flex; flex-direction: column; border-top: 1px solid ${c.grout};
  li { border-bottom: 1px solid ${c.grout}; padding: 6px 8px; display: grid; grid-template-columns: 92px 110px minmax(0, 1fr); gap: 12px; align-items: baseline; }
  li > :last-child { overflow: hidden; overflow-wrap: anywhere; display: -webkit-box; -webkit-line-clamp: 2; -webkit-box-orient: vertical; }
  @media (max-width: 720px) { li { grid-template-columns: 92px minmax(0, 1fr); } li > :last-child { grid-column: 1 / -1; } }
`;

export default function RunPage() {
  const { id = '' } = useParams();
  const [params, setParams] = useSearchParams();
  const run = useRun(id);
  if (run.error) return <Page><Refused page error={run.error} /></Page>;
  if (!run.data) return <Page><Awaited what="the run" /></Page>;
  const r = run.data;
  const ways = differing(r.legs);
  const by = params.get('by') ?? (ways.includes('os') ? 'os' : (ways[0] ?? 'model'));
  const inOrder = laid(r.legs, by).flatMap((g) => g.legs);
  const kinds = [...new Set(r.legs.map(standing))].sort((a, b) => rank(a) - rank(b));
  const trouble = r.legs.filter((l) => l.stage === 'done' && l.verdict && l.verdict !== 'passed').sort((a, b) => rank(a.verdict!) - rank(b.verdict!));
  return (
    <Page>
      <Title>{r.sentence}</Title>
      <Head>
        <div>
          <h1>{r.sentence}</h1>
          <Sub>
            <Link to={`/builds/${r.build_id}`}>{r.build}</Link> with <Link to={`/packages/${r.package_id}`}>{r.package}</Link>, started <When at={r.created} />
            {r.ended ? `, took ${took(Date.parse(r.ended) - Date.parse(r.created))}` : ', still going'}
          </Sub>
        </div>
        <Select label="lay by" inRow value={by} onChange={(v) => setParams((p) => { p.set('by', v); return p; }, { replace: true })}
          options={[...ways, 'verdict'].map((t) => ({ id: t, text: traits[t]?.name ?? t }))} />
      </Head>
      <Mosaic legs={r.legs} by={by} />
      <Legend aria-label="What the tiles mean">{kinds.map((k) => <li key={k}><VerdictWord what={k}>{k} · {r.legs.filter((l) => standing(l) === k).length}</VerdictWord></li>)}</Legend>
      {trouble.length > 0 && (
        <Section aria-labelledby="trouble">
          <h2 id="trouble">{trouble.some((l) => broken(l.verdict)) ? 'What broke' : 'What did not pass'}</h2>
          <Trouble>
            {trouble.slice(0, 50).map((l) => (
              <li key={l.id}>
                <Link to={`/legs/${l.id}`}>{l.serial}</Link>
                <VerdictWord what={l.verdict!} />
                <span title={l.message}>{l.message}</span>
              </li>
            ))}
          </Trouble>
          {trouble.length > 50 && <Sub>And {many(trouble.length - 50, 'more')}: see the devices below.</Sub>}
        </Section>
      )}
      {r.findings.length > 0 && <Section aria-labelledby="left"><h2 id="left">Left out</h2><Findings of={r.findings} /></Section>}
      <Tabs selectedKey={params.get('tab') ?? 'cases'} onSelectionChange={(k) => setParams((p) => { p.set('tab', String(k)); return p; }, { replace: true })}>
        <TabList aria-label="More of the run">
          <Tab id="cases">Cases × devices</Tab>
          <Tab id="legs">Devices</Tab>
          <Tab id="asked">What was asked</Tab>
        </TabList>
        <TabPanel id="cases"><Grid names={r.case_names} legs={inOrder} /></TabPanel>
        <TabPanel id="legs">
          <List label="Devices of the run" items={inOrder} id={(l) => l.id} text={(l) => l.serial} href={(l) => `/legs/${l.id}`}
            columns={[
              { name: 'device', show: (l) => l.serial },
              { name: 'model', show: (l) => <Row $gap={8}>{l.model}{l.simulated && <Simulated>simulated</Simulated>}</Row> },
              { name: 'Android', show: (l) => l.os },
              { name: 'verdict', show: (l) => <VerdictWord what={standing(l)}>{l.stage === 'done' ? l.verdict : l.stage}</VerdictWord> },
              { name: 'cases', wide: true, show: (l) => (l.now ? `${cases(l)} · ${l.now}` : cases(l)) },
              { name: 'attempts', show: (l) => l.attempts },
              { name: 'took', show: legTook },
            ]}
          />
        </TabPanel>
        <TabPanel id="asked">
          <Facts of={[
            ['run', <Ref key="r">{r.id}</Ref>], ['build', r.build], ['package', r.package], ['where', r.where.join(' ') || 'any device'], ['devices', r.devices.join(' ')],
            ['time limit', took(r.limit_seconds * 1000)], ['cases', r.case_names.length],
          ]} />
        </TabPanel>
      </Tabs>
    </Page>
  );
}

const rank = (v: string) => { const i = order.indexOf(v as never); return i < 0 ? 99 : i; };

function legTook(l: LegSummary) {
  if (!l.started) return '';
  return took((l.ended ? Date.parse(l.ended) : Date.now()) - Date.parse(l.started));
}
