// All devices and how they stand: as a mosaic by host and place, or as a table.
import { memo } from 'react';
import { Link } from 'react-router';
import styled from 'styled-components';
import type { Device, Fit, Load } from '../data/api';
import { useNow } from '../data/clock';
import { useBuilds, useDevices, useFits, useHosts, useLoads } from '../data/queries';
import { useTopics } from '../data/tab';
import { oneOf, text, useView } from '../parts/address';
import { Choose, SearchField, Select } from '../parts/controls';
import { Table } from '../parts/Table';
import { Awaited, Empty, Head, Page, Refused, Row, Section, Simulated, Sub, Title, When } from '../parts/page';
import { c, narrow, radius } from '../theme';
import { many, took } from '../words';
import Pair from './Pair';

const full = (colour: string) => `border-color: ${colour}; background: ${colour};`;
const dots: Record<Device['state'], string> = {
  free: full(c.passed),
  held: `border-color: ${c.lapis}; background: linear-gradient(135deg, ${c.lapis} 50%, transparent 50%);`,
  quarantined: `border-color: ${c.flaky}; background: linear-gradient(${c.flaky}, ${c.flaky}) center / 6px 2px no-repeat;`,
  unusable: `background: repeating-linear-gradient(45deg, ${c.hollow} 0 1.5px, transparent 1.5px 4px);`,
  away: '',
};
const Dot = styled.span<{ $state: Device['state'] }>`
  width: 10px; height: 10px; flex: none; border: 1.5px solid ${c.hollow}; ${(p) => dots[p.$state]}
`;

const Stands = styled.span`display: inline-flex; align-items: center; gap: 8px; white-space: nowrap;`;

export const State = ({ of }: { of: Device['state'] }) => <Stands><Dot $state={of} aria-hidden />{of}</Stands>;

/** Whether all the words stand somewhere in a device's facts. */
export function matches(d: Device, words: string): boolean {
  const all = [
    d.serial,
    d.maker,
    d.model,
    `android ${d.os}`,
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
  useTopics({ list: ['devices'] });
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
            { name: 'Android', sort: (d) => d.api, show: (d) => `${d.os} (API ${d.api})` },
            { name: 'screen', sort: (d) => d.width * d.height, show: (d) => `${d.width} × ${d.height}` },
            { name: 'width', sort: (d) => d.width_dp, show: (d) => `${d.width_dp} dp` },
            { name: 'memory', sort: (d) => d.memory_mb, show: (d) => `${Math.round(d.memory_mb / 1024)} GB` },
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
          <h2 id="limits">What some makers forbid</h2>
          {limited.map((d) => <p key={d.serial}><strong>{d.serial}</strong>: {d.limits!.join('; ')}.</p>)}
        </Section>
      )}
      <Hosts />
    </Page>
  );
}

const Tiles = styled.ul`
  display: grid; grid-template-columns: repeat(auto-fill, minmax(184px, 1fr)); gap: 8px; ${narrow} { grid-template-columns: 1fr 1fr; }
`;
const TileBox = styled.li<{ $state: Device['state'] }>`
  border: 1px solid ${c.grout}; border-left: 4px solid ${(p) => sides[p.$state]}; border-radius: ${radius}; background: ${c.panel};
  font-size: 13px; line-height: 18px; min-width: 0; contain: layout paint; content-visibility: auto; contain-intrinsic-size: auto 78px;
  a { display: block; padding: 6px 8px; color: ${c.ink}; overflow-wrap: anywhere; }
  a:hover { text-decoration: none; background: ${c.hover}; }
  strong { font-size: 14px; }
  small { font-size: 13px; color: ${c.faint}; display: block; }
`;
const sides: Record<Device['state'], string> = { free: c.passed, held: c.lapis, quarantined: c.flaky, unusable: c.hollow, away: c.hollow };

/** The devices of each host, and of each place. */
function ByHost({ devices, fits }: { devices: Device[]; fits?: Map<string, Fit> }) {
  const by = new Map<string, Device[]>();
  for (const d of devices) {
    const where = [d.host, d.place].filter(Boolean).join(', ');
    by.set(where, [...(by.get(where) ?? []), d]);
  }
  return [...by].sort(([a], [b]) => (a < b ? -1 : 1)).map(([where, of]) => (
    <Section key={where} aria-label={where}>
      <h2>{where} <Sub as="span">· {many(of.length, 'device')}</Sub></h2>
      <DeviceTiles devices={of} fits={fits} />
    </Section>
  ));
}

/** A tile a device: what it is, how it stands, who holds it until when, how many wait for it. */
export function DeviceTiles({ devices, fits }: { devices: Device[]; fits?: Map<string, Fit> }) {
  const loads = useLoads().data;
  const now = useNow(5_000);
  return (
    <Tiles>
      {devices.map((d) => (
        <One key={d.serial} d={d} load={loads?.get(d.serial)} now={d.state === 'held' ? now : 0} fit={fits?.get(d.serial)} />
      ))}
    </Tiles>
  );
}

/** Whether it can run there: yes, or why not. */
function fitText(f: Fit): string {
  if (f.fits === 'yes') return 'can run it';
  return `${f.fits === 'no' ? 'can’t run it' : 'can run it, but'}: ${f.findings[0]?.what ?? ''}`;
}

const One = memo(function One({ d, load, now, fit }: { d: Device; load?: Load; now: number; fit?: Fit }) {
  const held = d.state === 'held' && load?.since;
  const standing = held
    ? [
        load.held_by ? (load.held_by.run ? 'a leg' : 'a session') : 'another workspace',
        `for ${took(Math.max(0, now - Date.parse(load.since!)))}`,
        load.ends && `at most ${took(Math.max(0, Date.parse(load.ends) - now))} more`,
      ].filter(Boolean).join(', ')
    : (d.why ?? '');
  return (
    <TileBox $state={d.state}>
      <Link to={`/devices/${encodeURIComponent(d.serial)}`} title={d.why}>
        <Row style={{ justifyContent: 'space-between' }} $gap={4}>
          <strong>{d.serial}</strong> <State of={d.state} />
        </Row>
        {d.maker} {d.model}
        <small>
          Android {d.os} · {d.width_dp} dp · {Math.round(d.memory_mb / 1024)} GB · {d.language}
          {d.simulated && ' · simulated'}
        </small>
        {d.labels && <small>{Object.entries(d.labels).map(([k, v]) => `${k}=${v}`).join(' ')}</small>}
        {fit && <small>{fitText(fit)}</small>}
        {standing && <small>{standing.length > 90 ? standing.slice(0, 88) + '…' : standing}</small>}
        {load !== undefined && load.waiting > 0 && <small>{many(load.waiting, 'piece of work waits', 'pieces of work wait')} for it</small>}
      </Link>
    </TileBox>
  );
});

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
