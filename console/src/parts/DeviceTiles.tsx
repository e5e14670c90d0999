// Devices as tiles, and how one stands as a word with its dot.
import { memo } from 'react';
import { Link } from 'react-router';
import styled from 'styled-components';
import type { Device, Fit, Load } from '../data/api';
import { useNow } from '../data/clock';
import { useLoads } from '../data/queries';
import { c, narrow, radius } from '../theme';
import { many, took, widthOf } from '../words';
import { Row } from './page';

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

const Tiles = styled.ul`
  display: grid; grid-template-columns: repeat(auto-fill, minmax(184px, 1fr)); gap: 8px; ${narrow} { grid-template-columns: 1fr 1fr; }
`;
/** What a device is, in a line. */
const about = (d: Device) =>
  [
    d.system,
    widthOf(d),
    d.memory_mb && `${Math.round(d.memory_mb / 1024)} GB`,
    d.language,
    [d.origin, d.startable && 'started when wanted', d.place].filter(Boolean).join(', '),
    d.simulated && 'simulated',
  ]
    .filter(Boolean)
    .join(' · ');

const TileBox = styled.li<{ $state: Device['state'] }>`
  border: 1px solid ${c.grout}; border-left: 4px solid ${(p) => sides[p.$state]}; border-radius: ${radius}; background: ${c.panel};
  font-size: 13px; line-height: 18px; min-width: 0; contain: layout paint; content-visibility: auto; contain-intrinsic-size: auto 78px;
  a { display: block; padding: 6px 8px; color: ${c.ink}; overflow-wrap: anywhere; }
  a:hover { text-decoration: none; background: ${c.hover}; }
  strong { font-size: 14px; }
  small { font-size: 13px; color: ${c.faint}; display: block; }
`;
const sides: Record<Device['state'], string> = { free: c.passed, held: c.lapis, quarantined: c.flaky, unusable: c.hollow, away: c.hollow };

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
        load.held_by ? (load.held_by.run ? 'a leg' : load.held_by.by_hand ? 'a person' : 'a session') : 'another workspace',
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
          {about(d)}
        </small>
        {d.labels && <small>{Object.entries(d.labels).map(([k, v]) => `${k}=${v}`).join(' ')}</small>}
        {fit && <small>{fitText(fit)}</small>}
        {standing && <small>{standing.length > 90 ? standing.slice(0, 88) + '…' : standing}</small>}
        {load !== undefined && load.waiting > 0 && <small>{many(load.waiting, 'piece of work waits', 'pieces of work wait')} for it</small>}
      </Link>
    </TileBox>
  );
});
