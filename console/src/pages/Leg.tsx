// One leg, or one session: all its evidence, moving together.
import { useCallback, useEffect, useMemo, useState } from 'react';
import { Link, useNavigate, useParams } from 'react-router';
import styled from 'styled-components';
import type { Attempt, Leg, LegSummary, Loan, LogLevel } from '../data/api';
import { client, useGauges, useLeg, useLogOverview, useNetworkOverview, useRun, useTimeline } from '../data/queries';
import { useTopics } from '../data/tab';
import { Cursor } from '../evidence/cursor';
import { DeviceLog, levels } from '../evidence/DeviceLog';
import { Files, Shots } from '../evidence/Files';
import { Gauges } from '../evidence/Gauges';
import { keys, useKeys } from '../evidence/keys';
import { lanesOf } from '../evidence/lanes';
import { artifactNamed, artifactOf, atDepth, endOf, pausedOf, sentence, story } from '../evidence/moments';
import { Moment, useKept } from '../evidence/Moment';
import { Network, type NetworkView } from '../evidence/Network';
import { useOpening } from '../evidence/opening';
import { Screen } from '../evidence/Screen';
import { isWhole, moved, readSpan, writeSpan, zoomed, type Span } from '../evidence/span';
import { Story } from '../evidence/Story';
import { TimeAxis } from '../evidence/TimeAxis';
import type { TreeNode } from '../evidence/tree';
import { twinOf } from '../evidence/twin';
import { oneOf, text, useView, whole } from '../parts/address';
import { Button, Select, Tab, TabList, TabPanel, Tabs } from '../parts/controls';
import { Loaded } from '../parts/Loaded';
import { Head, Mono, Refused, Row, Simulated, Sub, Title, When } from '../parts/page';
import { Sheet } from '../parts/Sheet';
import { VerdictWord } from '../parts/Tile';
import { sessionSentence } from '../sessions/words';
import { narrow } from '../theme';
import { conditionsText, ordinal, screenOf, standing, took, unit } from '../words';
import { SessionActions, SessionFacts } from '../sessions/Outside';

const Whole = styled.main`
  padding: 12px 24px 12px; display: flex; flex-direction: column; gap: 10px; max-width: 1800px; margin: 0 auto;
  @media (min-width: 1001px) { height: calc(100vh - 49px); min-height: 640px; }
  ${narrow} { padding: 12px; }
`;
const Panes = styled.div`
  display: grid; grid-template-columns: 272px minmax(0, 1fr); gap: 16px; flex: 1; min-height: 0;
  @media (min-width: 1500px) { grid-template-columns: 360px minmax(0, 1fr); }
  @media (max-width: 1000px) { grid-template-columns: minmax(0, 1fr); }
`;
const Right = styled.div`display: flex; flex-direction: column; gap: 10px; min-height: 0; min-width: 0;`;
const Upper = styled.div`
  display: grid; grid-template-columns: minmax(300px, 1fr) minmax(340px, 1.1fr); gap: 16px; flex: 1.2; min-height: 0;
  @media (max-width: 1000px) { grid-template-columns: minmax(0, 1fr); }
`;
const Below = styled(Tabs)`flex: 1;`;
const Keys = styled.dl`
  display: grid; grid-template-columns: max-content 1fr; gap: 4px 16px; margin: 12px 0 16px; dt { font-family: monospace; }
`;

const more = ['log', 'network', 'gauges', 'shots', 'files'] as const;
const parts = {
  attempt: whole(0, 1), case: text(), at: whole(-1), depth: oneOf(['all', 'steps', 'cases'] as const, 'all'), more: oneOf(more, 'log'),
  level: oneOf<LogLevel>(levels, 'V'), tag: text(), find: text(), zoom: text(),
  net: oneOf(['worst', 'time', 'size'] as const, 'worst'), host: text(), bad: oneOf(['all', 'failed'] as const, 'all'), n: whole(0, 0),
};

export default function LegPage() {
  const { id = '' } = useParams();
  const leg = useLeg(id);
  return <Loaded of={leg} what="the leg" page>{(l) => <LegView key={id} l={l} />}</Loaded>;
}

const comes = 2000; // ms: a picture is uploaded within
const none = { attempt: 0, live: false, at: [], series: [] };
const rests = 500; // ms: so long the cursor stays where it is before the address has it

