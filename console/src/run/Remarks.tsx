// What is wrong with the screens of a run, though no test asked for it; and what takes longer than before.
import { Link } from 'react-router';
import styled from 'styled-components';
import { base, type RemarkFamily } from '../data/api';
import { useRemarks, useSlower } from '../data/steps';
import { text, useView } from '../parts/address';
import { Loaded } from '../parts/Loaded';
import { Section, Sub } from '../parts/page';
import { Pictured } from '../parts/Pictured';
import { Table } from '../parts/Table';
import { c, narrow } from '../theme';
import { capital, many } from '../words';

const List = styled.ol`list-style: none; border-top: 1px solid ${c.grout};`;
const One = styled.li`
  display: grid; grid-template-columns: 112px minmax(0, 1fr) minmax(140px, 240px); gap: 4px 16px; padding: 12px 0;
  border-bottom: 1px solid ${c.grout}; p { overflow-wrap: anywhere; }
  ${narrow} { grid-template-columns: 72px minmax(0, 1fr); }
`;
const On = styled.ul`
  display: flex; flex-wrap: wrap; gap: 2px 12px; align-content: flex-start; list-style: none; font-size: 13px; line-height: 20px;
  ${narrow} { grid-column: 2; }
`;
const Kind = styled.p`font-weight: 560;`;

const names: Record<RemarkFamily['kind'], string> = {
  missing: 'Missing here', 'cut-off': 'Cut off', covered: 'Covered', 'text-cut': 'Text cut', 'no-label': 'No label',
  'small-target': 'Small target', 'low-contrast': 'Low contrast', 'fixed-text': 'Text does not grow',
};

const mostDevices = 24;

export function Remarks({ run, done }: { run: string; done: boolean }) {
  return (
    <Loaded of={useRemarks(run, done)} what="the remarks">
      {(x) => (
        <Section>
          <p>{x.sentence}</p>
          {x.families.length > 0 && <List>{x.families.map((f) => <OneFamily key={f.id} f={f} />)}</List>}
          {x.cut && <Sub>More are left out.</Sub>}
          {x.reading && <Sub>Not all legs were read yet.</Sub>}
        </Section>
      )}
    </Loaded>
  );
}

function OneFamily({ f }: { f: RemarkFamily }) {
  const e = f.example;
  return (
    <One aria-label={`${names[f.kind]}: ${f.what}`}>
      {e.picture ? (
        <Link to={`/legs/${e.leg}?at=${e.at}`} aria-label={`Open ${e.device} at this moment`}>
          <Pictured src={`${base}/artifacts/${e.picture}`} alt={`The screen of ${e.device}`} marked={e.bounds && [e.bounds]} />
        </Link>
      ) : (
        <span />
      )}
      <div>
        <Kind>{names[f.kind]} on {many(f.on, 'leg')}</Kind>
        <p>{capital(f.says)}.</p>
        {f.rule && <p>{f.rule}</p>}
        <Sub>{f.at}.</Sub>
      </div>
      <On aria-label="On these devices">
        {f.devices.slice(0, mostDevices).map((d, i) => <li key={f.legs[i]}><Link to={`/legs/${f.legs[i]}`}>{d}</Link></li>)}
        {f.on > mostDevices && <li>and {many(f.on - mostDevices, 'more', 'more')}</li>}
      </On>
    </One>
  );
}

const parts = { slow: text() };

export function Slower({ run, done }: { run: string; done: boolean }) {
  const [view, setView] = useView(parts);
  return (
    <Loaded of={useSlower(run, done)} what="what is slower">
      {(x) => (
        <Section>
          <p>{x.sentence}</p>
          {x.things.length > 0 && (
            <Table
              label="What is slower than before"
              items={x.things}
              id={(t) => `${t.leg} ${t.what}`}
              href={(t) => `/legs/${t.leg}${t.case ? `?case=${encodeURIComponent(t.case)}` : ''}`}
              sort={view.slow}
              onSort={(slow) => setView({ slow })}
              columns={[
                { name: 'device', show: (t) => t.device, sort: (t) => t.device },
                { name: 'what', wide: true, show: (t) => t.what, sort: (t) => t.what },
                { name: 'before', show: (t) => `${Math.round(t.before)} ${t.unit}` },
                { name: 'more', show: (t) => `${Math.round(t.by)} ${t.unit}`, sort: (t) => t.by / Math.max(t.before, 1) },
                { name: 'with', show: (t) => t.build.version },
                { name: 'chance of noise', show: (t) => t.chance.toPrecision(1) },
              ]}
            />
          )}
          <Sub>
            Each device is held against itself: against the last build before on which the same cases passed. A rank test says that it is no
            noise; it needs at least three values on each side, and more where many are compared.
          </Sub>
          {x.reading && <Sub>Not all legs were read yet.</Sub>}
        </Section>
      )}
    </Loaded>
  );
}
