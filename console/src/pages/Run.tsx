// One run: its sentence, the mosaic, what broke, cases on devices, steps, the legs.
//
// While a run goes on it changes often. The tiles come first: what else shows a change is
// drawn after the frame that has the changed tile.
import { Fragment, memo, useCallback, useDeferredValue, useEffect, useMemo, useState, type ReactNode } from 'react';
import { Link, useNavigate, useParams } from 'react-router';
import styled from 'styled-components';
import { useAction } from '../data/action';
import { answer, base, http, type Finding, type LegSummary, type Run } from '../data/api';
import { useNow } from '../data/clock';
import { client, useAnswer, useMay, useRun } from '../data/queries';
import { useTopics } from '../data/tab';
import { oneOf, text, useView } from '../parts/address';
import { Button, Select, Tab, TabList, TabPanel, Tabs } from '../parts/controls';
import { Grid } from '../parts/Grid';
import { Table } from '../parts/Table';
import { differing, laid, Mosaic } from '../parts/Mosaic';
import { Loaded } from '../parts/Loaded';
import { Facts, Findings, Head, Page, Ref, Refused, Row, Section, Simulated, Sub, Title, When } from '../parts/page';
import { VerdictWord } from '../parts/Tile';
import { Again } from '../run/Again';
import { Families } from '../run/Families';
import { Remarks, Slower } from '../run/Remarks';
import { Share } from '../run/Share';
import { Steps } from '../run/Steps';
import { c } from '../theme';
import { broken, cases, many, conditionsText, forecastText, order, stageText, standing, took, traitName, unit } from '../words';

const Legend = styled.ul`
  display: flex; flex-wrap: wrap; gap: 4px 16px; font-size: 13px; line-height: 22px; color: ${c.faint};
  font-variant-numeric: tabular-nums;
`;
const BrokenList = styled.ul`
  display: flex; flex-direction: column; border-top: 1px solid ${c.grout};
  li {
    border-bottom: 1px solid ${c.grout}; padding: 6px 8px; display: grid; gap: 12px;
    grid-template-columns: 140px 110px minmax(0, 1fr);
    align-items: baseline;
  }
  li > :last-child { overflow: hidden; overflow-wrap: anywhere; display: -webkit-box; -webkit-line-clamp: 2; -webkit-box-orient: vertical; }
  @media (max-width: 720px) { li { grid-template-columns: 92px minmax(0, 1fr); } li > :last-child { grid-column: 1 / -1; } }
`;

/** By which trait the tiles lie: the one that was chosen, else the one that explains the largest family, else variant or version. */
const tabs = ['cases', 'steps', 'remarks', 'slower', 'legs', 'asked'] as const;
const parts = { by: text(), tab: oneOf(tabs, 'cases'), sort: text(), family: text(), only: oneOf(['all', 'trouble'] as const, 'all') };

function useLaidBy(ways: string[], why: string | undefined): string {
  const [{ by }] = useView(parts);
  if (by === 'verdict' || ways.includes(by)) return by;
  return [why === 'api' ? 'os' : why, 'variant', 'os'].find((t) => t && ways.includes(t)) ?? ways[0] ?? 'model';
}

/** What a run says, once one of its legs has something to say. */
function useWhy(r: Run | undefined) {
  const wanted = r !== undefined && (r.done || r.legs.some((l) => l.case_verdicts.some((v) => broken(v) || v === 'flaky')));
  return useAnswer(r?.id ?? '', r?.done ?? false, wanted).data;
}

export default function RunPage() {
  const { id = '' } = useParams();
  const run = useRun(id);
  const known = run.data?.id;
  useTopics({ run: known && id, list: ['devices'] });
  const navigate = useNavigate();
  useEffect(() => {
    if (known && known !== id) void navigate(`/runs/${known}${location.search}`, { replace: true }); // it was asked for by its number
  }, [known, id, navigate]);
  return (
    <Loaded of={run} what="the run" page>
      {(r) => (
        <Page>
          <Above r={r} />
          <Tiles r={r} />
          <Below r={r} />
          <More id={id} />
        </Page>
      )}
    </Loaded>
  );
}

function Above({ r }: { r: Run }) {
  return <Headline r={useDeferredValue(r)} />;
}