function LegView({ l }: { l: Leg }) {
  const { id } = l;
  const [view, setView] = useView(parts);
  const run = useRun(l.run_id);
  const number = view.attempt || l.attempts.length;
  const attempt = l.attempts.find((a) => a.number === number);
  const going = l.stage !== 'done';
  const live = going && number === l.attempts.length;
  useTopics(going ? { leg: id, run: l.run_id || undefined, list: l.session ? ['sessions'] : undefined } : { list: ['devices'] });
  const timeline = useTimeline(id, number || undefined);
  const events = useMemo(() => timeline.data?.events ?? [], [timeline.data]);
  const rows = useMemo(() => story(events), [events]);
  const shown = useMemo(() => atDepth(rows, view.depth), [rows, view.depth]);
  // Pictures of a leg that runs come a moment after they were taken; no change tells of them.
  const awaited = live && events.some((e) => e.file && !artifactNamed(attempt, e.file));
  useEffect(() => {
    if (!awaited) return;
    const timer = setInterval(() => void client.invalidateQueries({ queryKey: ['leg', id] }), comes);
    return () => clearInterval(timer);
  }, [awaited, id]);
  const video = artifactOf(attempt, 'video');
  const hasLog = !!artifactOf(attempt, 'device-log') || (live && !!attempt);
  const log = useLogOverview(id, number, hasLog, live);
  const end = useMemo(() => endOf(events), [events]);
  const span = useMemo(() => readSpan(view.zoom, end), [view.zoom, end]);
  const zoomedIn = !isWhole(span, end);
  const keepsNet = l.recording.network !== 'off';
  const keepsGauges = l.recording.gauges !== 'off';
  const hasNet = !!artifactOf(attempt, 'network') || (live && !!attempt && keepsNet);
  const hasGauges = !!artifactOf(attempt, 'gauges') || (live && !!attempt && keepsGauges);
  const net = useNetworkOverview(id, number, hasNet, live);
  const gauges = useGauges(id, number, 0, 0, hasGauges, live);
  // A long track came thinned: the part that is zoomed to is asked for by itself.
  const thinned = !!gauges.data?.series.some((s) => s.count > gauges.data.at.length);
  const closer = useGauges(id, number, span.from, span.to, hasGauges && thinned && zoomedIn, false);
  const read = zoomedIn && thinned && closer.data ? closer.data : gauges.data;
  const lanes = useMemo(() => lanesOf(rows, end, log.data, net.data, read), [rows, end, log.data, net.data, read]);
  const onSpan = useCallback((s: Span) => setView({ zoom: writeSpan(s, end) }), [setView, end]);
  const [cursor, setCursor] = useState(() => new Cursor());
  const [of, setOf] = useState(number);
  if (of !== number) {
    setOf(number);
    setCursor(new Cursor());
  }
  const [playing, setPlaying] = useState(false);
  const [rate, setRate] = useState(1);
  const [pointed, setPointed] = useState<TreeNode>();
  const kept = useKept(shown, events, attempt, cursor);
  useOpening(cursor, rows, live, view);
  const onZoom = useCallback(
    (how: 'in' | 'out' | 'earlier' | 'later' | 'all') => {
      const { at } = cursor.state;
      const to = {
        in: zoomed(span, 0.5, at, end), out: zoomed(span, 2, at, end),
        earlier: moved(span, -0.5, end), later: moved(span, 0.5, end), all: { from: 0, to: end },
      };
      onSpan(to[how]);
    },
    [cursor, span, end, onSpan],
  );
  useKeys(cursor, rows, !live && !!video, setPlaying, setRate, onZoom);
  // The address has the moment that a person looks at, and then the attempt too: a newer one must not take its place.
  useEffect(() => {
    let timer: ReturnType<typeof setTimeout>;
    const off = cursor.subscribe(() => {
      clearTimeout(timer);
      const { at, by } = cursor.state;
      if (by !== 'live' && by !== 'opening' && by !== 'video')
        timer = setTimeout(() => setView({ at: Math.round(at), attempt: number, case: undefined }), rests);
    });
    return () => {
      off();
      clearTimeout(timer);
    };
  }, [cursor, number, setView]);
  const twin = useCallback((name: string) => twinOf(run.data, id, name), [run.data, id]);
  const onNetwork = useCallback((change: Partial<NetworkView>) => setView(change), [setView]);
  const onLog = useCallback((change: Partial<typeof view>) => setView(change), [setView]);
  const what = `${l.device.maker} ${l.device.model}`;
  const outlined = [...kept.nodes.filter((n) => n.found), ...(pointed ? [{ ...pointed, found: false }] : [])];
  return (
    <Whole>
      <Heading
        l={l}
        attempt={attempt}
        run={run.data?.sentence}
        others={run.data?.legs}
        onAttempt={(n) => setView({ attempt: n, at: undefined, case: undefined }, 'step')}
      />
      <Notes l={l} attempt={attempt} paused={live ? pausedOf(events) : undefined} />
      {timeline.error && (
        <Refused error={timeline.error}>
          <div>
            <Button onPress={() => void timeline.refetch()}>Try again</Button>
          </div>
        </Refused>
      )}
      {timeline.data?.next !== undefined && !live && (
        <Sub>This page shows the first {events.length.toLocaleString('en')} events. The file timeline.jsonl has all of them.</Sub>
      )}
      <Panes>
        <Screen
          leg={id}
          live={live}
          video={video}
          cursor={cursor}
          playing={playing}
          onPlaying={setPlaying}
          rate={rate}
          onRate={setRate}
          what={what}
          kept={kept.shot && { shot: kept.shot, what: `Screen of ${what}: ${kept.row?.name}`, outlined }}
        />
        <Right>
          <Upper>
            <Story rows={shown} cursor={cursor} depth={view.depth} onDepth={(depth) => setView({ depth })} />
            <Moment kept={kept} events={events} attempt={attempt} onPoint={setPointed} own={id} twin={twin} />
          </Upper>
          <TimeAxis lanes={lanes} end={end} cursor={cursor} span={span} onSpan={onSpan} />
          <Below selectedKey={view.more} onSelectionChange={(k) => setView({ more: more.find((m) => m === k) })}>
            <TabList aria-label="More evidence">
              <Tab id="log">Device log</Tab>
              <Tab id="network">Network</Tab>
              <Tab id="gauges">Gauges</Tab>
              <Tab id="shots">Screenshots</Tab>
              <Tab id="files">Files</Tab>
            </TabList>
            <TabPanel id="log">
              <DeviceLog leg={id} attempt={number} there={hasLog} live={live} cursor={cursor} view={view} onView={onLog} />
            </TabPanel>
            <TabPanel id="network">
              <Network
                leg={id}
                attempt={number}
                kept={keepsNet}
                live={live}
                there={hasNet}
                cursor={cursor}
                span={span}
                view={view}
                onView={onNetwork}
              />
            </TabPanel>
            <TabPanel id="gauges">
              <Gauges gauges={hasGauges ? read : none} error={gauges.error} kept={keepsGauges} live={live} cursor={cursor} span={span} />
            </TabPanel>
            <TabPanel id="shots">
              <Shots attempt={attempt} events={events} cursor={cursor} />
            </TabPanel>
            <TabPanel id="files" style={{ overflow: 'auto' }}>
              <Files leg={id} attempt={attempt} session={!!l.session} />
            </TabPanel>
          </Below>
        </Right>
      </Panes>
    </Whole>
  );
}

