// Start a run: what, where, how, and the same as a command line.
import { useState } from 'react';
import { ListBox, ListBoxItem } from 'react-aria-components';
import { useNavigate, useSearchParams } from 'react-router';
import styled from 'styled-components';
import { answer, http, type Device, type Input, type RunRequest } from '../data/api';
import { client, useBuilds, useDevices, usePackage, usePackages, usePlan } from '../data/queries';
import { Button, Choose, Select, TextField } from '../parts/controls';
import { Command, Empty, Faint, Findings, Head, Page, Refused, Row, Section, Simulated, Sub, Title } from '../parts/page';
import { c, narrow, radius } from '../theme';
import { ago, many, shellWord, took } from '../words';
import { patterns } from './patterns';

const Columns = styled.div`display: grid; grid-template-columns: minmax(0, 1fr) 400px; gap: 24px 32px; align-items: start; @media (max-width: 1000px) { grid-template-columns: minmax(0, 1fr); }`;
const Two = styled.div`display: grid; grid-template-columns: repeat(2, minmax(0, 1fr)); gap: 12px; ${narrow} { grid-template-columns: minmax(0, 1fr); }`;
const Side = styled.aside`background: ${c.panel}; border: 1px solid ${c.grout}; border-radius: ${radius}; padding: 16px; display: flex; flex-direction: column; gap: 16px; position: sticky; top: 16px;`;
const Tiles = styled(ListBox)`display: grid; grid-template-columns: repeat(auto-fill, minmax(176px, 1fr)); gap: 8px; outline: none;` as unknown as typeof ListBox; // styled forgets what the items are
const DeviceTile = styled(ListBoxItem)<{ $in: boolean }>`
  border: 1.5px ${(p) => (p.$in ? 'solid' : 'dashed')} ${(p) => (p.$in ? c.lapis : c.grout)}; background: ${(p) => (p.$in ? c.chosen : c.panel)}; border-radius: ${radius}; padding: 8px; outline: none;
  display: flex; flex-direction: column; font-size: 13px; line-height: 18px; cursor: default; min-width: 0; overflow-wrap: anywhere;
  &[data-selection-mode] { cursor: pointer; }
  strong { font-size: 14px; }
  &[data-focus-visible] { outline: 2px solid ${c.lapis}; outline-offset: 2px; }
  &[data-hovered] { border-color: ${c.lapis}; }
`;
const Why = styled.span`border-left: 2px solid ${c.failed}; padding-left: 6px; margin-top: 4px;`;

/** The run as a command line. */
export function commandLine(q: RunRequest): string {
  const limit = q.limit_seconds ?? 1800;
  const parts = ['tessellant run start', `--build ${shellWord(q.build)}`, `--package ${shellWord(q.package)}`];
  for (const w of q.where ?? []) parts.push(`--where ${shellWord(w)}`);
  for (const d of q.devices ?? []) parts.push(`--device ${shellWord(d)}`);
  for (const k of q.cases ?? []) parts.push(`--case ${shellWord(k)}`);
  for (const t of q.tags ?? []) parts.push(`--tag ${shellWord(t)}`);
  if (q.confirm) parts.push(`--confirm ${q.confirm}`);
  for (const [k, v] of Object.entries(q.inputs ?? {})) parts.push(`--set ${shellWord(`${k}=${v}`)}`);
  for (const k of Object.keys(q.secrets ?? {})) parts.push(`--secret-from-env ${k}=${k.toUpperCase().replaceAll('-', '_')}`);
  if (limit !== 1800) parts.push(`--limit ${limit % 60 === 0 ? `${limit / 60}m` : `${limit}s`}`);
  return [...parts, '--watch'].join(' \\\n  ');
}

