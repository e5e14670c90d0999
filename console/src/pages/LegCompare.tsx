// Two legs side by side, by cases and steps; or two attempts of one, or two tries of a case.
import { useState } from 'react';
import { Link, useParams } from 'react-router';
import styled from 'styled-components';
import { base, type LegComparison } from '../data/api';
import { useLegComparison } from '../data/steps';
import { text, useView, whole } from '../parts/address';
import { Button } from '../parts/controls';
import { Loaded } from '../parts/Loaded';
import { Command, Head, Page, Section, Sub, Title } from '../parts/page';
import { Pictured } from '../parts/Pictured';
import { VerdictWord } from '../parts/Tile';
import { c, narrow } from '../theme';
import { clock, many, shellWord, took } from '../words';

const parts = { with: text(), attempt: whole(0), with_attempt: whole(0), try: whole(0), with_try: whole(0), case: text() };

type Case = LegComparison['cases'][number];
type Side = LegComparison['ours'];
type StepPair = Case['steps'][number];

const Two = styled.div`
  display: grid; grid-template-columns: minmax(0, 1fr) minmax(0, 1fr); gap: 8px 16px; max-width: 760px;
  > div { min-width: 0; overflow-wrap: anywhere; }
`;
const Steps = styled.div`display: flex; gap: 16px; overflow-x: auto; padding: 4px 0 8px; align-items: flex-start;`;
const Step = styled.figure<{ $other: boolean }>`
  flex: none; width: 300px; border-left: 3px solid ${(p) => (p.$other ? c.failed : 'transparent')}; padding-left: 8px;
  figcaption { padding-bottom: 4px; }
  ${narrow} { width: 260px; }
`;
const Pair = styled.div`display: grid; grid-template-columns: 1fr 1fr; gap: 8px;`;
const Small = styled.p`font-size: 13px; line-height: 18px; color: ${c.faint}; overflow-wrap: anywhere;`;

export default function LegComparePage() {
  const { id = '' } = useParams();
  const [view] = useView(parts);
  const compared = useLegComparison(id, view);
  return <Loaded of={compared} what="the comparison" page>{(x) => <Compared x={x} />}</Loaded>;
}

const named = (s: Side) =>
  `${s.device}${s.attempt > 1 ? `, attempt ${s.attempt}` : ''}${s.try ? `, try ${s.try}` : ''}`;

const SideName = ({ of, called }: { of: Side; called: string }) => (
  <div>
    <Small>{called}</Small>
    <Link to={`/legs/${of.leg}`}>{named(of)}</Link> {of.verdict && <VerdictWord what={of.verdict} />}
    <Small>{of.model}, {of.system}</Small>
  </div>
);

function Compared({ x }: { x: LegComparison }) {
  const [view, setView] = useView(parts);
  const [all, setAll] = useState(false);
  const differs = (k: Case) => k.otherwise || k.steps.some((s) => s.alike === false || !s.ours !== !s.theirs);
  const shown = all || view.case ? x.cases : x.cases.filter(differs);
  const says = `${named(x.ours)} beside ${named(x.theirs)}: ${x.sentence}`;
  const tries = view.try && view.with_try ? ` --tries ${view.try},${view.with_try}` : '';
  const attempts = view.attempt && view.with_attempt ? ` --attempts ${view.attempt},${view.with_attempt}` : '';
  const only = view.case ? ` --case ${shellWord(view.case)}` : '';
  return (
    <Page>
      <Title>{says}</Title>
      <Head>
        <div>
          <h1>{x.sentence}</h1>
          {view.case && (
            <Sub>
              Only “{view.case}”. <Button $small onPress={() => setView({ case: '' })}>Show all cases</Button>
            </Sub>
          )}
        </div>
      </Head>
      <Two><SideName of={x.ours} called="here" /><SideName of={x.theirs} called="there" /></Two>
      {shown.map((k) => <OneCase key={k.case} k={k} x={x} />)}
      {shown.length < x.cases.length && (
        <Sub>
          {many(x.cases.length - shown.length, 'case')} came out alike and looked alike.{' '}
          <Button $small onPress={() => setAll(true)}>Show them</Button>
        </Sub>
      )}
      {x.cut && <Sub>More cases are left out.</Sub>}
      <Command>
        {`tessellant leg compare ${x.ours.leg}${x.theirs.leg === x.ours.leg ? '' : ` ${x.theirs.leg}`}${attempts}${tries}${only}`}
      </Command>
    </Page>
  );
}

