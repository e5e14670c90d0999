// How a held device is set: turned, dark, its text size, where it is, how good its network is.
import { useState } from 'react';
import styled from 'styled-components';
import { useAction } from '../data/action';
import { answer, http, type Deed } from '../data/api';
import { Button, Choose, Select, TextField } from '../parts/controls';
import { Command, Faint, Refused, Row, Section, Sub } from '../parts/page';
import { routeSentence } from './words';
import type { Held } from './useLive';

const Labelled = styled.div`display: flex; flex-direction: column; gap: 4px; font-size: 13px; line-height: 20px;`;
const networks = ['full', '5g', '4g', '3g', 'edge', 'far-wifi', 'moving-train', 'satellite', 'offline'];

export function Settings({ id, serial, routes }: { id: string; serial: string; routes: Held['routes'] }) {
  const [set, setSet] = useState<Record<string, string>>({});
  const [location, setLocation] = useState('');
  const act = useAction(async (deed: Deed) => {
    await answer(http.POST('/hands/{id}/do', { params: { path: { id } }, body: deed }));
    setSet((old) => ({ ...old, ...deed.conditions, ...(deed.orientation ? { orientation: deed.orientation } : {}) }));
  });
  const condition = (name: string) => (value: string) => void act.run({ do: 'set', conditions: { [name]: value } });
  return (
    <Section aria-label="Settings of the device">
      <Row $gap={16} style={{ alignItems: 'flex-end' }}>
        <Labelled>
          <Faint>Held</Faint>
          <Choose label="How it is held" value={set.orientation ?? ''} onChange={(o) => void act.run({ do: 'rotate', orientation: o })}
            options={[{ id: 'portrait', text: 'Portrait' }, { id: 'landscape', text: 'Landscape' }]} />
        </Labelled>
        <Labelled>
          <Faint>Look</Faint>
          <Choose label="Dark mode" value={set.dark ?? ''} onChange={condition('dark')}
            options={[{ id: 'off', text: 'Light' }, { id: 'on', text: 'Dark' }]} />
        </Labelled>
        <Select label="Text size" value={set['font-scale'] ?? ''} placeholder="as it is" onChange={condition('font-scale')}
          options={['0.85', '1', '1.15', '1.3', '2'].map((s) => ({ id: s, text: `× ${s}` }))} />
        <Select label="Network" value={set.network ?? ''} placeholder="as it is" onChange={condition('network')}
          options={networks.map((n) => ({ id: n, text: n }))} />
      </Row>
      <Row $gap={12} style={{ alignItems: 'flex-end' }}>
        <form onSubmit={(e) => { e.preventDefault(); condition('location')(location.trim()); }}>
          <TextField label="Location: latitude, longitude" placeholder="54.1,8.2" value={location} onChange={setLocation} />
        </form>
        <Button isDisabled={!location.trim() || act.busy} onPress={() => condition('location')(location.trim())}>Set location</Button>
        <span role="status">{act.busy ? 'It is being set …' : ''}</span>
      </Row>
      {act.error !== undefined && <Refused error={act.error} />}
      <Sub>All of it is put back when the device is given back.</Sub>
      <h2>Servers on your machine</h2>
      {routes.map((r) => <Sub key={r.at}>{routeSentence(r)}</Sub>)}
      <Sub>
        {routes.length > 0 ? 'A route closes with its terminal. ' : 'An app on the device can reach a server that only your machine sees. '}
        To open a route for port 3000, keep this command running; the app then asks for http://route.test:3000.
      </Sub>
      <Command>{`tessellant route open 3000 --hold ${serial}`}</Command>
    </Section>
  );
}
