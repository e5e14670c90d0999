// A device in a person's hands: its screen, which is touched or pointed at, and beside it the tree, the apps, how it is set, and its log.
// Where something is tested on it, people work on it while the test is paused.
import { useState, type ReactNode } from 'react';
import { Link } from 'react-router';
import styled from 'styled-components';
import { useAction } from '../data/action';
import { answer, base, http } from '../data/api';
import { useMay } from '../data/queries';
import { Cursor } from '../evidence/cursor';
import { DeviceLog, type LogView } from '../evidence/DeviceLog';
import { Button, Tab, TabList, TabPanel, Tabs } from '../parts/controls';
import { Refused, Section, Sub } from '../parts/page';
import { narrow } from '../theme';
import { Drawer } from './Drawer';
import { Screen } from './Screen';
import { Script } from './Script';
import { Settings } from './Settings';
import { Tree } from './Tree';
import { useLive, type Held } from './useLive';
import { useTree } from './useTree';
import { routeSentence } from './words';

const Both = styled.div`
  display: grid; grid-template-columns: minmax(240px, 390px) minmax(0, 1fr); gap: 24px; align-items: start;
  ${narrow} { grid-template-columns: minmax(0, 1fr); }
`;
const LogBox = styled.div`height: 460px;`;
const mostFile = 32 << 20; // bytes

/** A file in Base64. */
function base64(f: File): Promise<string> {
  return new Promise((done, failed) => {
    const r = new FileReader();
    r.onload = () => done(typeof r.result === 'string' ? r.result.replace(/^[^,]*,/, '') : '');
    r.onerror = () => failed(new Error(`${f.name} can’t be read`));
    r.readAsDataURL(f);
  });
}

interface Props {
  id: string; // of the hold, or of the session or leg whose test runs on it
  serial: string;
  head?: (live: Held) => ReactNode;
}

export default function HandsOn({ id, serial, head }: Props) {
  const live = useLive(id);
  const may = useMay('test') && (!live.test || live.test.paused);
  const screen = useTree(id, live.painted, may && (!live.test || !live.test.busy));
  const path = { params: { path: { id } } };
  const [done, setDone] = useState('');
  const put = useAction(async (f: File) => {
    setDone('');
    if (f.size > mostFile) throw new Error(`${f.name} has ${f.size} bytes; ${mostFile} are the most`);
    const to = `/sdcard/Download/${f.name.replaceAll('/', '_')}`;
    await answer(http.POST('/hands/{id}/do', { ...path, body: { do: 'put', path: to, content: await base64(f) } }));
    setDone(`${f.name} is at ${to}.`);
  });
  const keep = useAction(async () => {
    setDone('');
    const name = `as it was at ${new Date().toLocaleTimeString('en-GB')}`;
    await answer(http.POST('/hands/{id}/do', { ...path, body: { do: 'keep', name } }));
    setDone(`The picture is kept with what was gathered: ${name}.`);
  });
  const tap = async (css: string) => {
    await answer(http.POST('/hands/{id}/do', { ...path, body: { do: 'tap', locator: css } }));
  };
  const [log, setLog] = useState<LogView>({ level: 'V', tag: '', find: '' });
  const [cursor] = useState(() => {
    const end = new Cursor();
    end.move(1e12, 'live'); // the newest lines
    return end;
  });
  return (
    <Section aria-label="The device by hand">
      {head?.(live)}
      <Both>
        <div>
          <Screen live={live} screen={screen} serial={serial} may={may} onFile={(f) => void put.run(f)}>
            <Button $small isDisabled={keep.busy} onPress={() => void keep.run()}>Keep picture</Button>
            <a href={`${base}/hands/${id}/picture`} download={`${serial}.png`}>Save picture</a>
          </Screen>
          <Link to={`/sessions/${id}`}>All that is gathered: commands, log, gauges, network</Link>
          {live.routes.map((r) => <Sub key={r.at}>{routeSentence(r)}</Sub>)}
          <Sub role="status">{put.busy ? 'The file is being put on the device …' : done}</Sub>
          {put.error !== undefined && <Refused error={put.error} />}
          {keep.error !== undefined && <Refused error={keep.error} />}
        </div>
        {may && (
          <Tabs defaultSelectedKey="tree">
            <TabList aria-label="Beside the screen">
              <Tab id="tree">Elements</Tab>
              <Tab id="script">Script</Tab>
              <Tab id="apps">Apps</Tab>
              <Tab id="set">Settings</Tab>
              <Tab id="log">Log</Tab>
            </TabList>
            <TabPanel id="tree"><Tree id={id} screen={screen} onTap={tap} /></TabPanel>
            <TabPanel id="script" shouldForceMount><Script id={id} live={live} screen={screen} /></TabPanel>
            <TabPanel id="apps"><Drawer id={id} /></TabPanel>
            <TabPanel id="set"><Settings id={id} serial={serial} routes={live.routes} /></TabPanel>
            <TabPanel id="log">
              <LogBox>
                <DeviceLog leg={id} attempt={1} there live cursor={cursor} view={log}
                  onView={(v) => setLog((old) => ({ ...old, ...v }))} />
              </LogBox>
            </TabPanel>
          </Tabs>
        )}
      </Both>
    </Section>
  );
}
