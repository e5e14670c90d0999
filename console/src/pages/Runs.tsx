// All runs, the newest first, each with its sentence and a small mosaic.
import styled from 'styled-components';
import type { Run } from '../data/api';
import { useBuilds, usePackages, useRuns, type RunFilter } from '../data/queries';
import { useSettled } from '../data/settled';
import { useTopics } from '../data/tab';
import { oneOf, text, useView } from '../parts/address';
import { Button, SearchField, Select } from '../parts/controls';
import { Table } from '../parts/Table';
import { Awaited, Empty, Head, Page, Refused, Row, Sub, Title, When } from '../parts/page';
import { Tile } from '../parts/Tile';
import { order, took } from '../words';
import { StartLink } from '../parts/StartLink';

const Small = styled.span`display: inline-flex; flex-wrap: wrap; gap: 2px; width: 94px; vertical-align: middle;`;

/** A run's legs as small tiles, the worst first; of a large run each tile stands for several. */
function Thumbnail({ run }: { run: Run }) {
  const counts: [string, number][] = order.map((v) => [v, run.counts[v] ?? 0]);
  for (const [stage, n] of Object.entries(run.stages)) counts.push([stage === 'waiting' ? 'waiting' : 'running', n]);
  const all = counts.reduce((n, [, k]) => n + k, 0);
  const each = Math.max(1, all / 16);
  const tiles = counts.flatMap(([what, n]) => Array<string>(n && Math.max(1, Math.round(n / each))).fill(what));
  return (
    <Small aria-hidden>
      {tiles.slice(0, 18).map((what, i) => <Tile key={i} what={what} size={9} />)}
    </Small>
  );
}

const Called = styled.span`display: inline-block; max-width: 200px; overflow: hidden; text-overflow: ellipsis; white-space: nowrap;
  vertical-align: middle;`;

const parts = { find: text(), label: text(), build: text(), package: text(), verdict: oneOf(['', ...order] as const, '') };

export default function RunsPage() {
  const [view, setView] = useView(parts);
  useTopics({ list: ['runs', 'builds', 'packages'] });
  const search = useSettled(view.find.trim());
  const filter: RunFilter = {};
  if (view.build) filter.build = view.build;
  if (view.package) filter.package = view.package;
  if (view.verdict) filter.verdict = view.verdict;
  if (view.label) filter.label = [view.label];
  if (search) filter.search = search;
  const runs = useRuns(filter);
  const builds = useBuilds();
  const packages = usePackages();
  const items = runs.data?.pages.flatMap((p) => p.items) ?? [];
  const filtered = Object.keys(filter).length > 0;
  const refs = (list: { ref: string }[] | undefined, any: string) => [
    { id: '', text: any },
    ...[...new Set((list ?? []).map((x) => x.ref))].map((r) => ({ id: r, text: r })),
  ];
  return (
    <Page>
      <Title>Runs</Title>
      <Head>
        <h1>{runs.data ? sentence(items, filtered) : 'Runs'}</h1>
        <StartLink />
      </Head>
      {(items.length > 0 || filtered) && (
        <Row>
          <SearchField label="Search runs" placeholder="name, branch=main …" value={view.find} onChange={(find) => setView({ find })} />
          <Select
            label="Build"
            hideLabel
            value={filter.build ?? ''}
            placeholder="any build"
            onChange={(build) => setView({ build }, 'step')}
            options={refs(
              builds.data?.pages.flatMap((p) => p.items),
              'any build',
            )}
          />
          <Select
            label="Package"
            hideLabel
            value={filter.package ?? ''}
            placeholder="any package"
            onChange={(v) => setView({ package: v }, 'step')}
            options={refs(
              packages.data?.pages.flatMap((p) => p.items),
              'any package',
            )}
          />
          <Select
            label="Verdict"
            hideLabel
            value={filter.verdict ?? ''}
            placeholder="any verdict"
            onChange={(v) => setView({ verdict: v as typeof view.verdict }, 'step')}
            options={[{ id: '', text: 'any verdict' }, ...order.map((v) => ({ id: v, text: v }))]}
          />
          {filtered && (
            <Button onPress={() => setView({ build: '', package: '', verdict: '', label: '', find: '' }, 'step')}>Show all</Button>
          )}
        </Row>
      )}
      {[runs.error, builds.error, packages.error].map((e, i) => (e ? <Refused key={i} error={e} /> : null))}
      {runs.isPending && <Awaited what="the runs" />}
      {runs.data &&
        items.length === 0 &&
        (filtered ? (
          <Sub>No run fits these filters.</Sub>
        ) : (
          <Empty
            title="No runs yet"
            command={'tessellant run start --build kelpline/android@newest --package shore-suite@newest --where platform=android --watch'}
          >
            Upload a build and a test package (drop them anywhere on this page), then start a run here or from a terminal:
          </Empty>
        ))}
      {items.length > 0 && (
        <Table
          label="Runs" items={items} id={(r) => r.id} href={(r) => `/runs/${r.id}`}
          columns={[
            { name: 'result', wide: true, show: (r) => r.sentence },
            { name: 'run', show: (r) => <Called title={r.name}>{r.number}{r.name && ` ${r.name}`}</Called> },
            { name: 'devices', show: (r) => <Thumbnail run={r} /> },
            { name: 'build', show: (r) => r.build },
            { name: 'package', show: (r) => r.package },
            { name: 'started', show: (r) => <When at={r.created} /> },
            { name: 'took', show: (r) => (r.ended ? took(Date.parse(r.ended) - Date.parse(r.created)) : 'still running') },
          ]}
        />
      )}
      {runs.hasNextPage && (
        <div>
          <Button onPress={() => void runs.fetchNextPage()} isDisabled={runs.isFetchingNextPage}>
            Show older runs
          </Button>
        </div>
      )}
    </Page>
  );
}

function sentence(items: Run[], filtered: boolean): string {
  const newest = items[0];
  if (!newest) return filtered ? 'No such run.' : 'Nothing has run yet.';
  const going = items.filter((r) => !r.done);
  if (going.length > 1) return `${going.length} runs are in progress.`;
  if (going[0]) return `A run is in progress: ${going[0].sentence}`;
  return filtered ? 'Runs that fit' : `The newest run: ${newest.sentence}`;
}
