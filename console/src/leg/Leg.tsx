// One leg: all its evidence, moving together.
import { useCallback, useEffect, useMemo, useRef, useState } from 'react';
import { Link, useParams, useSearchParams } from 'react-router';
import styled from 'styled-components';
import { useWatchedLeg } from '../data/live';
import { useLeg, useLogOverview, useRun, useTimeline } from '../data/queries';
import { Button, Select, Tab, TabList, TabPanel, Tabs } from '../parts/controls';
import { Awaited, Head, Page, Refused, Row, Simulated, Sub, Title, When } from '../parts/page';
import { Sheet } from '../parts/Sheet';
import { VerdictWord } from '../parts/Tile';
import { narrow } from '../theme';
import { ordinal, took } from '../words';
import { Cursor } from './cursor';
import { DeviceLog } from './DeviceLog';
import { Files, Shots } from './Files';
import { Lane } from './Lane';
import { artifactOf, atDepth, endOf, nextRow, sentence, story, type Depth, type RowKind, type StoryRow } from './moments';
import { Moment, useKept } from './Moment';
import { SessionActions, SessionFacts, sessionSentence } from './Outside';
import { Screen, speeds } from './Screen';
import { placeOf, Story } from './Story';
import type { TreeNode } from './tree';

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
  display: grid; grid-template-columns: minmax(300px, 1fr) minmax(340px, 1.1fr); gap: 16px; flex: 1.6; min-height: 0;
  @media (max-width: 1000px) { grid-template-columns: minmax(0, 1fr); }
