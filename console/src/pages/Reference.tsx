// One reference: its picture, and what of it is not looked at. Masks are drawn on the picture, or written as four numbers.
import { useRef, useState, type PointerEvent } from 'react';
import { Link, useNavigate, useParams } from 'react-router';
import styled from 'styled-components';
import { useAction } from '../data/action';
import { answer, base, http, type Reference, type Region } from '../data/api';
import { client, useMay } from '../data/queries';
import { useReference } from '../data/steps';
import { Button, TextField } from '../parts/controls';
import { Loaded } from '../parts/Loaded';
import { Facts, Head, Page, Refused, Row, Section, Sub, Title, When } from '../parts/page';
import { Pictured, placed } from '../parts/Pictured';
import { c, narrow } from '../theme';
import { drawn, readRegion, writeRegion } from '../run/masks';

const Two = styled.div`
  display: grid; grid-template-columns: minmax(0, 360px) minmax(0, 1fr); gap: 24px; align-items: start;
  ${narrow} { grid-template-columns: minmax(0, 1fr); }
`;
const Sheet = styled.span`position: absolute; inset: 0; cursor: crosshair; touch-action: none;`;
const New = styled.span`position: absolute; border: 2px solid ${c.lapis}; pointer-events: none;`;
const Masks = styled.ul`
  list-style: none; display: flex; flex-direction: column; gap: 4px; code { min-width: 160px; display: inline-block; }
`;

export default function ReferencePage() {
  const { id = '' } = useParams();
  return <Loaded of={useReference(id)} what="the reference" page>{(r) => <One key={r.id} r={r} />}</Loaded>;
}

const least = 4; // pixels: a smaller rectangle is a slip of the hand

function One({ r }: { r: Reference }) {
  const may = useMay('test') && r.in_force;
  const navigate = useNavigate();
  const [masks, setMasks] = useState(r.masks);
  const [allowed, setAllowed] = useState(String(Number((100 * r.allowed).toPrecision(6))));
  const [written, setWritten] = useState('');
  const [from, setFrom] = useState<{ x: number; y: number }>();
  const [now, setNow] = useState<Region>();
  const sheet = useRef<HTMLSpanElement>(null);
  const share = Number(allowed.replace(',', '.')) / 100;
  const changed = JSON.stringify(masks) !== JSON.stringify(r.masks) || share !== r.allowed;
  const save = useAction(async () => {
    const kept = await answer(http.PATCH('/references/{id}', { params: { path: { id: r.id } }, body: { masks, allowed: share } }));
    client.setQueryData(['reference', r.id], kept);
    await client.invalidateQueries({ queryKey: ['references'] });
  });
  const remove = useAction(async () => {
    const got = await http.DELETE('/references/{id}', { params: { path: { id: r.id } } });
    if (got.error) await answer(Promise.resolve(got));
    await client.invalidateQueries({ queryKey: ['references'] });
    void navigate('/references');
  });
  const at = (e: PointerEvent) => {
    const b = sheet.current!.getBoundingClientRect();
    return { x: ((e.clientX - b.left) / b.width) * r.width, y: ((e.clientY - b.top) / b.height) * r.height };
  };
  const add = (m: Region | undefined) => m && m.right - m.left >= least && m.bottom - m.top >= least && setMasks((all) => [...all, m]);
  const typed = readRegion(written, r.width, r.height);
  const title = `${r.step} in ${r.case}`;
  return (
    <Page>
      <Title>{`Reference: ${title}`}</Title>
      <Head>
        <div>
          <h1>{title}</h1>
          <Sub>{r.kind}</Sub>
          {!r.in_force && <Sub>It is not in force any more: another picture took its place, or it was removed.</Sub>}
        </div>
      </Head>
      <Two>
        <Pictured eager src={`${base}/references/${r.id}/picture`} alt={`The reference of ${title}`} masks={masks}>
          {may && (
            <Sheet
              ref={sheet}
              aria-hidden
              onPointerDown={(e) => {
                e.currentTarget.setPointerCapture(e.pointerId);
                setFrom(at(e));
              }}
              onPointerMove={(e) => from && setNow(drawn(from, at(e), r.width, r.height))}
              onPointerUp={(e) => {
                if (from) add(drawn(from, at(e), r.width, r.height));
                setFrom(undefined);
                setNow(undefined);
              }}
              onPointerCancel={() => {
                setFrom(undefined);
                setNow(undefined);
              }}
            >
              {now && <New style={placed(now, r.width, r.height)} />}
            </Sheet>
          )}
        </Pictured>
        <Section>
          <Facts
            of={[
              ['app', r.app],
              ['package', r.package],
              ['picture', `${r.width} × ${r.height} pixels`],
              ['kept', <When key="w" at={r.created} />],
              ['by', r.by],
              ['from', <Link key="l" to={`/legs/${r.leg}`}>the leg of a run</Link>],
            ]}
          />
          <h2>What is not looked at</h2>
          <Sub>{may ? 'Draw a rectangle on the picture, or write one.' : 'The hatched rectangles.'} The status bar is never looked at.</Sub>
          <Masks aria-label="Masks">
            {masks.map((m, i) => (
              <li key={writeRegion(m)}>
                <code>{writeRegion(m)}</code>{' '}
                {may && (
                  <Button $small aria-label={`Remove the mask ${writeRegion(m)}`} onPress={() => setMasks(masks.filter((_, j) => j !== i))}>
                    Remove
                  </Button>
                )}
              </li>
            ))}
          </Masks>
          {may && (
            <>
              <Row $gap={8}>
                <TextField label="Left, top, right, bottom in pixels" value={written} onChange={setWritten} placeholder="40,300,680,380" />
                <Button
                  isDisabled={!typed}
                  onPress={() => {
                    add(typed);
                    setWritten('');
                  }}
                >
                  Add mask
                </Button>
              </Row>
              <TextField label="How much of the rest may differ, in percent" value={allowed} onChange={setAllowed} />
              {save.error !== undefined && <Refused error={save.error} />}
              {remove.error !== undefined && <Refused error={remove.error} />}
              <Row>
                <Button $main isDisabled={!changed || save.busy || Number.isNaN(share)} onPress={() => void save.run()}>Save</Button>
                <Button isDisabled={remove.busy} onPress={() => void remove.run()}>Remove reference</Button>
              </Row>
            </>
          )}
        </Section>
      </Two>
    </Page>
  );
}
