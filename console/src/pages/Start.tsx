// Start a run: what, where, how, and the same as a command line.
import { useState } from 'react';
import { useNavigate, useSearchParams } from 'react-router';
import styled from 'styled-components';
import { useAction } from '../data/action';
import { answer, http, type Build, type Input, type RunRequest } from '../data/api';
import { client, useBuilds, useDevices, useMay, useMe, usePackage, usePackages, usePlan, usePools } from '../data/queries';
import { useSettled } from '../data/settled';
import { useTopics } from '../data/tab';
import { AsText, Covered, Forecast, ToMind } from '../form/Preflight';
import { Keep } from '../form/Keep';
import { Settings } from '../form/Settings';
import { DevicePicker } from '../form/DevicePicker';
import { Units } from '../form/PoolForm';
import {
  formParts,
  limitOf,
  newer,
  openInputs,
  pinned,
  planned,
  platformOf,
  readPlan,
  requestOf,
  secretInputs,
  withOther,
  type Pin,
  type RunForm,
} from '../form/RunForm';
import { useView, type Change } from '../parts/address';
import { Button, Select, TextField } from '../parts/controls';
import { Empty, Findings, Head, Page, Refused, Section, Sub, Title } from '../parts/page';
import { c, narrow, radius } from '../theme';
import { ago, many, platformNames } from '../words';
import { serverNow } from '../data/clock';

const Columns = styled.div`
  display: grid; grid-template-columns: minmax(0, 1fr) 400px; gap: 24px 32px; align-items: start;
  @media (max-width: 1000px) { grid-template-columns: minmax(0, 1fr); }
`;
const Fields = styled.div`display: flex; flex-direction: column; gap: 24px;`;
const Two = styled.div`
  display: grid; grid-template-columns: repeat(2, minmax(0, 1fr)); gap: 12px; ${narrow} { grid-template-columns: minmax(0, 1fr); }
`;
const Side = styled.aside`
  background: ${c.panel}; border: 1px solid ${c.grout}; border-radius: ${radius}; padding: 16px; display: flex; flex-direction: column;
  gap: 16px; position: sticky; top: 16px;
`;

interface Ref { id: string; ref: string; created: string }

/** What a reference of the form means, held while the page is open. */
function usePinned<T extends Ref>(ref: string, items: T[] | undefined): [Pin<T> | undefined, T | undefined, (pin: Pin<T>) => void] {
  const [pin, setPin] = useState<Pin<T>>();
  const now = pinned(pin, ref, items);
  if (now !== pin) setPin(now);
  return [now, newer(now, items), setPin];
}

const inputLabel = (i: Input) => (i.about ? `${i.name}: ${i.about}` : i.name);
const options = (items: Ref[] | undefined) =>
  (items ?? [])
    .filter((x, i, all) => all.findIndex((y) => y.ref === x.ref) === i)
    .map((x) => ({ id: x.ref, text: x.ref, more: ago(x.created, serverNow()) }));

export default function StartPage() {
  const may = useMay('test');
  const role = useMe().data?.role;
  if (may) return <Start />;
  return (
    <Page>
      <Title>Start a run</Title>
      <h1>Your key can’t start runs.</h1>
      <Sub>It has the role {role}. Ask an owner of the workspace for a key with the role engineer.</Sub>
    </Page>
  );
}

/** The builds for devices of other platforms: so that one run covers them, too. */
function OtherBuilds(p: { form: RunForm; set: (change: Change<RunForm>) => void; builds: Build[]; main: string }) {
  const platforms = [...new Set(p.builds.map((b) => b.platform))].filter((x) => x !== p.main).sort();
  if (platforms.length === 0) return null;
  return (
    <Two>
      {platforms.map((platform) => (
        <Select
          key={platform}
          label={`Build for ${platform === 'web' ? 'browsers' : (platformNames[platform] ?? platform)}`}
          value={p.form.others.find((o) => platformOf(o) === platform) ?? 'none'}
          onChange={(v) => p.set(withOther(platform, v === 'none' ? '' : v))}
          options={[{ id: 'none', text: 'none' }, ...options(p.builds.filter((b) => b.platform === platform))]}
        />
      ))}
    </Two>
  );
}