function Heading({
  l,
  attempt,
  run,
  others,
  onAttempt,
}: {
  l: Leg;
  attempt: Attempt | undefined;
  run: string | undefined;
  others: LegSummary[] | undefined;
  onAttempt: (n: number) => void;
}) {
  const { device } = l;
  const said = l.session
    ? sessionSentence(l.session)
    : sentence(device.serial, l.stage, l.verdict, l.message, l.attempts.at(-1), l.cases_total);
  return (
    <Head>
      <Title>{said}</Title>
      <div style={{ flex: '1 1 480px', minWidth: 0 }}>
        <h1>
          <VerdictWord what={l.stage === 'done' ? (l.verdict ?? 'passed') : 'running'} size={18}>
            <span style={{ whiteSpace: 'normal' }}>{said}</span>
          </VerdictWord>
        </h1>
        <Sub>
          {device.serial && (
            <>
              <Link to={`/devices/${encodeURIComponent(device.serial)}`}>
                {device.maker} {device.model}
              </Link>
              , {device.system}, {screenOf(device)} {device.simulated && <Simulated>simulated</Simulated>} ·{' '}
            </>
          )}
          {(l.variant || l.conditions) && (
            <>
              {l.variant && <strong>{l.variant}</strong>}
              {l.variant && l.conditions && ': '}
              {l.conditions && `set to ${conditionsText(l.conditions)}`} ·{' '}
            </>
          )}
          {l.session ? <>{l.build && `${l.build} · `}<SessionFacts s={l.session} /></> : <>{l.build} with {l.package}</>}
          {attempt?.ended && ` · took ${took(Date.parse(attempt.ended) - Date.parse(attempt.started))}`}
          {attempt?.loan && <> · <Lent loan={attempt.loan} /></>}
          {run && <> · of the run <Link to={`/runs/${l.run_id}`}>{run}</Link></>}
        </Sub>
      </div>
      <Row $gap={8}>
        {l.attempts.length > 1 && (
          <Select label="Attempt" inRow value={String(attempt?.number ?? '')} onChange={(v) => onAttempt(Number(v))}
            options={l.attempts.map((a) => ({ id: String(a.number), text: `${a.number} on ${a.serial}: ${a.verdict ?? a.stage}` }))} />
        )}
        {l.stage === 'running' && !l.session?.by_hand && <Link to={`/legs/${l.id}/device`}>Watch and pause</Link>}
        <BesideWhich l={l} attempt={attempt} others={others} />
        {l.session && <SessionActions s={l.session} cases={l.attempts.at(-1)?.cases ?? []} />}
        <Help />
      </Row>
    </Head>
  );
}

