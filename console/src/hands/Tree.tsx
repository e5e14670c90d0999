// The screen of a held device as it is now, and beside it as a tree: pointing at one marks the element on the other. Of each element the
// locators, the best first; and a field in which a locator is tried. The tree is read again when the screen has come to rest.
import { keepPreviousData, useQuery } from '@tanstack/react-query';
import { useEffect, useMemo, useState, type PointerEvent } from 'react';
import styled from 'styled-components';
import { answer, base, http, type Hold } from '../data/api';
import { useTopics } from '../data/tab';
import { Frames } from '../evidence/Glass';
import { TreeList } from '../evidence/TreeView';
import { Button, TextField } from '../parts/controls';
import { CopyButton, Mono, Refused, Row, Section, Sub } from '../parts/page';
import { inside, lines, request, scriptLine, sizeOf } from './held';
import { c, narrow } from '../theme';
import { many } from '../words';

const Both = styled.div`
  display: grid; grid-template-columns: minmax(200px, 300px) minmax(0, 1fr); gap: 16px; align-items: start;
  ${narrow} { grid-template-columns: minmax(0, 1fr); }
`;
const Glass = styled.figure`
  position: relative; min-height: 120px;
  img { display: block; width: 100%; border: 1px solid ${c.grout}; cursor: crosshair; }
`;
const Side = styled.div`display: flex; flex-direction: column; gap: 8px; min-width: 0;`;
const Lines = styled.div`display: flex; max-height: 360px;`;
const Ways = styled.ul`display: flex; flex-direction: column; gap: 4px;`;

const rest = 700; // ms without a new picture: the screen has come to rest

export default function HeldTree({ hold }: { hold: Hold }) {
  useTopics({ leg: hold.id });
  const [find, setFind] = useState('');
  const [tried, setTried] = useState('');
  const [pick, setPick] = useState<{ i: number; css: string | undefined }>();
  const [over, setOver] = useState<number>();
  const shown = useQuery<number>({ queryKey: ['screenat', hold.id], queryFn: () => 0, staleTime: Infinity }).data ?? 0;
  const tree = useQuery({
    queryKey: ['heldtree', hold.id, tried],
    queryFn: () =>
      answer(http.GET('/hands/{id}/tree', { params: { path: { id: hold.id }, query: { find: tried || undefined } } })),
    retry: false,
    staleTime: 0,
    placeholderData: keepPreviousData,
  });
  const { refetch } = tree;
  useEffect(() => {
    if (shown === 0) return;
    const t = setTimeout(() => void refetch(), rest);
    return () => clearTimeout(t);
  }, [shown, refetch]);
  const elements = tree.data?.elements ?? [];
  const found = tree.data?.found;
  const nodes = useMemo(() => lines(tree.data?.elements ?? [], tree.data?.found), [tree.data]);
  const size = sizeOf(elements);
  const bestOf = (i: number) => elements[i]?.locators[0]?.css;
  const at = pick && pick.css === bestOf(pick.i) ? pick.i : undefined; // another screen has another element there
  const picked = elements[at ?? -1];
  const choose = (i: number | undefined) => setPick(i === undefined ? undefined : { i, css: bestOf(i) });
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
  const marked = nodes.filter((n, i) => n.found || i === at || i === over);
  const pointed = (e: PointerEvent<HTMLImageElement>) => {
    const r = e.currentTarget.getBoundingClientRect();
    return inside(elements, ((e.clientX - r.left) / r.width) * size.w, ((e.clientY - r.top) / r.height) * size.h);
  };
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
            onPointerDown={(e) => choose(pointed(e))}
          />
          {size.w > 0 && <Frames nodes={marked} {...size} />}
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
            <Lines><TreeList nodes={nodes} at={at} over={over} onAt={choose} onOver={setOver} /></Lines>
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