const Headline = memo(function Headline({ r }: { r: Run }) {
  const may = useMay('test');
  const mayShare = useMay('share');
  const why = useWhy(r);
  return (
    <>
      <Title>{r.sentence}</Title>
      <Head>
        <div>
          <h1>{r.sentence}</h1>
          <Sub>
            Run {r.number}{r.name && <>, <strong>{r.name}</strong></>}:{' '}
            <Link to={`/builds/${r.build_id}`}>{r.build}</Link>
            {r.other_builds?.map((b) => <Fragment key={b}>, <Link to={`/builds/${encodeURIComponent(b)}`}>{b}</Link></Fragment>)} with{' '}
            <Link to={`/packages/${r.package_id}`}>{r.package}</Link>, started{' '}
            <When at={r.created} />
            {r.started_by && ` by ${r.started_by}`}
            {r.again && <>, again of <Link to={`/runs/${r.again.run}`}>run {r.again.number}</Link> ({r.again.what})</>}
            {r.ended ? `, took ${took(Date.parse(r.ended) - Date.parse(r.created))}` : ', still running'}
            {r.forecast && (r.ended ? held[r.forecast.held ?? ''] : `; likely to take ${forecastText(r.forecast)} in all`)}
          </Sub>
          <Sub>
            {Object.entries(r.labels).map(([k, v]) => (
              <Label key={k} to={`/?label=${encodeURIComponent(`${k}=${v}`)}`}>{k}={v}</Label>
            ))}
          </Sub>
        </div>
        <Row $gap={12}>
          {!r.done && <StopRun r={r} />}
          {r.done && may && <Again run={r} />}
          {mayShare && <Share run={r} />}
          {why?.before && (
            <Link to={`/runs/${r.id}/compare?with=${why.before.run}`}>against run {why.before.number}</Link>
          )}
          <LayBy ways={differing(r.legs).join(' ')} why={why?.lay_by} />
        </Row>
      </Head>
    </>
  );
});

/** How long it took against what was forecast. */
const held: Record<string, string> = { inside: ', as forecast', sooner: ', less than forecast', later: ', more than forecast' };

const Label = styled(Link)`
  display: inline-block; margin-right: 8px; font-size: 13px; border: 1px solid ${c.grout}; border-radius: 3px; padding: 0 6px;
`;

/** Ends the run, when it is pressed a second time. */
function StopRun({ r }: { r: Run }) {
  const may = useMay('test');
  const [sure, setSure] = useState(false);
  const stop = useAction(async () =>
    client.setQueryData(['run', r.id], await answer(http.POST('/runs/{id}/stop', { params: { path: { id: r.id } }, body: {} }))),
  );
  if (r.stopped || r.legs.every((l) => l.stopping || l.stage === 'done')) return <Sub as="span">stopping …</Sub>;
  if (!may) return null;
  return (
    <>
      {stop.error !== undefined && <Refused error={stop.error} />}
      {!sure && <Button onPress={() => setSure(true)}>Stop run</Button>}
      {sure && <Button $main autoFocus isDisabled={stop.busy} onPress={() => void stop.run()}>Yes, stop run</Button>}
      {sure && <Button onPress={() => setSure(false)}>Continue run</Button>}
    </>
  );
}

function Below({ r }: { r: Run }) {
  return <Trouble r={useDeferredValue(r)} />;
}

const Trouble = memo(function Trouble({ r }: { r: Run }) {
  return (
    <>
      <Meaning legs={r.legs} />
      <Why r={r} />
      <SaysNothing legs={r.legs} />
      <Said title="Left out" of={r.findings.filter((f) => f.level === 'blocks')} />
      <Said title="Worth knowing" of={r.findings.filter((f) => f.level !== 'blocks')} />
    </>
  );
});

function Said({ title, of }: { title: string; of: Finding[] }) {
  if (of.length === 0) return null;
  const id = title.toLowerCase().replace(' ', '-');
  return <Section aria-labelledby={id}><h2 id={id}>{title}</h2><Findings of={of} /></Section>;
}

const LayBy = memo(function LayBy({ ways, why }: { ways: string; why: string | undefined }) {
  const [, setView] = useView(parts);
  const all = ways.split(' ').filter(Boolean);
  const by = useLaidBy(all, why);
  const choose = useCallback((v: string) => setView({ by: v }), [setView]);
  return (
    <Select
      label="lay by"
      inRow
      value={by}
      onChange={choose}
      options={[...all, 'verdict'].map((t) => ({ id: t, text: traitName(t) }))}
    />
  );
});

const Tiles = memo(function Tiles({ r }: { r: Run }) {
  const why = useWhy(r);
  const [{ family }] = useView(parts);
  const legs = why?.families.find((f) => f.id === family)?.legs;
  const lit = useMemo(() => legs && new Set(legs), [legs]);
  return <Mosaic legs={r.legs} by={useLaidBy(differing(r.legs), why?.lay_by)} lit={lit} />;
});

