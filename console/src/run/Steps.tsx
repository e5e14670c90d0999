// The steps of a run: one step on all devices, those that look alike stacked, the odd ones first.
import { useState } from 'react';
import { Link } from 'react-router';
import styled from 'styled-components';
import { useAction } from '../data/action';
import { answer, base, http, type RunStep, type StepLine, type StepOn } from '../data/api';
import { client, useMay } from '../data/queries';
import { useStep, useSteps, type StepName } from '../data/steps';
import { text, useView, whole } from '../parts/address';
import { Button } from '../parts/controls';
import { Loaded } from '../parts/Loaded';
import { Empty, Refused, Row, Section, Sub } from '../parts/page';
import { Pictured } from '../parts/Pictured';
import { VerdictWord } from '../parts/Tile';
import { c, narrow } from '../theme';
import { many } from '../words';

const Two = styled.div`
  display: grid; grid-template-columns: minmax(200px, 300px) minmax(0, 1fr); gap: 16px; align-items: start;
  ${narrow} { grid-template-columns: minmax(0, 1fr); }
`;
const List = styled.ul`
  list-style: none; border-top: 1px solid ${c.grout}; max-height: 560px; overflow: auto; font-variant-numeric: tabular-nums;
  ${narrow} { max-height: 220px; }
`;
const One = styled.li<{ $on: boolean }>`
  border-bottom: 1px solid ${c.grout}; border-left: 3px solid ${(p) => (p.$on ? c.lapis : 'transparent')};
  button {
    all: unset; box-sizing: border-box; width: 100%; padding: 4px 8px; cursor: pointer; display: block;
    &:hover { background: ${c.hover}; }
    &:focus-visible { outline: 2px solid ${c.lapis}; outline-offset: -2px; }
  }
  small { display: block; color: ${c.faint}; font-size: 12px; line-height: 16px; overflow-wrap: anywhere; }
  em { font-style: normal; font-size: 12px; color: ${c.failed}; }
`;
const Stacks = styled.div`display: flex; gap: 16px; overflow-x: auto; padding-bottom: 8px; align-items: flex-start;`;
const Stack = styled.figure`
  flex: none; width: 176px; display: flex; flex-direction: column; gap: 6px;
  &[data-open] { width: auto; }
  &[data-usual]:not([data-open]) {
    position: sticky; right: 0; width: 189px; padding-left: 12px; background: ${c.plaster}; border-left: 1px solid ${c.grout};
  }
  ${narrow} { &[data-usual] { position: static !important; } }
`;
const Fan = styled.div`display: flex; gap: 8px; align-items: flex-start; > * { width: 176px; flex: none; }`;
const On = styled.ul`
  display: flex; flex-wrap: wrap; gap: 0 10px; list-style: none; font-size: 13px; line-height: 20px; font-variant-numeric: tabular-nums;
`;
const Small = styled.p`font-size: 13px; line-height: 18px; overflow-wrap: anywhere;`;

const parts = { step: text(), of: text(), nth: whole(1) };

/** A leg's page, at a moment of it. */
const legAt = (on: StepOn) => `/legs/${on.leg}?at=${on.at}`;

export function Steps({ run, done }: { run: string; done: boolean }) {
  const steps = useSteps(run, done);
  const [view, setView] = useView(parts);
  return (
    <Loaded of={steps} what="the steps">
      {(x) => {
        if (x.steps.length === 0)
          return x.reading || !done ? (
            <Sub>No step was read yet.</Sub>
          ) : (
            <Empty title="No case of this run has a step" command={'phone.step("review")'}>
              A step is a named moment of a case, with its screenshot. A script names one:
            </Empty>
          );
        const first = x.steps.find((s) => s.moved > 0) ?? x.steps.find((s) => s.odd > 0) ?? x.steps[0]!;
        const chosen = x.steps.find((s) => s.step === view.step && s.case === view.of && s.nth === view.nth) ?? first;
        return (
          <Two>
            <List aria-label="Steps">
              {x.steps.map((s) => (
                <One key={`${s.case} ${s.step} ${s.nth}`} $on={s === chosen}>
                  <button
                    type="button"
                    aria-current={s === chosen}
                    onClick={() => setView({ step: s.step, of: s.case, nth: s.nth }, 'step')}
                  >
                    {called(s)} <em>{oddText(s)}</em>
                    <small>{s.case}</small>
                  </button>
                </One>
              ))}
            </List>
            <OneStep key={`${chosen.case} ${chosen.step} ${chosen.nth}`} run={run} done={done} of={chosen} />
          </Two>
        );
      }}
    </Loaded>
  );
}

const called = (s: Pick<StepLine, 'step' | 'nth'>) => (s.nth > 1 ? `${s.step} (${s.nth})` : s.step);

function oddText(s: StepLine): string {
  const said = [];
  if (s.odd > 0) said.push(`${s.odd} of ${s.legs} otherwise`);
  if (s.moved > 0) said.push(`${s.moved} not like the reference`);
  return said.join(', ');
}