/** Which lab lent the device, and where the lab itself tells of it. */
function Lent({ loan }: { loan: Loan }) {
  return (
    <>
      lent by the lab {loan.lab}{loan.seconds && ` for ${took(loan.seconds * 1000)}`}, session <Mono>{loan.session}</Mono>
      {loan.page && <> (<a href={loan.page} target="_blank" rel="noreferrer">its page at the lab</a>)</>}
    </>
  );
}

/** Another leg of the run, or another attempt, to be seen beside this one. */
function BesideWhich({ l, attempt, others }: { l: Leg; attempt: Attempt | undefined; others: LegSummary[] | undefined }) {
  const navigate = useNavigate();
  const tries = l.attempts.filter((a) => a.number !== attempt?.number);
  const legs = (others ?? []).filter((o) => o.id !== l.id && o.started).slice(0, mostBeside);
  if (!attempt || tries.length + legs.length === 0) return null;
  const go = (to: string) => {
    const [kind, which] = [to.slice(0, 1), to.slice(1)];
    const view: Record<string, string> = kind === 'a' ? { attempt: String(attempt.number), with_attempt: which } : { with: which };
    void navigate(`/legs/${l.id}/compare?${new URLSearchParams(view)}`);
  };
  return (
    <Select
      label="beside"
      inRow
      value=""
      placeholder="another leg …"
      onChange={go}
      options={[
        ...tries.map((a) => ({ id: `a${a.number}`, text: `attempt ${a.number} on ${a.serial}: ${a.verdict ?? a.stage}` })),
        ...legs.map((o) => ({ id: `l${o.id}`, text: `${unit(o)}: ${standing(o)}` })),
      ]}
    />
  );
}
const mostBeside = 200;

/** What is worth knowing of the leg and of the attempt before one looks at the evidence. */
function Notes({ l, attempt: a, paused }: { l: Leg; attempt: Attempt | undefined; paused: string | undefined }) {
  const { device } = l;
  return (
    <>
      {paused && (
        <Sub>
          The test is <strong>{paused}</strong>. <Link to={`/legs/${l.id}/device`}>Work on its device, and resume it</Link>
        </Sub>
      )}
      {l.session?.message && <Sub>{l.session.message}</Sub>}
      {a?.message && (a.verdict === 'lost' || a.verdict === 'invalid') && (
        <Sub>
          Attempt {a.number} on {a.serial}, host {a.host}: {a.message}
        </Sub>
      )}
      {a && a.serial !== device.serial && (
        <Sub>
          This attempt ran on <Link to={`/devices/${encodeURIComponent(a.serial)}`}>{a.serial}</Link>, which is like {device.serial}.
        </Sub>
      )}
      {a?.clock_doubt_ms !== undefined && a.clock_doubt_ms > 50 && (
        <Sub>The device’s clock could not be read well: lines of its log may be misplaced by up to {a.clock_doubt_ms} ms.</Sub>
      )}
      {a?.evidence_removed && (
        <Sub>
          Its evidence was deleted <When at={a.evidence_removed} />, because of its age or to free space.
        </Sub>
      )}
      {l.place && !l.session && (
        <Sub>
          It is {ordinal(l.place)} in the queue for {device.serial}, which is {device.state}
          {device.why ? `: ${device.why}` : ''}.
        </Sub>
      )}
    </>
  );
}

function Help() {
  return (
    <Sheet open="Keys" title="Keys">
      {(close) => (
        <>
          <Keys>{keys.map(([k, does]) => <KeyPair key={k} k={k} does={does} />)}</Keys>
          <Button onPress={close}>Close</Button>
        </>
      )}
    </Sheet>
  );
}
const KeyPair = ({ k, does }: { k: string; does: string }) => <><dt>{k}</dt><dd>{does}</dd></>;