function OneCase({ k, x }: { k: Case; x: LegComparison }) {
  return (
    <Section aria-label={k.case}>
      <h2>{k.case}</h2>
      <Two><CaseSide of={k.ours} leg={x.ours} name={k.case} /><CaseSide of={k.theirs} leg={x.theirs} name={k.case} /></Two>
      {(k.steps.length > 0 || k.ours?.picture || k.theirs?.picture) && (
        <Steps tabIndex={0} role="group" aria-label={`The steps of ${k.case}, side by side`}>
          {k.steps.map((s) => <OneStep key={`${s.step} ${s.nth}`} s={s} x={x} />)}
          {(k.ours?.picture || k.theirs?.picture) && (
            <Step $other={false}>
              <figcaption><strong>at its end</strong></figcaption>
              <Pair>
                <Shot picture={k.ours?.picture} of={x.ours} at={k.ours && k.ours.at + k.ours.took_ms} none="it passed" />
                <Shot picture={k.theirs?.picture} of={x.theirs} at={k.theirs && k.theirs.at + k.theirs.took_ms} none="it passed" />
              </Pair>
            </Step>
          )}
        </Steps>
      )}
    </Section>
  );
}

function CaseSide({ of, leg, name }: { of: Case['ours']; leg: Side; name: string }) {
  if (!of) return <div><Small>did not run</Small></div>;
  return (
    <div>
      <Link to={`/legs/${leg.leg}?attempt=${leg.attempt}&case=${encodeURIComponent(name)}`}>
        {of.verdict ? <VerdictWord what={of.verdict} /> : 'cut off'}
      </Link>{' '}
      after {took(of.took_ms)}
      {of.error && <Small title={of.error}>{of.error.length > 200 ? `${of.error.slice(0, 200)}…` : of.error}</Small>}
    </div>
  );
}

function OneStep({ s, x }: { s: StepPair; x: LegComparison }) {
  const says = s.alike === undefined ? '' : s.alike ? 'looks alike' : `looks otherwise, ${Math.round(100 * (s.apart ?? 0))} % of it`;
  return (
    <Step $other={s.alike === false || !s.ours !== !s.theirs}>
      <figcaption>
        <strong>{s.nth > 1 ? `${s.step} (${s.nth})` : s.step}</strong> <Small as="span">{says}</Small>
      </figcaption>
      <Pair>
        <Shot picture={s.ours?.picture} of={x.ours} at={s.ours?.at} took_ms={s.ours?.took_ms} none="never came to it" />
        <Shot picture={s.theirs?.picture} of={x.theirs} at={s.theirs?.at} took_ms={s.theirs?.took_ms} none="never came to it" />
      </Pair>
    </Step>
  );
}

function Shot({ picture, of, at, took_ms, none }: {
  picture: string | undefined;
  of: Side;
  at: number | undefined;
  took_ms?: number;
  none: string;
}) {
  if (at === undefined) return <Small>{none}</Small>;
  return (
    <div>
      {picture ? (
        <Link to={`/legs/${of.leg}?attempt=${of.attempt}&at=${at}`} aria-label={`Open ${named(of)} at ${clock(at)}`}>
          <Pictured src={`${base}/artifacts/${picture}`} alt={`The screen of ${named(of)}`} />
        </Link>
      ) : (
        <Small>{took_ms === undefined ? none : 'no picture'}</Small>
      )}
      {took_ms !== undefined && <Small>after {took(took_ms)}</Small>}
    </div>
  );
}
