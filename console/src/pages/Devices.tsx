// All devices and how they stand: as a mosaic by host and place, or as a table.
import { Link } from 'react-router';
import type { Device, Fit, Lab } from '../data/api';
import { useBuilds, useDevices, useFits, useHosts, useLabs } from '../data/queries';
import { useTopics } from '../data/tab';
import { oneOf, text, useView } from '../parts/address';
import { Choose, SearchField, Select } from '../parts/controls';
import { DeviceTiles, State } from '../parts/DeviceTiles';
import { Table } from '../parts/Table';
import { Awaited, Empty, Head, Page, Refused, Row, Section, Simulated, Sub, Title, When } from '../parts/page';
import { many, systemOf, widthOf } from '../words';
import Lent from '../devices/Lent';
import { InHands } from '../hands/Holds';
import Pair from '../devices/Pair';

/** Whether all the words stand somewhere in a device's facts. */
function matches(d: Device, words: string): boolean {
  const all = [
    d.serial,
    d.maker,
    d.model,
    d.system,
    `api ${d.api}`,
    d.form,
    d.origin,
    d.state,
    d.language,
    d.simulated ? 'simulated' : '',
    d.place ?? '',
    ...Object.entries(d.labels ?? {}).map(([k, v]) => `${k}=${v}`),
  ]
    .join(' ')
    .toLowerCase();
  return words
    .toLowerCase()
    .split(/\s+/)
    .every((w) => all.includes(w));
}

const parts = { find: text(), sort: text(), as: oneOf(['mosaic', 'table'] as const, 'mosaic'), runs: text() };

export default function DevicesPage() {
  const devices = useDevices();
  const [{ find: words, sort, as, runs }, setView] = useView(parts);
  const builds = useBuilds().data?.pages.flatMap((p) => p.items) ?? [];
  const fits = useFits(runs);
  useTopics({ list: ['devices', 'sessions'] });
  const all = devices.data ?? [];
  const items = all.filter((d) => matches(d, words));
  const n = (s: Device['state']) => all.filter((d) => d.state === s).length;
  const counts = [
    [n('free'), 'free'],
    [n('held'), 'held'],
    [n('away'), 'away'],
    [n('unusable'), 'unusable'],
    [n('quarantined'), 'quarantined'],
  ]
    .filter(([k]) => k)
    .map(([k, s]) => `${k} ${s}`);
  const trouble = all.filter((d) => d.why);
  const limited = all.filter((d) => d.limits);
  return (
    <Page>
      <Title>Devices</Title>
      <Head>
        <div>
          <h1>{all.length ? `${many(all.length, 'device')}: ${counts.join(', ')}.` : 'Devices'}</h1>
          <Sub>
            {all.some((d) => d.simulated)
              ? 'Those marked simulated are stand-ins that ship with Tessellant.'
              : 'What the hosts of this installation see.'}
          </Sub>
        </div>
        {all.length > 0 && (
          <Row $gap={12}>
            <Link to="/pools">Pools</Link>
            <Choose label="Show the devices as" value={as} onChange={(v) => setView({ as: v as typeof as })}
              options={[{ id: 'mosaic', text: 'mosaic' }, { id: 'table', text: 'table' }]} />
            {as === 'mosaic' && builds.length > 0 && (
              <Select label="Which devices can run a build" hideLabel value={runs || 'any'}
                onChange={(v) => setView({ runs: v === 'any' ? '' : v })}
                options={[
                  { id: 'any', text: 'can run …' },
                  ...[...new Set(builds.map((b) => b.ref))].map((ref) => ({ id: ref, text: `can run ${ref}` })),
                ]} />
            )}
            <SearchField
              label="Narrow the devices"
              placeholder="maker, model, android 14 …"
              value={words}
              onChange={(find) => setView({ find })}
            />
          </Row>
        )}
      </Head>
      {devices.error && <Refused error={devices.error} />}
      {devices.isPending && <Awaited what="the devices" />}
      {devices.data && all.length === 0 && (
        <Empty title="No devices yet" command="tessellant serve --connect 192.168.1.23:5555">
          Plug a phone in where the service runs, with USB debugging allowed on it; or give the address of one on the network:
        </Empty>
      )}
      {all.length > 0 && items.length === 0 && <Sub>No device fits “{words}”.</Sub>}
      {fits.error && <Refused error={fits.error} />}
      {as === 'mosaic' && <ByHost devices={items} fits={runs ? fits.data : undefined} />}
      {as === 'table' && items.length > 0 && (
        <Table
          label="Devices"
          items={items}
          id={(d) => d.serial}
          href={(d) => `/devices/${encodeURIComponent(d.serial)}`}
          sort={sort}
          onSort={(by) => setView({ sort: by })}
          columns={[
            { name: 'serial', show: (d) => d.serial, sort: (d) => d.serial },
            { name: 'state', show: (d) => <State of={d.state} />, sort: (d) => d.state },
            {
              name: 'maker and model',
              wide: true,
              sort: (d) => `${d.maker} ${d.model}`,
              show: (d) => (
                <Row $gap={8}>
                  {d.maker} {d.model} {d.simulated && <Simulated>simulated</Simulated>}
                </Row>
              ),
            },
            { name: 'origin', sort: (d) => d.origin, show: (d) => `${d.origin}${d.form && d.form !== 'phone' ? `, ${d.form}` : ''}` },
            { name: 'system', sort: (d) => d.system, show: systemOf },
            { name: 'screen', sort: (d) => d.width * d.height, show: (d) => `${d.width} × ${d.height}` },
            { name: 'width', sort: (d) => d.width_dp, show: widthOf },
            { name: 'memory', sort: (d) => d.memory_mb, show: (d) => (d.memory_mb ? `${Math.round(d.memory_mb / 1024)} GB` : '') },
            { name: 'language', show: (d) => d.language, sort: (d) => d.language },
            { name: 'host', show: (d) => d.host, sort: (d) => d.host },
          ]}
        />
      )}
      {trouble.length > 0 && (
        <Section aria-labelledby="why">
          <h2 id="why">Why some are not available</h2>
          {trouble.map((d) => (
            <p key={d.serial}>
              <strong>{d.serial}</strong>: {d.why}{' '}
              {d.state === 'away' && (
                <Sub as="span">
                  (last seen <When at={d.seen} />)
                </Sub>
              )}
            </p>
          ))}
        </Section>
      )}
      {limited.length > 0 && (
        <Section aria-labelledby="limits">
          <h2 id="limits">What some makers and labs do not allow</h2>
          {alike(limited).map(([limits, serials]) => <p key={limits}><strong>{serials.join(', ')}</strong>: {limits}.</p>)}
        </Section>
      )}
      <InHands />
      <Labs />
      <Lent />
      <Hosts />
    </Page>
  );
}

