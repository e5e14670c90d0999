// The screen of a held device as it is now, and beside it as a tree: pointing at one marks the element on the other. Of each element the
// locators, the best first; and a field in which a locator is tried. The tree is read again when the screen has come to rest.
import { useQuery } from '@tanstack/react-query';
import { useEffect, useRef, useState, type PointerEvent } from 'react';
import styled from 'styled-components';
import { answer, base, http, type HeldElement, type Hold } from '../data/api';
import { useTopics } from '../data/tab';
import { Button, TextField } from '../parts/controls';
import { CopyButton, Faint, Mono, Refused, Row, Section, Sub } from '../parts/page';
import { placed } from '../parts/Pictured';
import { inside, request, says, scriptLine, sizeOf } from './held';
import { c, mono, narrow } from '../theme';
import { many } from '../words';

const Both = styled.div`
  display: grid; grid-template-columns: minmax(200px, 300px) minmax(0, 1fr); gap: 16px; align-items: start;
  ${narrow} { grid-template-columns: minmax(0, 1fr); }
`;
const Glass = styled.figure`
  position: relative; min-height: 120px;
  img { display: block; width: 100%; border: 1px solid ${c.grout}; cursor: crosshair; }
`;
const Frame = styled.span<{ $main: boolean }>`
  position: absolute; border: 2px solid ${(p) => (p.$main ? c.failed : c.lapis)}; box-shadow: 0 0 0 1px ${c.panel}; pointer-events: none;
`;
const Side = styled.div`display: flex; flex-direction: column; gap: 8px; min-width: 0;`;
const Lines = styled.ol`
  font-family: ${mono}; font-size: 12px; line-height: 20px; max-height: 360px; overflow: auto; border: 1px solid ${c.grout};
  background: ${c.panel}; padding: 4px 0;
  button {
    all: unset; display: block; white-space: nowrap; padding: 0 8px; width: max-content; min-width: 100%; box-sizing: border-box;
    cursor: pointer;
  }
  button:hover, [data-over='true'] { background: ${c.hover}; }
  button:focus-visible { outline: 2px solid ${c.lapis}; outline-offset: -2px; }
  [aria-pressed='true'] { background: ${c.chosen}; }
  [data-found='true'] { box-shadow: inset 3px 0 ${c.lapis}; font-weight: 600; }
`;
const Ways = styled.ul`display: flex; flex-direction: column; gap: 4px;`;

const rest = 700; // ms without a new picture: the screen has come to rest