/** How many tiles there are of each kind. */
function Meaning({ legs }: { legs: LegSummary[] }) {
  const count = new Map<string, number>();
  for (const l of legs) count.set(standing(l), (count.get(standing(l)) ?? 0) + 1);
  return (
    <Legend aria-label="What the tiles mean">
      {[...count]
        .sort(([a], [b]) => rank(a) - rank(b))
        .map(([k, n]) => (
          <li key={k}>
            <VerdictWord what={k}>
              {k} · {n}
            </VerdictWord>
          </li>
        ))}
    </Legend>
  );
}

function Why({ r }: { r: Run }) {
  const why = useWhy(r);
  const [{ family }, setView] = useView(parts);
  const light = useCallback((id: string) => setView({ family: id }), [setView]);
  return why && <Families run={r} answer={why} lit={family} light={light} />;
}

/** Legs that say nothing of the app. */
function SaysNothing({ legs }: { legs: LegSummary[] }) {
  const trouble = legs.filter((l) => l.stage === 'done' && (l.verdict === 'lost' || l.verdict === 'invalid' || l.verdict === 'stopped'));
  if (trouble.length === 0) return null;
  return (
    <Section aria-labelledby="trouble">
      <h2 id="trouble">What says nothing of the app</h2>
      <BrokenList>{trouble.slice(0, 12).map((l) => <Broken key={l.id} l={l} />)}</BrokenList>
      {trouble.length > 12 && <Sub>And {many(trouble.length - 12, 'more', 'more')}: press a tile, or see “Devices” below.</Sub>}
    </Section>
  );
}

const Broken = memo(function Broken({ l }: { l: LegSummary }) {
  return (
    <li>
      <Link to={`/legs/${l.id}`}>{unit(l)}</Link>
      <VerdictWord what={l.verdict!} />
      <span title={l.message}>{l.message}</span>
    </li>
  );
});

const More = memo(function More({ id }: { id: string }) {
  const [view, setView] = useView(parts);
  return (
    <Tabs selectedKey={view.tab} onSelectionChange={(k) => setView({ tab: tabs.find((t) => t === k) })}>
      <TabList aria-label="More of the run">
        <Tab id="cases">Cases × devices</Tab>
        <Tab id="steps">Steps</Tab>
        <Tab id="remarks">Remarks</Tab>
        <Tab id="slower">Slower</Tab>
        <Tab id="legs">Devices</Tab>
        <Tab id="asked">What was asked</Tab>
      </TabList>
      <TabPanel id="cases"><CasesOnDevices id={id} /></TabPanel>
      <TabPanel id="steps"><StepByStep id={id} of={Steps} /></TabPanel>
      <TabPanel id="remarks"><StepByStep id={id} of={Remarks} /></TabPanel>
      <TabPanel id="slower"><StepByStep id={id} of={Slower} /></TabPanel>
      <TabPanel id="legs"><Legs id={id} /></TabPanel>
      <TabPanel id="asked"><Asked id={id} /></TabPanel>
    </Tabs>
  );
});

/** The run, and its legs as the mosaic lays them. */
function useLaidRun(id: string): [Run | undefined, LegSummary[]] {
  const run = useDeferredValue(useRun(id).data);
  const by = useLaidBy(differing(run?.legs ?? []), useWhy(run)?.lay_by);
  const legs = useMemo(() => laid(run?.legs ?? [], by).flatMap((g) => g.legs), [run, by]);
  return [run, legs];
}

function StepByStep({ id, of: View }: { id: string; of: (p: { run: string; done: boolean }) => ReactNode }) {
  const run = useRun(id).data;
  return run && <View run={run.id} done={run.done} />;
}

function CasesOnDevices({ id }: { id: string }) {
  const [run, legs] = useLaidRun(id);
  const [{ only }, setView] = useView(parts);
  const onTrouble = useCallback((on: boolean) => setView({ only: on ? 'trouble' : 'all' }), [setView]);
  return run && (
    <Section>
      <Sub>
        <Button $small aria-pressed={only === 'trouble'} onPress={() => onTrouble(only === 'all')}>
          {only === 'trouble' ? 'Show all cases' : 'Only cases with trouble'}
        </Button>{' '}
        (t in the grid; arrows move)
      </Sub>
      <Grid names={run.case_names} legs={legs} trouble={only === 'trouble'} onTrouble={onTrouble} />
    </Section>
  );
}