/** Devices with the same limits, together. */
function alike(devices: Device[]): [string, string[]][] {
  const by = new Map<string, string[]>();
  for (const d of devices) {
    const limits = d.limits!.join('; ');
    by.set(limits, [...(by.get(limits) ?? []), d.serial]);
  }
  return [...by];
}

/** Where devices come from besides the adb server: how many may be used at a time, and how much they were. */
function Labs() {
  const labs = (useLabs().data ?? []).filter((l) => l.kind !== 'adb');
  if (labs.length === 0) return null;
  return (
    <Section aria-labelledby="labs">
      <h2 id="labs">Labs</h2>
      <Table label="Labs" items={labs} id={(l: Lab) => `${l.name}@${l.host}`}
        columns={[
          { name: 'lab', show: (l) => l.name },
          { name: 'host', show: (l) => l.host },
          { name: 'place', show: (l) => l.place },
          { name: 'state', show: (l) => l.state },
          { name: 'devices', show: (l) => l.devices },
          { name: 'sessions open', show: (l) => (l.at_once ? `${l.open} of ${l.at_once}` : l.open) },
          { name: 'waiting there', show: (l) => l.waiting },
          { name: 'used today', show: (l) => (l.day_limit ? `${l.used_minutes} of ${l.day_limit} min` : `${l.used_minutes} min`) },
        ]}
      />
      {labs.filter((l) => l.why).map((l) => <p key={l.name + l.host}><strong>{l.name}</strong>: {l.why}</p>)}
    </Section>
  );
}

/** The devices of each host, and of each lab and place. */
function ByHost({ devices, fits }: { devices: Device[]; fits?: Map<string, Fit> }) {
  const by = new Map<string, Device[]>();
  for (const d of devices) {
    const where = [d.host, d.lent && d.lab, d.place].filter(Boolean).join(', ');
    by.set(where, [...(by.get(where) ?? []), d]);
  }
  return [...by].sort(([a], [b]) => (a < b ? -1 : 1)).map(([where, of]) => (
    <Section key={where} aria-label={where}>
      <h2>{where} <Sub as="span">· {many(of.length, 'device')}</Sub></h2>
      <DeviceTiles devices={of} fits={fits} />
    </Section>
  ));
}

/** The processes that work on the devices. */
function Hosts() {
  const hosts = useHosts();
  if (hosts.error) return <Refused error={hosts.error} />;
  if (!hosts.data) return null;
  return (
    <Section aria-labelledby="hosts">
      <h2 id="hosts">Hosts</h2>
      <Table label="Hosts" items={hosts.data} id={(h) => h.name}
        columns={[
          { name: 'host', show: (h) => h.name },
          { name: 'state', show: (h) => h.state },
          { name: 'kind', wide: true, show: (h) => (h.kind === 'built-in' ? 'built into the service' : 'a process that joined') },
          { name: 'devices', show: (h) => h.devices },
          { name: 'at work', show: (h) => h.holds },
          { name: 'version', show: (h) => h.version },
          { name: 'seen', show: (h) => (h.state === 'up' ? 'now' : h.seen ? <When at={h.seen} /> : 'never') },
        ]}
      />
      <Pair hosts={hosts.data} />
    </Section>
  );
}