export default function HeldTree({ hold }: { hold: Hold }) {
  useTopics({ leg: hold.id });
  const [find, setFind] = useState('');
  const [tried, setTried] = useState('');
  const [at, setAt] = useState<number>();
  const [over, setOver] = useState<number>();
  const lines = useRef<HTMLOListElement>(null);
  const shown = useQuery<number>({ queryKey: ['screenat', hold.id], queryFn: () => 0, staleTime: Infinity }).data ?? 0;
  const tree = useQuery({
    queryKey: ['heldtree', hold.id, tried],
    queryFn: () =>
      answer(http.GET('/hands/{id}/tree', { params: { path: { id: hold.id }, query: { find: tried || undefined } } })),
    retry: false,
    staleTime: 0,
  });
  const { refetch } = tree;
  useEffect(() => {
    if (shown === 0) return;
    const t = setTimeout(() => void refetch(), rest);
    return () => clearTimeout(t);
  }, [shown, refetch]);
  const elements = tree.data?.elements ?? [];
  const found = tree.data?.found;
  const size = sizeOf(elements);
  const picked = at !== undefined ? elements[at] : undefined;
  const wanted = picked?.locators.map((l) => l.css) ?? [];
  const elsewhere = useQuery({
    queryKey: ['elsewhere', hold.id, wanted],
    queryFn: async () => {
      const params = { path: { id: hold.id }, query: { css: wanted } };
      return (await answer(http.GET('/hands/{id}/elsewhere', { params }))).locators;
    },
    enabled: wanted.length > 0,
    retry: false,
  });
  const marked = new Map<number, boolean>((found ?? []).map((i) => [i, false]));
  if (over !== undefined) marked.set(over, false);
  if (at !== undefined) marked.set(at, true);
  const pointed = (e: PointerEvent<HTMLImageElement>) => {
    const r = e.currentTarget.getBoundingClientRect();
    return inside(elements, ((e.clientX - r.left) / r.width) * size.w, ((e.clientY - r.top) / r.height) * size.h);
  };
  function pick(i: number | undefined) {
    setAt(i);
    if (i !== undefined) lines.current?.children[i]?.scrollIntoView({ block: 'nearest' });
  }
  return (
    <Section aria-labelledby="tree">
      <h2 id="tree">The screen, and its tree</h2>
      <Both>
        <Glass>
          <img
            src={`${base}/legs/${hold.id}/screen?at=${shown}`}
            alt={`The screen of ${hold.device?.serial ?? 'the device'}, now`}
            draggable={false}
            onPointerMove={(e) => setOver(pointed(e))}
            onPointerLeave={() => setOver(undefined)}
            onPointerDown={(e) => pick(pointed(e))}
          />
          {size.w > 0 && [...marked].map(([i, main]) => elements[i] && (
            <Frame key={i} $main={main} data-marked={i} style={placed(elements[i].bounds, size.w, size.h)} />
          ))}
        </Glass>
        <Side>
          <Row $gap={12} style={{ alignItems: 'flex-end' }}>
            <form onSubmit={(e) => { e.preventDefault(); setTried(find.trim()); }}>
              <TextField label="Try a locator: CSS or XPath" placeholder='button[text="Send"]' value={find} onChange={setFind} />
            </form>
            <Button isDisabled={tree.isFetching} onPress={() => (find.trim() === tried ? void tree.refetch() : setTried(find.trim()))}>
              {find.trim() === tried ? 'Read it again' : 'Find'}
            </Button>
            <span role="status">
              {found ? `It means ${many(found.length, 'element')} here.` : tree.isFetching ? 'The screen is being read …' : ''}
            </span>
          </Row>
          {tree.error && <Refused error={tree.error} />}
          {elements.length > 0 && (
            <Lines ref={lines} aria-label="Elements" tabIndex={0}>
              {elements.map((e, i) => (
                <li key={i}>
                  <Line
                    e={e}
                    picked={i === at}
                    over={i === over}
                    found={found?.includes(i) ?? false}
                    onPick={() => pick(i)}
                    onOver={(is) => setOver(is ? i : undefined)}
                  />
                </li>
              ))}
            </Lines>
          )}
          {picked && (
            <Ways aria-label="Locators of the element, the best first">
              {picked.locators.map((l) => {
                const says = elsewhere.data?.find((m) => m.css === l.css)?.says;
                return (
                  <li key={l.css}>
                    <Row $gap={8}>
                      <Mono>{l.css}</Mono>
                      <CopyButton text={l.css} what="the locator" />
                      <CopyButton text={scriptLine(picked, l.css)} what="a line of a script" label="script" />
                      <CopyButton text={request(l.css)} what="the W3C request" label="W3C" />
                      <Sub as="span">
                        {many(l.here, 'element')} here{says && `; ${says}`}{l.fickle ? '; the digits in it may be data' : ''}
                      </Sub>
                    </Row>
                  </li>
                );
              })}
            </Ways>
          )}
          {!picked && elements.length > 0 && <Sub>Point at the screen, or choose an element, to see how it can be addressed.</Sub>}
        </Side>
      </Both>
    </Section>
  );
}

function Line(p: { e: HeldElement; picked: boolean; over: boolean; found: boolean; onPick: () => void; onOver: (is: boolean) => void }) {
  return (
    <button aria-pressed={p.picked} data-found={p.found} data-over={p.over} style={{ paddingLeft: 8 + p.e.depth * 14 }} onClick={p.onPick}
      onPointerEnter={() => p.onOver(true)} onPointerLeave={() => p.onOver(false)}>
      {p.e.kind} {says(p.e)} <Faint>{p.e.locators[0]?.css}</Faint>
    </button>
  );
}
