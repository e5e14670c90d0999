// What broke: families of failures, each with its sentences, a picture, its devices; and what can be done about it.
import { memo } from 'react';
import { Link } from 'react-router';
import styled from 'styled-components';
import { base, type Answer, type Family } from '../data/api';
import { useMay } from '../data/queries';
import { Button } from '../parts/controls';
import { Row, Section, Sub } from '../parts/page';
import { VerdictWord } from '../parts/Tile';
import { c, mono, narrow } from '../theme';
import { many } from '../words';
import { Again } from './Again';
import { FirstBad } from './FirstBad';
import { MarkFamily } from './MarkFamily';

const List = styled.ol`display: flex; flex-direction: column; border-top: 1px solid ${c.grout}; list-style: none;`;
const One = styled.li<{ $lit: boolean }>`
  display: grid; grid-template-columns: 88px minmax(0, 1fr) minmax(160px, 260px); gap: 4px 16px; padding: 12px 8px;
  border-bottom: 1px solid ${c.grout}; border-left: 3px solid ${(p) => (p.$lit ? c.lapis : 'transparent')};
  ${narrow} { grid-template-columns: 56px minmax(0, 1fr); }
`;
const Picture = styled.img`
  width: 88px; height: 132px; object-fit: cover; object-position: top; border: 1px solid ${c.grout}; display: block;
  background: ${c.plaster};
  ${narrow} { width: 56px; height: 84px; }
`;
const Said = styled.div`
  display: flex; flex-direction: column; gap: 4px; min-width: 0;
  p { overflow-wrap: anywhere; }
`;
const What = styled.p`font-weight: 560;`;
const On = styled.ul`
  display: flex; flex-wrap: wrap; gap: 2px 12px; align-content: flex-start; font-size: 13px; line-height: 20px; list-style: none;
  font-variant-numeric: tabular-nums; ${narrow} { grid-column: 2; }
`;
const Raw = styled.details`
  font-size: 13px; line-height: 20px; color: ${c.faint};
  pre { font-family: ${mono}; white-space: pre-wrap; overflow-wrap: anywhere; color: ${c.ink}; padding: 4px 0; }
  summary { cursor: pointer; }
`;

const mostDevices = 24;
const mostCases = 4;

const deviceOf = (f: Family) => f.devices[f.legs.indexOf(f.example.leg)] ?? 'the leg';

/** A leg's page, at a case of it. */
const legAt = (leg: string, name: string | undefined) => `/legs/${leg}${name ? `?case=${encodeURIComponent(name)}` : ''}`;
const historyOf = (name: string, pkg: string, build: string) =>
  `/cases?${new URLSearchParams({ case: name, package: pkg.replace(/@.*/, ''), app: build.replace(/@.*/, '') })}`;

interface Of {
  id: string;
  number: number;
  build: string;
  package: string;
  done: boolean;
  secrets?: string[];
}

export const Families = memo(function Families(p: {
  run: Of;
  answer: Answer;
  lit: string;
  light: (family: string) => void;
}) {
  const { families, gone } = p.answer;
  if (families.length + gone.length === 0) return null;
  const flakyOnly = families.every((f) => f.kind === 'flaky');
  return (
    <Section aria-labelledby="broke">
      <h2 id="broke">
        {families.length === 0 ? 'What is mended' : flakyOnly ? 'What was flaky' : 'What broke'}
        {!p.answer.over && families.length > 0 && ' so far'}
      </h2>
      {families.length > 0 && (
        <List>
          {families.map((f) => <OneFamily key={f.id} f={f} run={p.run} lit={p.lit === f.id} light={p.light} />)}
        </List>
      )}
      {gone.map((g) => <Sub key={g.id}>{g.says}</Sub>)}
    </Section>
  );
});

const OneFamily = memo(function OneFamily({ f, run, lit, light }: {
  f: Family;
  run: Of;
  lit: boolean;
  light: (family: string) => void;
}) {
  const may = useMay('test');
  return (
    <One $lit={lit} aria-label={`${f.head}: ${f.title}`}>
      {f.example.picture ? (
        <Link to={legAt(f.example.leg, f.example.case)} aria-label={`Open ${deviceOf(f)} at this failure`}>
          <Picture src={`${base}/artifacts/${f.example.picture}`} alt="The screen when it failed" loading="lazy" />
        </Link>
      ) : (
        <span />
      )}
      <Said>
        <Row $gap={12}>
          <VerdictWord what={f.kind}>{f.head}</VerdictWord>
          {f.excused && <Sub as="span">does not count: {f.excused}</Sub>}
        </Row>
        <What>{f.title}</What>
        {f.says.map((s) => <p key={s}>{s}</p>)}
        <p>
          In{' '}
          {f.cases.slice(0, mostCases).map((name, i) => (
            <span key={name}>
              {i > 0 && ', '}
              <Link to={historyOf(name, run.package, run.build)} title="How it came out before">{name}</Link>
            </span>
          ))}
          {f.cases.length > mostCases && ` and ${many(f.cases.length - mostCases, 'more', 'more')}`}.
        </p>
        <Row $gap={8}>
          <Button $small aria-pressed={lit} onPress={() => light(lit ? '' : f.id)}>{lit ? 'Show all tiles' : 'Show its tiles'}</Button>
          {may && run.done && <Again run={run} family={f} />}
          {may && run.done && f.kind !== 'flaky' && <FirstBad run={run} family={f} />}
          {may && <MarkFamily run={run.id} family={f} />}
        </Row>
        <Raw>
          <summary>all that is said{f.joined.length > 0 && `, and ${many(f.joined.length, 'message')} that is nearly the same`}</summary>
          <pre>{f.message}</pre>
          {f.pattern && f.pattern !== f.message && <>the same in all:<pre>{f.pattern}</pre></>}
          {f.frames.length > 0 && <>where:<pre>{[f.cause, ...f.frames].filter(Boolean).join('\n')}</pre></>}
          {f.joined.map((j) => (
            <div key={j.pattern}>
              {j.other ? <>“{j.other}”</> : 'nothing'} in place of {j.own ? <>“{j.own}”</> : 'nothing'}, {many(j.failures, 'failure')}:
              <pre>{j.pattern}</pre>
            </div>
          ))}
        </Raw>
      </Said>
      <On aria-label="On these devices">
        {f.devices.slice(0, mostDevices).map((d, i) => (
          <li key={f.legs[i]}><Link to={legAt(f.legs[i]!, f.cases.length === 1 ? f.cases[0] : undefined)}>{d}</Link></li>
        ))}
        {f.on > mostDevices && <li>and {many(f.on - mostDevices, 'more', 'more')}</li>}
      </On>
    </One>
  );
});