export default function StartPage() {
  const [params, setParams] = useSearchParams();
  const navigate = useNavigate();
  const builds = useBuilds().data?.pages.flatMap((p) => p.items);
  const packages = usePackages().data?.pages.flatMap((p) => p.items);
  const devices = useDevices().data ?? [];
  const [error, setError] = useState<unknown>();
  const [busy, setBusy] = useState(false);
  const [secrets, setSecrets] = useState<Record<string, string>>({}); // never in the address
  const set = (k: string, v: string) => setParams((p) => { if (v) p.set(k, v); else p.delete(k); return p; }, { replace: true });

  const build = params.get('build') ?? builds?.[0]?.ref ?? '';
  const pkg = params.get('package') ?? packages?.[0]?.ref ?? '';
  const byName = params.get('by') === 'name';
  const typed = params.get('where') ?? 'platform=android';
  const named = params.get('devices')?.split(',').filter(Boolean) ?? [];
  const minutes = params.get('limit') ?? '30';
  const limit = Math.round(Number(minutes) * 60);
  const goodLimit = Number.isFinite(limit) && limit >= 1 && limit <= 86400;
  const chosen = usePackage(pkg).data;
  const asked = (chosen?.inputs ?? []).filter((i) => !i.secret);
  const hidden = (chosen?.inputs ?? []).filter((i) => i.secret);
  const given = Object.fromEntries(asked.map((i) => [i.name, params.get(`set.${i.name}`) ?? '']).filter(([, v]) => v)) as Record<string, string>;
  const told = Object.fromEntries(hidden.map((i) => [i.name, secrets[i.name] ?? '']).filter(([, v]) => v)) as Record<string, string>;
  const wanted = patterns(params.get('cases') ?? '');
  const tags = patterns(params.get('tags') ?? '');
  const confirm = Number(params.get('confirm') ?? '0');
  const request: RunRequest | undefined = build && pkg && goodLimit && (!byName || named.length > 0)
    ? { build, package: pkg, limit_seconds: limit, confirm, attempts: 2, ...(wanted.length ? { cases: wanted } : {}), ...(tags.length ? { tags } : {}),
        ...(Object.keys(given).length ? { inputs: given } : {}), ...(Object.keys(told).length ? { secrets: told } : {}), ...(byName ? { devices: named } : patterns(typed).length ? { where: patterns(typed) } : {}) } : undefined;
  const plan = usePlan(request);
  const inRun = new Set(request && plan.data && !plan.error ? plan.data.devices : []);
  const unfit = new Map((request && plan.data ? plan.data.findings : []).filter((f) => f.device).map((f) => [f.device!, f]));
  const blocked = plan.data?.findings.filter((f) => !f.device) ?? [];

  async function start() {
    setBusy(true);
    setError(undefined);
    try {
      const run = await answer(http.POST('/runs', { body: request!, params: { header: { 'Idempotency-Key': crypto.getRandomValues(new Uint32Array(4)).join('-') } } }));
      client.setQueryData(['run', run.id], run);
      void navigate(`/runs/${run.id}`);
    } catch (e) {
      setError(e);
      setBusy(false);
    }
  }

  if (builds?.length === 0 || packages?.length === 0) {
    return (
      <Page>
        <Title>Start a run</Title>
        <h1>A run needs a build and a test package.</h1>
        {builds?.length === 0 && <Empty title="No builds yet" command="tessellant build add app.apk">Drop an .apk here, or from a terminal:</Empty>}
        {packages?.length === 0 && <Empty title="No packages yet" command="tessellant package add my-tests/">Drop a .zip here, or from a terminal:</Empty>}
      </Page>
    );
  }
  const refs = (list: { ref: string; created: string }[] | undefined) => (list ?? []).filter((x, i, a) => a.findIndex((y) => y.ref === x.ref) === i).map((x) => ({ id: x.ref, text: x.ref, more: ago(x.created) }));
  return (
    <Page>
      <Title>Start a run</Title>
      <Head>
        <div>
          <h1>{!request || !plan.data ? 'Start a run' : inRun.size === 0 || blocked.length > 0 ? 'This run can’t start yet.' : plan.data.cases ? `${many(inRun.size, 'device')} × ${many(plan.data.cases, 'case')}.` : `A program on ${many(inRun.size, 'device')}.`}</h1>
          <Sub>Nothing starts until you press the button.</Sub>
        </div>
      </Head>
      <Columns>
        <div style={{ display: 'flex', flexDirection: 'column', gap: 24 }}>
          <Section aria-labelledby="what">
            <h2 id="what">What</h2>
            <Two>
              <Select label="Build" value={build} onChange={(v) => set('build', v)} options={refs(builds)} />
              <Select label="Package" value={pkg} onChange={(v) => set('package', v)} options={refs(packages)} />
            </Two>
          </Section>
          {(asked.length > 0 || hidden.length > 0) && (
            <Section aria-labelledby="inputs">
              <h2 id="inputs">Inputs</h2>
              <Two>
                {asked.map((i) => <TextField key={i.name} label={inputLabel(i)} value={params.get(`set.${i.name}`) ?? ''} onChange={(v) => set(`set.${i.name}`, v)} placeholder={i.default} />)}
                {hidden.map((i) => <TextField key={i.name} label={inputLabel(i)} type="password" autoComplete="new-password" value={secrets[i.name] ?? ''} onChange={(v) => setSecrets((s) => ({ ...s, [i.name]: v }))} hint="Secret: masked wherever it comes, and forgotten when the run is over." />)}
              </Two>
            </Section>
          )}
          <Section aria-labelledby="where">
            <Row style={{ justifyContent: 'space-between' }}>
              <h2 id="where">Where</h2>
              <Choose label="How devices are chosen" value={byName ? 'name' : 'filter'} onChange={(v) => set('by', v === 'name' ? 'name' : '')} options={[{ id: 'filter', text: 'by a filter' }, { id: 'name', text: 'one by one' }]} />
            </Row>
            {!byName && <TextField label="Filter: patterns over traits, all of which must hold" mono value={typed} onChange={(v) => set('where', v || ' ')} placeholder='maker=Orrery os>=10' hint={<>Such as <code>maker=Orrery,Fennel</code>, <code>os&gt;=10</code>, <code>model=Skerry*</code>, <code>form!=tablet</code>. Empty: any device.</>} />}
            {byName && <Sub>Press the devices that should take part.</Sub>}
            <Tiles aria-label="Devices" items={devices.map((d) => ({ id: d.serial, d, state: inRun.has(d.serial), why: unfit.get(d.serial) }))} layout="grid"
              selectionMode={byName ? 'multiple' : 'none'} selectedKeys={byName ? named : []} onSelectionChange={(keys) => set('devices', keys === 'all' ? devices.map((d) => d.serial).join(',') : [...keys].join(','))}>
              {(x) => <DeviceCard d={x.d} inRun={x.state} why={x.why?.what} />}
            </Tiles>
          </Section>
          <Section aria-labelledby="how">
            <h2 id="how">How</h2>
            <Two>
              <TextField label="Cases: names, * for anything; empty: all" mono value={params.get('cases') ?? ''} onChange={(v) => set('cases', v)} placeholder="survey.*" />
              <TextField label="Tags" mono value={params.get('tags') ?? ''} onChange={(v) => set('tags', v)} placeholder="smoke" />
              <Select label="A failed case is tried again" value={String(confirm)} onChange={(v) => set('confirm', v === '0' ? '' : v)} options={[{ id: '0', text: 'not at all' }, { id: '1', text: 'once' }, { id: '2', text: 'twice' }, { id: '3', text: 'three times' }]} />
              <TextField label="Time limit on each device, in minutes" value={minutes} onChange={(v) => set('limit', v)} hint={goodLimit ? undefined : 'Choose a number from 0.02 (a second) to 1440 (a day).'} />
            </Two>
          </Section>
        </div>
        <Side aria-label="The run">
          {request && plan.error && <Refused error={plan.error} />}
          {blocked.length > 0 && <Findings of={blocked} />}
          {!request && <Sub>{byName && named.length === 0 ? 'Choose at least one device.' : 'Choose a build, a package and a time limit.'}</Sub>}
          {request && plan.data && !plan.error && inRun.size > 0 && (
            <p>{many(inRun.size, 'device')}, {plan.data.cases ? `${many(plan.data.cases, 'case')} on each` : 'the cases are seen when it runs'}, at most {took(limit * 1000)} on a device.{unfit.size > 0 && ` ${many(unfit.size, 'device')} chosen too can’t take part: the tiles say why.`}</p>
          )}
          {request && <div><Faint>The same from a terminal</Faint><Command>{commandLine({ ...request, secrets: Object.fromEntries(hidden.map((i) => [i.name, ''])) })}</Command></div>}
          {error !== undefined && <Refused error={error} />}
          <Button $main onPress={() => void start()} isDisabled={!request || inRun.size === 0 || blocked.length > 0 || busy || plan.isPlaceholderData}>{busy ? 'Starting …' : inRun.size ? `Start on ${many(inRun.size, 'device')}` : 'Start'}</Button>
        </Side>
      </Columns>
    </Page>
  );
}

const inputLabel = (i: Input) => (i.about ? `${i.name}: ${i.about}` : i.name);

function DeviceCard({ d, inRun, why }: { d: Device; inRun: boolean; why?: string }) {
  const stands = inRun ? 'takes part' : why ? `can't: ${why}` : 'not chosen';
  return (
    <DeviceTile id={d.serial} textValue={`${d.serial}, ${d.maker} ${d.model}, Android ${d.os}, ${d.state}: ${stands}`} $in={inRun}>
      <Row style={{ justifyContent: 'space-between' }} $gap={4}><strong>{d.serial}</strong>{d.simulated && <Simulated>simulated</Simulated>}</Row>
      <span>{d.maker} {d.model}</span>
      <Faint>Android {d.os} · {d.width_dp} dp · {d.state}</Faint>
      {why && <Why>{why}</Why>}
    </DeviceTile>
  );
}