/** What a step comes to, in a sentence. */
export function stepSentence(x: RunStep): string {
  const all = x.stacks.reduce((n, s) => n + s.legs.length, 0);
  const without = x.without.length > 0 ? ` ${many(x.without.length, 'leg')} never came to it.` : '';
  if (all === 0) return `No picture of it was compared.${without}`;
  const usual = x.stacks.at(-1)!.legs.length;
  if (x.stacks.length === 1) return `It looks alike on ${all === 1 ? 'the one leg' : `all ${all} legs`} that came to it.${without}`;
  return `It looks otherwise on ${all - usual} of ${many(all, 'leg')}, in ${many(x.stacks.length - 1, 'way')}.${without}`;
}

function OneStep({ run, done, of }: { run: string; done: boolean; of: StepName }) {
  const step = useStep(run, done, { case: of.case, step: of.step, nth: of.nth });
  return (
    <Loaded of={step} what="the step">
      {(x) => (
        <Section aria-label={`The step ${x.step}`}>
          <h2>{called(x)}</h2>
          <p>{stepSentence(x)}</p>
          <Stacks tabIndex={0} aria-label="Devices on which it looks alike, the odd ones first" role="group">
            {x.stacks.map((s, i) => (
              <OneStack
                key={s.legs[0]!.leg}
                run={run}
                of={of}
                legs={s.legs}
                usual={i > 0 && i === x.stacks.length - 1}
                says={i < x.stacks.length - 1 ? otherwise(s) : i > 0 ? 'most look so' : ''}
              />
            ))}
            {x.unread.length > 0 && <OneStack run={run} of={of} legs={x.unread} says="not compared" />}
          </Stacks>
          {x.without.length > 0 && <Sub>Never came to it: {x.without.join(', ')}.</Sub>}
          {x.cut && <Sub>The run has more legs than are compared at one step; the others are left out.</Sub>}
          {x.reading && <Sub>Not all legs were read yet.</Sub>}
        </Section>
      )}
    </Loaded>
  );
}

/** How a stack differs from the most usual one. */
export function otherwise(s: Pick<RunStep['stacks'][number], 'apart' | 'tint'>): string {
  const share = Math.round(100 * s.apart);
  const how = [share > 0 && `${share} % of it otherwise`, s.tint && 'other colours'].filter(Boolean);
  return how.join(', ') || 'a little more or less';
}

function OneStack({ run, of, legs, says, usual }: {
  run: string;
  of: StepName;
  legs: StepOn[];
  says: string;
  usual?: boolean; // it stays in sight while the others go by
}) {
  const [open, setOpen] = useState(false);
  const may = useMay('test');
  const keep = useAction(async () => {
    await answer(http.POST('/references', { body: { run, case: of.case, step: of.step, nth: of.nth, legs: legs.map((l) => l.leg) } }));
    await client.invalidateQueries({ queryKey: ['references'] });
  });
  const [kept, setKept] = useState(false);
  const first = legs.find((l) => l.moved?.too) ?? legs[0]!;
  return (
    <Stack data-open={open ? '' : undefined} data-usual={usual ? '' : undefined} aria-label={many(legs.length, 'leg')}>
      <figcaption>
        <strong>{many(legs.length, 'leg')}</strong> {says && <Sub as="span">{says}</Sub>}
      </figcaption>
      {open ? <Fan>{legs.map((l) => <Picture key={l.leg} on={l} named />)}</Fan> : <Picture on={first} />}
      <Row $gap={8}>
        {legs.length > 1 && (
          <Button $small aria-expanded={open} onPress={() => setOpen(!open)}>{open ? 'Stack them' : `Show all ${legs.length}`}</Button>
        )}
        {may && legs.some((l) => l.kind && l.picture) && !kept && (
          <Button $small isDisabled={keep.busy} onPress={() => void keep.run().then(setKept)}>Keep as reference</Button>
        )}
        {kept && <Sub>Kept: <Link to="/references">references</Link></Sub>}
      </Row>
      {keep.error !== undefined && <Refused error={keep.error} />}
      <On aria-label="On these devices">
        {legs.map((l) => (
          <li key={l.leg}><Link to={legAt(l)} title={l.model}>{l.device}</Link></li>
        ))}
      </On>
      {!open && <Notes on={first} />}
    </Stack>
  );
}

function Picture({ on, named }: { on: StepOn; named?: boolean }) {
  return (
    <div>
      {named && <Small><VerdictWord what={on.verdict}>{on.device}</VerdictWord></Small>}
      {on.picture ? (
        <Link to={legAt(on)} aria-label={`Open ${on.device} at this step`}>
          <Pictured src={`${base}/artifacts/${on.picture}`} alt={`The screen of ${on.device}`} marked={on.moved?.regions} />
        </Link>
      ) : (
        <Sub>no picture</Sub>
      )}
      {named && <Notes on={on} />}
    </div>
  );
}

function Notes({ on }: { on: StepOn }) {
  return (
    <>
      {on.moved && (
        <Small>
          {on.moved.says} (<Link to={`/references/${on.moved.reference}`}>reference</Link>)
        </Small>
      )}
      {on.remarks.slice(0, 3).map((r) => <Small key={r}>{r}</Small>)}
      {on.remarks.length > 3 && <Small>and {many(on.remarks.length - 3, 'more remark')}</Small>}
    </>
  );
}