`;
const Below = styled(Tabs)`flex: 1;`;
const Keys = styled.dl`display: grid; grid-template-columns: max-content 1fr; gap: 4px 16px; margin: 12px 0 16px; dt { font-family: monospace; }`;

const keys: [string, string][] = [
  ['J / K', 'next, previous command'], ['S / Shift S', 'next, previous step'], ['F / Shift F', 'next, previous failure'], ['Space', 'play, pause'], ['1 … 5', 'speed: ¼, ½, 1, 2, 4'], ['arrows', 'in a list: row by row; on the time axis: by time'],
];

export default function LegPage() {
  const { id = '' } = useParams();
  const [params, setParams] = useSearchParams();
  const leg = useLeg(id);
  const run = useRun(leg.data?.run_id ?? '');
  const l = leg.data;
  const number = Number(params.get('attempt')) || l?.attempts.length || 0;
  const attempt = l?.attempts.find((a) => a.number === number);
  const live = !!l && l.stage !== 'done' && number === l.attempts.length;
  useWatchedLeg(id, !!l && l.stage !== 'done');
  const timeline = useTimeline(id, number || undefined);
  const events = useMemo(() => timeline.data?.events ?? [], [timeline.data]);
  const rows = useMemo(() => story(events), [events]);
  const [depth, setDepth] = useState<Depth>('all');
  const shown = useMemo(() => atDepth(rows, depth), [rows, depth]);
  const video = artifactOf(attempt, 'video');
  const hasLog = !!artifactOf(attempt, 'device-log') || (live && !!attempt);
  const log = useLogOverview(id, number, hasLog, live);
  const end = useMemo(() => endOf(events), [events]);
  const cursor = useMemo(() => new Cursor(), [id, number]); // eslint-disable-line react-hooks/exhaustive-deps
  const [playing, setPlaying] = useState(false);
  const [rate, setRate] = useState(1);
  const [pointed, setPointed] = useState<TreeNode>();
  const kept = useKept(shown, events, attempt, cursor);
  useOpening(cursor, rows, live, params.get('case'));
  useKeys(cursor, rows, setPlaying, setRate, !live && !!video);

  if (leg.error) return <Page><Refused page error={leg.error} /></Page>;
  if (!l) return <Page><Awaited what="the leg" /></Page>;
  const said = l.session ? sessionSentence(l.session) : sentence(l.device.serial, l.stage, l.verdict, l.message, l.attempts.at(-1), l.cases_total);
  const what = `${l.device.maker} ${l.device.model}`;
  return (
    <Whole>
      <Title>{said}</Title>
      <Head>
        <div style={{ flex: '1 1 480px', minWidth: 0 }}>
          <h1><VerdictWord what={l.stage === 'done' ? (l.verdict ?? 'passed') : 'running'} size={18}><span style={{ whiteSpace: 'normal' }}>{said}</span></VerdictWord></h1>
          <Sub>
            {l.device.serial && <><Link to={`/devices/${encodeURIComponent(l.device.serial)}`}>{what}</Link>, Android {l.device.os}, {l.device.width_dp} dp, {l.device.language} {l.device.simulated && <Simulated>simulated</Simulated>} · </>}
            {l.session ? <>{l.build && `${l.build} · `}<SessionFacts s={l.session} /></> : <>{l.build} with {l.package}</>}
            {attempt?.ended && ` · took ${took(Date.parse(attempt.ended) - Date.parse(attempt.started))}`}
            {run.data && <> · of the run <Link to={`/runs/${l.run_id}`}>{run.data.sentence}</Link></>}
          </Sub>
        </div>
        <Row $gap={8}>
          {l.attempts.length > 1 && <Select label="Attempt" inRow value={String(number)} onChange={(v) => setParams((p) => { p.set('attempt', v); return p; })} options={l.attempts.map((a) => ({ id: String(a.number), text: `${a.number} on ${a.serial}: ${a.verdict ?? a.stage}` }))} />}
          {l.session && <SessionActions s={l.session} cases={l.attempts.at(-1)?.cases ?? []} />}
          <Help />
        </Row>
      </Head>
      {l.session?.message && <Sub>{l.session.message}</Sub>}
      {timeline.error && <Refused error={timeline.error} />}
      {timeline.data?.next !== undefined && !live && <Sub>Only its first {events.length.toLocaleString('en')} events are shown. All of them are in timeline.jsonl among the files.</Sub>}
      {attempt?.message && (attempt.verdict === 'lost' || attempt.verdict === 'invalid') && <Sub>Attempt {attempt.number} on {attempt.serial}, host {attempt.host}: {attempt.message}</Sub>}
      {attempt && attempt.serial !== l.device.serial && <Sub>This attempt ran on <Link to={`/devices/${encodeURIComponent(attempt.serial)}`}>{attempt.serial}</Link>, which is like {l.device.serial}.</Sub>}
      {attempt?.evidence_removed && <Sub>Its evidence was removed <When at={attempt.evidence_removed} />, for its age or for want of room.</Sub>}
      {l.place && !l.session && <Sub>It is {ordinal(l.place)} in the queue for {l.device.serial}, which is {l.device.state}{l.device.why ? `: ${l.device.why}` : ''}.</Sub>}
      <Panes>
        <Screen leg={id} live={live} video={video} cursor={cursor} playing={playing} onPlaying={setPlaying} rate={rate} onRate={setRate} what={what}
          kept={kept.shot && { shot: kept.shot, what: `Screen of ${what}: ${kept.row?.name}`, outlined: [...kept.nodes.filter((n) => n.found), ...(pointed ? [{ ...pointed, found: false }] : [])] }} />
        <Right>
          <Upper>
            <Story rows={shown} cursor={cursor} depth={depth} onDepth={setDepth} />
            <Moment kept={kept} events={events} attempt={attempt} onPoint={setPointed} />
          </Upper>
          <Lane rows={rows} end={end} log={log.data} cursor={cursor} />
          <Below defaultSelectedKey="log">
            <TabList aria-label="More evidence">
              <Tab id="log">Device log</Tab>
              <Tab id="shots">Screenshots</Tab>
              <Tab id="files">Files</Tab>
            </TabList>
            <TabPanel id="log"><DeviceLog leg={id} attempt={number} there={hasLog} live={live} cursor={cursor} /></TabPanel>
            <TabPanel id="shots"><Shots attempt={attempt} events={events} cursor={cursor} /></TabPanel>
            <TabPanel id="files" style={{ overflow: 'auto' }}><Files leg={id} attempt={attempt} session={!!l.session} /></TabPanel>
          </Below>
        </Right>
      </Panes>
    </Whole>
  );
}

/** On arrival the cursor goes to the case that was asked for, else to the first failure; in a leg that goes on it follows what happens. */
function useOpening(cursor: Cursor, rows: StoryRow[], live: boolean, wanted: string | null) {
  const opened = useRef<Cursor>(undefined);
  useEffect(() => {
    if (rows.length === 0) return;
    if (live) {
      const at = cursor.state.by;
      if (at === '' || at === 'live') cursor.move(rows.at(-1)!.at, 'live', rows.at(-1)!.seq);
      return;
    }
    if (opened.current === cursor) return;
    opened.current = cursor;
    const of = wanted ? rows.filter((r) => r.name === wanted && (r.kind === 'case' || r.kind === 'failure')) : rows;
    const to = of.find((r) => r.kind === 'failure') ?? (wanted ? of[0] : undefined) ?? rows.find((r) => r.kind === 'case') ?? rows[0]!;
    cursor.move(to.at, 'opening', to.seq);
  }, [cursor, rows, live, wanted]);
}

/** The keys of the page; not while something is typed. */
function useKeys(cursor: Cursor, rows: StoryRow[], setPlaying: (f: (p: boolean) => boolean) => void, setRate: (r: number) => void, video: boolean) {
  const go = useCallback((step: 1 | -1, kinds: RowKind[]) => {
    const to = rows[nextRow(rows, placeOf(rows, cursor.state.at, cursor.state.row), step, kinds)];
    if (to) cursor.move(to.at, 'key', to.seq);
  }, [cursor, rows]);
  useEffect(() => {
    const key = (e: KeyboardEvent) => {
      const on = e.target as HTMLElement;
      if (e.ctrlKey || e.metaKey || e.altKey || on.closest('input, textarea, [role=dialog], [role=menu]')) return;
      const back = e.shiftKey ? -1 : 1;
      switch (e.key.toLowerCase()) {
        case 'j': return go(1, ['command']);
        case 'k': return go(-1, ['command']);
        case 's': return go(back, ['step']);
        case 'f': return go(back, ['failure']);
        case ' ':
          if (!video || on.closest('button, a, summary, [role=tab], [role=slider]')) return;
          e.preventDefault();
          return setPlaying((p) => !p);
        case '1': case '2': case '3': case '4': case '5':
          return setRate(speeds[Number(e.key) - 1]!);
      }
    };
    document.addEventListener('keydown', key);
    return () => document.removeEventListener('keydown', key);
  }, [go, setPlaying, setRate, video]);
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