function Start() {
  const [form, set] = useView(formParts);
  const [params, setParams] = useSearchParams();
  const navigate = useNavigate();
  useTopics({ list: ['builds', 'packages', 'devices'] });
  const builds = useBuilds();
  const packages = usePackages();
  const devices = useDevices();
  const pools = usePools();
  const [secrets, setSecrets] = useState<Record<string, string>>({}); // never in the address
  const buildItems = builds.data?.pages.flatMap((p) => p.items);
  const packageItems = packages.data?.pages.flatMap((p) => p.items);
  const [build, newerBuild, pinBuild] = usePinned(form.build, buildItems);
  const [pkg, newerPackage, pinPackage] = usePinned(form.package, packageItems);
  // One that is too old to be in the list is taken by the reference that the address has.
  const ids = { build: build?.item.id ?? (buildItems ? form.build : ''), package: pkg?.item.id ?? (packageItems ? form.package : '') };
  const chosen = usePackage(ids.package).data;
  const [asked, hidden] = [openInputs(chosen?.inputs), secretInputs(chosen?.inputs)];
  const given = Object.fromEntries(asked.map((i) => [i.name, params.get(`set.${i.name}`) ?? '']));
  const told = Object.fromEntries(hidden.map((i) => [i.name, secrets[i.name] ?? '']));
  const request = requestOf(form, { ...ids, given, secrets: told });
  const settled = useSettled(request);
  const plan = usePlan(planned(settled));
  const resting = JSON.stringify(settled) === JSON.stringify(request);
  const { taking, unfit, blocked, said } = readPlan(request && !plan.error ? plan.data : undefined);
  const start = useAction(async (q: RunRequest, key) => {
    const run = await answer(http.POST('/runs', { body: q, params: { header: { 'Idempotency-Key': key } } }));
    client.setQueryData(['run', run.id], run);
    void navigate(`/runs/${run.id}`);
  });
  const setInput = (name: string, v: string) => {
    const p = new URLSearchParams(location.search); // what the page was drawn with may be older
    if (v) p.set(`set.${name}`, v);
    else p.delete(`set.${name}`);
    setParams(p, { replace: true });
  };

  if (buildItems?.length === 0 || packageItems?.length === 0) {
    return (
      <Page>
        <Title>Start a run</Title>
        <h1>A run needs a build and a test package.</h1>
        {buildItems?.length === 0 && (
          <Empty title="No builds yet" command="tessellant build add app.apk">
            Drop an .apk or an .ipa here, or from a terminal:
          </Empty>
        )}
        {packageItems?.length === 0 && (
          <Empty title="No packages yet" command="tessellant package add my-tests/">
            Drop a .zip here, or from a terminal:
          </Empty>
        )}
      </Page>
    );
  }
  const limit = limitOf(form.limit);
  const ready = request && plan.data && !plan.error;
  const cannot = !request || taking.size === 0 || blocked.length > 0 || plan.isPlaceholderData || !resting;
  return (
    <Page>
      <Title>Start a run</Title>
      <Head>
        <div>
          <h1>
            {!ready
              ? 'Start a run'
              : taking.size === 0 || blocked.length > 0
                ? 'This run can’t start yet.'
                : headline(plan.data.legs.length, taking.size, plan.data.cases)}
          </h1>
          <Sub>Nothing starts until you press the button.</Sub>
        </div>
      </Head>
      {[builds.error, packages.error, devices.error].map((e, i) => (e ? <Refused key={i} error={e} /> : null))}
      <Columns>
        <Fields>
          <Section aria-labelledby="what">
            <h2 id="what">What</h2>
            <Two>
              <Select
                label="Build"
                value={build?.item.ref ?? form.build}
                onChange={(v) => set({ build: v })}
                options={options(buildItems)}
              />
              <Select
                label="Package"
                value={pkg?.item.ref ?? form.package}
                onChange={(v) => set({ package: v })}
                options={options(packageItems)}
              />
            </Two>
            <OtherBuilds form={form} set={set} builds={buildItems ?? []} main={build?.item.platform ?? platformOf(form.build)} />
            {newerBuild && <Come what="build" item={newerBuild} onTake={() => pinBuild({ ref: form.build, item: newerBuild })} />}
            {newerPackage && (
              <Come what="package" item={newerPackage} onTake={() => pinPackage({ ref: form.package, item: newerPackage })} />
            )}
          </Section>
          {(asked.length > 0 || hidden.length > 0) && (
            <Section aria-labelledby="inputs">
              <h2 id="inputs">Inputs</h2>
              <Two>
                {asked.map((i) => (
                  <TextField
                    key={i.name}
                    label={inputLabel(i)}
                    value={given[i.name] ?? ''}
                    onChange={(v) => setInput(i.name, v)}
                    placeholder={i.default}
                  />
                ))}
                {hidden.map((i) => (
                  <TextField
                    key={i.name}
                    label={inputLabel(i)}
                    type="password"
                    autoComplete="new-password"
                    value={secrets[i.name] ?? ''}
                    onChange={(v) => setSecrets((s) => ({ ...s, [i.name]: v }))}
                    hint="Secret: it is masked in all evidence, and deleted when the run has finished."
                  />
                ))}
              </Two>
            </Section>
          )}
          <DevicePicker form={form} set={set} devices={devices.data ?? []} pools={pools.data ?? []} taking={taking} unfit={unfit} />
          <Settings form={form} set={set} />
          <Section aria-labelledby="how">
            <h2 id="how">How</h2>
            <Two>
              <TextField
                label="Cases: names, * for anything; empty: all"
                mono
                value={form.cases}
                onChange={(v) => set({ cases: v })}
                placeholder="survey.*"
              />
              <TextField label="Tags" mono value={form.tags} onChange={(v) => set({ tags: v })} placeholder="smoke" />
              <Select
                label="Try a failed case again"
                value={form.confirm}
                onChange={(v) => set({ confirm: v as typeof form.confirm })}
                options={[
                  { id: '0', text: 'not at all' },
                  { id: '1', text: 'once' },
                  { id: '2', text: 'twice' },
                  { id: '3', text: 'three times' },
                ]}
              />
              <TextField
                label="Time limit on each device, in minutes"
                value={form.limit}
                onChange={(v) => set({ limit: v })}
                hint={limit ? undefined : 'Enter a number from 0.02 (a second) to 1440 (a day).'}
              />
              <Select
                label="The cases"
                value={form.spread || 'each'}
                onChange={(v) => set({ spread: v === 'yes' ? 'yes' : '' })}
                options={[
                  { id: 'each', text: 'all on each device' },
                  { id: 'yes', text: 'shared out among devices that are alike' },
                ]}
              />
              <Select
                label="Texts are typed"
                value={form.typing}
                onChange={(v) => set({ typing: v as typeof form.typing })}
                options={[
                  { id: 'own', text: 'by the device’s input: Latin letters' },
                  { id: 'any', text: 'by a keyboard that is installed: any' },
                ]}
              />
              <Units value={form.units} onChange={(units) => set({ units })} />
              <TextField label="Name" value={form.name} onChange={(name) => set({ name })} placeholder="nightly" />
              <TextField label="Labels" mono value={form.labels} onChange={(v) => set({ labels: v })} placeholder="branch=main" />
            </Two>
          </Section>
          <Keep form={form} set={set} />
        </Fields>
        <Side aria-label="The run">
          {request && plan.error && <Refused error={plan.error} />}
          {blocked.length > 0 && <Findings of={blocked} />}
          {!request && (
            <Sub>
              {form.by === 'name' && form.devices.length === 0
                ? 'Choose at least one device.'
                : 'Choose a build, a package and a time limit.'}
            </Sub>
          )}
          {ready && taking.size > 0 && limit && <Forecast plan={plan.data} limit={limit} />}
          {ready && taking.size > 0 && plan.data.cover && <Covered of={plan.data.cover} />}
          {ready && unfit.size > 0 && taking.size > 0 && (
            <Sub>{many(unfit.size, 'device')} can’t take part, or not in every variant: the tiles say why.</Sub>
          )}
          {ready && <ToMind of={said} />}
          {request && (
            <AsText
              of={request}
              file={plan.data?.file}
              build={build?.item.ref ?? ids.build}
              pkg={pkg?.item.ref ?? ids.package}
              secrets={hidden.map((i) => i.name)}
            />
          )}
          {start.error !== undefined && <Refused error={start.error} />}
          <Button $main onPress={() => request && void start.run(request)} isDisabled={cannot || start.busy}>
            {start.busy ? 'Starting …' : taking.size ? `Start on ${many(taking.size, 'device')}` : 'Start'}
          </Button>
        </Side>
      </Columns>
    </Page>
  );
}

/** What a run would be, in a sentence. */
function headline(legs: number, devices: number, cases: number): string {
  const where = legs === devices ? many(devices, 'device') : `${many(legs, 'leg')} on ${many(devices, 'device')}`;
  return cases ? `${where} × ${many(cases, 'case')}.` : `A program: ${where}.`;
}

/** A newer one has come while the form was open. It is only taken when a person wants it. */
function Come({ what, item, onTake }: { what: string; item: Ref; onTake: () => void }) {
  return <Sub role="status">A newer {what} was uploaded: {item.ref}. <Button $small onPress={onTake}>Use it</Button></Sub>;
}
