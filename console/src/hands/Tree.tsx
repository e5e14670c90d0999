// A held screen as a tree: of each element the locators, the best first; and a field in which a locator is tried.
import { useQuery } from '@tanstack/react-query';
import { useState } from 'react';
import styled from 'styled-components';
import { useAction } from '../data/action';
import { answer, http } from '../data/api';
import { TreeList } from '../evidence/TreeView';
import { Button, TextField } from '../parts/controls';
import { CopyButton, Mono, Refused, Row, Sub } from '../parts/page';
import { many } from '../words';
import { request, scriptLine } from './held';
import type { HeldScreen } from './useTree';

const Stack = styled.div`display: flex; flex-direction: column; gap: 8px; min-width: 0;`;
const Lines = styled.div`display: flex; max-height: 360px;`;
const Ways = styled.ul`display: flex; flex-direction: column; gap: 4px;`;

export function Tree({ id, screen, onTap }: { id: string; screen: HeldScreen; onTap: (css: string) => Promise<void> }) {
  const { tree, tried, setTried, elements, nodes, at, over, picked, choose, setOver } = screen;
  const [find, setFind] = useState('');
  const found = tree.data?.found;
  const wanted = picked?.locators.map((l) => l.css) ?? [];
  const tap = useAction(onTap);
  const elsewhere = useQuery({
    queryKey: ['elsewhere', id, wanted],
    queryFn: async () => {
      const params = { path: { id }, query: { css: wanted } };
      return (await answer(http.GET('/hands/{id}/elsewhere', { params }))).locators;
    },
    enabled: wanted.length > 0,
    retry: false,
  });
  return (
    <Stack>
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
      {picked?.locators[0]?.here === 1 && (
        <Row $gap={8}>
          <Button $small isDisabled={tap.busy} onPress={() => void tap.run(picked.locators[0]!.css)}>Tap it</Button>
        </Row>
      )}
      {tap.error !== undefined && <Refused error={tap.error} />}
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
      {!picked && elements.length > 0 && <Sub>Choose an element, or point at one on the screen, to see how it can be addressed.</Sub>}
    </Stack>
  );
}
