// The devices of a run: chosen by a filter, or one by one; each says whether it takes part, or why it can't.
import { ListBox, ListBoxItem } from 'react-aria-components';
import styled from 'styled-components';
import type { Device, Finding, Pool } from '../data/api';
import type { Change } from '../parts/address';
import { Choose, Select, TextField } from '../parts/controls';
import { Faint, Row, Section, Simulated, Sub } from '../parts/page';
import { c, radius } from '../theme';
import { choosing, countOf, type RunForm } from './RunForm';
import { widthOf } from '../words';

const Tiles = styled(ListBox)`
  display: grid; grid-template-columns: repeat(auto-fill, minmax(176px, 1fr)); gap: 8px; outline: none;
` as unknown as typeof ListBox; // styled forgets what the items are
const DeviceTile = styled(ListBoxItem)<{ $in: boolean }>`
  border: 1.5px ${(p) => (p.$in ? 'solid' : 'dashed')} ${(p) => (p.$in ? c.lapis : c.grout)};
  background: ${(p) => (p.$in ? c.chosen : c.panel)};
  border-radius: ${radius}; padding: 8px; outline: none; display: flex; flex-direction: column; font-size: 13px; line-height: 18px;
  cursor: default;
  min-width: 0; overflow-wrap: anywhere;
  &[data-selection-mode] { cursor: pointer; }
  strong { font-size: 14px; }
  &[data-focus-visible] { outline: 2px solid ${c.lapis}; outline-offset: 2px; }
  &[data-hovered] { border-color: ${c.lapis}; }
`;
const Why = styled.span`border-left: 2px solid ${c.failed}; padding-left: 6px; margin-top: 4px;`;

const Narrow = styled.div`display: grid; grid-template-columns: minmax(0, 1fr) minmax(0, 1fr) 72px; gap: 12px; align-items: start;`;

export function DevicePicker({ form, set, devices, pools, taking, unfit }: {
  form: RunForm; set: (change: Change<RunForm>) => void; devices: Device[]; pools: Pool[]; taking: Set<string>;
  unfit: Map<string, Finding>;
}) {
  const byName = form.by === 'name';
  return (
    <Section aria-labelledby="where">
      <Row style={{ justifyContent: 'space-between' }}>
        <h2 id="where">Where</h2>
        <Choose label="How devices are chosen" value={form.by} onChange={(v) => set({ by: v as RunForm['by'] })}
          options={[{ id: 'filter', text: 'by a filter' }, { id: 'name', text: 'one by one' }]} />
      </Row>
      {!byName && (
        <Narrow>
          <Select label="Pool" value={form.pool || 'none'} onChange={(v) => set({ pool: v === 'none' ? '' : v })}
            options={[{ id: 'none', text: 'all devices' }, ...pools.map((p) => ({ id: p.name, text: p.name, more: p.says }))]} />
          <Select label="Take" value={form.take || 'all'} onChange={(v) => set({ take: v === 'all' ? '' : (v as RunForm['take']) })}
            options={[
              { id: 'all', text: form.pool ? 'as the pool does' : 'all that fit' },
              { id: 'any', text: 'any of them, free ones first' },
              { id: 'differ', text: 'those that differ most' },
            ]} />
          {form.take && (
            <TextField label="How many" value={form.n} onChange={(n) => set({ n })} hint={countOf(form.n) ? undefined : '1 to 1000'} />
          )}
        </Narrow>
      )}
      {!byName && (
        <TextField
          label="Filter: patterns over traits, all of which must match"
          mono
          value={form.where.trim()}
          onChange={(v) => set({ where: v || ' ' })}
          placeholder="maker=Orrery os>=10"
          hint={
            <>
              Examples: <code>maker=Orrery,Fennel</code>, <code>os&gt;=10</code>, <code>model=Skerry*</code>,{' '}
              <code>serial=/^orr/</code>,{' '}
              <code>label:desk=3</code>. Empty: any device.
            </>
          }
        />
      )}
      {byName && <Sub>Select the devices for this run.</Sub>}
      <Tiles
        aria-label="Devices"
        layout="grid"
        items={devices.map((d) => ({ id: d.serial, d, in: taking.has(d.serial), why: unfit.get(d.serial)?.what }))}
        selectionMode={byName ? 'multiple' : 'none'}
        selectedKeys={byName ? form.devices : []}
        onSelectionChange={(keys) => set(choosing(form.devices, keys === 'all' ? devices.map((d) => d.serial) : [...keys].map(String)))}
      >
        {(x) => <One d={x.d} inRun={x.in} why={x.why} />}
      </Tiles>
    </Section>
  );
}

function One({ d, inRun, why }: { d: Device; inRun: boolean; why?: string }) {
  const stands = inRun ? 'takes part' : why ? `can't: ${why}` : 'not chosen';
  return (
    <DeviceTile id={d.serial} textValue={`${d.serial}, ${d.maker} ${d.model}, ${d.system}, ${d.state}: ${stands}`} $in={inRun}>
      <Row style={{ justifyContent: 'space-between' }} $gap={4}>
        <strong>{d.serial}</strong>
        {d.simulated && <Simulated>simulated</Simulated>}
      </Row>
      <span>
        {d.maker} {d.model}
      </span>
      <Faint>
        {d.system} · {widthOf(d)} · {d.state}
      </Faint>
      {why && <Why>{why}</Why>}
    </DeviceTile>
  );
}