function Legs({ id }: { id: string }) {
  const [, legs] = useLaidRun(id);
  const [view, setView] = useView(parts);
  const now = useNow(1000);
  return (
    <Section>
      <Sub>
        All results: <a href={`${base}/runs/${id}/report?form=html`} download={`run-${id}.html`}>as a page that stands alone</a>,{' '}
        <a href={`${base}/runs/${id}/junit`} download={`run-${id}.xml`}>as JUnit XML</a>,{' '}
        <a href={`${base}/runs/${id}/report?form=csv`} download={`run-${id}.csv`}>as CSV</a>; from a terminal:{' '}
        <code>tessellant run report {id} --html run.html</code>
      </Sub>
      <Table
        label="Devices of the run"
        items={legs}
        id={(l) => l.id}
        href={(l) => `/legs/${l.id}`}
        sort={view.sort}
        onSort={(sort) => setView({ sort })}
        columns={[
          { name: 'device', show: unit, sort: unit },
          { name: 'model', sort: (l) => l.model, show: (l) => <>{l.model} {l.simulated && <Simulated>simulated</Simulated>}</> },
          { name: 'system', show: (l) => l.system, sort: (l) => l.system },
          { name: 'verdict', sort: (l) => rank(standing(l)), show: (l) => <VerdictWord what={standing(l)}>{stageText(l)}</VerdictWord> },
          { name: 'cases', wide: true, show: (l) => (l.now ? `${cases(l)} · ${l.now}` : cases(l)) },
          {
            name: 'took',
            show: (l) => {
              const ms = legTook(l, now);
              return ms === undefined ? '' : took(ms);
            },
            sort: (l) => legTook(l, now) ?? -1,
          },
        ]}
      />
    </Section>
  );
}

function Asked({ id }: { id: string }) {
  const r = useRun(id).data;
  if (!r) return null;
  return (
    <Section>
    <Sub><a href={`${base}/runs/${id}/file`} download={`run-${r.number}.yaml`}>The same as a run file</a>, to start it again:{' '}
      <code>tessellant run start --file run-{r.number}.yaml</code></Sub>
    <Facts
      of={[
        ['run', <Ref key="r">{r.id}</Ref>],
        ['build', [r.build, ...(r.other_builds ?? [])].join(', ')],
        ['package', r.package],
        ['number', r.number],
        ['name', r.name],
        ['pool', r.pool && <Link key="p" to={`/pools/${r.pool}`}>{r.pool}</Link>],
        ['where', r.where.join(' ') || (r.devices.length || r.pool || r.lines ? '' : 'any device')],
        ['devices', r.devices.join(' ')],
        ['how many', r.take === 'any' ? `any ${r.n}` : r.take === 'differ' ? `the ${r.n} that differ most` : ''],
        ['units', r.models ? 'any unit of each model' : ''],
        ['lines', (r.lines ?? []).map((l) => [l.device, l.version, l.language, l.orientation].filter(Boolean).join(' ')).join('; ')],
        ['conditions', conditionsText(r.conditions)],
        ['variants', (r.variants ?? []).map((v) => `${v.name}: ${conditionsText(v.conditions) || 'as it is'}`).join('; ')],
        ['spread', r.spread ? 'each case once on each kind of device' : ''],
        ['beside', (r.beside ?? []).join(', ')],
        ['put', (r.put ?? []).map((f) => `${f.from} to ${f.to}`).join(', ')],
        ['kept', (r.fetch ?? []).join(', ')],
        ['cases', [...(r.cases ?? []), ...(r.tags ?? []).map((t) => `tag ${t}`), many(r.case_names.length, 'case')].join(', ')],
        [
          'inputs',
          [...Object.entries(r.inputs ?? {}).map(([k, v]) => `${k} = ${v}`), ...(r.secrets ?? []).map((k) => `${k} = ••••••`)].join(', '),
        ],
        ['a failed case', r.confirm ? `is tried again ${r.confirm === 1 ? 'once' : `${r.confirm} times`}` : 'is not tried again'],
        ['a lost device', `gives the leg another attempt, up to ${r.max_attempts}`],
        ['remarks', r.remarks === 'fail' ? 'fail a case' : 'are told alone'],
        ['time limit', `${took(r.limit_seconds * 1000)} on a device`],
        ['forecast', r.forecast && `${forecastText(r.forecast)}, ${r.forecast.basis}`],
        ['stopped', r.stopped && <When key="s" at={r.stopped} />],
      ]}
    />
    </Section>
  );
}

const rank = (v: string) => { const i = order.indexOf(v as never); return i < 0 ? 99 : i; };

/** How long a leg took, or has been going so far, in ms; undefined before it began. */
function legTook(l: LegSummary, now: number): number | undefined {
  return l.started ? Math.max(0, (l.ended ? Date.parse(l.ended) : now) - Date.parse(l.started)) : undefined;
}
